//! Between rules: the strongest step wins, and protection, shadow and hands turn acts into words.

use std::time::Duration;

use jiff::tz::TimeZone;
use sophron_core::decide::{Circumstances, Decision, Ledger, Verdict, decide};
use sophron_core::dispatch::Grants;
use sophron_core::judge::{Judge, Tick};
use sophron_core::protect::Protections;
use sophron_core::rules::{Action, Cap};
use sophron_core::sorted::SortedSet;
use sophron_core::stand_back::StandsBack;
use sophron_testkit::{World, process};

use crate::script::load;

const RULES: &str = "
[[rule]]
name = 'mild'
breach = 'cpu > 50%'
lasting = '0s'
armed = true
ladder = [ { at = '0s', do = 'lower', nice = 5 } ]
[[rule]]
name = 'hard'
breach = 'cpu > 50%'
lasting = '0s'
armed = true
ladder = [ { at = '0s', do = 'terminate' } ]
[[rule]]
name = 'dark'
breach = 'cpu > 50%'
lasting = '0s'
ladder = [ { at = '0s', do = 'suspend' } ]
";

fn verdicts(change: impl FnOnce(&mut Protections, &mut StandsBack, &mut bool)) -> Vec<(String, Verdict)> {
    let mut world = World::new(vec![process(9, "sheetlamp")]);
    world.process(9).cpu = Some(99.0);
    let snapshot = world.snapshot();
    let mut judge = Judge::new(&load(RULES), 1);
    let none = SortedSet::new();
    let events = judge.tick(
        &snapshot,
        &Tick {
            suspended: &none,
            busy: &none,
            helpers: &SortedSet::new(),
            only: None,
            back: &StandsBack::default(),
            zone: &TimeZone::UTC,
        },
    );
    let (mut protections, mut standing_back, mut all_in_shadow) =
        (Protections::default(), StandsBack::default(), false);
    change(&mut protections, &mut standing_back, &mut all_in_shadow);
    let (protections, standing_back) = (&protections, &standing_back);
    let circumstances = Circumstances {
        snapshot: &snapshot,
        protections,
        standing_back,
        all_in_shadow,
        disarmed: false,
        granted: &Grants::default(),
    };
    let decisions = decide(&events, &judge, &circumstances, Cap::default(), &mut Ledger::default());
    let name = |decision: &Decision| judge.case(decision.case).map(|case| case.rule.to_string()).unwrap();
    decisions.into_iter().map(|decision| (name(&decision), decision.verdict)).collect()
}

fn named(expected: [(&str, Verdict); 3]) -> Vec<(String, Verdict)> {
    expected.map(|(name, verdict)| (name.to_owned(), verdict)).into()
}

const SUSPEND: Action = Action::Suspend { length: Duration::from_secs(60) };
const TERMINATE: Action = Action::Terminate { force_after: None };

#[test]
fn the_strongest_step_wins_and_a_rule_in_shadow_only_says() {
    let expected = named([
        ("mild", Verdict::Overtaken { by: 2 }),
        ("hard", Verdict::Act(TERMINATE)),
        ("dark", Verdict::Shadow(SUSPEND)),
    ]);
    assert_eq!(verdicts(|_, _, _| {}), expected);
}

#[test]
fn nothing_is_done_to_the_protected() {
    let verdicts = verdicts(|protections, _, _| {
        protections.own.insert(9);
    });
    assert!(
        verdicts.iter().all(|(_, verdict)| *verdict == Verdict::Spared("it is protected: Sophron itself".to_owned())),
        "{verdicts:?}"
    );
}

#[test]
fn with_all_in_shadow_no_rule_acts() {
    let verdicts = verdicts(|_, _, all_in_shadow| *all_in_shadow = true);
    assert!(verdicts.iter().all(|(_, verdict)| matches!(verdict, Verdict::Shadow(_))), "{verdicts:?}");
}

#[test]
fn rules_stand_back_from_what_a_hand_has_touched() {
    let id = process(9, "sheetlamp").id;
    let until = Duration::from_secs(9000);
    let back_until = |verdict: &Verdict| matches!(verdict, Verdict::StandingBack { .. });
    let back = verdicts(|_, standing_back, _| {
        standing_back.processes.insert(id, until);
    });
    assert!(back.iter().all(|(_, verdict)| back_until(verdict)), "{back:?}");
    let over = verdicts(|_, standing_back, _| {
        standing_back.processes.insert(id, Duration::from_secs(1));
    });
    assert!(over.iter().any(|(_, verdict)| matches!(verdict, Verdict::Act(_))), "{over:?}");
}

/// While nothing can be recorded steps wait, however often they fall due, and use up nothing of the cap.
#[test]
fn what_waits_for_the_record_uses_up_no_act() {
    let mut world = World::new(vec![process(9, "sheetlamp")]);
    world.process(9).cpu = Some(99.0);
    let mut judge = Judge::new(&load(RULES), 1);
    let (none, protections, standing_back) = (SortedSet::new(), Protections::default(), StandsBack::default());
    let (mut ledger, cap) = (Ledger::default(), Cap { acts: 1, terminations: 1 });
    for tick in 0..30 {
        world.pass(Duration::from_secs(1));
        let snapshot = world.snapshot();
        let tick_of = Tick {
            suspended: &none,
            busy: &none,
            helpers: &SortedSet::new(),
            only: None,
            back: &StandsBack::default(),
            zone: &TimeZone::UTC,
        };
        let events = judge.tick(&snapshot, &tick_of);
        let circumstances = Circumstances {
            snapshot: &snapshot,
            protections: &protections,
            standing_back: &standing_back,
            all_in_shadow: false,
            disarmed: tick < 29,
            granted: &Grants::default(),
        };
        let decisions = decide(&events, &judge, &circumstances, cap, &mut ledger);
        let waits = |decision: &&Decision| matches!(decision.verdict, Verdict::Waits(_));
        let acts = |decision: &&Decision| decision.verdict == Verdict::Act(TERMINATE);
        if tick < 29 {
            assert_eq!(decisions.iter().filter(waits).count(), 2, "tick {tick}: {decisions:?}");
            decisions.iter().for_each(|decision| judge.postponed(decision.case));
        } else {
            assert_eq!(decisions.iter().filter(acts).count(), 1, "{decisions:?}");
        }
    }
}
