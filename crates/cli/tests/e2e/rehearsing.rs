//! Rehearsing: the demo day told by the office's rules, and a live run told again by its own recording.

use std::path::Path;

use serde_json::Value;
use sophron_core::sorted::SortedSet;
use sophron_testkit::{eventually, held, is_gone};

use crate::stage;

fn example(name: &str) -> String {
    Path::new(env!("CARGO_MANIFEST_DIR"))
        .join("../../examples")
        .join(name)
        .canonicalize()
        .unwrap()
        .display()
        .to_string()
}

#[test]
fn the_demo_day_rehearsed_by_the_offices_rules() {
    let stage = stage();
    let told = stage.run(&["rehearse", &example("mossgate.toml"), "--from", "demo"]);
    assert_eq!(told.status, Some(0), "{}", told.stderr);
    let (_, body) = told.stdout.split_once('\n').unwrap();
    insta::assert_snapshot!(body);
    let json = stage.json(&["rehearse", &example("mossgate.toml"), "--from", "demo", "--format", "json"]);
    assert_eq!(
        (json["rows"].as_array().unwrap().len(), &json["samples"], &json["interval"]),
        (5, &3841.into(), &10.0.into())
    );
    let one = stage.run(&["rehearse", &example("mossgate.toml"), "--from", "demo", "--case", "3"]).stdout;
    assert!(one.starts_with("case 3  lamp-spin") && !one.contains("case 4"), "{one}");
    // Without a terminal no colour and no progress.
    assert!(!one.contains('\u{1b}') && told.stderr.is_empty(), "{}", told.stderr);
}

/// The rules to begin with find each offender of the day, by what it does, and nobody else.
#[test]
fn the_starter_rules_find_the_days_offenders() {
    let json = stage().json(&["rehearse", &example("starter.toml"), "--from", "demo", "--format", "json"]);
    let of = |row: &Value, key: &str| row[key].as_str().unwrap_or_default().to_owned();
    let found: Vec<_> = json["rows"].as_array().unwrap().iter().map(|row| (of(row, "rule"), of(row, "app"))).collect();
    let wanted = [
        ("leak", "labelpress"),
        ("spin", "sheetlamp"),
        ("swarm", "tilebaker"),
        ("squeeze", "labelpress"),
        ("leak", "herbarium"),
    ];
    assert_eq!(found, wanted.map(|(rule, app)| (rule.to_owned(), app.to_owned())));
}

#[test]
fn whom_a_rule_must_not_touch_and_what_it_cannot_see_comes_first() {
    let stage = stage();
    let busy = "format = 1\n[[rule]]\nname = 'busy'\njudge = 'app'\nbreach = 'avg(cpu, 5m) > 120%'\nlasting = '5m'\n\
        ladder = [ { at = '0s', do = 'alert' }, { at = '10m', do = 'terminate' } ]\n";
    let rules = stage.write("rules.toml", busy).display().to_string();
    let spared = |condition: &str| stage.run(&["rehearse", &rules, "--from", "demo", "--spare", condition]);
    let told = spared("app = \"plantledger\"");
    let second = told.stdout.lines().nth(1).unwrap();
    assert_eq!(told.status, Some(3));
    assert!(second.starts_with("hit       busy would terminate plantledger"), "{second}");
    assert_eq!(spared("app = \"nightcopy\"").status, Some(0));

    let files = busy.replace("avg(cpu, 5m) > 120%", "files > 500").replace("'app'", "'process'");
    let rules = stage.write("files.toml", files).display().to_string();
    let told = stage.run(&["rehearse", &rules, "--from", "demo"]);
    assert_eq!(told.status, Some(3));
    assert!(told.stdout.contains("unjudged  busy: the recording lacks files"), "{}", told.stdout);
}

#[test]
fn one_setting_varied_and_two_files_compared() {
    let stage = stage();
    let rules = example("mossgate.toml");
    let vary =
        |setting: &str| stage.run(&["rehearse", &rules, "--from", "demo", "--only", "press-leak", "--vary", setting]);
    let told = vary("memory.held=300MiB..900MiB");
    assert_eq!(told.status, Some(0), "{}", told.stderr);
    insta::assert_snapshot!(told.stdout);
    for wrong in ["lasting", "lasting=5..6", "nice=1..5", "memory.held=5%..9%"] {
        assert_eq!(vary(wrong).status, Some(2), "{wrong}");
    }
    assert_eq!(stage.run(&["rehearse", &rules, "--from", "demo", "--vary", "lasting=1s..9s"]).status, Some(2));
    let text = std::fs::read_to_string(&rules).unwrap();
    let changed = text
        .replace("memory.held > 400 MiB", "memory.held > 600 MiB")
        .replace(" and avg(disk.read, 5m) < 100 kB/s", "");
    let new = stage.write("new.toml", changed).display().to_string();
    let told = stage.run(&["rehearse", &new, "--from", "demo", "--against", &rules]);
    insta::assert_snapshot!(told.stdout);
}

