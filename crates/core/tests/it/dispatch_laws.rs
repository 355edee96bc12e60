//! Whatever comes in, in whatever order: what the dispatcher may never command, and what it owes in the end.

use std::sync::Arc;
use std::time::Duration;

use proptest::prelude::*;
use sophron_core::act::{Act, Ending, Outcome, Restoring, Verb};
use sophron_core::dispatch::{Beside, Command, Commission, Dispatcher, Done, Hand, Input, Trail};
use sophron_core::facts::Facts;
use sophron_core::happening::{CarriedOut, What};
use sophron_core::model::{ProcessId, Snapshot};
use sophron_core::protect::Protections;
use sophron_core::rules::RuleSet;
use sophron_core::sorted::{SortedMap, SortedSet};
use sophron_core::state::State;
use sophron_testkit::{World, process};

use crate::script::{MIB, load, seconds};
use crate::watch::{lowered, settings, suspended};

/// The same processes judged as everything they can be judged as, by every kind of step.
const RULES: &str = "[cap]\nacts = 10000\nterminations = 10000\n\
    [[rule]]\nname = 'process'\nbreach = 'memory.held > 900 MiB'\nlasting = '0s'\narmed = true\nladder = [ { at = '0s', do = 'suspend', for = '2s' }, { at = '4s', do = 'terminate' } ]\n\
    [[rule]]\nname = 'mild'\nbreach = 'memory.held > 300 MiB'\nlasting = '0s'\narmed = true\nladder = [ { at = '0s', do = 'lower', nice = 5 }, { at = '2s', do = 'lower', nice = 12 } ]\n\
    [[rule]]\nname = 'tree'\njudge = 'tree'\nwhere = 'app = tilebaker'\nbreach = 'memory.held > 800 MiB'\nlasting = '0s'\narmed = true\nladder = [ { at = '0s', do = 'lower' }, { at = '3s', do = 'terminate' } ]\n\
    [[rule]]\nname = 'machine'\njudge = 'machine'\nwhere = 'not kernel'\nbreach = 'machine.memory.available < 500 MiB'\nlasting = '0s'\narmed = true\npick = 'most memory'\nladder = [ { at = '0s', do = 'run', run = ['/opt/mossgate/tell-desk'] }, { at = '1s', do = 'suspend', for = '1s' } ]\n";

/// Other rules, of which one is the same but for its note and its place.
const OTHERS: &str = "[cap]\nacts = 10000\nterminations = 10000\n\
    [[rule]]\nname = 'harder'\nbreach = 'memory.held > 500 MiB'\nlasting = '0s'\narmed = true\nladder = [ { at = '0s', do = 'terminate' } ]\n\
    [[rule]]\nname = 'mild'\nnote = 'The same.'\nbreach = 'memory.held > 300 MiB'\nlasting = '0s'\narmed = true\nladder = [ { at = '0s', do = 'lower', nice = 5 }, { at = '2s', do = 'lower', nice = 12 } ]\n";

const PIDS: std::ops::Range<u32> = 10..15;
const PROTECTED: u32 = 12;

/// What comes in next.
#[derive(Debug, Clone)]
enum Next {
    /// A sample with these figures: memory held in MiB (above 1150 unknown), parent, whether the process lives on.
    Sample(Vec<(u64, u32, bool)>, u64),
    /// What came of one of the acts that are under way.
    Came(prop::sample::Index, u8),
    /// A program that was run has ended.
    Ran(bool),
    Hand(u32, u8),
    Trail(u8),
    Pass(u8),
    /// Somebody resumes one that we hold suspended; or his guard is gone.
    Resumed(u32),
    Unguarded(u32),
    Rules(bool),
}

