//! The record, asked: one story from beginning to end, told, counted, exported, signed, and found out when it is changed.

use std::os::unix::net::UnixDatagram;

use serde_json::Value;
use sophron_testkit::{Stage, children, eventually, held, is_gone, usual_nice};

use crate::stage;

const RULES: &str = "format = 1\nevery = '250ms'\n[audit]\nstamp = '2s'\n\
    # of the press\n[[rule]]\nname = 'press-leak'\nwhere = 'app = \"labelpress\" and {mine}'\nbreach = 'memory.held > 15 MiB'\nlasting = '500ms'\narmed = true\n\
    ladder = [ { at = '0s', do = 'alert' }, { at = '1s', do = 'suspend', for = '1s' }, { at = '3s', do = 'terminate' } ]\n";

/// A leak that was suspended and ended; what the system log was told.
fn story(stage: &Stage) -> (u32, Vec<String>) {
    let rules = stage.write("rules.toml", RULES);
    let log = stage.path("log");
    let listener = UnixDatagram::bind(&log).unwrap();
    listener.set_nonblocking(true).unwrap();
    let press = stage.offender("labelpress", &["--grow", "100MiB/s", "--up-to", "30MiB", "--children", "1"]);
    // Its child is one as well: both stories run side by side.
    let both =
        || children(press.pid()).into_iter().chain([press.pid()]).filter(|pid| held(*pid) > 16 << 20).count() == 2;
    eventually("both have grown", || both().then_some(()));
    let watcher = stage.watch(&rules, &["--system-log", log.to_str().unwrap()]);
    eventually("ended", || is_gone(press.pid()).then_some(()));
    eventually("closed", || stage.records().iter().any(|record| record["kind"] == "ended").then_some(()));
    watcher.interrupt();
    let mut told = Vec::new();
    let mut line = [0; 4096];
    while let Ok(length) = listener.recv(&mut line) {
        told.push(String::from_utf8_lossy(&line[..length]).into_owned());
    }
    (press.pid(), told)
}

#[test]
fn a_case_is_told_from_beginning_to_end() {
    let stage = stage();
    let (pid, _) = story(&stage);
    let state = stage.state().display().to_string();
    let ask = |args: &[&str]| stage.run(&[&["audit"], args, &["--state", &state]].concat());
    let records = stage.records();
    let opening = records.iter().find(|record| record["kind"] == "breach" && record["subject"]["pid"] == pid).unwrap();
    let case = opening["case"].to_string();
    let wording = opening["wording"]["text"].as_str().unwrap();
    assert!(wording.starts_with("[[rule]]\nname = 'press-leak'") && wording.contains("do = 'terminate'"), "{wording}");
    let intent = records.iter().find(|record| record["kind"] == "intent" && record["subject"]["pid"] == pid).unwrap();
    assert_eq!(intent["subject"]["children"].as_array().unwrap().len(), 1, "{intent}");
    assert!(!intent["subject"]["open"].as_array().unwrap().is_empty(), "{intent}");
    assert_eq!(intent["sophron"], env!("CARGO_PKG_VERSION"));

    let told = ask(&["explain", &case]);
    assert_eq!(told.status, Some(0), "{}", told.stderr);
    for words in [
        "rule press-leak",
        "(proven: that very file ran)",
        "its children: labelpress ",
        "memory.held > 15 MiB",
        "half a bar is the limit",
        "suspended: every thread",
        "ending it cannot be undone",
        "name = 'press-leak'",
        "unchanged since by its chain of hashes",
        "signed by the stamp of record",
        "it was asked to end, and ended",
        "no sign of honest work",
    ] {
        assert!(told.stdout.contains(words), "{words}: {}", told.stdout);
    }
    assert_eq!(ask(&["explain", "4711"]).status, Some(1));

    // Narrowed, counted, exported.
    let listed = |args: &[&str]| {
        let output = ask(&[args, &["--format", "json"]].concat());
        serde_json::from_str::<Value>(&output.stdout).unwrap()["rows"].as_array().unwrap().len()
    };
    assert_eq!(listed(&["--app", "labelpress", "--rule", "press-leak", "--since", "1h ago"]), 2);
    assert_eq!(listed(&["--where", &format!("app = labelpress and pid = {pid}")]), 1);
    assert_eq!(listed(&["--rule", "another"]) + listed(&["--until", "2020-01-01"]), 0);
    let stats: Value = serde_json::from_str(&ask(&["stats", "--format", "json"]).stdout).unwrap();
    assert_eq!((&stats["rows"][0]["cases"], &stats["rows"][0]["rule"]), (&2.into(), &"press-leak".into()), "{stats}");
    assert!(stats["rows"][0]["outcomes"]["suspended"].as_u64().unwrap() >= 1, "{stats}");
    let lines = ask(&["export"]).stdout;
    assert_eq!(lines.lines().count(), records.len());
    let csv = ask(&["export", "--format", "csv", "--app", "labelpress"]).stdout;
    assert!(csv.starts_with("seq,at,host,kind,") && csv.lines().count() > 4, "{csv}");
    assert_eq!(ask(&["--records"]).stdout.lines().count(), records.len());
}

