//! What the dispatcher holds, and for how long: handles and guards, what time alone makes due, what a recording keeps of it,
//! and what a lowering did to the reading.

use std::time::Duration;

use sophron_core::act::{Ending, Lever, Lowering, Only, Outcome, Restoring, Verb};
use sophron_core::dispatch::Input;
use sophron_core::happening::{Measured, What, Why};
use sophron_core::model::ProcessId;
use sophron_core::sorted::SortedSet;
use sophron_core::state::State;
use sophron_testkit::process;

use crate::script::{PID, load, rule, seconds};
use crate::watch::{Watch, lowered, suspended};

fn id(pid: u32) -> ProcessId {
    process(pid, "labelpress").id
}

/// Whoever may be acted upon is fixed before, by one handle for all rules, until the last of them has no more use for it.
#[test]
fn a_handle_is_held_as_long_as_a_rule_may_act() {
    let one = |name: &str, limit: u32, lasting: u32| {
        format!(
            "[[rule]]\nname = '{name}'\nbreach = 'memory.held > {limit} MiB'\nlasting = '{lasting}s'\narmed = true\nladder = [ {{ at = '1h', do = 'terminate' }} ]\n"
        )
    };
    let mut watch = Watch::new(&load(&(one("low", 500, 2) + &one("high", 700, 60))));
    watch.ticks(1, 100);
    assert_eq!(watch.fixed, SortedSet::new(), "nobody is of interest");
    watch.ticks(1, 800);
    assert_eq!(watch.fixed, SortedSet::from([id(PID)]), "a breach builds up");
    watch.ticks(4, 600);
    assert_eq!(watch.words(), ["breach"], "of the one; the other's is abandoned");
    assert_eq!(watch.fixed, SortedSet::from([id(PID)]));
    watch.ticks(20, 100);
    assert_eq!((watch.words(), &watch.fixed), (vec!["easing".to_owned(), "calm".to_owned()], &SortedSet::new()));
    // Nor has one who ends while his breach builds up any use for it.
    watch.ticks(1, 800);
    assert_eq!(watch.fixed.len(), 1);
    watch.world.processes.clear();
    watch.ticks(1, 800);
    assert_eq!(watch.fixed, SortedSet::new());
}

/// Between samples it is time that ends a suspension; while that is under way nothing else is due.
#[test]
fn time_alone_ends_a_suspension() {
    let mut watch = Watch::new(&rule("lasting = '0s'\nladder = [ { at = '0s', do = 'suspend', for = '3s' } ]"));
    assert_eq!((watch.dispatcher.next_wake(), watch.dispatcher.minds_locks()), (None, false));
    watch.ticks(1, 800);
    assert_eq!(watch.dispatcher.breached(), (1, SortedSet::from([1])));
    let until = watch.world.moment.monotonic + seconds(3);
    watch.came(suspended(watch.world.moment, seconds(3)));
    assert_eq!((watch.dispatcher.next_wake(), watch.dispatcher.minds_locks()), (Some(until), true));
    watch.world.process(PID).state = State::Suspended;
    watch.world.pass(seconds(3) - Duration::from_nanos(1));
    watch.step(Input::Time);
    assert_eq!(watch.acts(), Vec::<String>::new(), "not a moment too early");
    watch.world.pass(Duration::from_nanos(1));
    watch.step(Input::Time);
    assert_eq!((watch.acts(), watch.dispatcher.next_wake()), (vec!["resume".to_owned()], None));
    watch.step(Input::Time);
    assert_eq!(watch.acts().len(), 1, "and once");
    watch.came(Outcome::Resumed(None));
    assert_eq!((watch.dispatcher.next_wake(), watch.dispatcher.minds_locks()), (None, false));
    watch.world.process(PID).state = State::Running;
    watch.ticks(2, 100);
    assert_eq!(watch.dispatcher.breached(), (3, SortedSet::new()), "easing is no breach");
}

