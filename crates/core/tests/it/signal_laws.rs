//! At every signal that is sent, all that it hangs on holds as it is at that moment: by random courses of samples, reloads, words, hands,
//! a trail that fails, unknown figures, members that vanish, and restarts at any point. What must hold is known here apart from the
//! dispatcher.

use std::cell::RefCell;
use std::sync::{Arc, LazyLock};
use std::time::Duration;

use proptest::prelude::*;
use proptest::test_runner::{Config, RngAlgorithm, TestError, TestRng, TestRunner};
use sophron_core::act::{Act, Ending, Outcome, Restoring, Verb};
use sophron_core::audit::{By, Draft, InForce, Who};
use sophron_core::dispatch::{Beside, Check, Command, Commission, Dispatcher, Done, Hand, Input, Trail, Word};
use sophron_core::happening::{Happening, What};
use sophron_core::model::ProcessId;
use sophron_core::open::Open;
use sophron_core::protect::Protections;
use sophron_core::rules::RuleSet;
use sophron_core::sorted::{SortedMap, SortedSet};
use sophron_core::stand_back::Whom;
use sophron_core::state::State;
use sophron_testkit::{World, process};

use crate::accounts::sealed;
use crate::happening::scribe;
use crate::script::{MIB, load, seconds};
use crate::watch::{lowered, settings, suspended};

const PIDS: std::ops::Range<u32> = 10..16;
/// Sophron's own, and whom `[protect]` names where it does.
const OURS: u32 = 11;
const TOMAS: u32 = 15;

/// What the rules say at a time.
#[derive(Debug, Clone, Copy)]
struct Terms {
    armed: bool,
    ends: bool,
    limit: u64,
    pick: &'static str,
    protects: bool,
    press: bool,
}

const PLAIN: Terms = Terms { armed: true, ends: true, limit: 700, pick: "most memory", protects: false, press: true };

const ALL: [Terms; 7] = [
    PLAIN,
    Terms { armed: false, ..PLAIN },
    Terms { ends: false, ..PLAIN },
    Terms { protects: true, ..PLAIN },
    Terms { pick: "newest", ..PLAIN },
    Terms { press: false, ..PLAIN },
    Terms { limit: 900, ..PLAIN },
];

static RULES: LazyLock<Vec<Arc<RuleSet>>> = LazyLock::new(|| ALL.iter().map(|terms| terms.load()).collect());

impl Terms {
    fn load(self) -> Arc<RuleSet> {
        let Terms { armed, ends, limit, pick, protects, press } = self;
        let last = if ends { "do = 'terminate', force_after = '2s'" } else { "do = 'lower', nice = 15" };
        let rule = |name: &str, more: &str| {
            let ladder = format!(
                "[ {{ at = '0s', do = 'lower', nice = 5 }}, {{ at = '1s', do = 'suspend', for = '1s' }}, {{ at = '3s', {last} }} ]"
            );
            format!("[[rule]]\nname = '{name}'\nlasting = '0s'\narmed = {armed}\nladder = {ladder}\n{more}\n")
        };
        let mut text = "[cap]\nacts = 10000\nterminations = 10000\n".to_owned();
        text += if protects { "[protect]\nwhere = 'owner = tomas'\n" } else { "" };
        if press {
            text += &rule("press", &format!("breach = 'memory.held > {limit} MiB'"));
        }
        text += &rule("apps", "judge = 'app'\nwhere = 'app = tilebaker'\nbreach = 'memory.held > 1500 MiB'");
        text += &rule(
            "room",
            &format!(
                "judge = 'machine'\nwhere = 'not kernel'\nbreach = 'machine.memory.available < 500 MiB'\npick = '{pick}'"
            ),
        );
        load(&text)
    }

    /// The acts of each ladder.
    fn step(self, place: usize) -> Verb {
        [Verb::Lower, Verb::Suspend, if self.ends { Verb::Terminate } else { Verb::Lower }][place].clone()
    }
}

/// What comes in next.
#[derive(Debug, Clone)]
enum Next {
    /// A sample: memory held in MiB (above 1150 unknown), whether the process lives on, and what is available.
    Sample(Vec<(u64, bool)>, u64),
    /// One of the acts under way wants to send a signal.
    Signal(usize),
    /// It has sent all that it wants to; how it went.
    Came(usize, bool),
    Rules(usize),
    /// Somebody's word on a process, a rule or everything, to stand back or to act again.
    Said(u32, bool),
    Hand(u32),
    Trail(u8),
    Pass(u64),
    /// It is killed and started again; whether it had saved what its last sample changed.
    Restart(bool),
}