fn next() -> impl Strategy<Value = Next> {
    let figures = prop::collection::vec((0_u64..1300, 0_u32..4, prop::bool::weighted(0.95)), 5);
    prop_oneof![
        6 => (figures, 0_u64..1500).prop_map(|(figures, free)| Next::Sample(figures, free)),
        5 => (any::<prop::sample::Index>(), 0_u8..8).prop_map(|(which, how)| Next::Came(which, how)),
        1 => any::<bool>().prop_map(Next::Ran),
        1 => (PIDS, 0_u8..3).prop_map(|(pid, what)| Next::Hand(pid, what)),
        1 => (0_u8..5).prop_map(Next::Trail),
        1 => (1_u8..4).prop_map(Next::Pass),
        1 => PIDS.prop_map(Next::Resumed),
        1 => PIDS.prop_map(Next::Unguarded),
        1 => any::<bool>().prop_map(Next::Rules),
    ]
}

/// A machine that does what it is told, late or never, and looks whether it was told anything that may not be.
struct Watched {
    world: World,
    dispatcher: Dispatcher,
    protections: Protections,
    rules: [Arc<RuleSet>; 2],
    under_way: Vec<Commission>,
    calls: Vec<sophron_core::dispatch::Call>,
    /// What is in force on whom, as the machine knows it: lowered, suspended.
    in_force: SortedMap<ProcessId, (bool, bool)>,
    hands: SortedSet<ProcessId>,
    disarmed: (bool, bool),
    unguarded: SortedSet<u32>,
    /// Acts handed out, and outcomes told.
    acts: usize,
    told: usize,
    open: SortedSet<u64>,
}

impl Watched {
    fn new() -> Watched {
        let rules = [load(RULES), load(OTHERS)];
        let protections = Protections { own: SortedSet::from([PROTECTED]), ..Protections::default() };
        Watched {
            world: World::new(PIDS.map(|pid| process(pid, "tilebaker")).collect()),
            dispatcher: Dispatcher::new(settings(), Arc::clone(&rules[0]), protections.clone(), 1),
            protections,
            rules,
            under_way: Vec::new(),
            calls: Vec::new(),
            in_force: SortedMap::new(),
            hands: SortedSet::new(),
            disarmed: (false, false),
            unguarded: SortedSet::new(),
            acts: 0,
            told: 0,
            open: SortedSet::new(),
        }
    }

    fn take(&mut self, next: Next) -> Result<(), TestCaseError> {
        match next {
            Next::Sample(figures, free) => self.sample(&figures, free),
            Next::Came(which, how) if !self.under_way.is_empty() => {
                let commission = self.under_way.swap_remove(which.index(self.under_way.len()));
                self.came(commission, how)
            }
            Next::Came(..) => Ok(()),
            Next::Ran(well) => match self.calls.pop() {
                Some(call) => {
                    let outcome = if well { Outcome::Ran(String::new()) } else { Outcome::unfinished() };
                    self.told_of(Input::Ran(Box::new(call), outcome))
                }
                None => Ok(()),
            },
            Next::Hand(pid, what) => {
                let process = self.world.process(pid).clone();
                let verb = [Verb::Lower, Verb::Suspend, Verb::Resume][usize::from(what)].clone();
                let length = (verb == Verb::Suspend).then_some(seconds(5));
                self.hands.insert(process.id);
                self.told_of(Input::Hand(Box::new(Hand { process, verb, length, by: "ines".to_owned() })))
            }
            Next::Trail(how) => self.trail(how),
            Next::Pass(count) => {
                self.world.pass(seconds(u64::from(count)));
                self.told_of(Input::Time)
            }
            Next::Resumed(pid) => {
                let id = self.world.process(pid).id;
                if let Some((_, suspended)) = self.in_force.get_mut(&id) {
                    *suspended = false;
                }
                self.world.process(pid).state = State::Running;
                Ok(())
            }
            Next::Unguarded(pid) => {
                self.unguarded.insert(pid);
                Ok(())
            }
            Next::Rules(others) => {
                let rules = Arc::clone(&self.rules[usize::from(others)]);
                let protections = self.protections.clone();
                self.told_of(Input::Rules(rules, protections))
            }
        }
    }

