//! A rule's ladder on real offenders: in its order, at its times, and only on whom it may touch.

use std::time::Duration;

use sophron_testkit::{Stage, eventually, is_gone, is_suspended, nices, threads, usual_nice};

use crate::{stage, without_effects};

/// When a record of that kind and action was written, in seconds since the case opened.
fn since_opening(stage: &Stage, pid: u32, kind: &str, verb: &str) -> f64 {
    let at = |kind: &str, verb: &str| {
        let record = stage.records().into_iter().find(|record| {
            record["subject"]["pid"] == pid
                && record["kind"] == kind
                && (verb.is_empty() || record["action"]["do"] == verb)
        });
        let record = record.unwrap_or_else(|| panic!("no {kind} {verb}: {:?}", stage.story(pid)));
        record["at"].as_str().unwrap().parse::<jiff::Timestamp>().unwrap()
    };
    at(kind, verb).duration_since(at("breach", "")).as_secs_f64()
}

#[test]
fn a_leak_is_alerted_lowered_suspended_resumed_and_terminated() {
    if !sophron_testkit::can_be_lowered() {
        return;
    }
    let stage = stage();
    let rules = stage.write(
        "rules.toml",
        r#"
format = 1
every = "500ms"
[[rule]]
name = "press-leak"
where = 'app = "labelpress" and {mine}'
breach = 'memory.held > 40 MiB'
lasting = "500ms"
armed = true
ladder = [
  { at = "0s", do = "alert" },
  { at = "1s", do = "lower", nice = 15 },
  { at = "4s", do = "suspend", for = "2s" },
  { at = "8s", do = "terminate" },
]
"#,
    );
    let press = stage.offender("labelpress", &["--grow", "100MiB/s", "--up-to", "80MiB", "--cpu", "20%"]);
    let pid = press.pid();
    let watcher = stage.watch(&rules, &[]);

    let lowered = eventually("lowered", || Some(nices(pid)).filter(|nices| nices.contains(&15)));
    assert!(lowered.len() >= 2, "it has threads: {lowered:?}");
    eventually("every thread is lowered", || nices(pid).iter().all(|nice| *nice == 15).then_some(()));
    eventually("suspended", || is_suspended(pid).then_some(()));
    eventually("resumed", || threads(pid).iter().all(|thread| thread.state != 'T').then_some(()));
    eventually("terminated", || is_gone(pid).then_some(()));
    eventually("recorded", || stage.story(pid).contains(&"ended ended".to_owned()).then_some(()));
    let (_, status) = watcher.interrupt();
    assert_eq!(status, Some(0));

    assert_eq!(
        without_effects(stage.story(pid)),
        [
            "breach opened",
            "alert alert shown",
            "intent lower",
            "outcome lower lowered",
            "intent suspend",
            "outcome suspend suspended",
            "intent resume",
            "restored resume resumed",
            "intent terminate",
            "outcome terminate ended",
            "ended ended",
        ]
    );
    // Never before the ladder's clock has come so far. That it is at the very first tick then is shown in core, where no
    // machine under test is late.
    for (kind, verb, due) in
        [("intent", "lower", 1.0), ("intent", "suspend", 4.0), ("intent", "resume", 6.0), ("intent", "terminate", 8.0)]
    {
        let at = since_opening(&stage, pid, kind, verb);
        assert!(at >= due - 0.1, "{verb} was due at {due} s and came at {at} s");
    }
}