fn next() -> impl Strategy<Value = Next> {
    // Mostly in breach: a ladder is climbed to its end.
    let held = prop_oneof![4 => 750_u64..1150, 2 => 0_u64..1300];
    let figures = prop::collection::vec((held, prop::bool::weighted(0.97)), PIDS.len());
    prop_oneof![
        12 => (figures, prop_oneof![3 => 0_u64..500, 1 => 0_u64..1500]).prop_map(|(figures, free)| Next::Sample(figures, free)),
        8 => (0_usize..8).prop_map(Next::Signal),
        10 => (0_usize..8, prop::bool::weighted(0.8)).prop_map(|(which, well)| Next::Came(which, well)),
        3 => (0..ALL.len()).prop_map(Next::Rules),
        1 => (9..PIDS.end + 3, prop::bool::weighted(0.4)).prop_map(|(whom, back)| Next::Said(whom, back)),
        1 => prop_oneof![3 => Just(TOMAS), 1 => PIDS].prop_map(Next::Hand),
        1 => (0_u8..6).prop_map(Next::Trail),
        1 => (1_u64..3).prop_map(Next::Pass),
        1 => any::<bool>().prop_map(Next::Restart),
    ]
}

/// Whom a case that acts on one of several has chosen.
#[derive(Debug)]
struct Picked {
    id: ProcessId,
    /// A signal was sent to him; if none was, a kill may come before anybody has noted who it is.
    reached: bool,
    unknown: bool,
}

/// What was seen of all courses together: signals sent by verb, and why others were not.
type Seen = RefCell<SortedSet<String>>;

struct Court<'s> {
    world: World,
    dispatcher: Dispatcher,
    /// Which of the rules are in force.
    which: usize,
    under_way: Vec<(Commission, bool)>,
    drafts: Vec<Draft>,
    /// As saved: before the last sample, and after it.
    saved: [Option<Open>; 2],
    revision: u64,
    /// At the last sample: what each held, as far as known, and what was available.
    held: SortedMap<ProcessId, Option<u64>>,
    free: u64,
    back: (bool, SortedSet<String>, SortedSet<ProcessId>),
    hands: SortedSet<ProcessId>,
    trail: (bool, bool),
    /// Of each case that picks: whom it has acted on.
    picked: SortedMap<u64, Picked>,
    /// On whom anything was to be done: another rule's act may stand for the first step.
    touched: SortedSet<ProcessId>,
    cases: u64,
    seen: &'s Seen,
}

