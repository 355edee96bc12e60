//! Usage over weeks: the demo months as they are told, and what a running watcher keeps of this machine.

use std::fs;
use std::path::Path;
use std::sync::Arc;

use serde_json::Value;
use sophron_core::usage::{App, AppHour, MachineHour, Row, Slot};
use sophron_testkit::{Stage, eventually};

use crate::stage;

fn usage(stage: &Stage, options: &[&str]) -> String {
    let output = stage.run(&[&["usage"], options, &["--from", "demo-months"]].concat());
    assert_eq!(output.status, Some(if options.first() == Some(&"changes") { 3 } else { 0 }), "{}", output.stderr);
    output.stdout
}

#[test]
fn the_demo_months_are_told() {
    let stage = stage();
    insta::assert_snapshot!("by_app", usage(&stage, &["--limit", "6"]));
    insta::assert_snapshot!("by_hour", usage(&stage, &["--group", "hour"]));
    insta::assert_snapshot!("since_when", usage(&stage, &["changes"]));
    let against = usage(
        &stage,
        &["--since", "2026-09-22", "--until", "2026-10-06", "--against", "14d", "--by", "memory.held", "--limit", "3"],
    );
    assert!(against.contains("that of notepatch (ines): memory held, 710 MiB against 3"), "{against}");
    // Without a time it is the last one that is as long, and no day of it is compared with itself.
    let against = usage(&stage, &["--against", "7d", "--limit", "1"]);
    assert!(against.contains("Mon 5 Oct 2026 07:00 to Sat 10 Oct"), "{against}");
    assert!(against.contains("Before: Mon 28 Sep 2026 07:00 to Sat 3 Oct"), "{against}");
    let csv = usage(&stage, &["--group", "weekday", "--format", "csv"]);
    let lines: Vec<&str> = csv.lines().collect();
    assert!(
        lines.len() == 7
            && lines[0].starts_with("day,days,cpu.time,machine.cpu,")
            && lines[1].starts_with("Monday,7.0,"),
        "{csv}"
    );
    let rows = usage(&stage, &["--where", "owner = ines", "--format", "jsonl"]);
    let rows: Vec<Value> = rows.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert!(rows.len() > 3 && rows.iter().all(|row| row["owner"] == "ines" && row["cpu.time"].is_number()), "{rows:?}");
    let json = |options: &[&str]| -> Value {
        serde_json::from_str(&usage(&stage, &[options, &["--format", "json"]].concat())).unwrap()
    };
    let days = json(&["--group", "day", "--against", "7d", "--limit", "1"]);
    assert_eq!(
        (&days["rows"][0]["day"], days["rows"].as_array().map(Vec::len)),
        (&"2026-10-06".into(), Some(1)),
        "{days}"
    );
    assert_eq!(days["before"]["since"], "2026-09-28T06:00:00Z", "{days}");
    let parts = json(&["--limit", "100"]);
    let part: f64 = parts["rows"].as_array().unwrap().iter().map(|row| row["cpu.time.part"].as_f64().unwrap()).sum();
    let unseen = 100.0 * parts["cpu.time.unseen"].as_f64().unwrap() / parts["cpu.time"].as_f64().unwrap();
    assert!((part + unseen - 100.0).abs() < 0.1, "percent of all used: {part} and {unseen}");
    let changes = json(&["changes"]);
    let change = &changes["rows"][0];
    assert_eq!((&change["figure"], &change["since"]), (&"memory.held".into(), &"2026-09-22".into()), "{changes}");
    assert_eq!(change["those_days_too"][0]["event"], "program", "{changes}");
    let months = stage.run(&["report", "--from", "demo-months"]);
    assert!(months.stdout.contains("10:00 to 11:00: programs waited on 39 of 41 working days, no other; notepatch holds 2.0 times as much memory since Tuesday 22 September"), "{}", months.stdout);
}

#[test]
fn the_shipped_months_are_those_their_story_tells() {
    let root = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo");
    let read = |name: &str| fs::read_to_string(format!("{root}/{name}")).unwrap();
    let lines = sophron_demo_day::months(&read("story.toml"), &read("months.toml")).unwrap();
    let shipped = zstd::decode_all(fs::read(format!("{root}/months.jsonl.zst")).unwrap().as_slice()).unwrap();
    assert!(String::from_utf8(shipped).unwrap() == lines, "`cargo run -p sophron-demo-day` makes it anew");
    assert!(fs::metadata(format!("{root}/months.jsonl.zst")).unwrap().len() < 1 << 20);
}

