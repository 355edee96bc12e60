//! Rules that Sophron writes itself: drafted for one offender, and suggested from a day.

use serde_json::Value;
use sophron_core::sorted::SortedSet;

use crate::stage;

/// Who the offenders of the demo day are is decided here by looking at the day itself, and not at the story that it was
/// made from: whom a checkup holds for a shortage of CPU or memory that has lasted for ten minutes, without a sign of
/// honest work; and who has grown in both halves of an hour by more than half a percent of RAM each.
fn offenders() -> SortedSet<String> {
    let stage = stage();
    let mut found = SortedSet::new();
    let clock = |minute: u32| format!("{:02}:{:02}", minute / 60, minute % 60);
    let time = |value: &Value| value.as_str().unwrap().parse::<jiff::Timestamp>().unwrap();
    for minute in (7 * 60 + 30..=18 * 60 + 20).step_by(20) {
        let seen = stage.json(&["checkup", "--from", "demo", "--at", &clock(minute), "--format", "json"]);
        for row in seen["rows"].as_array().unwrap().iter().filter(|row| row["finding"] != "disk") {
            let honest = |suspect: &Value| !suspect["honest"].is_null();
            let first = row["suspects"].as_array().unwrap().first().filter(|suspect| !honest(suspect));
            let lasts =
                !row["since"].is_null() && time(&seen["at"]).duration_since(time(&row["since"])).as_mins() >= 10;
            if let Some(suspect) = first.filter(|_| lasts) {
                // A shortage of memory is the machine's.
                let memory = row["finding"] == "memory";
                found.insert(if memory { "the machine" } else { suspect["app"].as_str().unwrap() }.to_owned());
            }
        }
    }
    for hour in 8..18 {
        let (from, to) = (clock(hour * 60), clock(hour * 60 + 60));
        let args = ["list", "--from", "demo", "--by", "growth", "--format", "json", "--since", &from, "--until", &to];
        let seen = stage.json(&args);
        let much = |from: &Value, to: &Value| {
            let (Some(from), Some(to)) = (from.as_f64(), to.as_f64()) else { return false };
            to - from > 0.005 * 8.0 * 1073741824.0
        };
        for row in seen["rows"].as_array().unwrap() {
            let course = row["course"].as_array().unwrap();
            if much(&course[0], &course[15]) && much(&course[16], &course[31]) {
                found.insert(row["app"].as_str().unwrap().to_owned());
            }
        }
    }
    found
}

#[test]
fn suggestions_fire_on_the_offenders_of_the_day_and_on_nobody_else() {
    let stage = stage();
    let advice = stage.json(&["suggest", "--from", "demo", "--format", "json"]);
    let rows = advice["rows"].as_array().unwrap();
    let hit = |row: &Value| -> SortedSet<String> {
        let name = |case: &Value| match case["subject"].as_str().unwrap() {
            "the machine" => "the machine".to_owned(),
            _ => case["app"].as_str().unwrap().to_owned(),
        };
        row["cases"].as_array().unwrap().iter().map(name).collect()
    };
    let fired: SortedSet<String> = rows.iter().flat_map(hit).collect();
    assert_eq!(fired, offenders());
    // The leak came back, and was caught both times.
    let leak = rows.iter().find(|row| row["rule"] == "labelpress-memory").unwrap();
    assert_eq!(leak["cases"].as_array().unwrap().len(), 2);
    assert!(advice["left_alone"][0].as_str().unwrap().starts_with("plantledger (tomas)"), "{advice}");

    let told = stage.run(&["suggest", "--from", "demo"]);
    insta::assert_snapshot!(told.stdout);
    let file = stage.write("suggested.toml", &told.stdout).display().to_string();
    let checked = stage.run(&["rules", "check", &file]);
    assert_eq!(checked.status, Some(0), "{}{}", checked.stdout, checked.stderr);
    let rehearsed = stage.json(&["rehearse", &file, "--from", "demo", "--format", "json"]);
    assert_eq!(rehearsed["rows"].as_array().unwrap().len(), 5);
}

#[test]
fn too_little_is_said_to_be_too_little() {
    let stage = stage();
    let early = stage.run(&["suggest", "--from", "demo", "--until", "08:00"]);
    assert_eq!(early.status, Some(1));
    assert!(early.stderr.starts_with("sophron: not enough data: 51 min"), "{}", early.stderr);
    // A program that nobody has seen for long has no normal, while the machine has one.
    let short = stage.run(&["suggest", "--from", "demo", "--until", "17:40", "--app", "nightcopy"]);
    assert_eq!(short.status, Some(1));
    assert!(short.stderr.starts_with("sophron: not enough data: nightcopy was seen for"), "{}", short.stderr);
    // One that never ran away has limits all the same, when it is asked for.
    let asked = stage.json(&["suggest", "--from", "demo", "--app", "kioskview", "--format", "json"]);
    let names: Vec<&str> = asked["rows"].as_array().unwrap().iter().map(|row| row["rule"].as_str().unwrap()).collect();
    assert_eq!(names, ["kioskview-cpu", "kioskview-memory"]);
    assert!(asked["rows"].as_array().unwrap().iter().all(|row| row["cases"].as_array().unwrap().is_empty()));
}

#[test]
fn a_rule_is_drafted_for_whom_one_looks_at() {
    let stage = stage();
    let told = stage.run(&["rules", "draft", "labelpress", "--from", "demo", "--at", "10:40"]);
    insta::assert_snapshot!(told.stdout);
    for (target, at, trouble, field) in [
        ("labelpress", "10:40", None, "memory.held"),
        ("sheetlamp", "13:20", None, "avg(cpu, 2m)"),
        ("sheetlamp", "13:20", Some("memory"), "memory.held"),
        ("nightcopy", "18:00", None, "avg(disk.read, 2m)"),
    ] {
        let mut args = vec!["rules", "draft", target, "--from", "demo", "--at", at];
        args.extend(trouble.iter().flat_map(|trouble| ["--trouble", trouble]));
        let drafted = stage.run(&args);
        assert_eq!(drafted.status, Some(0), "{}", drafted.stderr);
        assert!(drafted.stdout.contains(&format!("breach   = '{field} > ")), "{}", drafted.stdout);
        assert!(drafted.stdout.contains("armed    = false"));
        let file = stage.write("draft.toml", &drafted.stdout).display().to_string();
        assert_eq!(stage.run(&["rules", "check", &file]).status, Some(0));
        // It fires on whom it was drafted for, and on nobody else.
        let rehearsed = stage.json(&["rehearse", &file, "--from", "demo", "--format", "json"]);
        let apps: SortedSet<&str> =
            rehearsed["rows"].as_array().unwrap().iter().map(|row| row["app"].as_str().unwrap()).collect();
        assert!(trouble.is_some() || apps == SortedSet::from([target]), "{target}: {apps:?}");
    }
    // On the live machine, where nobody knows what it did before.
    let odd = stage.offender("sheet.lamp", &["--cpu", "70%"]);
    let drafted = stage.run(&[
        "rules",
        "draft",
        &odd.pid().to_string(),
        "--trouble",
        "cpu",
        "--state",
        &stage.state().display().to_string(),
    ]);
    assert_eq!(drafted.status, Some(0), "{}", drafted.stderr);
    assert!(drafted.stdout.contains("name     = 'sheet.lamp-cpu'"), "{}", drafted.stdout);
    let file = stage.write("odd.toml", &drafted.stdout).display().to_string();
    let explained = stage.run(&["rules", "explain", &file]);
    assert!(explained.stdout.contains(&odd.pid().to_string()), "{}", explained.stdout);
}