#[test]
fn what_was_changed_is_found_and_what_was_computed_anew_as_well() {
    let stage = stage();
    let (_, log) = story(&stage);
    let state = stage.state().display().to_string();
    let trail = stage.state().join("audit/000001.jsonl");
    let key = stage.state().join("audit/first.pub").display().to_string();
    let verify = |args: &[&str]| stage.run(&[&["audit", "verify", "--state", &state], args].concat());
    let honest = verify(&["--key", &key]);
    assert_eq!(honest.status, Some(0), "{}", honest.stderr);
    assert!(honest.stdout.contains("genuine, over the whole trail, by the key that was given"), "{}", honest.stdout);
    assert!(!honest.stdout.contains("it begins with"), "{}", honest.stdout);
    // Each stamp was told to the system log: with its hash it is asked for.
    let last = log.last().unwrap().rsplit(' ').next().unwrap();
    assert!(log.len() >= 2 && log[0].contains("audit stamp 1: record "), "{log:?}");
    assert_eq!(verify(&["--expect", last]).status, Some(0));
    let whole = std::fs::read_to_string(&trail).unwrap();

    // One byte.
    let at = whole.find("\"kind\":\"breach\"").unwrap();
    let line = whole[..at].lines().count();
    std::fs::write(&trail, whole.replacen("\"kind\":\"breach\"", "\"kind\":\"alert!\"", 1)).unwrap();
    let found = verify(&[]);
    assert_eq!(found.status, Some(3));
    let first = found.stderr.lines().next().unwrap();
    assert!(first.contains(&format!("record {line} (line {line} of ")) && first.contains("was changed"), "{first}");

    // The whole chain computed anew, with the stamps copied: whole by itself, and not genuine.
    let mut link = sophron_core::audit::Link::default();
    let mut forged = String::new();
    for line in whole.lines() {
        let mut record: serde_json::Map<String, Value> = serde_json::from_str(line).unwrap();
        record.insert("rule".to_owned(), "another".into());
        ["seq", "latest", "prev", "hash"].iter().for_each(|key| drop(record.remove(*key)));
        let mut text = format!("{{\"seq\":{},", link.seq + 1);
        text.push_str(serde_json::to_string(&record).unwrap().strip_prefix('{').unwrap().strip_suffix('}').unwrap());
        text.push_str(&format!(",\"prev\":\"{}\"", link.hash));
        let hash = sophron_core::text::hex(&<sha2::Sha256 as sha2::Digest>::digest(text.as_bytes()));
        forged.push_str(&format!("{text},\"hash\":\"{hash}\"}}\n"));
        (link.seq, link.hash) = (link.seq + 1, hash);
    }
    std::fs::write(&trail, forged).unwrap();
    let found = verify(&["--key", &key]);
    assert_eq!(found.status, Some(3));
    assert!(found.stderr.contains("the signature of this stamp is not genuine"), "{}", found.stderr);

    // Cut off behind the first stamp: whole, and the last stamp is missed.
    let stamp = whole.lines().position(|line| line.contains("\"kind\":\"stamp\"")).unwrap();
    let cut: String = whole.lines().take(stamp + 1).map(|line| format!("{line}\n")).collect();
    std::fs::write(&trail, cut).unwrap();
    assert_eq!(verify(&["--key", &key]).status, Some(0));
    let found = verify(&["--key", &key, "--expect", last]);
    assert!(found.status == Some(3) && found.stderr.contains("the end was cut off"), "{}", found.stderr);

    // Taken away altogether.
    std::fs::remove_file(&trail).unwrap();
    assert_eq!(verify(&["--expect", last]).status, Some(3));
}

