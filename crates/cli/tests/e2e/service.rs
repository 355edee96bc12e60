//! A watcher as a service: it tells the manager how it does, reads its rules anew, stands back when it is told to, goes on where the run
//! before was ended, and answers whoever may ask, whatever others send.

use std::fs;
use std::io::{Read, Write};
use std::os::unix::net::{UnixDatagram, UnixStream};
use std::path::PathBuf;
use std::time::{Duration, Instant};

use serde_json::Value;
use sophron_testkit::{Output, Running, Stage, can_be_lowered, children, eventually, is_suspended, nices, usual_nice};

use crate::stage;

const GROWN: [&str; 4] = ["--grow", "400MiB/s", "--up-to", "30MiB"];

fn rule(ladder: &str) -> String {
    format!(
        "format = 1\nevery = '200ms'\n[lookback]\nkeep = '0s'\n[[rule]]\nname = 'press-leak'\nwhere = 'app = labelpress and {{mine}}'\n\
         breach = 'memory.held > 15 MiB'\nlasting = '400ms'\narmed = true\nladder = [ {ladder} ]\n"
    )
}

const LOWER: &str = "{ at = '0s', do = 'lower', nice = 12 }";

fn told(stage: &Stage, args: &[&str]) -> Output {
    let state = stage.state().display().to_string();
    stage.run(&[args, &["--state", &state]].concat())
}

pub(crate) fn ask(stage: &Stage, args: &[&str]) -> (Option<i32>, String) {
    let output = told(stage, args);
    (output.status, output.stdout + &output.stderr)
}

fn status(stage: &Stage) -> Value {
    let output = told(stage, &["status", "--format", "json"]);
    serde_json::from_str(&output.stdout).unwrap_or_else(|error| panic!("{error}: {}{}", output.stdout, output.stderr))
}

fn lowered(pid: u32, nice: i32) -> Option<()> {
    nices(pid).iter().all(|found| *found == nice).then_some(())
}

/// Ready after the first look, alive after each, reading anew on SIGHUP, ending: as sd_notify(3) has it, and with more patience where the
/// pace asks for it.
#[test]
fn the_manager_is_told() {
    let told = tempfile::tempdir().unwrap();
    let path = told.path().join("notify");
    let socket = UnixDatagram::bind(&path).unwrap();
    socket.set_read_timeout(Some(Duration::from_secs(60))).unwrap();
    let notify = format!("NOTIFY_SOCKET={}", path.display());
    let stage = stage().within(["env", &notify, "WATCHDOG_USEC=500000"].map(str::to_owned).to_vec());
    let rules = stage.write("rules.toml", rule(LOWER));
    let watcher = stage.watch(&rules, &["--service"]);
    let hear = |word: &str| {
        eventually(word, || {
            let mut bytes = [0; 512];
            let length = socket.recv(&mut bytes).ok()?;
            let said = String::from_utf8_lossy(&bytes[..length]).into_owned();
            said.contains(word).then_some(said)
        })
    };
    assert!(hear("READY=1").contains("STATUS=1 rule, 0 cases open"));
    assert!(hear("WATCHDOG_USEC=").contains("WATCHDOG_USEC=1000000"), "five ticks of 200 ms");
    hear("WATCHDOG=1");
    rustix::process::kill_process(
        rustix::process::Pid::from_raw(watcher.pid().cast_signed()).unwrap(),
        rustix::process::Signal::HUP,
    )
    .unwrap();
    hear("RELOADING=1");
    hear("READY=1");
    hear("WATCHDOG=1");
    let (_, ended) = watcher.interrupt();
    assert_eq!(ended, Some(0));
    hear("STOPPING=1");
}

