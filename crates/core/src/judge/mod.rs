//! The judge: per rule and subject, within → building → breached → easing → within.
//!
//! Snapshots come in with their time; events come out. The judge never acts: a due step is an event, and the
//! step's outcome is told back with [`Judge::settled`] before the next may fall due.

mod case;
mod pace;
mod returns;
mod subjects;
mod track;

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

pub use case::{Case, Closing, Points};
use jiff::tz::TimeZone;
pub use pace::Pace;
pub use returns::COMES_BACK;
use returns::Memory;
use subjects::State;
pub use subjects::{MemoryWish, Part};

use crate::model::{Field, Machine, Moment, Process, ProcessId, Snapshot};
use crate::rules::{Rule, RuleSet};
use crate::subject::{Judged, Likeness, SubjectKey};

/// For how long an undo is remembered: breached again within it, the next undo waits longer.
pub const RELAPSE: Duration = Duration::from_secs(600);

/// Longest wait before an undo, however often a subject relapses.
pub const LONGEST_WAIT: Duration = Duration::from_secs(3600);

/// What one tick brings to the judge.
#[derive(Debug, Clone, Copy)]
pub struct Tick<'a> {
    /// The sample.
    pub snapshot: &'a Snapshot,
    /// Processes on which a suspension of ours was in force at any time since the tick before.
    pub suspended: &'a BTreeSet<ProcessId>,
    /// Processes on which an act of ours is under way: no step falls due on them.
    pub busy: &'a BTreeSet<ProcessId>,
    /// If given, only these processes are judged.
    pub only: Option<&'a BTreeSet<ProcessId>>,
    /// The zone that hours are meant in: the machine's, or a recording's own.
    pub zone: &'a TimeZone,
}

/// What the judge found at a tick.
#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// A breach has begun to hold: its processes should be fixed by handles from now on.
    Building {
        /// Which rule, by its place in the file.
        rule: usize,
        /// Which subject.
        subject: SubjectKey,
        /// Its processes.
        members: Vec<ProcessId>,
    },
    /// The breach went away before a case opened.
    Abandoned {
        /// Which rule.
        rule: usize,
        /// Which subject.
        subject: SubjectKey,
        /// Its processes, when it began.
        members: Vec<ProcessId>,
    },
    /// The breach held as long as `lasting`: a case is open.
    Opened {
        /// Its number.
        case: u64,
    },
    /// A step of the ladder is due, and the breach is true at this very tick.
    Due {
        /// The case.
        case: u64,
        /// The step, by its place in the ladder.
        step: usize,
    },
    /// The subject has begun to be calm.
    Easing {
        /// The case.
        case: u64,
    },
    /// It was easing, and breaches again: the ladder goes on at the same step.
    BreachedAgain {
        /// The case.
        case: u64,
    },
    /// The breach goes on, and it is time to tell people again.
    Remind {
        /// The case.
        case: u64,
    },
    /// The hours of the rule, or of a step taken, are over: whatever the case holds is to be undone. It stays open.
    HoursEnded {
        /// The case.
        case: u64,
    },
    /// The case is over; whatever it holds is to be undone.
    Closed {
        /// The case as it was.
        case: Box<Case>,
        /// Why.
        why: Closing,
    },
}

/// What a rule saw at the last tick.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct RuleStatus {
    /// Processes whose `where` is true.
    pub covered: usize,
    /// Processes whose `where` could not be decided: they are not covered.
    pub undecided: usize,
    /// Covered processes whose breach could not be decided.
    pub unjudged: usize,
    /// Those of them of which it is not known yet what they run: their command line is tried again at each tick.
    pub late: usize,
    /// What could not be read.
    pub unreadable: BTreeSet<Field>,
}

/// The judge over one set of rules.
#[derive(Debug)]
pub struct Judge {
    rules: Arc<RuleSet>,
    states: Vec<State>,
    status: Vec<RuleStatus>,
    memory: Memory,
    wishes: Vec<MemoryWish>,
    last: Option<Moment>,
    /// The first tick, on the monotonic clock: windows count from there, so that a recording gives the same slots.
    begun: Option<Duration>,
    /// Since when acts may begin, on the monotonic clock.
    acting_from: Duration,
    ticks: u64,
}

impl Judge {
    /// A judge that numbers its cases from `next_case` on.
    pub fn new(rules: Arc<RuleSet>, next_case: u64) -> Self {
        let count = rules.rules.len();
        Judge {
            states: (0..count).map(|_| State::default()).collect(),
            status: vec![RuleStatus::default(); count],
            memory: Memory::new(next_case),
            wishes: Vec::new(),
            last: None,
            begun: None,
            acting_from: Duration::ZERO,
            ticks: 0,
            rules,
        }
    }

    /// What each rule saw at the last tick, in the file's order.
    pub fn status(&self) -> &[RuleStatus] {
        &self.status
    }

    /// An open case.
    pub fn case(&self, number: u64) -> Option<&Case> {
        self.cases().find(|case| case.number == number)
    }

    /// Every open case.
    pub fn cases(&self) -> impl Iterator<Item = &Case> {
        self.states.iter().flat_map(State::cases)
    }

    /// The rule of a case.
    pub fn rule_of(&self, case: &Case) -> &Rule {
        &self.rules.rules[case.rule]
    }

    /// How long a breach has held that has opened no case yet.
    pub fn building(&self, rule: usize, key: &SubjectKey) -> Option<Duration> {
        self.states.get(rule)?.building(key)
    }

