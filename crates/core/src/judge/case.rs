//! A case: one number for one story.

use std::collections::VecDeque;
use std::time::Duration;

use jiff::Timestamp;

use crate::condition::Measure;
use crate::model::{Facts, Moment, Process, ProcessId};
use crate::rules::{Rule, Step};
use crate::subject::SubjectKey;
use crate::units::Value;

/// Most readings that a case keeps as evidence.
pub const MOST_POINTS: usize = 32;

/// Why a case is over.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Closing {
    /// It was calm for long enough.
    Calm,
    /// The process ended, or the last of the group.
    Ended,
    /// The rule's `where` no longer covers it.
    Left,
}

/// The readings that lead to a breach, the newest last.
pub type Points = VecDeque<(Timestamp, Option<Value>)>;

/// An open case.
#[derive(Debug, Clone, PartialEq)]
pub struct Case {
    /// Its number.
    pub number: u64,
    /// Its rule, by its place in the file.
    pub rule: usize,
    /// Which subject.
    pub key: SubjectKey,
    /// The process, as last seen; of a group the one that stands for it: a tree's root, else its heaviest.
    pub subject: Process,
    /// All its processes, as last seen.
    pub members: Vec<ProcessId>,
    /// Whether it was closed before, and its subject came back under another PID.
    pub returned: bool,
    /// When it opened.
    pub opened: Moment,
    /// Breached time since then: the ladder's clock.
    pub clock: Duration,
    /// The next step, by its place in the ladder.
    pub next: usize,
    /// The reading that tells the story, beside its limit, as last judged.
    pub measure: Option<Measure>,
    /// The highest reading since the case opened (the lowest, where the limit is a floor).
    pub worst: Option<Value>,
    /// The readings of that field, at most 32.
    pub points: Points,
    /// Whether the breach was true at the last judged tick.
    pub breached: bool,
    /// Whether something is in force that closing has to undo.
    pub has_effect: bool,
    /// How many outcomes of a step are awaited.
    pub pending: u32,
    /// The one of several that its steps act on, once it is chosen.
    pub picked: Option<ProcessId>,
    /// Whether the budget of its subject is spent: people are told, and nothing is done.
    pub over_budget: bool,
    /// How long calm must hold before the case closes.
    pub wait: Duration,
    pub(super) still: Duration,
    pub(super) regain: Option<Duration>,
    /// Whether the interval that ends with the next tick began outside the hours of the step.
    pub(super) barred: bool,
    pub(super) easing: Option<Easing>,
    pub(super) acted: bool,
    /// Whether a step could not be taken and stays due.
    pub(super) postponed: bool,
    pub(super) told: Told,
    /// After a suspension of ours no whole interval in breach has passed yet.
    pub(super) resumed: bool,
}

/// When people were last told, and of which reading.
#[derive(Debug, Clone, PartialEq, Default)]
pub(super) struct Told {
    pub at: Duration,
    pub reading: Option<Value>,
}

/// Calm so far.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Easing {
    pub held: Duration,
    pub ticks: u32,
}

impl Case {
    /// The next step and how much breached time is left until it is due.
    pub fn upcoming<'r>(&self, rule: &'r Rule) -> Option<(&'r Step, Duration)> {
        rule.ladder.get(self.next).map(|step| (step, step.at.saturating_sub(self.clock)))
    }

    /// How its subject is named in lines for people.
    pub fn label(&self) -> String {
        self.key.label(&self.subject, self.members.len())
    }

    /// One of the outcomes awaited is in. A step that could not be taken on one of several is due again.
    pub(super) fn one_outcome(&mut self) {
        self.pending = self.pending.saturating_sub(1);
        if self.pending == 0 && std::mem::take(&mut self.postponed) {
            self.next = self.next.saturating_sub(1);
        }
    }

    pub(super) fn read(&mut self, rule: &Rule, facts: &Facts<'_>, members: &[ProcessId], at: Timestamp) {
        self.subject = facts.process.clone();
        self.members.clear();
        self.members.extend_from_slice(members);
        self.measure = rule.breach.leading(facts);
        note_point(&mut self.points, self.measure.as_ref(), at);
        let Some(Measure { reading: Some(reading), comparison, .. }) = &self.measure else { return };
        let worse = self
            .worst
            .as_ref()
            .and_then(|worst| reading.compare(worst))
            .is_none_or(|order| if comparison.is_upward() { order.is_gt() } else { order.is_lt() });
        if worse {
            self.worst = Some(reading.clone());
        }
    }
}

/// Keeps the newest readings.
pub(super) fn note_point(points: &mut Points, measure: Option<&Measure>, at: Timestamp) {
    if let Some(measure) = measure {
        if points.len() == MOST_POINTS {
            points.pop_front();
        }
        points.push_back((at, measure.reading.clone()));
    }
}