    fn trail(&mut self, how: u8) -> Result<(), TestCaseError> {
        let (lost, doubted) = &mut self.disarmed;
        let why = || "a test".to_owned();
        let trail = match how {
            0 => Trail::Lost(why()),
            1 => Trail::Doubted(why(), true),
            2 => Trail::Accepted("ines".to_owned()),
            _ => Trail::Back,
        };
        match &trail {
            Trail::Lost(_) => *lost = true,
            Trail::Back => *lost = false,
            Trail::Doubted(..) => *doubted = true,
            Trail::Accepted(_) => *doubted = false,
        }
        self.told_of(Input::Trail(trail))
    }

    fn sample(&mut self, figures: &[(u64, u32, bool)], free: u64) -> Result<(), TestCaseError> {
        self.world.pass(seconds(1));
        for (process, (held, parent, lives)) in self.world.processes.iter_mut().zip(figures) {
            process.memory_held = (*held < 1150).then_some(held * MIB);
            process.parent = if *parent == 0 { 1 } else { 9 + parent };
            if !lives {
                // Another process under its number: what was in force on it ended with it.
                self.in_force.remove(&process.id);
                process.id.start += 1;
                process.state = State::Running;
            }
        }
        self.world.machine.memory_available = Some(free * MIB);
        let snapshot = self.world.snapshot();
        let seen = |pid: &u32| snapshot.process(*pid).map(|process| process.id);
        let beside = Beside {
            own: self.protections.own.clone(),
            unguarded: std::mem::take(&mut self.unguarded).iter().filter_map(seen).collect(),
            ..Beside::default()
        };
        let commands = self.dispatcher.step(snapshot.moment, Input::Sample(&snapshot, &beside));
        // What a hand did counts from the sample on that follows it.
        self.follow(commands, Some(&snapshot))
    }

    fn told_of(&mut self, input: Input<'_>) -> Result<(), TestCaseError> {
        let commands = self.dispatcher.step(self.world.moment, input);
        self.follow(commands, None)
    }

    fn follow(&mut self, commands: Vec<Command>, snapshot: Option<&Snapshot>) -> Result<(), TestCaseError> {
        for command in commands {
            match command {
                Command::Act(commission) => self.commissioned(*commission, snapshot)?,
                Command::Run(call) => self.calls.push(*call),
                Command::Dismiss(id) => {
                    if let Some((_, suspended)) = self.in_force.get_mut(&id) {
                        let process = self.world.processes.iter().find(|process| process.id == id);
                        let stands = process.is_some_and(|process| process.state == State::Suspended);
                        prop_assert!(!stands || !*suspended, "the guard of {id:?}, who stands still, is let go");
                    }
                }
                Command::Tell(happening) | Command::Say(happening) => match &happening.what {
                    What::Came(CarriedOut { outcome, .. }) if !matches!(outcome, Outcome::Joined { .. }) => {
                        self.told += 1
                    }
                    What::Opened { .. } => {
                        self.open.insert(happening.case.unwrap());
                    }
                    What::Closed { .. } => {
                        prop_assert!(self.open.remove(&happening.case.unwrap()), "closed and was not open");
                    }
                    _ => {}
                },
                _ => {}
            }
        }
        Ok(())
    }

    fn commissioned(&mut self, commission: Commission, snapshot: Option<&Snapshot>) -> Result<(), TestCaseError> {
        let all = touched(&commission);
        let busy: SortedSet<ProcessId> = self.under_way.iter().flat_map(touched).collect();
        prop_assert!(all.is_disjoint(&busy), "two at once: {:?} while {:?}", commission.order, busy);
        if !commission.is_undo() {
            let snapshot = snapshot.expect("acts follow from samples alone");
            prop_assert!(self.disarmed == (false, false), "an act that cannot be recorded");
            for target in &commission.order.targets {
                let facts = Facts::new(target, &snapshot.machine);
                prop_assert_eq!(self.protections.reason(&facts), None, "an act on the protected");
                prop_assert!(!self.hands.contains(&target.id), "an act on what a hand has touched");
                prop_assert_eq!(snapshot.process(target.id.pid).map(|found| found.id), Some(target.id));
                prop_assert!(
                    target.memory_held.is_some() || commission.order.targets.len() > 1 || !is_of_one(&commission)
                );
            }
            let whole = commission.order.whole.iter();
            prop_assert!(whole.clone().all(|whole| whole.spared.contains_key(&PROTECTED)), "{:?}", commission.order);
        }
        self.acts += 1;
        self.under_way.push(commission);
        Ok(())
    }