/// Without the option the environment names nothing, and SIGHUP ends as ever.
#[test]
fn nobody_else_is_told() {
    let told = tempfile::tempdir().unwrap();
    let path = told.path().join("notify");
    let socket = UnixDatagram::bind(&path).unwrap();
    socket.set_nonblocking(true).unwrap();
    let stage = stage().within(["env".to_owned(), format!("NOTIFY_SOCKET={}", path.display())].to_vec());
    let rules = stage.write("rules.toml", rule(LOWER));
    let watcher = stage.watch(&rules, &[]);
    watcher.interrupt();
    assert!(socket.recv(&mut [0; 64]).is_err());
}

/// Sound rules are used at once, with the case that is open; others are told, and change nothing; and a file that changes is found.
#[test]
fn rules_are_read_anew() {
    if !can_be_lowered() {
        return;
    }
    let stage = stage();
    let path = stage.write("rules.toml", rule(LOWER));
    let press = stage.offender("labelpress", &GROWN);
    let mut watcher = stage.watch(&path, &["--service"]);
    watcher.line_with("  lowered  ");
    assert_eq!(ask(&stage, &["rules", "reload"]).0, Some(0));
    let before = status(&stage)["rules"]["digest"].clone();
    stage.write("rules.toml", rule("{ at = '0s', do = 'lower', nice = 17 }"));
    let (done, said) = ask(&stage, &["rules", "reload"]);
    assert!(done == Some(0) && said.contains("1 rule (1 armed)"), "{said}");
    eventually("lowered anew", || lowered(press.pid(), 17));
    let now = status(&stage);
    assert_ne!(now["rules"]["digest"], before);
    assert_eq!(now["rows"][0]["subjects"][0]["case"], 1, "the same case");

    stage.write("rules.toml", rule("{ at = '0s', do = 'lower', nice = 170 }"));
    let (done, said) = ask(&stage, &["rules", "reload"]);
    assert!(
        done == Some(3) && said.contains("rules.toml:11") && said.contains("the rules from before count on"),
        "{said}"
    );
    let refused = status(&stage);
    assert_eq!(refused["rules"]["digest"], now["rules"]["digest"]);
    assert!(refused["trouble"][0].as_str().unwrap().contains("not used as it is now"), "{refused}");
    let (_, said) = ask(&stage, &["status"]);
    assert!(said.starts_with("verdict   1 rule is breached, 1 case open; the rules file is not used"), "{said}");

    // Found by itself once it has stayed as it is.
    stage.write("rules.toml", rule(LOWER));
    eventually("found and lowered", || lowered(press.pid(), 12));
    let loaded: Vec<Value> = stage.records().into_iter().filter(|record| record["kind"] == "rules loaded").collect();
    let last = loaded.last().unwrap()["result"]["seen"].as_str().unwrap();
    assert!(last.contains("before ") && last.contains("the file has changed"), "{last}");
    let kinds = |kind: &str| stage.records().iter().filter(|record| record["kind"] == kind).count();
    assert_eq!((kinds("rules refused"), kinds("breach")), (1, 1));
    watcher.interrupt();
}