/// What cannot be asked, and what is not what it is said to be.
#[test]
fn wrong_questions_are_answered() {
    let stage = stage();
    let database = stage.write("usage.db", b"SQLite format 3\0and so on");
    let cut = stage.write("cut.jsonl", "{\"sophron\":\"usage\",\"format\":1,\"host\":\"x\"}\n{\"hour\":");
    let newer = stage.write("newer.jsonl", "{\"sophron\":\"usage\",\"format\":9,\"host\":\"x\"}\n");
    let (database, cut, newer) =
        (database.display().to_string(), cut.display().to_string(), newer.display().to_string());
    for (args, status, words) in [
        (vec!["usage"], 1, "there is no history"),
        (vec!["usage", "--from", &database], 2, "is a database, and none is opened"),
        (vec!["usage", "--from", &cut], 1, "line 2 cannot be read"),
        (vec!["usage", "--from", &newer], 1, "format 9, and this version reads up to 1"),
        (vec!["usage", "--from", "/proc"], 1, "is not a file"),
        (vec!["usage", "--from", "demo-months", "--by", "waiting"], 2, "waiting is the machine's"),
        (vec!["usage", "--from", "demo-months", "--where", "cpu > 5%"], 2, "does not know cpu"),
        (
            vec!["usage", "--from", "demo-months", "--since", "2026-10-01", "--until", "2026-09-01"],
            2,
            "ends before it begins",
        ),
        (vec!["usage", "--from", "demo-months", "--since", "2026-09-01", "--against", "7d"], 2, "are partly one"),
        (
            vec!["report", "--from", "demo-months", "--since", "60d ago"],
            2,
            "try: write it as 10:00, which is on its first day",
        ),
        (vec!["report", "--from", "demo-months", "--hours", "office"], 2, "there are no other rules or hours to it"),
        (vec!["list", "--from", "demo-months"], 2, "is a history of usage, and no recording"),
        (vec!["list", "--chart", "--from", "demo", "--format", "json"], 2, "drawn in text only"),
    ] {
        let output = stage.run(&args);
        assert!(output.status == Some(status) && output.stderr.contains(words), "{args:?}: {output:?}");
    }
}

const RULES: &str = "format = 1\nevery = '1s'\n[lookback]\nevery = '1s'\n[[rule]]\nname = 'none'\nbreach = 'cpu > 90000%'\nlasting = '1m'\n";

/// A watcher for that long.
fn watched(stage: &Stage, rules: &Path, length: &str) {
    let (rules, state) = (rules.display().to_string(), stage.state().display().to_string());
    let output = stage.run(&["watch", "--rules", &rules, "--state", &state, "--for", length]);
    assert_eq!(output.status, Some(0), "{output:?}");
}

/// Of the time of all cores since the machine's start, seconds (`/proc/stat`): what is not idle or waiting, and what others on the same
/// hardware have taken.
const BUSY: &[usize] = &[0, 1, 2, 5, 6, 7];
const STOLEN: &[usize] = &[7];

fn time(places: &[usize]) -> f64 {
    let text = fs::read_to_string("/proc/stat").unwrap();
    let fields: Vec<f64> =
        text.lines().next().unwrap().split_whitespace().skip(1).map(|field| field.parse().unwrap()).collect();
    let busy: f64 = places.iter().map(|place| fields[*place]).sum();
    busy / rustix::param::clock_ticks_per_second() as f64
}

/// The file that a watcher leaves, for programs.
fn kept(stage: &Stage) -> (Vec<Value>, Value) {
    let state = stage.state().display().to_string();
    let file = stage.path(&format!("kept-{}.jsonl", fs::read_dir(stage.path(".")).unwrap().count()));
    let output = stage.run(&["usage", "export", &file.display().to_string(), "--state", &state]);
    assert_eq!(output.status, Some(0), "{}", output.stderr);
    let text = fs::read_to_string(&file).unwrap();
    let hours: Vec<Value> = text
        .lines()
        .map(|line| serde_json::from_str::<Value>(line).unwrap())
        .filter_map(|line| line.get("hour").cloned())
        .collect();
    let sum = |field: &str| hours.iter().map(|hour| hour["machine"][field].as_f64().unwrap()).sum::<f64>();
    let apps: f64 = hours
        .iter()
        .flat_map(|hour| hour["apps"].as_array().unwrap())
        .map(|app| app[1][1].as_f64().unwrap() + app[1][2].as_f64().unwrap())
        .sum();
    let told =
        serde_json::json!({ "seconds": sum("seconds"), "cpu": sum("cpu"), "unseen": sum("unseen"), "apps": apps });
    (hours, told)
}

/// A live run beside short-lived children: what apps used and what is nobody's is what the kernel says the machine was busy with.
#[test]
fn the_sum_is_what_the_machine_was_busy_with() {
    let stage = stage();
    let rules = stage.write("rules.toml", RULES);
    let _baker = stage.offender("tilebaker", &["--cpu", "60%"]);
    let _swarm = sophron_testkit::Own(
        stage_command("i=0; while :; do sh -c 'i=0; while [ $i -lt 4000 ]; do i=$((i+1)); done'; done")
            .spawn()
            .unwrap(),
    );
    let before = (time(BUSY), time(STOLEN));
    watched(&stage, &rules, "12s");
    let (all, stolen) = (time(BUSY) - before.0, time(STOLEN) - before.1);
    let (_, told) = kept(&stage);
    let of = |name: &str| told[name].as_f64().unwrap();
    assert!((of("apps") + of("unseen") - of("cpu")).abs() <= of("cpu") * 0.01 + 0.2, "{told}");
    // The watcher looks from its first sample to its last.
    let part = of("seconds") / 12.0;
    assert!(part > 0.8, "{told}");
    assert!(of("cpu") <= all * 1.02 + 0.2 && of("cpu") >= all * part * 0.75, "{told}: {all}");
    assert!(of("apps") > (of("cpu") - stolen) * 0.6, "{told}: {stolen} stolen");
}

