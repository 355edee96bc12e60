//! `list` and `audit`: what people and programs are shown.

use std::fs;

use serde_json::Value;
use sophron_testkit::eventually;

use crate::stage;

#[test]
fn list_ranks_and_json_has_base_units_under_field_names() {
    let stage = stage();
    let press = stage.offender("labelpress", &["--grow", "400MiB/s", "--up-to", "64MiB"]);
    let listed = eventually("it has grown", || {
        let condition = format!("pid = {} or pid = {}", press.pid(), std::process::id());
        let output = stage.run(&["list", "--format", "json", "--by", "memory", "--where", &condition]);
        assert_eq!(output.status, Some(0), "{}", output.stderr);
        let listed: Value = serde_json::from_str(&output.stdout).unwrap();
        let row = listed["rows"].as_array()?.iter().find(|row| row["app"] == "labelpress")?.clone();
        (row["memory.held"].as_u64()? >= 64 << 20).then_some((listed, row))
    });
    let (listed, row) = listed;
    assert_eq!((row["pid"].as_u64(), row["nice"].as_i64()), (Some(press.pid().into()), Some(0)));
    assert!(matches!(row["state"].as_str(), Some("sleeping" | "running")), "{row}");
    assert!(row["id"].as_str().unwrap().starts_with(&format!("{}-", press.pid())), "{row}");
    assert!(row["memory"].as_u64().unwrap() >= row["memory.held"].as_u64().unwrap());
    assert!(row["cpu"].is_number() && row["age"].as_f64().unwrap() < 60.0, "{row}");
    assert_eq!((listed["matched"].as_u64(), listed["machine"]["machine.cores"].as_u64() >= Some(1)), (Some(2), true));
    let memory: Vec<u64> =
        listed["rows"].as_array().unwrap().iter().map(|row| row["memory"].as_u64().unwrap()).collect();
    assert!(memory.is_sorted_by(|a, b| a >= b), "{memory:?}");
}

#[test]
fn list_in_text_has_a_heading_over_every_number() {
    let stage = stage();
    let press = stage.offender("labelpress", &[]);
    let output = stage.run(&["list", "--where", &format!("pid = {}", press.pid()), "--limit", "3"]);
    let lines: Vec<&str> = output.stdout.lines().collect();
    assert!(lines[0].contains("cpu over") && lines[0].contains("1 of 1 that match"), "{}", lines[0]);
    assert!(lines[1].starts_with("machine: cpu "), "{}", lines[1]);
    let headings: Vec<&str> = lines[2].split("  ").map(str::trim).filter(|heading| !heading.is_empty()).collect();
    assert_eq!(headings, ["id", "app", "owner", "cpu, % of a core", "memory", "age", "state"]);
    assert_eq!(lines.len(), 4);
    let empty = stage.run(&["list", "--where", "pid = 4999999"]);
    assert!(empty.status == Some(0) && empty.stdout.contains("no process matches pid = 4999999"), "{}", empty.stdout);
}

