//! Nothing goes on after the word: whoever was asked to end and does not is ended by force only where that is still right then.

use std::io::{BufRead, BufReader};
use std::process::{Command, Stdio};
use std::time::Duration;

use sophron_testkit::{Own, Running, Stage, copy_program, eventually, is_gone};

use crate::service::ask;
use crate::stage;

const RULE: &str = "[[rule]]\nname = 'a'\nwhere = 'app = \"labelpress\" and {mine}'\nbreach = 'age > 0s'\nlasting = '200ms'\n\
                    armed = true\nladder = [ { at = '0s', do = 'terminate', force_after = '3s' } ]\n";

const PROTECT: &str = "[protect]\nwhere = 'app = \"labelpress\" and {mine}'\n";

/// It says so where it is asked to end, and goes on for a while.
const DEAF: &str = "trap 'echo asked' TERM; for i in $(seq 600); do sleep 0.1; done";

fn file(more: &str) -> String {
    format!("format = 1\nevery = '200ms'\n{more}")
}

/// A deaf offender that was asked to end, in the countdown to its end by force.
fn counting_down(stage: &Stage) -> (Own, Running) {
    let path = stage.write("rules.toml", file(RULE));
    let program = stage.path("labelpress");
    copy_program("/bin/sh", &program);
    let mut press = Command::new(program);
    press.args(["-c", DEAF]).stdin(Stdio::null()).stdout(Stdio::piped());
    let mut press = Own(press.spawn().unwrap());
    let watcher = stage.watch(&path, &[]);
    let mut line = String::new();
    BufReader::new(press.0.stdout.as_mut().unwrap()).read_line(&mut line).unwrap();
    assert_eq!(line, "asked\n");
    (press, watcher)
}

fn why(stage: &Stage, pid: u32) -> String {
    eventually("it is told what came of it", || {
        let of = |record: &serde_json::Value| record["subject"]["pid"] == pid && record["kind"] == "outcome";
        let told = stage.records().into_iter().find(of)?;
        assert_eq!(told["result"]["outcome"], "still there");
        Some(told["result"]["seen"].as_str().unwrap_or_default().to_owned())
    })
}

/// The word is confirmed, and after that nothing more is sent.
fn assert_called_off(word: impl Fn(&Stage), expected: &str) {
    let stage = stage();
    let (press, watcher) = counting_down(&stage);
    word(&stage);
    let why = why(&stage, press.pid());
    assert!(why.contains("called off") && why.contains(expected), "{why}");
    std::thread::sleep(Duration::from_secs(4));
    assert!(!is_gone(press.pid()), "{expected}: it was ended after the word");
    drop(watcher);
}

fn reload(stage: &Stage, rules: &str) {
    stage.write("rules.toml", file(rules));
    assert_eq!(ask(stage, &["rules", "reload"]).0, Some(0));
}

#[test]
fn a_countdown_is_called_off_by_protection() {
    assert_called_off(|stage| reload(stage, &format!("{PROTECT}{RULE}")), "it is protected now");
}

#[test]
fn a_countdown_is_called_off_with_its_rule() {
    let other = RULE.replace("'a'", "'b'").replace("armed = true\n", "");
    assert_called_off(|stage| reload(stage, &other), "its rule is no longer watched with");
}

#[test]
fn a_countdown_is_called_off_where_rules_stand_back() {
    let back = ["stand-back", "--all", "--for", "1m", "--because", "plant labels for the fair"];
    assert_called_off(|stage| assert_eq!(ask(stage, &back).0, Some(0)), "rules stand back from it");
}

/// An ending watcher ends: what was to follow is called off and recorded.
#[test]
fn a_countdown_is_called_off_by_the_end_of_the_watcher() {
    let stage = stage();
    let (press, watcher) = counting_down(&stage);
    let (lines, _) = watcher.interrupt();
    let why = why(&stage, press.pid());
    assert!(why.contains("called off: the watcher is ending"), "{why}\n{lines}");
    std::thread::sleep(Duration::from_secs(4));
    assert!(!is_gone(press.pid()), "it was ended by a watcher that had ended");
}
