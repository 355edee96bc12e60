//! When Sophron must not begin.

use std::fs;
use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};

use sophron_testkit::{Own, Stage, eventually, is_gone, threads, usual_nice};

use crate::stage;

const RULES: &str = "format = 1\nevery = '250ms'\n[[rule]]\nname = 'press-leak'\nwhere = 'app = \"labelpress\" and {mine}'\n\
    breach = 'memory.held > 10 MiB'\nlasting = '0s'\narmed = true\nladder = [ { at = '0s', do = 'lower' }, { at = '1s', do = 'terminate' } ]\n";

#[test]
fn a_trail_that_cannot_be_written_keeps_the_watcher_from_arming() {
    // In turn: a file where the folder belongs, a folder where the file belongs, a link.
    type Spoil = fn(&Path);
    let spoils: [(&str, Spoil, Option<i32>); 3] = [
        ("a file in the folder's place", |state| fs::write(state.join("audit"), "").unwrap(), Some(1)),
        (
            "a folder in the file's place",
            |state| fs::create_dir_all(state.join("audit/000001.jsonl")).unwrap(),
            Some(1),
        ),
        ("a link", |state| std::os::unix::fs::symlink("/tmp", state.join("audit")).unwrap(), Some(1)),
    ];
    for (what, spoil, status) in spoils {
        let stage = stage();
        let rules = stage.write("rules.toml", RULES);
        let press = stage.offender("labelpress", &["--grow", "100MiB/s", "--up-to", "30MiB"]);
        fs::create_dir(stage.state()).unwrap();
        fs::set_permissions(stage.state(), std::os::unix::fs::PermissionsExt::from_mode(0o700)).unwrap();
        spoil(&stage.state());
        let output = stage.run(&[
            "watch",
            "--rules",
            rules.to_str().unwrap(),
            "--state",
            stage.state().to_str().unwrap(),
            "--for",
            "3s",
        ]);
        assert_eq!(output.status, status, "{what}: {}{}", output.stdout, output.stderr);
        assert!(
            output.stderr.contains("has touched nothing") || output.stderr.contains("does not arm"),
            "{what}: {}",
            output.stderr
        );
        assert!(!output.stdout.contains("watching"), "{what}: {}", output.stdout);
        assert!(
            !is_gone(press.pid()) && threads(press.pid()).iter().all(|thread| thread.nice == usual_nice()),
            "{what}"
        );
    }
}

#[test]
fn one_watcher_a_state_folder() {
    let stage = stage();
    let rules = stage.write("rules.toml", RULES);
    let first = stage.watch(&rules, &[]);
    let second = stage.run(&["watch", "--rules", rules.to_str().unwrap(), "--state", stage.state().to_str().unwrap()]);
    assert_eq!(second.status, Some(1));
    assert!(second.stderr.contains(&format!("another watcher (PID {})", first.pid())), "{}", second.stderr);
}

#[test]
fn a_torn_end_of_the_trail_is_cut_kept_and_recorded() {
    let stage = stage();
    let rules = stage.write("rules.toml", RULES);
    let (rules, state) = (rules.to_str().unwrap().to_owned(), stage.state().to_str().unwrap().to_owned());
    let watch = || stage.run(&["watch", "--rules", &rules, "--state", &state, "--for", "300ms"]);
    assert_eq!(watch().status, Some(0));
    let trail = stage.state().join("audit/000001.jsonl");
    let whole = fs::read(&trail).unwrap();
    fs::write(&trail, &whole[..whole.len() - 30]).unwrap();
    let verified = stage.run(&["audit", "verify", "--state", &state]);
    assert_eq!(verified.status, Some(3), "{}", verified.stderr);
    assert!(verified.stderr.contains("torn"), "{}", verified.stderr);
    assert_eq!(watch().status, Some(0));
    let repaired = stage.records().into_iter().find(|record| record["kind"] == "repaired").expect("recorded");
    assert!(repaired["result"]["seen"].as_str().unwrap().contains("records up to 5 are signed"), "{repaired}");
    assert_eq!(stage.run(&["audit", "verify", "--state", &state]).status, Some(0));
}

#[test]
fn a_trail_that_is_taken_away_is_begun_anew_and_nothing_is_lost_in_between() {
    let stage = stage();
    let rules = stage.write("rules.toml", RULES);
    let watcher = stage.watch(&rules, &[]);
    eventually("begun", || (stage.records().len() >= 3).then_some(()));
    fs::rename(stage.state().join("audit/000001.jsonl"), stage.path("moved.jsonl")).unwrap();
    let (_, status) = watcher.interrupt();
    assert_eq!(status, Some(0));
    let kinds: Vec<_> = stage.records().iter().map(|record| record["kind"].as_str().unwrap().to_owned()).collect();
    assert_eq!(kinds, ["trail opened", "key begun", "trail lost", "watcher ended", "stamp"]);
    let lost = stage.records()[2]["result"]["seen"].as_str().unwrap().to_owned();
    assert!(lost.contains("it was taken away after record"), "{lost}");
}