impl Court<'_> {
    fn new(seen: &Seen) -> Court<'_> {
        let mut processes: Vec<_> =
            PIDS.map(|pid| process(pid, if pid < 13 { "tilebaker" } else { "labelpress" })).collect();
        for process in processes.iter_mut().filter(|process| process.id.pid == TOMAS) {
            process.uid = 1002;
            process.names_mut().owner = "tomas".to_owned();
        }
        Court {
            world: World::new(processes),
            dispatcher: dispatcher(0, 1),
            which: 0,
            under_way: Vec::new(),
            drafts: Vec::new(),
            saved: [None, None],
            revision: 0,
            held: SortedMap::new(),
            free: 9999,
            back: Default::default(),
            hands: SortedSet::new(),
            trail: (true, true),
            picked: SortedMap::new(),
            touched: SortedSet::new(),
            cases: 0,
            seen,
        }
    }

    fn take(&mut self, next: &Next) -> Result<(), TestCaseError> {
        match next {
            Next::Sample(figures, free) => self.sample(figures, *free),
            Next::Signal(which) if !self.under_way.is_empty() => {
                let which = which % self.under_way.len();
                self.signal(which).map(drop)
            }
            Next::Came(which, well) if !self.under_way.is_empty() => {
                let which = which % self.under_way.len();
                let goes = self.signal(which)?;
                self.came(which, goes, *well)
            }
            Next::Signal(_) | Next::Came(..) => Ok(()),
            Next::Rules(which) => {
                if ALL[*which].pick != ALL[self.which].pick {
                    self.picked.clear();
                }
                self.which = *which;
                let (rules, protections) = (Arc::clone(&RULES[*which]), protections(*which));
                self.told_of(Input::Rules(rules, protections))?;
                self.saved[0] = self.saved[1].clone();
                Ok(())
            }
            Next::Said(whom, back) => self.said(*whom, *back),
            Next::Hand(pid) => {
                let process = self.world.process(*pid).clone();
                let who = Who { by: Some(By::Hand), ..scribe().who };
                let what = What::Announced(Box::new(Act::Resume), Box::default());
                let by_hand = sophron_core::happening::Scribe { who, ..scribe() };
                self.drafts.extend(by_hand.record(&Happening::about(self.world.moment.wall, &process, what)));
                self.hands.insert(process.id);
                let hand = Hand { process, verb: Verb::Resume, length: None, by: "ines".to_owned() };
                self.told_of(Input::Hand(Box::new(hand)))
            }
            Next::Trail(how) => {
                let (whole, trusted) = &mut self.trail;
                let trail = match how {
                    0 => Trail::Lost("a test".to_owned()),
                    1 => Trail::Doubted("a test".to_owned(), false),
                    2 | 3 => Trail::Accepted("ines".to_owned()),
                    _ => Trail::Back,
                };
                match &trail {
                    Trail::Lost(_) => *whole = false,
                    Trail::Back => *whole = true,
                    Trail::Doubted(..) => *trusted = false,
                    Trail::Accepted(_) => *trusted = true,
                }
                self.told_of(Input::Trail(trail))
            }
            Next::Pass(time) => {
                self.world.pass(seconds(*time));
                self.told_of(Input::Time)
            }
            Next::Restart(saved) => self.restart(usize::from(*saved)),
        }
    }

    fn said(&mut self, whom: u32, back: bool) -> Result<(), TestCaseError> {
        let (all, rules, processes) = &mut self.back;
        let whom = match whom {
            9 => Whom::All,
            pid if PIDS.contains(&pid) => Whom::process(self.world.process(pid)),
            other => Whom::Rule(["press", "apps", "room"][(other - PIDS.end) as usize].to_owned()),
        };
        match (&whom, back) {
            (Whom::All, true) => *all = true,
            // To act again everywhere ends all that was said.
            (Whom::All, false) => (*all, *rules, *processes) = Default::default(),
            (Whom::Rule(rule), true) => drop(rules.insert(rule.clone())),
            (Whom::Rule(rule), false) => drop(rules.remove(rule)),
            (process, true) => processes.extend(process.id()),
            (process, false) => processes.retain(|id| process.id() != Some(*id)),
        }
        let length = back.then_some(seconds(7200));
        let word = Word { ticket: 1, whom: vec![whom], length, by: scribe().who, because: None };
        self.told_of(Input::Word(Box::new(word)))?;
        self.saved[0] = self.saved[1].clone();
        Ok(())
    }

    fn sample(&mut self, figures: &[(u64, bool)], free: u64) -> Result<(), TestCaseError> {
        self.world.pass(seconds(1));
        self.free = free;
        self.held.clear();
        for (process, (held, lives)) in self.world.processes.iter_mut().zip(figures) {
            if !lives {
                process.id.start += 1;
                process.state = State::Running;
            }
            process.memory_held = (*held < 1150).then_some(held * MIB);
            self.held.insert(process.id, (*held < 1150).then_some(*held));
        }
        self.world.machine.memory_available = Some(free * MIB);
        let snapshot = self.world.snapshot();
        let beside = Beside { own: SortedSet::from([OURS]), ..Beside::default() };
        self.saved[0] = self.saved[1].clone();
        let commands = self.dispatcher.step(snapshot.moment, Input::Sample(&snapshot, &beside));
        self.follow(commands)
    }

    fn told_of(&mut self, input: Input<'_>) -> Result<(), TestCaseError> {
        let commands = self.dispatcher.step(self.world.moment, input);
        self.follow(commands)
    }

    /// Of several one is chosen, and kept: another only once he is gone, or where nobody can know, and from the first step on.
    fn chosen(&mut self, commission: &Commission) -> Result<(), TestCaseError> {
        let of_room = |check: &&Check| &*check.rule.name == "room";
        let Some(check) = commission.check.as_ref().filter(of_room) else { return Ok(()) };
        let (case, id) = (commission.case().unwrap(), commission.target().unwrap().id);
        let begins = check.step.is_some_and(|(place, _)| place == 0) || self.touched.contains(&id);
        match self.picked.get(&case) {
            Some(picked) if picked.id == id => return Ok(()),
            Some(picked) => {
                let free = !self.held.contains_key(&picked.id) || picked.unknown;
                prop_assert!(free && begins, "case {case} is about {picked:?}, and goes on with {id:?} ({begins})");
            }
            None => {}
        }
        self.picked.insert(case, Picked { id, reached: false, unknown: false });
        Ok(())
    }

    fn follow(&mut self, commands: Vec<Command>) -> Result<(), TestCaseError> {
        for command in commands {
            match command {
                Command::Act(commission) => {
                    self.chosen(&commission)?;
                    self.touched.extend(commission.target().map(|process| process.id));
                    self.under_way.push((*commission, false));
                }
                Command::Tell(happening) | Command::Say(happening) => {
                    self.cases = self.cases.max(happening.case.unwrap_or_default());
                    self.drafts.extend(scribe().record(&happening));
                }
                _ => {}
            }
        }
        if self.dispatcher.revision() != self.revision {
            self.revision = self.dispatcher.revision();
            let boot = self.world.machine.boot;
            self.saved[1] = Some(self.dispatcher.open(self.world.moment, boot));
        }
        Ok(())
    }

    /// Asks as whoever sends a signal asks, and where it goes on holds that against what is known here. Whether it goes on.
    fn signal(&mut self, which: usize) -> Result<bool, TestCaseError> {
        let (commission, announced) = &mut self.under_way[which];
        let Some(check) = commission.check.clone() else { return Ok(true) };
        if !std::mem::replace(announced, true) {
            self.drafts.extend(scribe().record(&commission.announced));
        }
        let (commission, judged) = (commission.clone(), commission.target().unwrap().clone());
        let (case, now) = (commission.case().unwrap(), self.world.process(judged.id.pid).clone());
        let (leave, terms) = (self.dispatcher.leave_now(), ALL[self.which]);
        if let Err(why) = check.still_right(case, &judged, now, &leave) {
            let why = why.split(':').next().unwrap_or_default().to_owned();
            self.seen.borrow_mut().insert(why);
            return Ok(false);
        }
        let (rule, verb, id) = (check.rule.name.to_string(), commission.order.act.verb(), judged.id);
        self.seen.borrow_mut().insert(format!("{rule} {verb:?}"));
        let what = format!("case {case} of {rule}: {verb:?} on {id:?} by {terms:?}");
        prop_assert!(self.trail == (true, true), "unrecorded: {what}");
        prop_assert!(terms.armed && (rule != "press" || terms.press), "no rule says so: {what}");
        let (place, _) = check.step.unwrap_or((1, check.rule.ladder[1].action));
        prop_assert_eq!(terms.step(place), verb, "another step: {}", &what);
        prop_assert!(id.pid != OURS && !(terms.protects && id.pid == TOMAS), "protected: {what}");
        prop_assert!(!self.hands.contains(&id), "a hand was there: {what}");
        let (all, rules, processes) = &self.back;
        prop_assert!(!all && !rules.contains(&rule) && !processes.contains(&id), "to stand back: {what}");
        let of = |pids: std::ops::Range<u32>| self.held.iter().filter(move |(id, _)| pids.contains(&id.pid));
        let breach = match rule.as_str() {
            "press" => self.held.get(&id).copied().flatten().is_some_and(|held| held > terms.limit),
            "apps" => of(10..13).filter_map(|(_, held)| *held).sum::<u64>() > 1500,
            _ => self.free < 500,
        };
        prop_assert!(breach || check.tick.is_none(), "no breach: {what}; {:?}, {} free", self.held, self.free);
        if rule == "room" {
            let picked = self.picked.get_mut(&case);
            prop_assert!(
                picked.as_ref().is_some_and(|picked| picked.id == id),
                "another is picked: {what}; {picked:?}"
            );
            picked.into_iter().for_each(|picked| picked.reached = true);
        }
        Ok(true)
    }

    fn came(&mut self, which: usize, goes: bool, well: bool) -> Result<(), TestCaseError> {
        let (commission, _) = self.under_way.swap_remove(which);
        let id = commission.target().unwrap().id;
        let at = self.world.moment;
        let process = self.world.processes.iter_mut().find(|process| process.id == id);
        let outcome = match &commission.order.act {
            Act::Resume => Outcome::Resumed(Some(Duration::ZERO)),
            Act::Restore { .. } => Outcome::Restored(Restoring::default()),
            _ if !goes => Outcome::Dropped("a test".to_owned()),
            _ if process.is_none() => Outcome::Gone,
            _ if !well => Outcome::Refused("a test".to_owned()),
            Act::Lower { nice, .. } => lowered(*nice),
            Act::Suspend { length } => suspended(at, *length),
            Act::Terminate { .. } | Act::Restart => Outcome::Ended(Ending::default()),
        };
        if let Some(process) = process {
            match &outcome {
                Outcome::Suspended(_) => process.state = State::Suspended,
                Outcome::Resumed(_) => process.state = State::Running,
                Outcome::Ended(_) => {
                    process.id.start += 1;
                    process.state = State::Running;
                }
                _ => {}
            }
        }
        let done = Done { commission, outcome, took: Duration::ZERO, announced: true };
        self.told_of(Input::Acted(Box::new(done)))
    }

    /// Killed and started again: what was under way is done or not, what was in force is put back, and the next run knows what is in
    /// the trail and what was saved.
    fn restart(&mut self, saved: usize) -> Result<(), TestCaseError> {
        for (commission, announced) in std::mem::take(&mut self.under_way) {
            let id = commission.target().unwrap().id;
            let ends = announced && matches!(commission.order.act, Act::Terminate { .. });
            if let Some(process) = self.world.processes.iter_mut().find(|process| process.id == id && ends) {
                process.id.start += 1;
            }
        }
        self.world.processes.iter_mut().for_each(|process| process.state = State::Running);
        self.world.pass(seconds(1));
        let boot = self.world.machine.boot;
        let records = sealed(&self.drafts, |line| line);
        let in_force = InForce::of(&records);
        self.dispatcher = dispatcher(self.which, self.cases + 1);
        self.revision = 0;
        self.trail = (true, true);
        self.dispatcher.remember(&in_force, self.world.moment, boot);
        if let Some(mut open) = self.saved[saved].clone() {
            open.recall(in_force.acts(), boot, self.world.moment);
            self.told_of(Input::Earlier(Box::new(open), boot))?;
        }
        self.picked.values_mut().for_each(|picked| picked.unknown |= !picked.reached);
        Ok(())
    }
}

