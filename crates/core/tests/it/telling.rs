//! Who is told of what, by which way; what waits, is tried again, and is given up.

use jiff::Timestamp;
use jiff::tz::TimeZone;
use sophron_core::act::Came;
use sophron_core::audit::{
    ActionRecord, By, Draft, Evidence, GroupRecord, Kind, Link, NextRecord, ReadsAs, Record, ResultRecord,
    SubjectRecord, Verb, Who,
};
use sophron_core::rules::{self, RuleSet};
use sophron_core::severity::Severity;
use sophron_testkit::process;

const RULES: &str = "format = 1\n\
    [[channel]]\nname = 'machine-log'\nto = 'log'\n[[channel]]\nname = 'presses'\nto = 'log'\n\
    [[tell]]\nseverity = 'warning'\nby = ['machine-log']\n\
    [[tell]]\nrules = ['press-*']\nwhere = 'owner = ines'\nby = ['presses']\n\
    [[rule]]\nname = 'press-leak'\nwhere = 'app = labelpress'\nbreach = 'memory.held > 750 MiB'\nlasting = '20s'\nseverity = 'notice'\n\
    ladder = [ { at = '0s', do = 'alert' }, { at = '1m', do = 'suspend' } ]\n\
    [[rule]]\nname = 'lamp-spin'\nbreach = 'cpu > 90%'\nlasting = '3m'\n";

fn rules() -> RuleSet {
    rules::load(RULES.as_bytes()).unwrap()
}

pub(crate) fn at(second: i64) -> Timestamp {
    Timestamp::from_second(1_795_505_400 + second).unwrap()
}

pub(crate) fn record(kind: Kind, rule: &str, outcome: Came, owner: &str, change: impl FnOnce(&mut Draft)) -> Record {
    let who = Who { uid: 0, user: "root".to_owned(), login_uid: None, by: Some(By::Watcher) };
    let mut subject = SubjectRecord::from(&process(51907, "labelpress"));
    subject.owner = owner.to_owned();
    let mut draft = Draft {
        case: Some(47),
        rule: Some(rule.to_owned()),
        subject: Some(subject),
        result: Some(ResultRecord { outcome, seen: String::new(), took: None }),
        ..Draft::new(at(0), kind, "mossgate-desk-03", "00000000000000000000000000000007", who)
    };
    change(&mut draft);
    serde_json::from_str(&Link::default().seal(&draft).unwrap()).unwrap()
}

/// By which channels a record is told.
fn by(record: &Record) -> Vec<&'static str> {
    let rules = rules();
    let told = |channel: &&str| rules.telling.message(record, channel, &rules, &TimeZone::UTC).is_some();
    ["machine-log", "presses"].into_iter().filter(told).collect()
}

#[test]
fn whoever_fits_is_told() {
    let opened = |rule, owner| record(Kind::Breach, rule, Came::Opened, owner, |_| ());
    assert_eq!(by(&opened("press-leak", "ines")), ["presses"], "a notice is beneath the other's warning");
    assert_eq!(by(&opened("press-leak", "tomas")), [""; 0]);
    assert_eq!(by(&opened("lamp-spin", "ines")), ["machine-log"]);
    assert_eq!(by(&opened("gone-since", "ines")), ["machine-log"], "a rule that is no more warns");
    let failed = record(Kind::Outcome, "press-leak", Came::StillThere, "ines", |draft| {
        draft.action = Some(ActionRecord::word(Verb::Terminate));
    });
    assert_eq!(by(&failed), ["machine-log", "presses"], "what fails is graver than its rule");
    let of_the_watcher =
        |kind| record(kind, "", Came::Capped, "ines", |draft| (draft.rule, draft.subject) = (None, None));
    assert_eq!(by(&of_the_watcher(Kind::TrailLost)), ["machine-log", "presses"]);
    assert_eq!(by(&of_the_watcher(Kind::WatcherEnded)), ["presses"]);
    let nobody = [Kind::Intent, Kind::Told, Kind::Overtaken]
        .map(|kind| by(&record(kind, "press-leak", Came::Opened, "ines", |_| ())));
    assert!(nobody.iter().all(Vec::is_empty), "{nobody:?}");
    let by_hand = record(Kind::Outcome, "lamp-spin", Came::Ended, "ines", |draft| draft.who.by = Some(By::Hand));
    assert_eq!(by(&by_hand), [""; 0], "whoever did it knows of it");
    // Told by the opening, and by the outcome.
    let first = record(Kind::Alert, "press-leak", Came::Shown, "ines", |draft| {
        draft.action = Some(ActionRecord { step: Some(1), ..ActionRecord::word(Verb::Alert) });
    });
    let ended = record(Kind::Ended, "press-leak", Came::Ended, "ines", |draft| {
        draft.result.as_mut().unwrap().seen = "ended by us".to_owned()
    });
    assert_eq!((by(&first), by(&ended)), (vec![], vec![]));
}

