//! What holds for the judge whatever happens: checked on many made-up courses of events.

use std::time::Duration;

use jiff::tz::TimeZone;
use proptest::prelude::*;
use sophron_core::decide::{Circumstances, Ledger, Verdict, decide};
use sophron_core::dispatch::Grants;
use sophron_core::judge::{Event, Judge, Tick};
use sophron_core::protect::Protections;
use sophron_core::sorted::{SortedMap, SortedSet};
use sophron_core::stand_back::StandsBack;
use sophron_testkit::{World, process};

use crate::script::{PID, Script, load};

const RULES: &str = "[[rule]]\nname = 'leak'\nbreach = 'memory.held > 750 MiB'\ncalm = 'memory.held < 520 MiB'\nlasting = '2s'\narmed = true\n\
    ladder = [ { at = '0s', do = 'alert' }, { at = '2s', do = 'lower' }, { at = '5s', do = 'suspend', for = '3s' }, { at = '9s', do = 'terminate' } ]\n\
    [[rule]]\nname = 'at-once'\nbreach = 'memory.held > 900 MiB'\nlasting = '0s'\nladder = [ { at = '1s', do = 'terminate' } ]\n";

/// What passes before a tick and what the tick shows.
#[derive(Debug, Clone)]
struct Passing {
    time: Duration,
    nap: bool,
    held: Option<u64>,
    suspended: bool,
    busy: bool,
    settles: bool,
}

fn passing() -> impl Strategy<Value = Passing> {
    let time = prop_oneof![8 => Just(1000u64), 1 => 1u64..9000, 1 => 9000u64..40_000];
    let held = prop_oneof![1 => Just(None), 3 => Just(Some(800)), 3 => Just(Some(950)), 2 => Just(Some(600)), 3 => Just(Some(100))];
    let often = || prop::bool::weighted(0.9);
    (time, prop::bool::weighted(0.03), held, prop::bool::weighted(0.2), prop::bool::weighted(0.1), often()).prop_map(
        |(time, nap, held, suspended, busy, settles)| Passing {
            time: Duration::from_millis(time),
            nap,
            held,
            suspended,
            busy,
            settles,
        },
    )
}

/// Every tick's events, and what that tick showed.
fn course(passings: &[Passing]) -> Vec<(Passing, Vec<Event>)> {
    let mut script = Script::new(&load(RULES));
    script.prompt = false;
    let mut told = Vec::new();
    for passing in passings {
        if passing.nap {
            script.world.nap(Duration::from_secs(600));
        }
        script.world.pass(passing.time);
        script.world.process(PID).memory_held = passing.held.map(|mib| mib << 20);
        (script.suspended, script.busy) = (passing.suspended, passing.busy);
        let events = script.events_now();
        for event in &events {
            if let Event::Due { case, .. } = event
                && passing.settles
            {
                script.judge.settled(*case, None, true);
            }
        }
        told.push((passing.clone(), events));
    }
    told
}

