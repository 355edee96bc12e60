//! Alerts reach people: what is recorded is told, whatever happens to the watcher.

use std::os::unix::net::UnixDatagram;
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

use serde_json::Value;
use sophron_core::sorted::SortedSet;
use sophron_testkit::{Stage, eventually, receiver};

use crate::stage;

const RULES: &str = "format = 1\nevery = '200ms'\n[deliver]\nas = 'nobody'\n\
    [[channel]]\nname = 'machine-log'\nto = 'log'\n[[channel]]\nname = 'hook'\nto = 'hook'\nurl = 'http://127.0.0.1:{port}/in'\n\
    [[tell]]\nby = ['machine-log', 'hook']\n\
    [[rule]]\nname = 'a'\nwhere = 'app = \"labelpress\" and {mine}'\nbreach = 'threads > 0'\nlasting = '200ms'\n\
    ladder = [ { at = '0s', do = 'alert' }, { at = '1s', do = 'lower' } ]\n";

/// A system log that hands on what it is sent.
fn log_of(stage: &Stage) -> (String, Receiver<String>) {
    let path = stage.path("log");
    let socket = UnixDatagram::bind(&path).unwrap();
    let (tell, told) = channel();
    std::thread::spawn(move || {
        let mut bytes = vec![0; 65_536];
        while let Ok(length) = socket.recv(&mut bytes) {
            if tell.send(String::from_utf8_lossy(&bytes[..length]).into_owned()).is_err() {
                return;
            }
        }
    });
    (path.display().to_string(), told)
}

/// The ID at the end of a line; the stamps of the trail have none.
fn id(line: &str) -> Option<String> {
    Some(line.strip_suffix(']')?.rsplit_once('[')?.1.to_owned())
}

/// The same of what a hook is sent.
fn posted_id(request: &str) -> Option<String> {
    let event: Value = serde_json::from_str(request.split_once("\r\n\r\n")?.1).ok()?;
    Some(event["id"].as_str()?.to_owned())
}

fn due(records: &[Value]) -> Vec<String> {
    let told = |record: &&Value| {
        let kind = record["kind"].as_str().unwrap_or_default();
        let shadow = kind == "shadow" || (kind == "alert" && record["action"]["step"] != 1);
        shadow
            || matches!(
                kind,
                "breach"
                    | "outcome"
                    | "effect"
                    | "restored"
                    | "calm"
                    | "ended"
                    | "left"
                    | "unreadable"
                    | "watcher ended"
            )
    };
    let id = |record: &Value| format!("{}-{}", &record["hash"].as_str().unwrap()[..12], record["seq"]);
    records.iter().filter(told).map(id).collect()
}

/// Killed again and again while it tells: nothing that is due is lost, and without what comes twice all of it is in order.
#[test]
fn nothing_is_lost_over_kills() {
    let stage = stage();
    let (log, told) = log_of(&stage);
    let (web, asked) = receiver::web(false, |_| receiver::status("202"));
    let rules = stage.write("rules.toml", RULES.replace("{port}", &web.to_string()));
    let mut presses = Vec::new();
    for round in 0..6 {
        // Cases that were open go on; these are new ones.
        presses.push(stage.offender("labelpress", &["--children", "3"]));
        let mut watcher = stage.watch(&rules, &["--system-log", &log]);
        // At any moment: before the first case, between two messages, between a message and its record.
        std::thread::sleep(Duration::from_millis(250 + round * 190));
        watcher.kill_outright();
    }
    let watcher = stage.watch(&rules, &["--system-log", &log]);
    // However little of it each life has come to.
    eventually("there is enough to tell", || (due(&stage.records()).len() > 18).then_some(()));
    watcher.interrupt();
    let due = due(&stage.records());
    let (mut logged, mut posted): (Vec<String>, Vec<String>) = (Vec::new(), Vec::new());
    // A hook may have been ended with its last messages: the next watcher has them.
    let mut watcher = stage.watch(&rules, &["--system-log", &log]);
    eventually("all has arrived", || {
        logged.extend(told.try_iter().filter_map(|line| id(&line)));
        posted.extend(asked.try_iter().filter_map(|request| posted_id(&request)));
        [&logged, &posted].iter().all(|all| due.iter().all(|id| all.contains(id))).then_some(())
    });
    watcher.kill_outright();
    for mut all in [logged, posted] {
        let mut seen = SortedSet::new();
        all.retain(|id| seen.insert(id.clone()));
        assert_eq!(&all[..due.len()], &due[..], "in order, and nothing else");
    }
    let (rules, state) = (rules.display().to_string(), stage.state().display().to_string());
    let by_channel = stage.json(&["channels", "--rules", &rules, "--state", &state, "--format", "json"]);
    assert_eq!(by_channel["rows"][0]["state"], "up", "{by_channel}");
    let explained = stage.run(&["audit", "explain", "1", "--state", &state]);
    assert!(explained.stdout.contains("by channel machine-log at "), "{explained:?}");
}

/// Each step is said, and where nobody listens that is a failure.
#[test]
fn a_channel_is_tried() {
    let stage = stage();
    let rules = stage.write("rules.toml", RULES.replace("{port}", "9")).display().to_string();
    let nowhere = stage.path("nowhere").display().to_string();
    let attempt = |name: &str, socket: &str| {
        let output = stage.run(&["channels", "try", name, "--rules", &rules, "--system-log", socket]);
        (output.status, output.stdout + &output.stderr)
    };
    let (exit, text) = attempt("machine-log", &nowhere);
    assert!(exit == Some(1) && text.contains(&format!("nobody listens for the system log at {nowhere}")), "{text}");
    let (log, told) = log_of(&stage);
    let (exit, text) = attempt("machine-log", &log);
    assert!(exit == Some(0) && text.contains(&format!("the system log at {log}: taken")), "{text}");
    assert!(
        told.recv_timeout(Duration::from_secs(20))
            .unwrap()
            .contains("tries the channel machine-log; nothing has happened")
    );
    let (exit, text) = attempt("machine-lag", &log);
    assert!(exit == Some(1) && text.contains("the nearest is machine-log"), "{text}");
}