#[test]
fn messages() {
    let reading = || Evidence {
        severity: Severity::Warning.into(),
        breach: "memory.held > 750 MiB".to_owned(),
        field: Some("memory.held".to_owned()),
        reads_as: Some(ReadsAs::Size),
        reading: 851_443_712_u64.into(),
        limit: 786_432_000_u64.into(),
        words: "memory.held 812 MiB, limit 750 MiB".to_owned(),
        disk: None,
        points: Vec::new(),
    };
    let next = |verb, second| Some(NextRecord { verb, at: at(second) });
    let seen = |draft: &mut Draft, seen: &str| draft.result.as_mut().unwrap().seen = seen.to_owned();
    let all = [
        record(Kind::Breach, "press-leak", Came::Opened, "ines", |draft| {
            (draft.evidence, draft.next) = (Some(reading()), next(Verb::Suspend, 60));
            seen(draft, "The label press leaks.");
        }),
        record(Kind::Outcome, "press-leak", Came::Suspended, "ines", |draft| {
            let word = ActionRecord::word(Verb::Suspend);
            (draft.action, draft.next) =
                (Some(ActionRecord { seconds: Some(45.0), ..word }), next(Verb::Terminate, 180));
            seen(draft, "every thread, in 2 ms");
        }),
        record(Kind::BudgetSpent, "press-leak", Came::BudgetSpent, "ines", |draft| {
            seen(draft, "would terminate, but its budget is spent")
        }),
        record(Kind::Calm, "press-leak", Came::Calm, "ines", |draft| {
            seen(draft, "memory.held is 430 MiB; case closed")
        }),
        record(Kind::Alert, "press-leak", Came::Reminder, "ines", |draft| {
            draft.action = Some(ActionRecord::word(Verb::Alert));
            let name = "tilebaker (tomas), 9 processes".to_owned();
            let judge = sophron_core::audit::JudgedWord::App;
            draft.subject.as_mut().unwrap().of =
                Some(GroupRecord { judge, name, processes: 9, group: None, ids: Vec::new() });
            seen(draft, "press-leak: memory still is 2.1 GiB, limit 2 GiB");
        }),
        // Names that would write a line, a heading or markup of their own.
        record(Kind::Breach, "press-leak", Came::Opened, "ines\r\nBcc: x", |draft| {
            draft.subject.as_mut().unwrap().app = format!("<b>\u{202e}{}\n", "x".repeat(4096));
            draft.evidence = Some(reading());
        }),
    ];
    // Somebody is told of all of it.
    let rules = rules::load(RULES.replace("severity = 'warning'\nby", "by").as_bytes()).unwrap();
    let told: Vec<String> = all
        .iter()
        .map(|record| rules.telling.message(record, "machine-log", &rules, &TimeZone::UTC).unwrap())
        .map(|message| format!("{}: {}", message.severity.word(), message.line))
        .collect();
    assert!(told.iter().all(|line| line.len() < 1020 && !line.contains(|c: char| c.is_control() || c == '\u{202e}')));
    insta::assert_snapshot!(told[..5].join("\n"), @r"
    warning: case 47 opened: labelpress 51907-jbm (ines): memory.held 812 MiB, limit 750 MiB; next: suspend 07:31:00; The label press leaks.
    notice: case 47 suspended: labelpress 51907-jbm (ines): until 07:30:45; every thread, in 2 ms; next: terminate 07:33:00
    critical: case 47 budget spent: labelpress 51907-jbm (ines): would terminate, but its budget is spent
    notice: case 47 calm: labelpress 51907-jbm (ines): memory.held is 430 MiB; case closed
    notice: case 47 goes on: tilebaker (tomas), 9 processes: press-leak: memory still is 2.1 GiB, limit 2 GiB
    ");
}

/// Who is told of a rule, of what, when, and what happens where that cannot be.
#[test]
fn a_rule_says_who_is_told() {
    let text = "format = 1\n[hours]\noffice = ['Mon-Sat 07:10-18:20']\n[[channel]]\nname = 'machine-log'\nto = 'log'\n\
        [[channel]]\nname = 'desk-mail'\nto = 'mail'\nserver = 'mail.mossgate.example:587'\nfrom = 'a@b'\naddresses = ['c@d']\n\
        gather = '15m'\nquiet = 'not office'\notherwise = 'machine-log'\n[[tell]]\nseverity = 'warning'\nby = ['desk-mail']\n\
        [[tell]]\nby = ['machine-log']\n[[rule]]\nname = 'lamp-spin'\nbreach = 'cpu > 90%'\nlasting = '3m'\n";
    let rules = rules::load(text.as_bytes()).unwrap();
    let told = rules::explain(&rules.rules[0], &rules.telling).into_iter().filter(|(word, _)| *word == "told");
    let told: Vec<String> = told.map(|(_, sentence)| sentence).collect();
    assert_eq!(
        told,
        [
            "by desk-mail (gathered for 15m, what is critical at once; only what is critical in the hours `not office`; at most 20 an \
             hour; by machine-log what is critical while it is down): what is warning or worse",
            "by machine-log: all of it"
        ]
    );
}

#[test]
fn errors_of_channels_and_tells_say_what_to_write() {
    let cases = [
        "[[channel]]\nname = 'a b'\nto = 'log'",
        "[[channel]]\nname = 'a'\nto = 'syslog'",
        "[[channel]]\nname = 'a'\nto = 'pigeon'\nwho = 1",
        "[[channel]]\nto = 'log'\ndown_after = '1s'",
        "[[channel]]\nname = 'a'\nto = 'log'\n[[channel]]\nname = 'a'\nto = 'log'",
        "[channel]\nname = 'a'",
        "[[tell]]\nby = ['a']",
        "[[channel]]\nname = 'machine-log'\nto = 'log'\n[[tell]]\nby = ['machine-lag']",
        "[[channel]]\nname = 'a'\nto = 'log'\n[[tell]]\nseverity = 'grave'\nrules = 'x'",
        "[[channel]]\nname = 'a'\nto = 'log'\n[[tell]]\nby = ['a']\nwhere = 'memory > 1 GiB'",
        "[[channel]]\nname = 'a'\nto = 'log'\ngather = '15m'\notherwise = 'a'",
        "[[channel]]\nname = 'a'\nto = 'log'\notherwise = 'b'",
        "[[channel]]\nname = 'a'\nto = 'mail'\nserver = 'mail'\npassword = 'x'\nuser = 'ines'",
        "[[channel]]\nname = 'a'\nto = 'desk@mossgate.example'",
        "[[channel]]\nname = 'a'\nto = 'mail'\nserver = 'm:25'\nsecure = 'none'\nuser = 'u'\nsecret_file = 'x'\nfrom = 'a b'\naddresses = ['Ines <i@m>']\nquiet = 'office'",
        "[[channel]]\nname = 'a'\nto = 'webhook'\nurl = 'x'",
        "[[channel]]\nname = 'a'\nto = 'hook'\nurl = 'http://x/{secret}'\nshape = { text = '{lien}' }",
        "[[channel]]\nname = 'a'\nto = 'hook'\nurl = 'ftp://x'",
        "[[channel]]\nname = 'a'\nto = 'collector'\nserver = 'x:1'\nover = 'tpc'\nenterprise = 0",
        "[deliver]\nas = 'root'\n[figures]\nserve = '0.0.0.0:80'",
        "[figures]\nfile = 'x'",
    ];
    let told = cases.map(|case| {
        let rejected = rules::load(format!("format = 1\n{case}\n").as_bytes()).unwrap_err();
        let line = |error: &sophron_core::diag::Diagnostic| format!("  {}; {}", error.title, error.helps.join("; "));
        format!("{case}\n{}", rejected.errors.iter().map(line).collect::<Vec<_>>().join("\n"))
    });
    insta::assert_snapshot!(told.join("\n"));
}

/// No word of the rules' language is in it.
#[test]
fn what_a_rule_goes_by_is_said_in_words() {
    let told = |field: &str, reads_as: &str, reading: f64| {
        let record = serde_json::json!({"severity": "warning", "words": "", "breach": "", "field": field, "reads_as": reads_as, "reading": reading});
        sophron_core::audit::letter::of_program(&serde_json::from_value(record).unwrap())
    };
    let sizes = ["memory.held", "avg(memory, 5m)", "low(memory, 1h)", "climb(memory.held, 30m)", "growth(memory)"];
    let told_sizes = sizes.map(|field| told(field, "size", 216.0 * 1_048_576.0).unwrap());
    let words = [
        "held 216 MiB of memory",
        "held 216 MiB of memory, on average over 5 minutes",
        "held at least 216 MiB of memory all through 1 hour",
        "held 216 MiB more of memory than 30 minutes before",
        "held 216 MiB more of memory than when it was first seen",
    ];
    assert_eq!(told_sizes, words);
    let children =
        "started programs that ended at once and used 96% of a core together, at the most, within 90 seconds";
    assert_eq!(told("peak(cpu.children, 1m30s)", "percent", 96.0).unwrap(), children);
    assert_eq!(told("slope(memory.held, 10m)", "rate", 2e6).unwrap(), "held memory that grew by 1.91 MiB/s");
    assert_eq!(told("until(machine.memory.available, 200 MiB, 5m)", "duration", 60.0), None);
    assert_eq!(told("machine.cpu", "percent", 60.0), None);
}
