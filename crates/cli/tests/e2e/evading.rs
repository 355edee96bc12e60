//! Whoever does not want to be caught: each way out of a rule that was found, closed, with an innocent beside it.

use std::io::{BufRead, BufReader};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use rustix::process::{Pid, Signal, kill_process};
use sophron_testkit::{Offender, Own, Stage, eventually, is_gone, is_root, is_suspended, threads};

use crate::stage;

const NOBODY: u32 = 65534;
const GROWN: [&str; 4] = ["--grow", "100MiB/s", "--up-to", "70MiB"];

/// What holds more than 60 MiB is answered by this ladder.
fn rules(ladder: &str) -> String {
    format!(
        "format = 1\nevery = '200ms'\n[[rule]]\nname = 'a'\nwhere = 'app = \"labelpress\" and {{mine}}'\n\
         breach = 'memory.held > 60 MiB'\nlasting = '400ms'\narmed = true\nladder = [ {ladder} ]\n"
    )
}

/// Of the same name, and within the limit.
fn innocent(stage: &Stage) -> Offender {
    stage.offender("labelpress", &["--grow", "100MiB/s", "--up-to", "10MiB"])
}

/// A program of that name that evades by `word`, as an ordinary user of its own where that is allowed; none without a C compiler.
fn evader(stage: &Stage, name: &str, word: &str) -> Option<Own> {
    let program = stage.path(name);
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/e2e/evader/evader.c");
    let built = Command::new("cc").args(["-O0", "-pthread", "-o"]).arg(&program).arg(source).status();
    if !built.is_ok_and(|status| status.success()) {
        eprintln!("skipped: no C compiler");
        return None;
    }
    let mut command = Command::new(program);
    command.arg(word).current_dir("/").stdin(Stdio::null()).stdout(Stdio::piped());
    if is_root() {
        command.uid(NOBODY).gid(NOBODY);
    }
    let mut evader = Own(command.spawn().unwrap());
    let mut line = String::new();
    BufReader::new(evader.0.stdout.take().unwrap()).read_line(&mut line).unwrap();
    assert_eq!(line, "ready\n");
    Some(evader)
}

/// It lives, no thread of it stands still, and no record is about it.
fn assert_untouched(stage: &Stage, innocent: &Offender) {
    let pid = innocent.pid();
    assert!(!is_gone(pid) && threads(pid).iter().all(|thread| thread.state != 'T'), "the innocent was touched");
    assert_eq!(stage.story(pid), Vec::<String>::new());
}

/// A partner that sends the signal whenever it stands still.
#[test]
fn a_partner_that_resumes_it_is_no_way_out() {
    let stage = stage();
    let ladder = "{ at = '0s', do = 'suspend', for = '3s' }, { at = '4s', do = 'terminate' }";
    let path = stage.write("rules.toml", rules(ladder));
    let (press, innocent) = (stage.offender("labelpress", &GROWN), innocent(&stage));
    let watcher = stage.watch(&path, &[]);
    let (pid, over) = (press.pid(), AtomicBool::new(false));
    std::thread::scope(|scope| {
        scope.spawn(|| {
            while !over.load(Ordering::Relaxed) && !is_gone(pid) {
                if is_suspended(pid) {
                    let _ = kill_process(Pid::from_raw(pid.cast_signed()).unwrap(), Signal::CONT);
                }
                std::thread::sleep(Duration::from_millis(5));
            }
        });
        let ended = std::panic::catch_unwind(|| eventually("terminated", || is_gone(pid).then_some(())));
        over.store(true, Ordering::Relaxed);
        ended.unwrap();
    });
    assert_untouched(&stage, &innocent);
    eventually("recorded", || stage.story(pid).contains(&"ended ended".to_owned()).then_some(()));
    let (lines, _) = watcher.interrupt();
    assert!(lines.contains("suspended again for the rest of its time"), "{lines}");
    assert!(lines.contains("it does not stay suspended: its ladder goes on; next: terminate"), "{lines}");
    let story = stage.story(pid);
    assert!(!story.iter().any(|told| told.starts_with("stood back")), "{story:?}");
}

/// Neither what its memory is, nor what it is called, is lost with the main thread.
#[test]
fn a_main_thread_that_exits_is_no_way_out() {
    let stage = stage();
    let path = stage.write("rules.toml", rules("{ at = '1s', do = 'terminate' }"));
    let (Some(press), innocent) = (evader(&stage, "labelpress", "leaderless"), innocent(&stage)) else { return };
    let listed = stage.json(&["list", "--where", &format!("pid = {}", press.pid()), "--format", "json"]);
    let row = &listed["rows"][0];
    assert!(row["memory"].as_u64() > Some(70 << 20), "{row}");
    assert_eq!((row["app"].as_str(), row["state"].as_str()), (Some("labelpress"), Some("sleeping")), "{row}");
    let watcher = stage.watch(&path, &[]);
    eventually("terminated", || is_gone(press.pid()).then_some(()));
    assert_untouched(&stage, &innocent);
    watcher.interrupt();
}