#[test]
fn force_only_where_the_rule_says_so_and_the_others_are_left_alone() {
    let stage = stage();
    let rules = stage.write(
        "rules.toml",
        r#"
format = 1
every = "250ms"
[protect]
where = 'app = "fernpanel"'
[[rule]]
name = "polite"
where = 'app = "tilebaker" and {mine}'
breach = 'memory.held > 10 MiB'
lasting = "250ms"
armed = true
ladder = [ { at = "0s", do = "terminate" } ]
[[rule]]
name = "forced"
where = 'app = "nightcopy" and {mine}'
breach = 'memory.held > 10 MiB'
lasting = "250ms"
armed = true
ladder = [ { at = "0s", do = "terminate", force_after = "1s" } ]
[[rule]]
name = "protected"
where = 'app in ("fernpanel", "plantledger") and {mine}'
breach = 'memory.held > 60 MiB or app = "fernpanel"'
lasting = "250ms"
armed = true
ladder = [ { at = "0s", do = "terminate", force_after = "1s" } ]
[[rule]]
name = "shadow"
where = 'app = "kioskview" and {mine}'
breach = 'memory.held > 10 MiB'
lasting = "250ms"
ladder = [ { at = "0s", do = "lower" }, { at = "1s", do = "terminate", force_after = "1s" } ]
"#,
    );
    let grown = ["--grow", "100MiB/s", "--up-to", "30MiB"];
    let deaf = ["--grow", "100MiB/s", "--up-to", "30MiB", "--deaf"];
    let (polite, forced) = (stage.offender("tilebaker", &deaf), stage.offender("nightcopy", &deaf));
    let (busy, protected) = (stage.offender("plantledger", &["--cpu", "20%"]), stage.offender("fernpanel", &grown));
    let shadow = stage.offender("kioskview", &grown);
    let watcher = stage.watch(&rules, &[]);

    eventually("the deaf one is ended by force", || is_gone(forced.pid()).then_some(()));
    let told = |pid: u32, word: &str| stage.story(pid).iter().any(|told| told == word);
    eventually("the other is left after the polite signal", || {
        told(polite.pid(), "outcome terminate still there").then_some(())
    });
    eventually("the protected one is spared", || told(protected.pid(), "spared terminate spared").then_some(()));
    eventually("the shadow has said it", || told(shadow.pid(), "shadow terminate would").then_some(()));
    let (_, status) = watcher.interrupt();
    assert_eq!(status, Some(0));

    assert!(told(forced.pid(), "outcome terminate ended by force"));
    for pid in [polite.pid(), busy.pid(), protected.pid(), shadow.pid()] {
        let threads = threads(pid);
        assert!(!is_gone(pid), "{:?}", stage.story(pid));
        assert!(threads.iter().all(|thread| thread.state != 'T' && thread.nice == usual_nice()), "{threads:?}");
    }
    assert_eq!(stage.story(busy.pid()), Vec::<String>::new());
    let acted = |pid: u32| stage.story(pid).iter().any(|word| word.starts_with("intent"));
    assert!(!acted(protected.pid()) && !acted(shadow.pid()));
}

#[test]
fn with_shadow_no_rule_acts() {
    let stage = stage();
    let rules = stage.write(
        "rules.toml",
        "format = 1\nevery = '250ms'\n[[rule]]\nname = 'a'\nwhere = 'app = \"labelpress\" and {mine}'\nbreach = 'memory.held > 10 MiB'\n\
         lasting = '250ms'\narmed = true\nladder = [ { at = '0s', do = 'terminate' } ]\n",
    );
    let press = stage.offender("labelpress", &["--grow", "100MiB/s", "--up-to", "30MiB"]);
    let watcher = stage.watch(&rules, &["--shadow"]);
    eventually("said", || stage.story(press.pid()).contains(&"shadow terminate would".to_owned()).then_some(()));
    drop(watcher);
    assert!(!is_gone(press.pid()));
}

#[test]
fn a_watcher_ends_by_itself_after_its_time() {
    let stage = stage();
    let rules = stage
        .write("rules.toml", "format = 1\n[[rule]]\nname = 'a'\nbreach = 'machine.cpu > 100000%'\nlasting = '1s'\n");
    let began = std::time::Instant::now();
    let output = stage.run(&[
        "watch",
        "--rules",
        rules.to_str().unwrap(),
        "--state",
        stage.state().to_str().unwrap(),
        "--for",
        "1s",
    ]);
    assert_eq!(output.status, Some(0), "{}", output.stderr);
    assert!(began.elapsed() >= Duration::from_secs(1));
    let kinds: Vec<String> = stage.records().iter().map(|record| record["kind"].as_str().unwrap().to_owned()).collect();
    assert_eq!(kinds, ["trail opened", "key begun", "watcher started", "rules loaded", "watcher ended", "stamp"]);
}