/// The trail goes from file to file; the oldest go as the settings say, and what is in force goes along.
#[test]
fn files_follow_each_other_and_carry_what_is_in_force() {
    let stage = stage();
    let text = "format = 1\nevery = '100ms'\n[audit]\npiece = '64 KiB'\nmost = '1 MiB'\ncommand_lines = 'path-only'\n[cap]\nacts = 10000\n\
        [[rule]]\nname = 'held'\nwhere = 'app = \"sheetlamp\" and {mine}'\nbreach = 'cpu > 1%'\nlasting = '100ms'\narmed = true\n\
        again = { after = '1s' }\nladder = [ { at = '0s', do = 'lower', nice = 7 } ]\n\
        [[rule]]\nname = 'chatty'\nwhere = 'app = \"tilebaker\" and {mine}'\nbreach = 'cpu.time >= 0s'\nlasting = '100ms'\nladder = [ { at = '0s', do = 'alert' } ]\n";
    let rules = stage.write("rules.toml", text);
    let lamp = stage.offender("sheetlamp", &["--cpu", "30%"]);
    let mut watcher = stage.watch(&rules, &[]);
    eventually("lowered", || sophron_testkit::nices(lamp.pid()).contains(&7).then_some(()));
    // Enough cases to fill a file: each of these is one, with an alert and an end.
    let second = stage.state().join("audit/000002.jsonl");
    eventually("a second file", || {
        drop(stage.offender("tilebaker", &["--children", "8"]));
        second.exists().then_some(())
    });
    let head = eventually("its head", || std::fs::read_to_string(&second).ok().filter(|head| head.contains('\n')));
    let records: Vec<Value> = head.lines().filter_map(|line| serde_json::from_str(line).ok()).collect();
    assert_eq!(records[0]["kind"], "trail opened", "{head}");
    let carried = &records[0]["carried"][0];
    assert_eq!((&carried["subject"]["pid"], &carried["action"]["nice"]), (&lamp.pid().into(), &7.into()));
    assert!(!head.contains("\"command\""), "path-only");
    let state = stage.state().display().to_string();
    watcher.kill_outright();
    let verified = stage.run(&["audit", "verify", "--state", &state]);
    assert!(verified.status == Some(0) || verified.stderr.contains("torn"), "{}", verified.stderr);
    // Even with the first file put away the next start knows what to put back.
    std::fs::rename(stage.state().join("audit/000001.jsonl"), stage.path("away.jsonl")).unwrap();
    let missing = stage.run(&["audit", "verify", "--state", &state]);
    assert!(missing.status == Some(3) && missing.stderr.contains("are missing"), "{}", missing.stderr);
    std::fs::rename(stage.path("away.jsonl"), stage.state().join("audit/000001.jsonl")).unwrap();
    let watcher = stage.watch(&stage.write("none.toml", "format = 1\n[protect]\nwhere = 'app = x'\n"), &[]);
    eventually("put back", || {
        sophron_testkit::nices(lamp.pid()).iter().all(|nice| *nice == usual_nice()).then_some(())
    });
    watcher.interrupt();
    assert_eq!(stage.run(&["audit", "verify", "--state", &state]).status, Some(0));
}

/// What is recorded is told as it comes, and nothing of before.
#[test]
fn the_record_is_followed() {
    use std::io::{BufRead, BufReader};
    let stage = stage();
    let press = stage.offender("labelpress", &["--cpu", "5%"]);
    let state = stage.state().display().to_string();
    let lower = |nice: &str| {
        let listed = stage.json(&["list", "--where", &format!("pid = {}", press.pid()), "--format", "json"]);
        let id = listed["rows"][0]["id"].as_str().unwrap().to_owned();
        let done = stage.run(&["lower", &id, "--nice", nice, "--yes", "--state", &state]);
        // Beside other work it may be without effect, which is an answer of its own.
        assert!(matches!(done.status, Some(0 | 3)), "{}", done.stderr);
    };
    lower("3");
    let mut follow = stage
        .command(&["audit", "--follow", "--records", "--app", "labelpress", "--state", &state])
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let lines = BufReader::new(follow.stdout.take().unwrap());
    let (told, tells) = std::sync::mpsc::channel();
    std::thread::spawn(move || lines.lines().map_while(Result::ok).try_for_each(|line| told.send(line)));
    // What is done before its first look is of before.
    let first = ["5", "7", "9", "11", "13"].into_iter().find_map(|nice| {
        lower(nice);
        tells.recv_timeout(std::time::Duration::from_secs(2)).ok()
    });
    let record: Value = serde_json::from_str(&first.expect("a line")).unwrap();
    assert!(record["kind"] == "intent" && record["action"]["nice"] != 3, "{record}");
    let _ = follow.kill();
    let _ = follow.wait();
}
