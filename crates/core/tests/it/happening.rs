//! What happened, told: one value of each kind, its line for people, and as what it is recorded.

use std::collections::VecDeque;
use std::time::Duration;

use jiff::tz::TimeZone;
use sophron_core::act::{
    Act, Ending, Lever, Lowering, Moved, Only, Originals, Outcome, Restoring, Standstill, UnitWeight, Verb,
};
use sophron_core::audit::{Who, Wording};
use sophron_core::command_lines::CommandLines;
use sophron_core::decide::Verdict;
use sophron_core::dispatch::{Check, Leave};
use sophron_core::facts::Facts;
use sophron_core::happening::{
    Announced, CarriedOut, Effect, Grounds, Group, Happening, Measured, News, Next, Over, Scribe, Subject, What, Why,
};
use sophron_core::judge::Choice;
use sophron_core::model::Process;
use sophron_core::rules::{Action, Cap};
use sophron_core::severity::Severity;
use sophron_core::sorted::{SortedMap, SortedSet};
use sophron_core::subject::SubjectKey;
use sophron_testkit::{World, process};

use crate::script::{MIB, PID, load, rule, seconds};

pub fn scribe() -> Scribe {
    Scribe {
        host: "mossgate-desk-03".to_owned(),
        boot: World::new(Vec::new()).machine.boot,
        who: Who { uid: 0, user: "root".to_owned(), login_uid: None, by: None },
        zone: TimeZone::UTC,
        command_lines: CommandLines::Masked,
    }
}

fn grounds() -> Box<Grounds> {
    let rules = rule("lasting = '0s'");
    let world = World::new(vec![press()]);
    let measure = rules.rules[0].breach.leading(&Facts::new(&world.processes[0], &world.machine));
    let severity = Severity::Warning;
    let breach = rules.rules[0].breach.to_string();
    Box::new(Grounds { severity, breach, measure, disk: Some([0.0, 1024.0]), points: VecDeque::new() })
}

fn press() -> Process {
    let mut press = process(PID, "labelpress");
    press.memory_held = Some(812 * MIB);
    press
}

/// In case 47 of the rule `press-leak`, at 07:30:00.
fn happened(what: What, next: Next) -> Happening {
    let at = World::new(Vec::new()).moment.wall;
    let (rule, case) = (Some("press-leak".into()), Some(47));
    Happening { at, rule, case, subject: Subject::process(&press()), what, next }
}

fn step(action: Action) -> Next {
    Next::Step { action, ask: None, at: World::new(Vec::new()).moment.wall.checked_add(seconds(80)).unwrap() }
}

const TERMINATE: Action = Action::Terminate { force_after: None };

fn came(act: Act, outcome: Outcome) -> What {
    carried_out(Some(act), outcome)
}

fn carried_out(act: Option<Act>, outcome: Outcome) -> What {
    let took = Some(Duration::from_millis(1234));
    What::Came(CarriedOut { step: Some(1), took, measure: grounds().measure, ..CarriedOut::of(act, outcome) })
}

/// `record kind, verb, outcome | word who text`, a row each.
fn told(all: &[Happening]) -> String {
    let one = |happening: &Happening| {
        let record = scribe().record(happening);
        let recorded = record.map_or("-".to_owned(), |record| {
            let verb = record.action.map(|action| format!(" {}", action.verb)).unwrap_or_default();
            let came = record.result.map(|result| format!(" {}", result.outcome)).unwrap_or_default();
            format!("{}{verb}{came}", record.kind)
        });
        let line = happening.line(&TimeZone::UTC).map(|line| format!("{} | {} | {}", line.word, line.who, line.text));
        format!("{recorded} | {}\n", line.unwrap_or("-".to_owned()).replace('\n', " / "))
    };
    all.iter().map(one).collect()
}