#[test]
fn a_condition_that_is_wrong_is_wrong_usage() {
    let output = stage().run(&["list", "--where", "memry > 750"]);
    assert_eq!(output.status, Some(2));
    insta::assert_snapshot!(output.stderr, @r"
    error: there is no field `memry`
     --> --where:1:1
      |
    1 | memry > 750
      | ^^^^^ unknown field
      |
      = help: write `memory`

    sophron: the condition of --where was not understood
      try: quote it for the shell, as --where 'memory > 750 MiB and owner != root'
    ");
}

#[test]
fn words_that_people_try_are_answered_with_ours() {
    for (word, answer) in [("stop", "terminate"), ("history", "sophron audit"), ("freeze", "suspend")] {
        let output = stage().run(&[word, "51907"]);
        assert_eq!((output.status, output.stderr.lines().count()), (Some(2), 1), "{}", output.stderr);
        assert!(output.stderr.contains(answer), "{}", output.stderr);
    }
}

#[test]
fn audit_lists_cases_and_verify_names_the_changed_record() {
    let stage = stage();
    let state = stage.state().display().to_string();
    let nothing = stage.run(&["audit", "--state", &state]);
    assert!(nothing.status == Some(0) && nothing.stdout.contains("no record yet"), "{}", nothing.stdout);

    let rules = stage.write(
        "rules.toml",
        "format = 1\nevery = '250ms'\n[[rule]]\nname = 'press-leak'\nseverity = 'critical'\nwhere = 'app = \"labelpress\" and {mine}'\n\
         breach = 'memory.held > 10 MiB'\nlasting = '250ms'\narmed = true\nladder = [ { at = '0s', do = 'terminate' } ]\n",
    );
    let press = stage.offender("labelpress", &["--grow", "100MiB/s", "--up-to", "30MiB"]);
    let watcher = stage.watch(&rules, &[]);
    eventually("ended", || stage.story(press.pid()).contains(&"ended ended".to_owned()).then_some(()));
    watcher.interrupt();

    let listed = stage.run(&["audit", "--state", &state]);
    assert!(listed.stdout.contains("press-leak") && listed.stdout.contains("critical"), "{}", listed.stdout);
    let json: Value =
        serde_json::from_str(&stage.run(&["audit", "--state", &state, "--format", "json"]).stdout).unwrap();
    assert_eq!((json["rows"][0]["done"][0].as_str(), json["whole"].as_bool()), (Some("ended"), Some(true)));

    assert_eq!(stage.run(&["audit", "verify", "--state", &state]).status, Some(0));
    let trail = stage.state().join("audit/000001.jsonl");
    let mut bytes = fs::read(&trail).unwrap();
    let fourth = bytes.iter().enumerate().filter(|(_, byte)| **byte == b'\n').nth(3).unwrap().0;
    bytes[fourth + 40] ^= 1;
    fs::write(&trail, bytes).unwrap();
    let verified = stage.run(&["audit", "verify", "--state", &state]);
    assert_eq!(verified.status, Some(3));
    assert!(verified.stderr.contains("record 5 (line 5 of"), "{}", verified.stderr);
    assert!(verified.stderr.contains("the record was changed"), "{}", verified.stderr);
}

#[test]
fn the_help_is_this() {
    let stage = stage();
    let of = |args: &[&str]| format!("$ sophron {}\n{}\n", args.join(" "), stage.run(args).stdout);
    let commands: [&[&str]; 10] = [
        &["--help"],
        &["list", "--help"],
        &["record", "--help"],
        &["rules", "--help"],
        &["rules", "check", "--help"],
        &["watch", "--help"],
        &["audit", "--help"],
        &["audit", "verify", "--help"],
        &["demo", "--help"],
        &["misbehave", "--help"],
    ];
    let help: String = commands.into_iter().map(of).collect();
    assert_eq!(help.matches("Exit status:").count(), commands.len(), "one table in every help");
    insta::assert_snapshot!(help);
}

/// A full disk behind `>`: what was to be there is not whole, and that is no success. The watcher goes on, and says what
/// nobody got. Who went away misses nothing.
#[test]
fn what_standard_output_does_not_take_is_said() {
    let stage = stage();
    let into = |args: &[&str], file: &str| {
        let full = fs::OpenOptions::new().write(true).open(file).unwrap();
        let output = stage.command(args).stdout(full).output().unwrap();
        (output.status.code(), String::from_utf8_lossy(&output.stderr).into_owned())
    };
    let (status, said) = into(&["list", "--limit", "1"], "/dev/full");
    assert_eq!(status, Some(1));
    assert!(
        said.starts_with("sophron: standard output could not be written to, and what it holds is not whole: No space")
    );
    assert_eq!(into(&["list", "--limit", "1"], "/dev/null"), (Some(0), String::new()));
    let rules = stage.write("rules.toml", "format = 1\n[[rule]]\nname = 'a'\nbreach = 'cpu > 1000%'\nlasting = '1s'\n");
    let (rules, state) = (rules.display().to_string(), stage.state().display().to_string());
    let (status, said) = into(&["watch", "--rules", &rules, "--state", &state, "--for", "300ms"], "/dev/full");
    assert_eq!(status, Some(0), "{said}");
    assert!(said.contains("lines were lost: nobody took them; all that matters is in the record"), "{said}");
    assert!(stage.records().iter().any(|record| record["kind"] == "watcher ended"), "{:?}", stage.records());
    let (reader, gone) = std::io::pipe().unwrap();
    drop(reader);
    let output = stage.command(&["list", "--limit", "1"]).stdout(gone).output().unwrap();
    assert_eq!((output.status.code(), output.stderr), (Some(0), Vec::new()));
}