/// By somebody's word what was done is undone, nothing is done, and he is in the record; also in the next run.
#[test]
fn rules_stand_back_and_act_again() {
    if !can_be_lowered() {
        return;
    }
    let stage = stage();
    let path = stage.write("rules.toml", rule(LOWER));
    let press = stage.offender("labelpress", &GROWN);
    let pid = press.pid().to_string();
    let mut watcher = stage.watch(&path, &[]);
    watcher.line_with("  lowered  ");
    let (done, said) = ask(&stage, &["stand-back", &pid, "--for", "10m", "--because", "plant labels for the fair"]);
    assert!(done == Some(0) && said.contains("plant labels for the fair"), "{said}");
    eventually("put back", || lowered(press.pid(), usual_nice()));
    watcher.kill_outright();

    let mut watcher = stage.watch(&path, &[]);
    let rows = eventually("breached", || {
        let rows = status(&stage)["rows"].clone();
        (rows[0]["state"] == "breached").then_some(rows)
    });
    assert_eq!(rows[0]["subjects"][0]["case"], 1, "the case goes on: {rows}");
    std::thread::sleep(Duration::from_secs(2));
    assert_eq!(lowered(press.pid(), usual_nice()), Some(()), "it stands back in the next run");
    let (done, said) = ask(&stage, &["stand-back", "press-leak", "--for", "9d"]);
    assert!(done == Some(2) && said.contains("7 days at most"), "{said}");
    let (done, said) = ask(&stage, &["stand-back", "--all", "--for", "9h"]);
    assert!(done == Some(2) && said.contains("8 hours at most"), "{said}");
    let (done, said) = ask(&stage, &["stand-back", "--all", "--end"]);
    assert!(done == Some(0) && said.contains("rules no longer stand back from labelpress"), "{said}");
    eventually("lowered once more", || lowered(press.pid(), 12));
    watcher.line_with("  acting  ");
    watcher.interrupt();
    let words: Vec<Value> =
        stage.records().into_iter().filter(|record| record["action"]["do"] == "stand back").collect();
    assert_eq!(words.len(), 2);
    assert!(words.iter().all(|record| record["who"]["by"] == "hand"), "{words:?}");
    assert_eq!(words[0]["action"]["because"], "plant labels for the fair");
}

/// The watcher and all its guards killed at once: what stands still goes on by `resume --left`, and the next run puts back what was
/// lowered, and goes on with the same case and with what was spent.
#[test]
fn what_a_killed_service_has_left() {
    if !can_be_lowered() {
        return;
    }
    let stage = stage();
    let path = stage.write("rules.toml", rule(&format!("{LOWER}, {{ at = '400ms', do = 'suspend', for = '60s' }}")));
    let press = stage.offender("labelpress", &GROWN);
    let mut watcher = stage.watch(&path, &["--service"]);
    watcher.line_with("  suspended  ");
    let (refused, said) = ask(&stage, &["resume", "--left"]);
    assert!(refused == Some(4) && said.contains("a watcher (PID"), "{said}");
    kill_with_children(&mut watcher);
    assert!(is_suspended(press.pid()), "nobody is left to resume it");
    let began = Instant::now();
    let (done, said) = ask(&stage, &["resume", "--left"]);
    assert!(done == Some(0) && said.contains("goes on"), "{said}");
    assert!(!is_suspended(press.pid()), "{:?}", began.elapsed());
    assert_eq!(ask(&stage, &["resume", "--left"]), (Some(0), "nobody was left suspended\n".to_owned()));

    let mut watcher = stage.watch(&path, &["--service"]);
    watcher.line_with("  restored  ");
    watcher.line_with("  suspended  ");
    watcher.interrupt();
    let cases: Vec<Value> = stage.records().into_iter().filter(|record| record["kind"] == "breach").collect();
    assert_eq!(cases.len(), 1, "one case: {cases:?}");
    let verified = ask(&stage, &["audit", "verify"]);
    assert_eq!(verified.0, Some(0), "{}", verified.1);
}

/// Its guards first, so that they resume nobody.
fn kill_with_children(watcher: &mut Running) {
    let pids = children(watcher.pid());
    let signal = |pid: u32, signal| {
        if let Some(pid) = rustix::process::Pid::from_raw(pid.cast_signed()) {
            let _ = rustix::process::kill_process(pid, signal);
        }
    };
    // Standing still none of them notices that the others are gone.
    signal(watcher.pid(), rustix::process::Signal::STOP);
    pids.iter().for_each(|pid| signal(*pid, rustix::process::Signal::KILL));
    watcher.kill_outright();
}

