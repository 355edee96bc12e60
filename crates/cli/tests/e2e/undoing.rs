//! What is in force is taken back: when the process is calm, when the watcher ends, and when it was killed.

use sophron_testkit::{eventually, is_root, is_suspended, nices, threads, usual_nice};

use crate::{stage, without_effects};

fn rules(ladder: &str) -> String {
    format!(
        "format = 1\nevery = '250ms'\n[[rule]]\nname = 'press-leak'\nwhere = 'app = \"labelpress\" and {{mine}}'\n\
         breach = 'memory.held > 10 MiB'\nlasting = '500ms'\narmed = true\nladder = [ {ladder} ]\n"
    )
}

const GROWN: [&str; 4] = ["--grow", "100MiB/s", "--up-to", "30MiB"];

fn all_nice(pid: u32, nice: i32) -> Option<()> {
    let nices = nices(pid);
    (!nices.is_empty() && nices.iter().all(|found| *found == nice)).then_some(())
}

#[test]
fn calm_undoes_a_lowering() {
    if !is_root() {
        eprintln!("skipped: only root may bring niceness down again");
        return;
    }
    let stage = stage();
    let rules = stage.write("rules.toml", rules("{ at = '0s', do = 'lower', nice = 12 }"));
    let press = stage.offender("labelpress", &[&GROWN[..], &["--cpu", "10%", "--calm-after", "10s"]].concat());
    let _watcher = stage.watch(&rules, &[]);
    eventually("lowered", || all_nice(press.pid(), 12));
    eventually("restored", || all_nice(press.pid(), usual_nice()));
    eventually("recorded", || stage.story(press.pid()).contains(&"restored restore restored".to_owned()).then_some(()));
    // What the lowering was seen to do hangs on who else wanted the core.
    let story = without_effects(stage.story(press.pid()));
    assert_eq!(
        story[1..],
        ["intent lower", "outcome lower lowered", "calm calm", "intent restore", "restored restore restored"]
    );
}

#[test]
fn an_interrupted_watcher_resumes_and_restores() {
    let stage = stage();
    let rules =
        stage.write("rules.toml", rules("{ at = '0s', do = 'lower' }, { at = '1s', do = 'suspend', for = '5m' }"));
    let press = stage.offender("labelpress", &GROWN);
    let watcher = stage.watch(&rules, &[]);
    eventually("suspended", || is_suspended(press.pid()).then_some(()));
    let (lines, status) = watcher.interrupt();
    assert_eq!(status, Some(0), "{lines}");
    assert!(threads(press.pid()).iter().all(|thread| thread.state != 'T'), "{lines}");
    if is_root() {
        assert!(all_nice(press.pid(), usual_nice()).is_some(), "{lines}");
    }
    assert!(lines.contains("resumed"), "{lines}");
}

#[test]
fn a_watcher_killed_outright_leaves_nothing_suspended_and_the_next_start_restores() {
    if !sophron_testkit::can_be_lowered() {
        return;
    }
    let stage = stage();
    let path = stage
        .write("rules.toml", rules("{ at = '0s', do = 'lower', nice = 7 }, { at = '1s', do = 'suspend', for = '5m' }"));
    let press = stage.offender("labelpress", &GROWN);
    let mut watcher = stage.watch(&path, &[]);
    eventually("suspended", || is_suspended(press.pid()).then_some(()));
    eventually("recorded", || stage.story(press.pid()).contains(&"outcome suspend suspended".to_owned()).then_some(()));
    watcher.kill_outright();
    // At once: long before the end of the suspension.
    eventually("resumed", || threads(press.pid()).iter().all(|thread| thread.state != 'T').then_some(()));
    assert!(all_nice(press.pid(), 7).is_some(), "a niceness is not the guard's to undo");
    if !is_root() {
        eprintln!("skipped in part: only root may bring niceness down again");
        return;
    }
    let idle = stage
        .write("idle.toml", "format = 1\n[[rule]]\nname = 'a'\nbreach = 'machine.cpu > 100000%'\nlasting = '1s'\n");
    let _next = stage.watch(&idle, &[]);
    eventually("restored by the next start", || all_nice(press.pid(), usual_nice()));
    eventually("recorded", || stage.story(press.pid()).contains(&"restored restore restored".to_owned()).then_some(()));
}

/// The guard that a watcher has started.
pub fn guard_of(watcher: u32) -> Option<u32> {
    let folders = std::fs::read_dir("/proc").unwrap().flatten();
    let mut pids = folders.filter_map(|entry| entry.file_name().to_str()?.parse::<u32>().ok());
    pids.find(|pid| {
        let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).unwrap_or_default();
        let parent = stat.rsplit_once(") ").and_then(|(_, rest)| rest.split(' ').nth(1)?.parse::<u32>().ok());
        let command = std::fs::read(format!("/proc/{pid}/cmdline")).unwrap_or_default();
        parent == Some(watcher) && command.ends_with(b"guard\0")
    })
}

#[test]
fn a_guard_that_is_ended_resumes_its_target_and_that_is_recorded() {
    let stage = stage();
    let rules = stage.write("rules.toml", rules("{ at = '0s', do = 'suspend', for = '1m' }"));
    let press = stage.offender("labelpress", &GROWN);
    let watcher = stage.watch(&rules, &[]);
    eventually("suspended", || is_suspended(press.pid()).then_some(()));
    eventually("recorded", || stage.story(press.pid()).contains(&"outcome suspend suspended".to_owned()).then_some(()));
    let guard = guard_of(watcher.pid()).expect("a suspension has its guard");
    let guard = rustix::process::Pid::from_raw(guard.cast_signed()).unwrap();
    rustix::process::kill_process(guard, rustix::process::Signal::TERM).unwrap();
    eventually("resumed", || threads(press.pid()).iter().all(|thread| thread.state != 'T').then_some(()));
    eventually("recorded", || stage.story(press.pid()).contains(&"restored resume resumed".to_owned()).then_some(()));
}