#[test]
fn a_case_is_told_from_its_opening_to_its_closing() {
    let wording = Box::new(Wording { text: "[[rule]]".to_owned(), digest: "ab".to_owned() });
    let opened = |returned, alerts, note: Option<&str>| What::Opened {
        returned,
        grounds: grounds(),
        note: note.map(str::to_owned),
        wording: wording.clone(),
        alerts,
    };
    let closed = |why| happened(What::Closed { why, grounds: grounds() }, Next::Unsaid);
    let measure = || grounds().measure;
    let mut all = vec![
        happened(opened(false, true, Some("It leaks.")), step(TERMINATE)),
        happened(opened(true, false, None), Next::Nothing),
        happened(What::Reminded(grounds()), step(TERMINATE)),
        happened(What::Easing { measure: measure(), wait: seconds(20) }, Next::Unsaid),
        happened(What::BreachedAgain(measure()), step(TERMINATE)),
        happened(What::HoursEnded, Next::Unsaid),
    ];
    let ends =
        [Over::Calm, Over::Left, Over::Unseen, Over::EndedByUs, Over::EndedByItself, Over::NoneLeft, Over::RuleGone];
    all.extend(ends.map(closed));
    insta::assert_snapshot!(told(&all));
}

#[test]
fn a_step_that_is_due_is_told_with_its_verdict() {
    let until = World::new(Vec::new()).moment.wall.checked_add(seconds(900)).unwrap();
    let verdicts = [
        Verdict::Alert,
        Verdict::Act(TERMINATE),
        Verdict::Waits(TERMINATE),
        Verdict::Shadow(TERMINATE),
        Verdict::Spared("it is protected: PID 1: the machine ends with it".to_owned()),
        Verdict::Overtaken { by: 9 },
        Verdict::OverBudget(TERMINATE),
        Verdict::Capped(TERMINATE, Cap::default()),
        Verdict::StandingBack { until },
    ];
    let decided = |verdict: Verdict, at_opening| {
        let action = if verdict == Verdict::Alert { Action::Alert } else { TERMINATE };
        happened(What::Decided { action, step: 1, verdict, grounds: grounds(), at_opening }, Next::Nothing)
    };
    let mut all: Vec<Happening> = verdicts.map(|verdict| decided(verdict, false)).into();
    all.push(decided(Verdict::Alert, true));
    insta::assert_snapshot!(told(&all));
}

#[test]
fn what_came_of_an_act_has_one_word_and_one_wording() {
    let lowering = |reversible, stays: Option<&str>| {
        let weight =
            UnitWeight { unit: "sheetlamp.service".to_owned(), group: String::new(), uid: None, was: None, set: 4 };
        Outcome::Lowered(Box::new(Lowering {
            nice: 15,
            only: Only::Both,
            originals: Originals { weight: Some(weight), ..Originals::default() },
            threads: 3,
            complete: reversible,
            hindered: None,
            session: None,
            weight: Some(Moved { was: 100, to: 4, stays: stays.map(str::to_owned) }),
            lever: Lever::Nice,
            reversible,
        }))
    };
    let over = World::new(Vec::new()).moment.wall.checked_add(seconds(45)).unwrap();
    let still =
        Standstill { took: Some(Duration::from_millis(2)), until: seconds(1), over, holds_locks: false, more: 0 };
    let ended = |forced, left| Ending {
        took: Duration::from_millis(400),
        forced,
        tree: 4,
        left,
        spared: SortedMap::from([(9, "it serves a mounted file system".to_owned())]),
    };
    let why = || "not permitted".to_owned();
    let lower = Act::Lower { nice: 15, only: Only::Both };
    let end = Act::Terminate { force_after: None };
    let restore = Act::Restore { set: 15, originals: Originals::default(), still: None };
    let restored = Restoring { nice: Some((15, 0, 3)), left: 1, ..Restoring::default() };
    let rows = [
        (&lower, lowering(true, None)),
        (&lower, lowering(false, Some("no answer"))),
        (&lower, Outcome::Joined { nice: 15 }),
        (&Act::Suspend { length: seconds(45) }, Outcome::Suspended(still)),
        (&Act::Resume, Outcome::Resumed(Some(Duration::from_millis(1)))),
        (&Act::Resume, Outcome::Resumed(None)),
        (&Act::Resume, Outcome::NotSuspended),
        (&end, Outcome::Ended(Ending { took: Duration::from_millis(400), ..Ending::default() })),
        (&end, Outcome::Ended(ended(true, 0))),
        (&end, Outcome::StillThere(Some(ended(false, 2)))),
        (&end, Outcome::PendingInTheKernel(None)),
        (&end, Outcome::PendingFrozen),
        (&end, Outcome::Gone),
        (&end, Outcome::Refused(why())),
        (&end, Outcome::Dropped(why())),
        (&end, Outcome::Unrecorded(why())),
        (&end, Outcome::unfinished()),
        (&end, Outcome::CameBack("as labelpress 4711".to_owned())),
        (&Act::Restart, Outcome::Restarted { unit: "sheetlamp.service".to_owned(), main: Some(7), took: seconds(1) }),
        (&restore, restored.outcome()),
        (&restore, Restoring { left: 2, ..Restoring::default() }.outcome()),
        (&restore, Restoring { gone: true, ..Restoring::default() }.outcome()),
        (&restore, Restoring { failed: vec![why()], ..Restoring::default() }.outcome()),
        (&restore, Outcome::Unrecorded(why())),
    ];
    let all: Vec<Happening> =
        rows.into_iter().map(|(act, outcome)| happened(came(act.clone(), outcome), step(TERMINATE))).collect();
    insta::assert_snapshot!(told(&all));
}