/// A guard is dismissed when what it stood by for is over by other means: its process ended, or a hand resumed it.
#[test]
fn a_guard_is_dismissed_with_its_reason() {
    let keys = "lasting = '0s'\nladder = [ { at = '0s', do = 'suspend', for = '60s' } ]";
    for ends in [true, false] {
        let mut watch = Watch::new(&rule(keys));
        watch.ticks(1, 800);
        watch.came(suspended(watch.world.moment, seconds(60)));
        watch.world.process(PID).state = State::Suspended;
        watch.ticks(2, 800);
        assert_eq!(watch.dismissed, []);
        match ends {
            true => watch.world.processes.clear(),
            false => {
                watch.world.process(PID).state = State::Running;
                watch.hand(PID, Verb::Resume, None);
            }
        }
        watch.ticks(2, 800);
        assert_eq!((watch.dismissed.clone(), watch.acts()), (vec![id(PID)], vec![]), "ends: {ends}");
        assert!(watch.dispatcher.effects().processes().is_empty());
    }
}

/// A recording is told what readings cannot: on whom a suspension of ours was in force, who was busy, from whom rules stood
/// back, and what came of acts since the sample before.
#[test]
fn a_recording_keeps_what_readings_do_not_tell() {
    let mut watch = Watch::new(&rule(
        "lasting = '0s'\nladder = [ { at = '0s', do = 'suspend', for = '2s' }, { at = '20s', do = 'terminate' } ]",
    ));
    let kept = |watch: &Watch| {
        let outcomes: Vec<_> =
            watch.kept.outcomes.iter().map(|outcome| format!("{} {}", outcome.verb, outcome.outcome)).collect();
        (watch.kept.suspended.len(), watch.kept.busy.len(), watch.kept.back.len(), outcomes)
    };
    watch.ticks(2, 800);
    assert_eq!(kept(&watch), (0, 1, 0, vec![]), "its act is under way");
    watch.came(suspended(watch.world.moment, seconds(2)));
    watch.world.process(PID).state = State::Suspended;
    watch.ticks(1, 800);
    assert_eq!(kept(&watch), (1, 0, 0, vec!["suspend suspended".to_owned()]));
    watch.ticks(1, 800);
    assert_eq!((kept(&watch), watch.acts()), ((1, 1, 0, vec![]), vec!["resume".to_owned()]));
    watch.came(Outcome::Resumed(None));
    watch.world.process(PID).state = State::Running;
    watch.hand(PID, Verb::Resume, None);
    watch.ticks(1, 800);
    assert_eq!(kept(&watch), (1, 0, 1, vec!["resume resumed".to_owned()]), "since the sample before it was in force");
    watch.ticks(1, 800);
    assert_eq!(kept(&watch), (0, 0, 1, vec![]));
    // By PID: whoever has it by then is somebody else.
    watch.world.process(PID).id.start += 1;
    watch.ticks(1, 800);
    assert_eq!(kept(&watch), (0, 0, 0, vec![]));
    assert!(watch.dispatcher.last_of_ours().is_empty());
}

/// What came of acts after the last sample is not lost with it.
#[test]
fn the_last_outcomes_are_kept_as_well() {
    let mut watch = Watch::new(&rule("lasting = '0s'\nladder = [ { at = '0s', do = 'terminate' } ]"));
    watch.ticks(1, 800);
    watch.came(Outcome::Ended(Ending::default()));
    let last = watch.dispatcher.last_of_ours();
    let of: Vec<_> =
        last.outcomes.iter().map(|outcome| (outcome.pid, outcome.case, outcome.outcome.as_str())).collect();
    assert_eq!(of, [(PID, Some(1), "ended")]);
    assert!(watch.dispatcher.last_of_ours().is_empty(), "told once");
}