/// The very snapshots that were judged give equal happenings: the same ticks, cases, steps and verdicts, also while others want
/// the CPU and acts take their time.
#[test]
fn a_live_run_and_the_rehearsal_of_its_recording_agree() {
    let stage = stage();
    let text = "format = 1\nevery = '250ms'\n\
        [[rule]]\nname = 'leak'\nwhere = 'app = \"labelpress\" and {mine}'\nbreach = 'memory.held > 15 MiB and peak(memory.held, 2s) > 15 MiB'\n\
        lasting = '500ms'\narmed = true\nladder = [ { at = '0s', do = 'alert' }, { at = '1s', do = 'lower', nice = 12 }, \
        { at = '2s', do = 'suspend', for = '1s' }, { at = '4s', do = 'terminate' } ]\n\
        [[rule]]\nname = 'family'\njudge = 'app'\nwhere = 'app = \"tilebaker\" and {mine}'\nbreach = 'instances > 2'\n\
        lasting = '500ms'\narmed = true\nladder = [ { at = '1s', do = 'lower' }, { at = '3s', do = 'terminate' } ]\n";
    let rules = stage.write("rules.toml", text);
    let recording = stage.path("judged.jsonl.zst").display().to_string();
    let load: Vec<_> = (0..3).map(|_| stage.offender("kioskview", &["--cpu", "100%"])).collect();
    let press = stage.offender("labelpress", &["--grow", "100MiB/s", "--up-to", "30MiB", "--cpu", "10%"]);
    let baker = stage.offender("tilebaker", &["--children", "2"]);
    let watcher = stage.watch(&rules, &["--record", &recording, "--format", "jsonl"]);
    for pid in [press.pid(), baker.pid()] {
        eventually("terminated", || is_gone(pid).then_some(()));
    }
    // Both cases are told to be over: with the last of them, or as somebody whom the machine keeps waiting is the last.
    let closed = |record: &Value| (record["kind"] == "ended" && record["case"].is_number()) || record["kind"] == "calm";
    let cases = || -> SortedSet<String> {
        stage.records().iter().filter(|record| closed(record)).map(|record| record["case"].to_string()).collect()
    };
    eventually("closed", || (cases().len() >= 2).then_some(()));
    let (told, _) = watcher.interrupt();
    drop(load);
    let rules = rules.display().to_string();
    let rehearsed = stage.run(&["rehearse", &rules, "--from", &recording, "--lines", "--format", "json"]).stdout;
    let (live, again) = (happenings(&told), happenings(&rehearsed));
    let words = |told: &[(Option<i64>, String)]| told.iter().map(|(_, words)| words.clone()).collect::<Vec<_>>();
    assert!(live.len() > 10 && live.iter().any(|(_, words)| words.ends_with("terminate act")), "{live:#?}");
    assert_eq!(words(&live), words(&again));
    // A recording's times are whole milliseconds, rounded as they may be.
    let both = live.iter().zip(&again);
    let most = both.filter_map(|((live, _), (again, _))| Some(live.as_ref()?.abs_diff((*again)?))).max();
    assert!(most.is_some_and(|most| most <= 2), "{live:#?} {again:#?}");
    // What the watcher did itself is in the recording, and said.
    let rehearsed = stage.json(&["rehearse", &rules, "--from", &recording, "--format", "json"]);
    let done: Vec<&str> =
        rehearsed["done"].as_array().unwrap().iter().map(|act| act["action"].as_str().unwrap()).collect();
    assert!(done.contains(&"suspend") && done.contains(&"resume") && done.contains(&"terminate"), "{done:?}");
}