fn stage_command(line: &str) -> std::process::Command {
    let mut command = std::process::Command::new("sh");
    command.args(["-c", line]);
    command
}

/// What was recorded while nothing could be kept is caught up with at the next start; a kill costs at most some minutes.
#[test]
fn what_was_recorded_meanwhile_is_caught_up_with() {
    let stage = stage();
    let rules = stage.write("rules.toml", RULES);
    let _press = stage.offender("labelpress", &["--cpu", "30%"]);
    watched(&stage, &rules, "5s");
    let before = kept(&stage).1["seconds"].as_f64().unwrap();
    assert!(before > 3.0, "{before}");
    fs::remove_dir_all(stage.state().join("usage")).unwrap();
    // It begins with what the lookback has, before it samples itself.
    let watcher = stage.watch(&rules, &[]);
    let state = stage.state().display().to_string();
    let seen = eventually("the history is there", || {
        let told = stage.run(&["usage", "--state", &state, "--format", "json"]);
        let told: Value = serde_json::from_str(&told.stdout).ok()?;
        let rows = told["rows"].as_array()?.clone();
        rows.iter().find(|row| row["app"] == "labelpress").and_then(|row| row["seen"].as_f64())
    });
    assert!(seen > before - 1.5 && seen < before + 1.5, "{seen} {before}");
    watcher.interrupt();
    watched(&stage, &rules, "3s");
    // Nothing of it is counted twice.
    let after = kept(&stage).1["seconds"].as_f64().unwrap();
    assert!(after > before + 1.0 && after < before + 40.0, "{after} {before}");
}

/// `keep = "0s"` keeps nothing, and `owners = false` nobody's name.
#[test]
fn what_is_not_to_be_kept_is_not() {
    let stage = stage();
    let none = stage.write("none.toml", format!("{RULES}[usage]\nkeep = '0s'\n"));
    watched(&stage, &none, "2s");
    assert!(!stage.state().join("usage").exists());
    let nameless = stage.write("nameless.toml", format!("{RULES}[usage]\nowners = false\n"));
    watched(&stage, &nameless, "3s");
    let state = stage.state().display().to_string();
    let told = stage.json(&["usage", "--state", &state, "--format", "json"]);
    let rows = told["rows"].as_array().unwrap();
    assert!(!rows.is_empty() && rows.iter().all(|row| row["owner"] == ""), "{told}");
    let mode = |name: &str| {
        std::os::unix::fs::PermissionsExt::mode(&stage.state().join(name).metadata().unwrap().permissions())
    };
    assert_eq!([mode("usage") & 0o777, mode("usage/usage.db") & 0o777], [0o700, 0o600]);
}

/// A rule that asks what is usual is unknown until the history tells, and binds from then on.
#[test]
fn what_is_usual_binds_rules() {
    let stage = stage();
    let _press = stage.offender("labelpress", &["--grow", "400MiB/s", "--up-to", "64MiB"]);
    let rules = "format = 1\nevery = '300ms'\n[[rule]]\nname = 'beyond-usual'\nwhere = '{mine}'\nlasting = '300ms'\n\
        breach = 'memory.held > typical(memory.held)'\nladder = [ { at = '0s', do = 'alert' } ]\n";
    let rules = stage.write("rules.toml", rules);
    let mut store = sophron_history::Store::open(&sophron_history::folder(&stage.state()), None, false).unwrap();
    let now = jiff::Timestamp::now();
    let of = |hours: i64| {
        let app = App { app: "labelpress".to_owned(), owner: "ines".to_owned(), uid: 1001 };
        let hour = AppHour { seconds: 3600.0, held: 16e6, most: 1, ..AppHour::default() };
        let start = Slot::Hour.start(now - jiff::SignedDuration::from_hours(hours), &jiff::tz::TimeZone::UTC);
        Row { start, machine: MachineHour::default(), apps: vec![(Arc::new(app), hour)] }
    };
    store.keep(&(2..20).rev().map(of).collect::<Vec<_>>()).unwrap();
    store.close();
    let mut watcher = stage.watch(&rules, &[]);
    let line = watcher.line_with("beyond-usual: memory.held");
    assert!(line.contains("limit 15.3 MiB"), "{line}");
    watcher.interrupt();
}