    /// What comes of an act: mostly what was wanted, else something that went wrong.
    fn came(&mut self, commission: Commission, how: u8) -> Result<(), TestCaseError> {
        let id = commission.target().unwrap().id;
        let lives = self.world.processes.iter().any(|process| process.id == id);
        let went_wrong = [
            Outcome::Refused("a test".to_owned()),
            Outcome::Unrecorded("a test".to_owned()),
            Outcome::Dropped("a test".to_owned()),
            Outcome::unfinished(),
        ];
        let act = commission.order.act.clone();
        let outcome = match &act {
            Act::Resume => Outcome::Resumed(Some(Duration::ZERO)),
            Act::Restore { .. } => Outcome::Restored(Restoring::default()),
            _ if !lives => Outcome::Gone,
            _ if how < 4 => went_wrong[usize::from(how)].clone(),
            Act::Lower { nice, .. } => lowered(*nice),
            Act::Suspend { length } => suspended(self.world.moment, *length),
            Act::Terminate { .. } | Act::Restart => Outcome::Ended(Ending::default()),
        };
        let held = self.in_force.entry(id).or_default();
        let mut state = None;
        match (&act, &outcome) {
            (Act::Resume, _) => (held.1, state) = (false, Some(State::Running)),
            (Act::Restore { still, .. }, _) => held.0 = still.is_some(),
            (_, Outcome::Lowered(_)) => held.0 = true,
            (_, Outcome::Suspended(_)) => (held.1, state) = (true, Some(State::Suspended)),
            _ => {}
        }
        let ended = matches!(outcome, Outcome::Ended(_));
        if let Some(process) = self.world.processes.iter_mut().find(|process| process.id == id) {
            process.state = state.unwrap_or(process.state);
            if ended {
                process.id.start += 1;
                process.state = State::Running;
            }
        }
        if ended || !lives {
            self.in_force.remove(&id);
        }
        let done = Done { commission, outcome, took: Duration::ZERO, announced: true };
        self.told_of(Input::Acted(Box::new(done)))
    }

    fn end(&mut self) -> Result<(), TestCaseError> {
        self.told_of(Input::End)?;
        for _ in 0..200 {
            match self.under_way.pop() {
                Some(commission) => self.came(commission, 7)?,
                None => break,
            }
        }
        while let Some(call) = self.calls.pop() {
            self.told_of(Input::Ran(Box::new(call), Outcome::Ran(String::new())))?;
        }
        prop_assert!(self.dispatcher.is_settled());
        prop_assert!(self.told >= self.acts, "{} acts, and only {} outcomes told", self.acts, self.told);
        let alive = |id: &ProcessId| self.world.processes.iter().any(|process| process.id == *id);
        let left: Vec<_> = self.in_force.iter().filter(|(id, held)| alive(id) && **held != (false, false)).collect();
        prop_assert!(left.is_empty(), "left in force: {left:?}");
        Ok(())
    }
}

/// Whether its rule judges processes one by one.
fn is_of_one(commission: &Commission) -> bool {
    commission.announced.rule.as_deref().is_some_and(|rule| matches!(rule, "process" | "mild" | "harder"))
}

fn touched(commission: &Commission) -> SortedSet<ProcessId> {
    let order = &commission.order;
    let whole = order.whole.iter().flat_map(|whole| whole.members.iter().map(|(id, _)| *id));
    order.targets.iter().map(|process| process.id).chain(whole).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, ..ProptestConfig::default() })]

    /// Never an act on somebody protected, unknown, busy or stood back from, nor while nothing can be recorded; never two at
    /// once on one process; of every act an outcome is told; and in the end nothing is left in force.
    #[test]
    fn whatever_comes_in_nothing_is_done_that_may_not_be(course in prop::collection::vec(next(), 1..120)) {
        let mut watched = Watched::new();
        for next in course {
            watched.take(next)?;
        }
        watched.end()?;
    }
}