/// A record that is not sound is set aside: it is watched on, nothing is done, people are told, until somebody has accepted it.
#[test]
fn an_unsound_record_is_set_aside() {
    if !can_be_lowered() {
        return;
    }
    let stage = stage();
    let path = stage.write("rules.toml", rule(LOWER));
    stage.watch(&path, &[]).interrupt();
    let file = stage.state().join("audit/000001.jsonl");
    let mut bytes = fs::read(&file).unwrap();
    let place = bytes.len() / 2;
    bytes[place] ^= 1;
    fs::write(&file, bytes).unwrap();
    let press = stage.offender("labelpress", &GROWN);
    let mut watcher = stage.watch(&path, &[]);
    let line = watcher.line_with("disarmed");
    assert!(line.contains("not sound at record") && line.contains("set aside"), "{line}");
    watcher.line_with("  breach  ");
    let (done, said) = ask(&stage, &["status"]);
    assert!(done == Some(3) && said.starts_with("verdict   disarmed, nothing is done:"), "{said}");
    std::thread::sleep(Duration::from_secs(1));
    assert_eq!(lowered(press.pid(), usual_nice()), Some(()));
    assert_eq!(ask(&stage, &["audit", "accept", "--because", "looked at"]).0, Some(0));
    eventually("acts again", || lowered(press.pid(), 12));
    watcher.interrupt();
    assert!(stage.state().join("audit/000001.jsonl.aside-1").exists());
}

fn connect(stage: &Stage) -> UnixStream {
    eventually("it listens", || UnixStream::connect(stage.state().join("watch.sock")).ok())
}

/// Whoever says nothing, drips, sends garbage or floods keeps nobody waiting, and the watch goes on.
#[test]
fn the_socket_holds() {
    let stage = stage();
    let path = stage.write("rules.toml", rule(LOWER));
    let watcher = stage.watch(&path, &[]);
    let garbage: [&[u8]; 6] =
        [b"\n", b"{}\n", b"\xff\xfe\n", b"\"status\"", b"{\"stand-back\":{\"seconds\":-1}}\n", b"[[[[[[[[[\n"];
    for line in garbage {
        let mut stream = connect(&stage);
        stream.write_all(line).unwrap();
        stream.shutdown(std::net::Shutdown::Write).unwrap();
        let mut said = String::new();
        stream.read_to_string(&mut said).unwrap();
        assert!(said.contains("no request") || said.contains("status"), "{line:?}: {said}");
    }
    // As long as a line is, it is not kept.
    let mut long = connect(&stage);
    long.set_write_timeout(Some(Duration::from_secs(5))).unwrap();
    let _ = long.write_all(&vec![b'['; 300_000]);
    let silent: Vec<UnixStream> = (0..7).map(|_| connect(&stage)).collect();
    let began = Instant::now();
    assert_eq!(status(&stage)["rows"][0]["rule"], "press-leak");
    assert!(began.elapsed() < Duration::from_secs(20));
    drop(silent);
    let flood: Vec<UnixStream> = (0..200).map(|_| connect(&stage)).collect();
    drop(flood);
    let samples = status_in_time(&stage)["watcher"]["samples"].as_u64().unwrap();
    eventually("it goes on", || (status_in_time(&stage)["watcher"]["samples"].as_u64()? > samples).then_some(()));
    watcher.interrupt();
}

/// Dropped by a flood, asked again.
fn status_in_time(stage: &Stage) -> Value {
    eventually("answered", || {
        let output = told(stage, &["status", "--format", "json"]);
        serde_json::from_str(&output.stdout).ok()
    })
}

/// Where nobody watches that is said, with when the last one ended.
#[test]
fn nobody_watches() {
    let stage = stage();
    let (done, said) = ask(&stage, &["status"]);
    assert!(done == Some(3) && said.contains("nobody watches this machine by rules\n"), "{said}");
    let path: PathBuf = stage.write("rules.toml", rule(LOWER));
    stage.watch(&path, &[]).interrupt();
    let (done, said) = ask(&stage, &["status"]);
    assert!(done == Some(3) && said.contains("the last one ended at 20"), "{said}");
    for args in [["stand-back", "--all"], ["rules", "reload"]] {
        let (done, said) = ask(&stage, &args);
        assert!(done == Some(1) && said.contains("no watcher runs here"), "{said}");
    }
}
