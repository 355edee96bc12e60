//! The judge: per rule and subject, within → building → breached → easing → within.
//!
//! Snapshots come in with their time; events come out. The judge never acts: a due step is an event, and the
//! step's outcome is told back with [`Judge::settled`] before the next may fall due.

mod case;
mod ladder;
mod pace;
mod returns;
mod subjects;
mod track;

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

pub use case::{Case, Closing, MOST_POINTS, Points};
use jiff::tz::TimeZone;
use ladder::Fate;
pub use ladder::{Allowance, Ladder, Owed};
pub use pace::Pace;
pub use returns::COMES_BACK;
use returns::Memory;
use subjects::State;
pub use subjects::{MemoryWish, Part};

use crate::model::{Field, Machine, Moment, Process, ProcessId, Snapshot};
use crate::rules::{Meaning, Rule, RuleName, RuleSet};
use crate::subject::{Likeness, SubjectKey};

/// For how long an undo is remembered: breached again within it, the next undo waits longer.
pub(crate) const RELAPSE: Duration = Duration::from_secs(600);

/// Longest wait before an undo, however often a subject relapses.
pub(crate) const LONGEST_WAIT: Duration = Duration::from_secs(3600);

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
        /// Which rule.
        rule: RuleName,
        /// Its processes.
        members: Vec<ProcessId>,
    },
    /// The breach went away before a case opened.
    Abandoned {
        /// Which rule.
        rule: RuleName,
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

/// One rule, and what is known of its subjects.
#[derive(Debug)]
struct Watched {
    rule: Arc<Rule>,
    meaning: Meaning,
    state: State,
    status: RuleStatus,
}

/// The judge over one set of rules.
#[derive(Debug)]
pub struct Judge {
    every: Duration,
    settle: Duration,
    watched: Vec<Watched>,
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
    pub fn new(rules: &RuleSet, next_case: u64) -> Self {
        Judge {
            every: rules.every,
            settle: rules.settle,
            watched: rules.rules.iter().map(|rule| Watched::new(rules, rule)).collect(),
            memory: Memory::new(next_case),
            wishes: Vec::new(),
            last: None,
            begun: None,
            acting_from: Duration::ZERO,
            ticks: 0,
        }
    }

    /// Judges by other rules from now on. What a rule means decides whether it is the same: then its stories go on, whatever
    /// its note, its place or its spelling is now. The cases of the others are closed.
    #[must_use]
    pub(crate) fn adopt(&mut self, rules: &RuleSet) -> Vec<Event> {
        let mut before: Vec<Watched> = std::mem::take(&mut self.watched);
        for rule in &rules.rules {
            let mut next = Watched::new(rules, rule);
            if let Some(place) = before.iter().position(|known| known.meaning == next.meaning) {
                let known = before.swap_remove(place);
                (next.state, next.status) = (known.state, known.status);
            }
            self.watched.push(next);
        }
        (self.every, self.settle) = (rules.every, rules.settle);
        self.wishes.clear();
        before.sort_by(|a, b| a.rule.name.cmp(&b.rule.name));
        let mut events = Vec::new();
        for mut gone in before {
            events.extend(gone.state.give_up(&gone.rule.name, Closing::RuleGone));
            self.memory.forget_rule(&gone.rule.name);
        }
        events
    }

    /// Samples come that far apart from now on.
    pub(crate) fn sampled_every(&mut self, every: Duration) {
        self.every = every;
        self.watched.iter_mut().for_each(|watched| watched.state.sampled_every(every));
    }

    /// What each rule saw at the last tick, in the file's order.
    pub fn status(&self) -> impl Iterator<Item = (&Rule, &RuleStatus)> {
        self.watched.iter().map(|watched| (&*watched.rule, &watched.status))
    }

    /// An open case.
    pub fn case(&self, number: u64) -> Option<&Case> {
        self.cases().find(|case| case.number == number)
    }

    /// Every open case.
    pub fn cases(&self) -> impl Iterator<Item = &Case> {
        self.watched.iter().flat_map(|watched| watched.state.cases())
    }

    /// A rule that is watched with.
    pub fn rule(&self, name: &RuleName) -> Option<&Arc<Rule>> {
        Some(&self.watched(name)?.rule)
    }

    fn watched(&self, name: &RuleName) -> Option<&Watched> {
        self.watched.iter().find(|watched| watched.rule.name == *name)
    }

    /// How long a breach has held that has opened no case yet.
    pub fn building(&self, rule: &RuleName, key: &SubjectKey) -> Option<Duration> {
        self.watched(rule)?.state.building(key)
    }

    /// The subject of a rule that a process is of, as last seen, with the process that stands for it.
    pub(crate) fn subject_of(&self, rule: &RuleName, process: &Process) -> Option<(SubjectKey, Option<Process>)> {
        let judge = self.rule(rule)?.judge;
        let in_case = self.cases().find(|case| case.rule == *rule && case.members.contains(&process.id));
        if let Some(case) = in_case {
            return Some((case.key.clone(), case.lead.clone()));
        }
        Some((judge.key_of(process)?, Some(process.clone())))
    }

    /// How each part of a rule's breach stands for a subject, with its windows.
    pub fn parts(&self, rule: &RuleName, key: &SubjectKey, lead: Option<&Process>, machine: &Machine) -> Vec<Part> {
        let Some(watched) = self.watched(rule) else { return Vec::new() };
        watched.state.parts(&watched.rule, key, lead, machine)
    }

    /// How many processes a subject had at the last sample, case or none.
    pub fn members(&self, rule: &RuleName, key: &SubjectKey) -> usize {
        self.watched(rule).and_then(|watched| watched.state.members(key)).unwrap_or(1)
    }

    /// How many cases of a subject were acted upon in the time of its rule's budget.
    pub fn spent(&self, rule: &RuleName, key: &SubjectKey, lead: Option<&Process>) -> Option<usize> {
        let budget = self.rule(rule)?.budget?;
        Some(self.memory.spent(rule, &key.likeness(lead), budget, self.last.as_ref()?))
    }

    /// A case of an earlier run was acted upon at that time (boot clock): it counts towards the budget of its rule.
    pub fn remember(&mut self, rule: &RuleName, likeness: Likeness, at: Duration) {
        if self.rule(rule).is_some_and(|rule| rule.budget.is_some()) {
            self.memory.remember(rule, likeness, at);
        }
    }

    /// From when on acts may begin, on the monotonic clock.
    pub(crate) fn acting_from(&self) -> Duration {
        self.acting_from
    }

    /// Judges one sample.
    #[must_use]
    pub fn tick(&mut self, tick: &Tick<'_>) -> Vec<Event> {
        let moment = tick.snapshot.moment;
        let pace = Pace::between(self.last.as_ref(), &moment, self.every);
        let napped = self.last.is_some_and(|last| moment.napped_since(&last) > Duration::from_secs(1));
        if self.last.is_none() || napped {
            self.acting_from = moment.monotonic + self.settle;
        }
        if self.last.is_some() && pace.is_gap() {
            self.watched.iter_mut().for_each(|watched| watched.state.empty_windows());
        }
        self.last = Some(moment);
        self.ticks += 1;
        self.wishes.clear();
        let since_begun = moment.monotonic.saturating_sub(*self.begun.get_or_insert(moment.monotonic));
        let mut events = Vec::new();
        // Who is gone first: whoever comes back at this very tick is the same case.
        for watched in &mut self.watched {
            let gone = watched.state.drop_the_ended(&watched.rule.name, tick.snapshot, &mut self.memory, self.every);
            remember_the_gone(&mut self.memory, gone, &moment, &mut events);
        }
        for watched in &mut self.watched {
            let rule = Arc::clone(&watched.rule);
            let mut round = subjects::Round {
                rule: &rule,
                tick,
                pace,
                number: self.ticks,
                since_begun,
                every: self.every,
                in_hours: rule.hours.covers(moment.wall, tick.zone),
                settled: moment.monotonic >= self.acting_from,
                status: RuleStatus::default(),
                memory: &mut self.memory,
                wishes: &mut self.wishes,
                events: &mut events,
            };
            watched.state.judge(&mut round);
            watched.status = round.status;
        }
        for watched in &mut self.watched {
            let gone = watched.state.drop_the_gone(&watched.rule.name, self.ticks, &mut self.memory, self.every);
            remember_the_gone(&mut self.memory, gone, &moment, &mut events);
        }
        self.memory.forget(&moment);
        events
    }

    /// Groups whose exact memory would decide.
    pub fn wishes(&self) -> &[MemoryWish] {
        &self.wishes
    }

    /// The exact memory of a group, as it was wished for.
    pub fn memory_read(&mut self, wish: &MemoryWish, bytes: u64) {
        if let Some(watched) = self.watched.iter_mut().find(|watched| watched.rule.name == wish.rule) {
            watched.state.memory_read(wish, bytes, self.ticks);
        }
    }

    /// How many outcomes a step of a case has: one for each process that it acts on.
    pub(crate) fn awaits(&mut self, case: u64, outcomes: u32) {
        self.with(case, |case, _| case.ladder.awaits(outcomes));
    }

    /// On whom of several the steps of a case act from now on.
    pub fn pick(&mut self, case: u64, picked: ProcessId) {
        self.with(case, |case, _| case.ladder.picked = Some(picked));
    }

    /// Tells the judge that one outcome of a case's step is in, on that process of it. `effect` says whether something is
    /// now in force that will have to be undone.
    pub fn settled(&mut self, case: u64, on: Option<ProcessId>, effect: bool) {
        self.with(case, |case, now| {
            case.ladder.has_effect |= effect;
            case.ladder.one_outcome(Fate::Spent, on, now)
        });
    }

    /// Tells the judge that a step could not be taken now and stays due: nothing was done.
    pub fn postponed(&mut self, case: u64) {
        self.with(case, |case, now| case.ladder.one_outcome(Fate::Postponed, None, now));
    }

    /// Tells the judge that something was in the way of a step: it stays due, and is tried again after a pause, counted from
    /// the last sample. Whether it was taken on nobody, and all its outcomes are in.
    pub fn hindered(&mut self, case: u64) -> bool {
        self.with(case, |case, now| case.ladder.one_outcome(Fate::Hindered, None, now)).unwrap_or(false)
    }

    fn with<T>(&mut self, number: u64, change: impl FnOnce(&mut Case, &Moment) -> T) -> Option<T> {
        let now = self.last.unwrap_or_default();
        let mut cases = self.watched.iter_mut().flat_map(|watched| watched.state.cases_mut());
        cases.find(|case| case.number == number).map(|case| change(case, &now))
    }
}

impl Watched {
    fn new(rules: &RuleSet, rule: &Rule) -> Watched {
        let (state, status) = (State::default(), RuleStatus::default());
        Watched { meaning: rules.meaning(rule), rule: Arc::new(rule.clone()), state, status }
    }
}

fn remember_the_gone(memory: &mut Memory, gone: Vec<Event>, now: &Moment, events: &mut Vec<Event>) {
    for event in gone {
        if let Event::Closed { case, .. } = &event {
            memory.ended(case, now);
        }
        events.push(event);
    }
}