/// Used by the process from the act on, over a second at least; what was suspended, undone or ended meanwhile shows nothing.
#[test]
fn the_effect_of_a_lowering_is_told_once_it_shows() {
    let effects = |watch: &Watch| -> Vec<(Duration, f64, f64, Option<Why>)> {
        let effect = |what: &What| match what {
            What::Measured(effect) => Some(effect.clone()),
            _ => None,
        };
        let found = watch.told.iter().filter_map(|happening| effect(&happening.what));
        let figures = found.map(|effect| match effect.measured {
            Measured::Cpu(was, is, why) => (effect.over.1, was, is, why),
            other => panic!("{other:?}"),
        });
        figures.collect()
    };
    let lowering = |watch: &mut Watch| {
        watch.world.process(PID).cpu = Some(90.0);
        watch.ticks(1, 800);
        watch.came(lowered(10));
        watch.world.process(PID).cpu = Some(0.0);
    };
    let keys = "lasting = '0s'\nladder = [ { at = '0s', do = 'lower' }, { at = '1h', do = 'terminate' } ]";
    let mut watch = Watch::new(&rule(keys));
    lowering(&mut watch);
    for used in [700, 300, 500] {
        watch.world.process(PID).cpu_time += Duration::from_millis(used);
        watch.ticks(1, 800);
    }
    // From the first sample after the act, a second long: 300 ms of CPU time.
    assert_eq!(effects(&watch), [(seconds(1), 90.0, 30.0, None)]);

    let mut watch = Watch::new(&rule(keys));
    lowering(&mut watch);
    watch.world.process(PID).cpu_time += seconds(1);
    watch.ticks(1, 800);
    watch.world.process(PID).cpu_time += Duration::from_millis(890);
    watch.ticks(1, 800);
    assert_eq!(effects(&watch), [(seconds(1), 90.0, 89.0, Some(Why::Alone))], "nobody else is there");

    for change in ["ended", "undone", "suspended"] {
        let more = if change == "suspended" { "{ at = '1s', do = 'suspend' }, " } else { "" };
        let keys = keys.replace("{ at = '1h'", &format!("{more}{{ at = '1h'"));
        let mut watch = Watch::new(&rule(&keys));
        lowering(&mut watch);
        watch.ticks(1, if change == "undone" { 100 } else { 800 });
        match change {
            "ended" => watch.world.processes.clear(),
            "suspended" => {
                watch.came(suspended(watch.world.moment, seconds(60)));
                watch.world.process(PID).state = State::Suspended;
            }
            _ => {
                watch.ticks(1, 100);
                watch.came(Outcome::Restored(Restoring::default()));
            }
        }
        watch.ticks(5, 800);
        assert_eq!(effects(&watch), [], "{change}");
    }
}

/// Why nothing changed depends on the lever and on who else wants the CPU.
#[test]
fn an_effect_that_is_none_is_explained() {
    let weight = || Lever::Weight { group: "/lamp".to_owned(), unified: true };
    let session = || Lever::SessionGroup { group: "/autogroup-217".to_owned() };
    let why = |lever: Lever, others: f64, busy: f64, fullest: f64| {
        let keys = "lasting = '0s'\nladder = [ { at = '0s', do = 'lower' }, { at = '1h', do = 'terminate' } ]";
        let mut watch = Watch::new(&rule(keys));
        let mut other = process(PID + 1, "herbarium");
        other.cpu = Some(others);
        watch.world.processes.push(other);
        (watch.world.machine.cpu, watch.world.machine.core_fullest) = (Some(busy), Some(fullest));
        watch.world.process(PID).cpu = Some(40.0);
        watch.ticks(1, 800);
        let lowering = Lowering { lever, ..Lowering::assumed(10, Only::Both) };
        watch.under_way.truncate(1);
        watch.came(Outcome::Lowered(Box::new(lowering)));
        for _ in 0..2 {
            watch.world.process(PID).cpu_time += Duration::from_millis(400);
            watch.ticks(1, 800);
        }
        let last = watch.told.pop().unwrap().what;
        let What::Measured(effect) = last else { panic!("{last:?}") };
        let Measured::Cpu(_, _, why) = effect.measured else { panic!("{effect:?}") };
        why.unwrap()
    };
    assert_eq!(why(Lever::Nice, 2.0, 100.0, 100.0), Why::Alone);
    assert_eq!(why(Lever::Nice, 60.0, 40.0, 80.0), Why::NobodyWants);
    assert_eq!(why(Lever::Nice, 300.0, 95.0, 80.0), Why::NoMilder);
    assert_eq!(why(Lever::Nice, 100.0, 40.0, 100.0), Why::NoMilder, "on its core somebody wants it");
    assert_eq!(why(weight(), 300.0, 95.0, 100.0), Why::OfGroup("/lamp".to_owned()));
    assert_eq!(why(session(), 300.0, 95.0, 100.0), Why::OfSession);
}
