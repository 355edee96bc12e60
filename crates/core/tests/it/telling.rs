//! Who is told of what, by which way; what waits, is tried again, and is given up.

use std::time::Duration;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use sophron_core::act::Came;
use sophron_core::audit::{
    ActionRecord, By, Draft, Evidence, GroupRecord, Kind, Link, NextRecord, ReadsAs, Record, ResultRecord,
    SubjectRecord, ToldRecord, Verb, Who,
};
use sophron_core::model::Moment;
use sophron_core::rules::{self, RuleSet};
use sophron_core::severity::Severity;
use sophron_core::telling::{Message, Outbox, Trouble};
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

fn at(second: i64) -> Timestamp {
    Timestamp::from_second(1_795_505_400 + second).unwrap()
}

fn record(kind: Kind, rule: &str, outcome: Came, owner: &str, change: impl FnOnce(&mut Draft)) -> Record {
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

fn moment(second: u64) -> Moment {
    let monotonic = Duration::from_secs(second);
    Moment { wall: at(i64::try_from(second).unwrap()), monotonic, boottime: monotonic }
}

fn waiting(seq: u64, second: i64) -> Message {
    Message { seq, ..Message::trial(at(second), "mossgate-desk-03", "x") }
}

fn words(told: &[ToldRecord]) -> Vec<String> {
    told.iter().map(|told| format!("{} {:?} {}", told.outcome, told.records, told.seen)).collect()
}

/// Tried again, later each time, until it counts as down; then it comes back.
#[test]
fn what_is_not_taken_is_tried_again() {
    let mut outbox = Outbox::new("machine-log", Duration::from_secs(600), false);
    (1..=3).for_each(|seq| outbox.put(waiting(seq, 0)));
    let (mut now, mut waits, mut said) = (0, Vec::new(), Vec::new());
    while said.is_empty() {
        assert_eq!(outbox.due(moment(now)).len(), 3);
        said = outbox.came(moment(now), 0, Duration::ZERO, Some(Trouble::Later("nobody listens".to_owned())));
        let rest = outbox.rest(moment(now)).unwrap().as_secs();
        assert!(rest == 0 || outbox.due(moment(now + rest / 2)).is_empty());
        waits.push(rest);
        now += rest + 1;
    }
    assert_eq!(words(&said), ["down [] nobody listens"]);
    assert!(waits[0] >= 7 && waits[0] <= 12, "{waits:?}");
    assert!(waits.iter().all(|wait| *wait <= 18 * 60) && waits.len() < 12, "{waits:?}");
    let down_at = now - 1 - waits.last().unwrap();
    assert!((600..=610).contains(&down_at), "{down_at}");
    // Two are taken, the third not yet.
    let said = outbox.came(moment(now), 2, Duration::from_millis(20), Some(Trouble::Later("full".to_owned())));
    assert_eq!(words(&said), ["taken [1, 2] ", "back [] it takes messages again"]);
    assert_eq!(outbox.rest(moment(now)).map(|rest| rest.as_secs() <= 12), Some(true), "the waits begin anew");
    assert_eq!(
        words(&outbox.expire(moment(90_000)).into_iter().collect::<Vec<_>>()),
        ["given up [3] 1 message older than a day"]
    );
    assert_eq!(outbox.rest(moment(90_000)), None);
}

/// What is refused for good goes, and the next is tried at once; five in a row, and the channel is down.
#[test]
fn what_is_refused_for_good_is_given_up() {
    let mut outbox = Outbox::new("machine-log", Duration::from_secs(600), false);
    (1..=7).for_each(|seq| outbox.put(waiting(seq, 0)));
    let refuse =
        |outbox: &mut Outbox| outbox.came(moment(1), 0, Duration::ZERO, Some(Trouble::ForGood("too long".to_owned())));
    for seq in 1..=4 {
        assert_eq!(words(&refuse(&mut outbox)), [format!("given up [{seq}] too long")]);
        assert_eq!(outbox.due(moment(1)).len(), 7 - seq);
    }
    let said = words(&refuse(&mut outbox));
    assert_eq!(said, ["given up [5] too long", "down [] it has refused 5 messages in a row: too long"]);
    assert!(outbox.due(moment(1)).is_empty(), "not at once any more");
    // What stands in no trail goes first, and is told of nowhere.
    outbox.put_first(Message::beside_the_trail(at(2), "mossgate-desk-03", "disarmed", "no space left"));
    assert_eq!(outbox.due(moment(60)).iter().map(|message| message.seq).collect::<Vec<_>>(), [0, 6, 7]);
    assert_eq!(words(&outbox.came(moment(60), 1, Duration::ZERO, None)), ["back [] it takes messages again"]);
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
    ];
    let told = cases.map(|case| {
        let rejected = rules::load(format!("format = 1\n{case}\n").as_bytes()).unwrap_err();
        let line = |error: &sophron_core::diag::Diagnostic| format!("  {}; {}", error.title, error.helps.join("; "));
        format!("{case}\n{}", rejected.errors.iter().map(line).collect::<Vec<_>>().join("\n"))
    });
    insta::assert_snapshot!(told.join("\n"));
}