fn protections(which: usize) -> Protections {
    let conditions =
        RULES[which].protect.iter().map(|condition| (condition.clone(), "rules.toml".to_owned())).collect();
    Protections { conditions, own: SortedSet::from([OURS]), ..Protections::default() }
}

fn dispatcher(which: usize, next_case: u64) -> Dispatcher {
    Dispatcher::new(settings(), Arc::clone(&RULES[which]), protections(which), next_case)
}

#[test]
fn at_every_signal_all_holds_that_it_hangs_on() {
    let seen = Seen::default();
    // The same courses each time: what each of them comes to is asked for below.
    let config = Config { cases: 150, failure_persistence: None, ..Config::default() };
    let mut runner = TestRunner::new_with_rng(config, TestRng::deterministic_rng(RngAlgorithm::ChaCha));
    let courses = prop::collection::vec(next(), 1..160);
    let ran = runner.run(&courses, |course| {
        let mut court = Court::new(&seen);
        course.iter().try_for_each(|next| court.take(next))
    });
    if let Err(TestError::Fail(why, course)) = &ran {
        let course: Vec<String> = course.iter().map(|next| format!("{next:?}")).collect();
        panic!("{why}\n{}", course.join("\n"));
    }
    ran.unwrap();
    let seen = seen.into_inner();
    // What never came to a signal, and what never stood in the way of one, shows nothing.
    for rule in ["press", "apps", "room"] {
        for verb in ["Lower", "Suspend", "Terminate"] {
            assert!(seen.contains(&format!("{rule} {verb}")), "no {verb} by {rule}: {seen:?}");
        }
    }
    for why in [
        "its rule acts no more",
        "its rule says something else now",
        "its rule is no longer watched with",
        "its case is over",
        "another one is picked now",
        "rules stand back from it",
        "it is protected now",
        "it is no longer in breach",
        "the audit trail cannot be written",
        "the audit trail is not what it was",
    ] {
        assert!(seen.contains(why), "nothing was called off since {why}: {seen:?}");
    }
}
