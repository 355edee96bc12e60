//! One case as it would have gone.

use std::time::Duration;

use jiff::Timestamp;

use crate::happening::{Grounds, Happening, Over};
use crate::judge::Case;
use crate::rules::{Action, RuleName};
use crate::units::Value;

/// Most readings kept of a story; beyond that every second one is left out.
const MOST_POINTS: usize = 256;

/// What became of a step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum StepWord {
    /// People were told.
    Told,
    /// People were told again.
    Reminded,
    /// It was done.
    Done(Action),
    /// The person whose program it is was asked first, for so long.
    Asked(Action, Duration),
    /// What became of that.
    Turned(String),
    /// It was not done: why.
    HeldBack(Action, String),
    /// The hours were over.
    HoursEnded,
    /// The subject was back under another PID.
    CameBack,
}

/// A step of a story.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    /// When.
    pub at: Timestamp,
    /// What became of it.
    pub word: StepWord,
    /// On whom; of several on the first.
    pub whom: String,
    /// On how many processes.
    pub count: usize,
}

/// A case.
#[derive(Debug, Clone, PartialEq)]
pub struct Story {
    /// Its number.
    pub case: u64,
    /// Its rule.
    pub rule: RuleName,
    /// Its subject, as people call it.
    pub label: String,
    /// The program of the process that stands for it.
    pub app: String,
    /// Its owner.
    pub owner: String,
    /// When it opened.
    pub opened: Timestamp,
    /// When and why it closed; `None` where it was open at the end.
    pub closed: Option<(Timestamp, Over)>,
    /// Breached time.
    pub breached: Duration,
    /// What is measured, as the rule has it.
    pub quantity: String,
    /// Its limit.
    pub limit: Option<Value>,
    /// The worst reading.
    pub worst: Option<Value>,
    /// The reading at its opening.
    pub reading: Option<Value>,
    /// Readings, evenly spaced, in base units.
    pub points: Vec<(Timestamp, f64)>,
    /// The steps.
    pub steps: Vec<Step>,
    /// The step that came next, by its place.
    pub(super) reached: usize,
    every: usize,
    skipped: usize,
}

impl Story {
    /// A case that opens; `who` is its program and its owner.
    pub(super) fn of(happening: &Happening, case: u64, who: (String, String), grounds: &Grounds) -> Story {
        let measure = grounds.measure.as_ref();
        let mut story = Story {
            case,
            rule: happening.rule.clone().unwrap_or_else(|| RuleName::from("")),
            label: happening.whom(),
            app: who.0,
            owner: who.1,
            opened: happening.at,
            closed: None,
            breached: Duration::ZERO,
            quantity: measure.map(|measure| measure.quantity.to_string()).unwrap_or_default(),
            limit: measure.and_then(|measure| measure.limit.clone()),
            worst: None,
            reading: measure.and_then(|measure| measure.reading.clone()),
            points: Vec::new(),
            steps: Vec::new(),
            reached: 0,
            every: 1,
            skipped: 0,
        };
        // The readings that led here.
        for (at, value) in &grounds.points {
            story.point(*at, value.as_ref());
        }
        story
    }

    pub(super) fn came_back(&mut self, happening: &Happening) {
        self.closed = None;
        self.label = happening.whom();
        self.step(happening.at, StepWord::CameBack, String::new());
    }

    pub(super) fn close(&mut self, at: Timestamp, why: Over, grounds: &Grounds) {
        let reading = grounds.measure.as_ref().and_then(|measure| measure.reading.as_ref());
        if self.points.last().is_none_or(|(last, _)| *last < at) {
            self.point(at, reading);
        }
        self.closed = Some((at, why));
    }

    pub(super) fn step(&mut self, at: Timestamp, word: StepWord, whom: String) {
        match self.steps.last_mut() {
            // One step on several processes.
            Some(last) if last.at == at && last.word == word => last.count += 1,
            _ => self.steps.push(Step { at, word, whom, count: 1 }),
        }
    }

    pub(super) fn read(&mut self, case: &Case, at: Timestamp) {
        (self.breached, self.reached) = (case.ladder.clock, case.ladder.next);
        self.worst.clone_from(&case.worst);
        let same = case.measure.as_ref().filter(|measure| measure.quantity.to_string() == self.quantity);
        let reading = same.and_then(|measure| measure.reading.clone());
        if self.points.last().is_none_or(|(last, _)| *last < at) {
            self.point(at, reading.as_ref());
        }
    }

    fn point(&mut self, at: Timestamp, value: Option<&Value>) {
        let Some(number) = value.and_then(Value::number) else { return };
        self.skipped += 1;
        if self.skipped < self.every {
            return;
        }
        self.skipped = 0;
        self.points.push((at, number));
        if self.points.len() > MOST_POINTS {
            let mut place = 0;
            self.points.retain(|_| {
                place += 1;
                place % 2 == 1
            });
            self.every *= 2;
        }
    }

    /// When something was first done to a process.
    pub fn first_act(&self) -> Option<Timestamp> {
        let act = |step: &&Step| matches!(step.word, StepWord::Done(action) if action.is_act());
        self.steps.iter().find(act).map(|step| step.at)
    }
}