proptest! {
    #[test]
    fn no_step_without_a_known_breach_none_out_of_order_none_twice(passings in prop::collection::vec(passing(), 1..200)) {
        let mut next: SortedMap<u64, usize> = SortedMap::new();
        let mut unsettled: SortedSet<u64> = SortedSet::new();
        let mut highest = 0;
        for (passing, events) in course(&passings) {
            let mut steps_of = SortedSet::new();
            for event in events {
                match event {
                    Event::Opened { case } => {
                        prop_assert!(case > highest, "numbers are never used again");
                        highest = case;
                        next.insert(case, 0);
                    }
                    Event::Due { case, step } => {
                        prop_assert!(passing.held.is_some_and(|held| held > 750), "a step at a tick without a known breach");
                        prop_assert!(!passing.suspended && !passing.busy, "a step while suspended or busy");
                        prop_assert!(steps_of.insert(case), "two steps of one case at one tick");
                        prop_assert!(!unsettled.contains(&case), "a step before the outcome of the one before");
                        let due = next.get_mut(&case).expect("an open case");
                        prop_assert_eq!(*due, step, "out of order");
                        *due += 1;
                        if !passing.settles {
                            unsettled.insert(case);
                        }
                    }
                    Event::Closed { case, .. } => {
                        prop_assert!(!passing.suspended, "closed while suspended");
                        prop_assert!(!unsettled.contains(&case.number), "closed before an outcome was in");
                        prop_assert!(next.remove(&case.number).is_some(), "closed twice");
                    }
                    _ => {}
                }
            }
        }
    }

    #[test]
    fn the_same_course_gives_the_same_events(passings in prop::collection::vec(passing(), 1..60)) {
        let events = |passings: &[Passing]| course(passings).into_iter().map(|(_, events)| events).collect::<Vec<_>>();
        prop_assert_eq!(events(&passings), events(&passings));
    }

    /// Whoever is protected, of whatever group he is, whichever rules are due: nothing is done to him; and nobody suffers
    /// two acts at one tick.
    #[test]
    fn nothing_is_ever_done_to_the_protected(
        course in prop::collection::vec(prop::collection::vec((0u64..1200, 0u32..4, prop::bool::weighted(0.9)), 6), 1..40),
        own in prop::collection::btree_set(10u32..16, 0..4),
    ) {
        let rules = load(GROUPS);
        let mut judge = Judge::new(&rules, 1);
        let protections = Protections { own: own.iter().copied().collect(), ..Protections::default() };
        let mut world = World::new((10..16).map(|pid| process(pid, "tilebaker")).collect());
        let mut ledger = Ledger::default();
        let none = SortedSet::new();
        for figures in course {
            world.pass(Duration::from_secs(1));
            for (process, (held, parent, lives)) in world.processes.iter_mut().zip(&figures) {
                process.memory_held = (*held < 1150).then_some(held << 20);
                process.parent = if *parent == 0 { 1 } else { 9 + parent };
                process.id.start += u64::from(!lives);
            }
            world.machine.memory_available = Some(figures[0].0 << 20);
            let snapshot = world.snapshot();
            let tick = Tick { suspended: &none, busy: &none, helpers: &SortedSet::new(), only: None, back: &StandsBack::default(), zone: &TimeZone::UTC };
            let events = judge.tick(&snapshot, &tick);
            let circumstances = Circumstances {
                snapshot: &snapshot,
                protections: &protections,
                standing_back: &StandsBack::default(),
                all_in_shadow: false,
                disarmed: false, granted: &Grants::default(),
            };
            let decisions = decide(&events, &judge, &circumstances, rules.cap, &mut ledger);
            let acts: Vec<u32> = decisions
                .iter()
                .filter(|decision| matches!(decision.verdict, Verdict::Act(action) if action.is_act()))
                .filter_map(|decision| Some(decision.target.as_ref()?.id.pid))
                .collect();
            prop_assert!(!acts.iter().any(|pid| own.contains(pid)), "{:?}", decisions);
            let each: SortedSet<u32> = acts.iter().copied().collect();
            prop_assert_eq!(each.len(), acts.len(), "two acts on one process");
            for decision in &decisions {
                judge.settled(decision.case, None, true);
            }
        }
    }
}

/// The same processes judged as everything they can be judged as.
const GROUPS: &str = "[cap]\nacts = 10000\nterminations = 10000\n\
    [[rule]]\nname = 'process'\nbreach = 'memory.held > 900 MiB'\nlasting = '0s'\narmed = true\nladder = [ { at = '0s', do = 'suspend', for = '1s' }, { at = '2s', do = 'terminate' } ]\n\
    [[rule]]\nname = 'app'\njudge = 'app'\nbreach = 'memory.held > 3 GiB'\nlasting = '0s'\narmed = true\nladder = [ { at = '0s', do = 'lower' }, { at = '2s', do = 'terminate' } ]\n\
    [[rule]]\nname = 'tree'\njudge = 'tree'\nwhere = 'app = tilebaker'\nbreach = 'memory.held > 500 MiB'\nlasting = '0s'\narmed = true\nladder = [ { at = '0s', do = 'lower' }, { at = '1s', do = 'terminate' } ]\n\
    [[rule]]\nname = 'owner'\njudge = 'owner'\nbreach = 'memory.held > 2 GiB'\nlasting = '0s'\narmed = true\npick = 'newest'\nladder = [ { at = '0s', do = 'terminate' } ]\n\
    [[rule]]\nname = 'machine'\njudge = 'machine'\nwhere = 'not kernel'\nbreach = 'machine.memory.available < 500 MiB'\nlasting = '0s'\narmed = true\npick = 'most memory'\nladder = [ { at = '0s', do = 'terminate' } ]\n";