#[test]
fn everything_else_is_told_as_well() {
    let until = World::new(Vec::new()).moment.wall.checked_add(seconds(900)).unwrap();
    let announced = Box::new(Announced { step: Some(1), grounds: Some(grounds()), ..Announced::default() });
    let effect = |was, is, why| Effect { over: (seconds(2), seconds(2)), measured: Measured::Cpu(was, is, why) };
    let program = Outcome::Ran("/opt/mossgate/tell-desk ended with exit status: 0".to_owned());
    let group = Group {
        key: SubjectKey::App { uid: 1001, app: "labelpress".to_owned() },
        lead: press(),
        members: vec![press().id, process(4, "labelpress").id],
    };
    let of_group = |what| happened(what, Next::Unsaid).on(Subject::Group(Box::new(group.clone())));
    let all = [
        happened(What::Announced(Box::new(Act::Restart), announced.clone()), Next::Unsaid),
        happened(What::Calls(announced), Next::Unsaid),
        happened(carried_out(None, program), Next::Unsaid),
        happened(What::Measured(effect(98.0, 31.0, None)), Next::Unsaid),
        happened(What::Measured(effect(98.0, 97.0, Some(Why::OfSession))), Next::Unsaid),
        happened(What::StoodBack { act: Verb::Lower, by: "ines".to_owned(), until }, Next::Unsaid),
        happened(What::LetLoose { again: true }, Next::Unsaid),
        happened(What::LetLoose { again: false }, Next::Nothing),
        happened(What::WaitedFor { by: 4711 }, Next::Unsaid),
        of_group(What::LeftTheGroup { group: "labelpress (ines), 2 processes".to_owned() }),
        of_group(What::HoursEnded),
        happened(What::Watcher(News::Late(3)), Next::Unsaid),
        happened(What::Watcher(News::Uncounted(2)), Next::Unsaid),
        happened(What::Watcher(News::ClockSet(-3600.0)), Next::Unsaid),
        happened(What::Watcher(News::SummedUp(12, 60)), Next::Unsaid),
        happened(What::Watcher(News::TrailLost("no space left".to_owned())), Next::Unsaid),
        happened(What::Watcher(News::TrailDoubted("2 records are gone".to_owned(), true)), Next::Unsaid),
        happened(What::Watcher(News::LinesLost(700)), Next::Unsaid),
    ];
    insta::assert_snapshot!(told(&all));
    let record = scribe().record(&of_group(What::LeftTheGroup { group: String::new() })).unwrap();
    assert_eq!(record.subject.unwrap().of.unwrap().processes, 2);
}

/// The object for programs has base units, and unknown is null.
#[test]
fn the_object_for_programs_is_in_base_units() {
    let object = happened(What::Reminded(grounds()), step(TERMINATE)).json(&TimeZone::UTC);
    assert_eq!((&object["happened"], &object["word"]), (&"reminded".into(), &"reminder".into()));
    assert_eq!((&object["reading"], &object["limit"]), (&(812 * MIB).into(), &(750 * MIB).into()));
    assert_eq!((&object["next"]["do"], &object["severity"]), (&"terminate".into(), &"warning".into()));
    let news = Happening::news(World::new(Vec::new()).moment.wall, News::Ending).json(&TimeZone::UTC);
    assert!(news["subject"].is_null() && news["reading"].is_null() && news["happened"] == "watcher");
}

