//! The judge: per rule and process, within → building → breached → easing → within.
//!
//! Snapshots come in with their time; events come out. The judge never acts: a due step is an event, and the
//! step's outcome is told back with [`Judge::settled`] before the next may fall due.

mod case;
mod pace;
mod track;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::Duration;

pub use case::{Case, Closing, Points};
pub use pace::Pace;
use track::Track;

use crate::condition::Truth;
use crate::model::{Facts, Field, Moment, Process, ProcessId, Snapshot};
use crate::rules::{Rule, RuleSet};

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
}

/// What the judge found at a tick.
#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// A breach has begun to hold: the process should be fixed by a handle from now on.
    Building {
        /// Which rule, by its place in the file.
        rule: usize,
        /// Which process.
        subject: ProcessId,
    },
    /// The breach went away before a case opened.
    Abandoned {
        /// Which rule.
        rule: usize,
        /// Which process.
        subject: ProcessId,
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
    /// What could not be read.
    pub unreadable: BTreeSet<Field>,
}

/// The judge over one set of rules.
#[derive(Debug)]
pub struct Judge {
    rules: Arc<RuleSet>,
    tracks: BTreeMap<(usize, ProcessId), Track>,
    status: Vec<RuleStatus>,
    next_case: u64,
    last: Option<Moment>,
}

impl Judge {
    /// A judge that numbers its cases from `next_case` on.
    pub fn new(rules: Arc<RuleSet>, next_case: u64) -> Self {
        let status = vec![RuleStatus::default(); rules.rules.len()];
        Judge { rules, tracks: BTreeMap::new(), status, next_case, last: None }
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
        self.tracks.values().filter_map(Track::case)
    }

    /// The rule of a case.
    pub fn rule_of(&self, case: &Case) -> &Rule {
        &self.rules.rules[case.rule]
    }

    /// Judges one sample.
    #[must_use]
    pub fn tick(&mut self, tick: &Tick<'_>) -> Vec<Event> {
        let moment = tick.snapshot.moment;
        let pace = Pace::between(self.last.as_ref(), &moment, self.rules.every);
        self.last = Some(moment);
        let mut events = Vec::new();
        let rules = Arc::clone(&self.rules);
        for (index, rule) in rules.rules.iter().enumerate() {
            self.status[index] = RuleStatus::default();
            for process in &tick.snapshot.processes {
                if process.has_ended() || tick.only.is_some_and(|only| !only.contains(&process.id)) {
                    continue;
                }
                let facts = Facts::new(process, &tick.snapshot.machine);
                self.one(index, rule, &facts, tick, &pace, &mut events);
            }
        }
        self.drop_the_gone(tick.snapshot, &mut events);
        events
    }

    fn one(
        &mut self,
        index: usize,
        rule: &Rule,
        facts: &Facts<'_>,
        tick: &Tick<'_>,
        pace: &Pace,
        events: &mut Vec<Event>,
    ) {
        let id = facts.process.id;
        let key = (index, id);
        let covered = rule.covers.as_ref().map_or(Truth::True, |condition| condition.evaluate(facts));
        let truth = if covered == Truth::True { rule.breach.evaluate(facts) } else { Truth::Unknown };
        self.count(index, rule, facts, covered, truth);
        let track = match self.tracks.get_mut(&key) {
            Some(track) => track,
            None if truth == Truth::True && !tick.suspended.contains(&id) => self.tracks.entry(key).or_default(),
            None => return,
        };
        let seen = track::Seen {
            rule: index,
            facts,
            covered,
            truth,
            suspended: tick.suspended.contains(&id),
            busy: tick.busy.contains(&id),
            moment: tick.snapshot.moment,
            pace: *pace,
        };
        track.see(rule, &seen, &mut self.next_case, events);
        if track.is_forgettable(&tick.snapshot.moment) {
            self.tracks.remove(&key);
        }
    }

    fn count(&mut self, index: usize, rule: &Rule, facts: &Facts<'_>, covered: Truth, truth: Truth) {
        let status = &mut self.status[index];
        match covered {
            Truth::False => (),
            Truth::Unknown => {
                status.undecided += 1;
                status.unreadable.extend(rule.covers.iter().flat_map(|condition| condition.unreadable(facts)));
            }
            Truth::True => {
                status.covered += 1;
                if truth == Truth::Unknown {
                    status.unjudged += 1;
                    status.unreadable.extend(rule.breach.unreadable(facts));
                }
            }
        }
    }

    fn drop_the_gone(&mut self, snapshot: &Snapshot, events: &mut Vec<Event>) {
        let lives = |id: &ProcessId| {
            snapshot.process(id.pid).is_some_and(|process: &Process| process.id == *id && !process.has_ended())
        };
        let gone: Vec<(usize, ProcessId)> = self.tracks.keys().filter(|(_, id)| !lives(id)).copied().collect();
        for key in gone {
            if let Some(track) = self.tracks.remove(&key) {
                events.extend(track.ended(key));
            }
        }
    }

    /// Tells the judge that the outcome of a case's step is in. `effect` says whether something is now in force that
    /// will have to be undone.
    pub fn settled(&mut self, case: u64, effect: bool) {
        if let Some(case) = self.case_mut(case) {
            case.pending = false;
            case.has_effect |= effect;
        }
    }

    /// Tells the judge that a step could not be taken now and stays due: nothing was done.
    pub fn postponed(&mut self, case: u64) {
        if let Some(case) = self.case_mut(case) {
            case.pending = false;
            case.next = case.next.saturating_sub(1);
        }
    }

    fn case_mut(&mut self, number: u64) -> Option<&mut Case> {
        self.tracks.values_mut().filter_map(Track::case_mut).find(|case| case.number == number)
    }
}