    /// The subject of a rule that a process is of, as last seen, with the process that stands for it.
    pub fn subject_of(&self, rule: usize, process: &Process) -> Option<(SubjectKey, Process)> {
        let judge = self.rules.rules.get(rule)?.judge;
        let in_case = self.cases().find(|case| case.rule == rule && case.members.contains(&process.id));
        if let Some(case) = in_case {
            return Some((case.key.clone(), case.subject.clone()));
        }
        let key = match judge {
            Judged::Process => SubjectKey::Process(process.id),
            Judged::App => SubjectKey::App { uid: process.uid, app: process.app.clone() },
            Judged::Tree => SubjectKey::Tree(process.id),
            Judged::Owner => SubjectKey::Owner(process.uid),
            Judged::Unit => SubjectKey::Unit(process.group.clone()?),
            Judged::Machine => SubjectKey::Machine,
        };
        Some((key, process.clone()))
    }

    /// How each part of a rule's breach stands for a subject, with its windows.
    pub fn parts(&self, rule: usize, key: &SubjectKey, lead: &Process, machine: &Machine) -> Vec<Part> {
        let (Some(state), Some(rule)) = (self.states.get(rule), self.rules.rules.get(rule)) else { return Vec::new() };
        state.parts(rule, key, lead, machine)
    }

    /// How many cases of a subject were acted upon in the time of its rule's budget.
    pub fn spent(&self, rule: usize, key: &SubjectKey, lead: &Process) -> Option<usize> {
        let budget = self.rules.rules.get(rule)?.budget?;
        Some(self.memory.spent(rule, &key.likeness(lead), budget, self.last.as_ref()?))
    }

    /// A case of an earlier run was acted upon at that time (boot clock): it counts towards the budget of its rule.
    pub fn remember(&mut self, rule: &str, likeness: Likeness, at: Duration) {
        if let Some(place) = self.rules.rules.iter().position(|known| known.name == rule && known.budget.is_some()) {
            self.memory.remember(place, likeness, at);
        }
    }

    /// From when on acts may begin, on the monotonic clock.
    pub fn acting_from(&self) -> Duration {
        self.acting_from
    }

    /// Judges one sample.
    #[must_use]
    pub fn tick(&mut self, tick: &Tick<'_>) -> Vec<Event> {
        let moment = tick.snapshot.moment;
        let pace = Pace::between(self.last.as_ref(), &moment, self.rules.every);
        let napped = self.last.is_some_and(|last| moment.napped_since(&last) > Duration::from_secs(1));
        if self.last.is_none() || napped {
            self.acting_from = moment.monotonic + self.rules.settle;
        }
        if self.last.is_some() && pace.is_gap() {
            self.states.iter_mut().for_each(State::empty_windows);
        }
        self.last = Some(moment);
        self.ticks += 1;
        self.wishes.clear();
        let mut events = Vec::new();
        let rules = Arc::clone(&self.rules);
        // Who is gone first: whoever comes back at this very tick is the same case.
        for index in 0..self.states.len() {
            let gone = self.states[index].drop_the_ended(index, tick.snapshot);
            self.close_the_gone(gone, &moment, &mut events);
        }
        for (index, rule) in rules.rules.iter().enumerate() {
            let mut round = subjects::Round {
                index,
                rule,
                tick,
                pace,
                number: self.ticks,
                since_begun: moment.monotonic.saturating_sub(*self.begun.get_or_insert(moment.monotonic)),
                every: rules.every,
                in_hours: rule.hours.covers(moment.wall, tick.zone),
                settled: moment.monotonic >= self.acting_from,
                status: RuleStatus::default(),
                memory: &mut self.memory,
                wishes: &mut self.wishes,
                events: &mut events,
            };
            self.states[index].judge(&mut round);
            self.status[index] = round.status;
        }
        for index in 0..self.states.len() {
            let gone = self.states[index].drop_the_gone(index, self.ticks);
            self.close_the_gone(gone, &moment, &mut events);
        }
        self.memory.forget(&moment);
        events
    }

    fn close_the_gone(&mut self, gone: Vec<Event>, now: &Moment, events: &mut Vec<Event>) {
        for event in gone {
            if let Event::Closed { case, .. } = &event {
                self.memory.ended(case, now);
            }
            events.push(event);
        }
    }

    /// Groups whose exact memory would decide.
    pub fn wishes(&self) -> &[MemoryWish] {
        &self.wishes
    }

    /// The exact memory of a group, as it was wished for.
    pub fn memory_read(&mut self, wish: &MemoryWish, bytes: u64) {
        if let Some(state) = self.states.get_mut(wish.rule) {
            state.memory_read(wish, bytes, self.ticks);
        }
    }

    /// How many outcomes a step of a case has: one for each process that it acts on.
    pub fn awaits(&mut self, case: u64, outcomes: u32) {
        if let Some(case) = self.case_mut(case) {
            case.pending = outcomes;
        }
    }

    /// On whom of several the steps of a case act from now on.
    pub fn pick(&mut self, case: u64, picked: ProcessId) {
        if let Some(case) = self.case_mut(case) {
            case.picked = Some(picked);
        }
    }

    /// Tells the judge that one outcome of a case's step is in. `effect` says whether something is now in force that
    /// will have to be undone.
    pub fn settled(&mut self, case: u64, effect: bool) {
        if let Some(case) = self.case_mut(case) {
            case.has_effect |= effect;
            case.one_outcome();
        }
    }

    /// Tells the judge that a step could not be taken now and stays due: nothing was done.
    pub fn postponed(&mut self, case: u64) {
        if let Some(case) = self.case_mut(case) {
            case.postponed = true;
            case.one_outcome();
        }
    }

    fn case_mut(&mut self, number: u64) -> Option<&mut Case> {
        self.states.iter_mut().flat_map(State::cases_mut).find(|case| case.number == number)
    }
}