#[test]
fn a_trail_lost_under_a_running_watcher_disarms_it_until_it_is_back() {
    let stage = stage();
    let rules = stage.write("rules.toml", RULES);
    let mut watcher = stage.watch(&rules, &[]);
    eventually("begun", || (stage.records().len() >= 3).then_some(()));
    let trail = stage.state().join("audit/000001.jsonl");
    let kept = stage.path("kept.jsonl");
    fs::rename(&trail, &kept).unwrap();
    fs::create_dir(&trail).unwrap();
    let press = stage.offender("labelpress", &["--grow", "200MiB/s", "--up-to", "30MiB"]);
    let line = watcher.line_with("disarmed");
    assert!(line.contains("nothing is acted upon"), "{line}");
    // Several ticks further it is still not touched.
    std::thread::sleep(std::time::Duration::from_secs(1));
    assert!(
        !is_gone(press.pid())
            && threads(press.pid()).iter().all(|thread| thread.nice == usual_nice() && thread.state != 'T')
    );
    // Under the trail's own lock: a try to write between the two would begin another file.
    let lock = fs::File::open(stage.state().join("audit/lock")).unwrap();
    rustix::fs::flock(&lock, rustix::fs::FlockOperation::LockExclusive).unwrap();
    fs::remove_dir(&trail).unwrap();
    fs::rename(&kept, &trail).unwrap();
    drop(lock);
    watcher.line_with("armed");
    eventually("acted upon", || is_gone(press.pid()).then_some(()));
    eventually("recorded", || stage.story(press.pid()).contains(&"ended ended".to_owned()).then_some(()));
    let story = stage.story(press.pid());
    assert_eq!(story[0], "breach opened", "what could not be written then was written later: {story:?}");
    watcher.interrupt();
    let verified = stage.run(&["audit", "verify", "--state", stage.state().to_str().unwrap()]);
    assert_eq!(verified.status, Some(0), "{}", verified.stderr);
}

/// A watcher whose state folder is a small disk of its own; `None` where mounting is not allowed.
fn on_a_disk_of(size: &str, stage: &Stage, rules: &Path) -> Option<Own> {
    let state = stage.state().display().to_string();
    fs::create_dir_all(&state).unwrap();
    let mount = format!("mount -t tmpfs -o size={size},mode=700 none {state}");
    if !Command::new("unshare").args(["--mount", "sh", "-c", &mount]).output().is_ok_and(|done| done.status.success()) {
        println!("skipped: no small disk may be mounted here");
        return None;
    }
    let inner = stage.command(&["watch", "--rules", rules.to_str().unwrap(), "--state", &state]);
    let mut command = Command::new("unshare");
    command.args(["--mount", "sh", "-c", &format!("{mount} && exec \"$@\""), "sh"]);
    command.arg(inner.get_program()).args(inner.get_args()).env("TMPDIR", stage.path(""));
    Some(Own(command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()))
}

/// Fills a disk to its last byte.
fn fill(path: &Path) {
    let mut file = fs::File::create(path).unwrap();
    for size in [64 * 1024, 512, 1] {
        while file.write_all(&vec![1; size]).is_ok() {}
    }
}

/// A full disk: with space kept ahead it goes on acting; without, nothing is done until there is space again.
#[test]
fn a_full_disk_disarms_only_when_the_space_kept_ahead_is_gone() {
    for (size, goes_on) in [("16m", true), ("3m", false)] {
        let stage = stage();
        // Only the trail is on that disk: who gives up space as it fills would make room for a record.
        let alone = "format = 1\nlookback = { keep = '0s' }\nusage = { keep = '0s' }\n";
        let rules = stage.write("rules.toml", RULES.replacen("format = 1\n", alone, 1));
        let Some(watcher) = on_a_disk_of(size, &stage, &rules) else { return };
        // Seen from inside of its own mounts.
        let inside = Path::new("/proc").join(watcher.pid().to_string()).join("root");
        let state = inside.join(stage.state().strip_prefix("/").unwrap());
        let trail = || fs::read_to_string(state.join("audit/000001.jsonl")).unwrap_or_default();
        eventually("begun", || trail().contains("rules loaded").then_some(()));
        fill(&state.join("fill"));
        let press = stage.offender("labelpress", &["--grow", "200MiB/s", "--up-to", "30MiB"]);
        if goes_on {
            eventually("acted upon", || is_gone(press.pid()).then_some(()));
        } else {
            std::thread::sleep(std::time::Duration::from_secs(3));
            assert!(!is_gone(press.pid()), "acted upon without a record");
            assert!(threads(press.pid()).iter().all(|thread| thread.nice == usual_nice() && thread.state != 'T'));
            fs::remove_file(state.join("fill")).unwrap();
            eventually("acted upon once there is space", || is_gone(press.pid()).then_some(()));
        }
        let ended = |line: &str| line.contains("\"kind\":\"outcome\"") && line.contains("\"outcome\":\"ended\"");
        eventually("recorded", || trail().lines().any(ended).then_some(()));
        let whole = sophron_core::audit::check(trail().as_bytes());
        assert!(whole.is_none_or(|fault| fault.what.contains("torn")));
    }
}