/// What a tick brought, in its order: when, in which case, about whom, what, and with which verdict. What comes once somebody is
/// told to end goes by how long the machine takes over it, which no tick tells: of that only that it comes.
fn happenings(lines: &str) -> Vec<(Option<i64>, String)> {
    let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
    let tell = |line: &str| {
        let value: Value = serde_json::from_str(line).unwrap();
        let happened = text(&value["happened"]);
        let at = match happened.as_str() {
            "opened" | "came back" | "reminded" | "easing" | "breached again" | "hours ended" | "decided" => {
                Some(text(&value["at"]).parse::<jiff::Timestamp>().unwrap().as_millisecond())
            }
            "closed" => None,
            _ => return None,
        };
        let told = [happened, value["case"].to_string(), text(&value["rule"]), text(&value["subject"])];
        let done = [value["step"].to_string(), text(&value["action"]), text(&value["came"])];
        Some((at, format!("{} {}", told.join(" "), done.join(" "))))
    };
    let (mut ending, mut told) = (SortedSet::new(), SortedSet::new());
    let mut goes_by_ticks = |words: &str| {
        let mut parts = words.split(' ');
        let (what, case) = (parts.next().unwrap_or_default(), parts.next().unwrap_or_default().to_owned());
        if words.ends_with("terminate act") {
            ending.insert(case.clone());
        }
        // Nor does a step that is tried again, because there was no time for it.
        told.insert(words.to_owned()) && (what == "decided" || !ending.contains(&case))
    };
    lines.lines().filter_map(tell).filter(|(_, words)| goes_by_ticks(words)).collect()
}

/// The watcher keeps the last days by itself, whatever its rules need, and what it did: commands that look find it there.
#[test]
fn what_was_is_answered_by_the_lookback() {
    let stage = stage();
    let state = stage.path("state").display().to_string();
    let empty = stage.run(&["list", "--at", "1m ago", "--state", &state]);
    assert_eq!(empty.status, Some(1));
    assert!(empty.stderr.contains("there is no lookback in") && empty.stderr.contains("sophron watch"));
    let rules = stage.write(
        "rules.toml",
        "format = 1\n[lookback]\nevery = '1s'\n[[rule]]\nname = 'spin'\nwhere = 'app = \"sheetlamp\" and {mine}'\n\
        breach = 'cpu > 10%'\nlasting = '500ms'\narmed = true\nladder = [ { at = '0s', do = 'suspend', for = '2s' } ]\n",
    );
    let press = stage.offender("labelpress", &["--grow", "20MiB/s", "--up-to", "200MiB"]);
    let lamp = stage.offender("sheetlamp", &["--cpu", "60%"]);
    let watcher = stage.watch(&rules, &[]);
    eventually("resumed", || stage.records().iter().any(|record| record["kind"] == "restored").then_some(()));
    eventually("grown", || (held(press.pid()) > 120 << 20).then_some(()));
    watcher.interrupt();
    let looked = |args: &[&str]| stage.json(&[args, &["--state", &state, "--format", "json"]].concat());
    // Others' programs of that name are in it as well.
    let ours = format!("pid = {} or pid = {}", press.pid(), lamp.pid());
    let grown = looked(&["list", "--since", "1m ago", "--by", "growth", "--where", &ours]);
    let first = &grown["rows"][0];
    assert_eq!(first["pid"], press.pid());
    assert!(first["growth"].as_f64().unwrap() > 5e6 && !first["course"].as_array().unwrap().is_empty(), "{first}");
    let now = looked(&["list", "--at", "now", "--where", &format!("pid = {}", press.pid())]);
    assert!(now["rows"][0]["memory.held"].as_u64().unwrap() > 60 << 20, "no rule reads memory: {now}");
    let early = stage.run(&["list", "--at", "2020-01-01 10:00", "--state", &state]);
    assert!(early.stderr.contains("begins later"), "{}", early.stderr);
    // The watcher's own acts are in it.
    let rules = rules.display().to_string();
    let rehearsed = looked(&["rehearse", &rules]);
    let done = rehearsed["done"].as_array().unwrap();
    let of_lamp: Vec<&str> =
        done.iter().filter(|act| act["pid"] == lamp.pid()).map(|act| act["action"].as_str().unwrap()).collect();
    assert!(of_lamp.starts_with(&["suspend", "resume"]), "{done:?}");
    // Only the owner's.
    use std::os::unix::fs::PermissionsExt;
    let folder = stage.path("state").join("lookback");
    let mode = |path: &Path| std::fs::metadata(path).unwrap().permissions().mode() & 0o777;
    let pieces: Vec<_> = std::fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    assert_eq!((mode(&folder), pieces.len(), mode(&pieces[0])), (0o700, 1, 0o600));
}