/// Between a decision and its act the intent was written, which may have taken seconds.
#[test]
fn what_must_still_hold_right_before_an_act() {
    let ladder = "ladder = [ { at = '0s', do = 'alert' }, { at = '5s', do = 'terminate' } ]";
    let rules = rule(&format!("lasting = '0s'\n{ladder}"));
    let check = Check {
        rule: std::sync::Arc::new(rules.rules[0].clone()),
        by_where: true,
        machine: World::new(Vec::new()).machine,
        step: Some((1, rules.rules[0].ladder[1].action)),
        tick: Some(7),
        wholly_of: None,
    };
    let open = Leave { tick: 7, open: vec![(47, Choice::Open)], rules: Some(rules.clone()), ..Leave::default() };
    let right = |now: Process, leave: &Leave| check.still_right(47, &press(), now, leave);
    assert_eq!(right(press(), &open), Ok(()), "at the very tick it was judged just now");
    let breached = SortedSet::from([47]);
    assert_eq!(right(press(), &Leave { tick: 9, breached, ..open.clone() }), Ok(()));
    let changed = |change: fn(&mut Process)| {
        let mut now = press();
        change(&mut now);
        right(now, &open).unwrap_err()
    };
    let withdrawn = |change: &dyn Fn(&mut Leave)| {
        let mut leave = open.clone();
        change(&mut leave);
        let why = check.goes_on(47, &press(), &leave).unwrap_err();
        assert_eq!(right(press(), &leave).unwrap_err(), why);
        why
    };
    let with = |keys: &str| Some(rule(&format!("lasting = '0s'\n{keys}")));
    assert_eq!(withdrawn(&|leave| leave.tick = 9), "it is no longer in breach");
    assert_eq!(withdrawn(&|leave| leave.open.clear()), "its case is over");
    assert_eq!(
        withdrawn(&|leave| leave.open[0].1 = Choice::Made(process(7, "fernpanel").id)),
        "another one is picked now"
    );
    assert_eq!(withdrawn(&|leave| leave.barred = Some("the watcher is ending".into())), "the watcher is ending");
    assert_eq!(
        withdrawn(&|leave| leave.rules = Some(load("[[rule]]\nname = 'b'\nbreach = 'cpu > 90%'\nlasting = '0s'"))),
        "its rule is no longer watched with"
    );
    let shadow =
        load(&format!("[[rule]]\nname = 'press-leak'\nbreach = 'memory.held > 750 MiB'\nlasting = '0s'\n{ladder}"));
    assert_eq!(withdrawn(&|leave| leave.rules = Some(shadow.clone())), "its rule acts no more");
    let alerts = with("ladder = [ { at = '0s', do = 'alert' } ]");
    assert_eq!(withdrawn(&|leave| leave.rules = alerts.clone()), "its rule says something else now");
    let back = |leave: &mut Leave| leave.back.processes = [(press().id, Duration::MAX)].into_iter().collect();
    assert_eq!(withdrawn(&back), "rules stand back from it");
    assert_eq!(withdrawn(&|leave| leave.back.all = Some(Duration::MAX)), "rules stand back from it");
    assert_eq!(withdrawn(&|leave| leave.protections.own = [PID].into()), "it is protected now: Sophron itself");
    assert_eq!(changed(|now| now.id.start += 1), "it has ended meanwhile");
    assert_eq!(changed(|now| now.uid = 0), "its owner is ines now");
    assert_eq!(changed(|now| now.names_mut().app = "fernpanel".to_owned()), "the rule no longer covers it");
    // A name that could not be read again at once is what it was, for the same file under the same name.
    let mut unread = press();
    unread.names_mut().app_rests_on = sophron_core::model::Basis::Unread;
    assert_eq!(right(unread, &open), Ok(()));
}
