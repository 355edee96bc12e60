//! What rules would have done: recorded snapshots through the very same judge and decisions as on a live machine.
//!
//! Every rule is taken for armed. An act is taken for done: who is terminated has no readings from then on, who is
//! suspended none until he is resumed.

mod compare;
mod story;
mod vary;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::Duration;

use jiff::Timestamp;
use jiff::tz::TimeZone;

pub use compare::{Change, Difference, compare};
pub use story::{Step, StepWord, Story};
pub use vary::{Varied, VaryError, vary};

use crate::condition::{Condition, Truth};
use crate::decide::{self, Circumstances, Decision, Ledger, Verdict};
use crate::judge::{Closing, Event, Judge, Tick};
use crate::model::{Facts, Field, Process, ProcessId, Snapshot};
use crate::protect::Protections;
use crate::recording::{self, Ours, Outcome};
use crate::rules::{Action, RuleSet};
use crate::subject::{Judged, SubjectKey};

/// What one rule would have done in all.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct RuleSum {
    /// Cases opened.
    pub cases: u32,
    /// Times people would have been told.
    pub alerts: u32,
    /// Acts by their word, each on one process.
    pub acts: BTreeMap<&'static str, u32>,
    /// Different subjects.
    pub subjects: BTreeSet<String>,
    /// Cases that were calm by themselves before a further step came.
    pub calmed: u32,
    /// Acts that protection, a budget or the cap held back.
    pub held_back: u32,
    /// Ticks at which it covered somebody.
    covered: u64,
    /// Of these, those at which the recording lacked a reading.
    blind: u64,
    lacking: BTreeSet<Field>,
}

impl RuleSum {
    /// The readings that the recording lacks, where the rule could not be judged for want of them.
    pub fn cannot_be_judged(&self) -> Option<&BTreeSet<Field>> {
        (self.blind > 0 && self.blind * 2 > self.covered).then_some(&self.lacking)
    }
}

/// Somebody that must not be touched would have been.
#[derive(Debug, Clone, PartialEq)]
pub struct Hit {
    /// When.
    pub at: Timestamp,
    /// The rule, by its place.
    pub rule: usize,
    /// The case.
    pub case: u64,
    /// Whom.
    pub whom: String,
    /// What would have been done.
    pub action: Action,
}

/// A rehearsal under way.
#[derive(Debug)]
pub struct Rehearsal {
    rules: Arc<RuleSet>,
    judge: Judge,
    ledger: Ledger,
    protections: Protections,
    spare: Option<Condition>,
    zone: TimeZone,
    /// Who would have ended.
    gone: BTreeSet<ProcessId>,
    /// Until when who would have been suspended, on the monotonic clock.
    suspended: BTreeMap<ProcessId, Duration>,
    /// Of these, the ones of the latest tick.
    just_suspended: Vec<ProcessId>,
    stories: BTreeMap<u64, Story>,
    sums: Vec<RuleSum>,
    hits: Vec<Hit>,
    first: Option<Timestamp>,
    last: Option<Timestamp>,
    samples: u64,
    /// What the watcher that recorded did itself.
    done: Vec<Outcome>,
}

impl Rehearsal {
    /// A rehearsal of these rules; `spare` is true of processes that must not be touched. Of a recording whose samples are
    /// further apart than the rules ask for, `every` is that distance: its intervals are no gaps.
    pub fn new(
        rules: &RuleSet,
        every: Duration,
        protections: Protections,
        spare: Option<Condition>,
        zone: TimeZone,
    ) -> Rehearsal {
        let mut armed = rules.clone();
        armed.every = armed.every.max(every);
        armed.rules.iter_mut().for_each(|rule| rule.armed = true);
        let rules = Arc::new(armed);
        Rehearsal {
            judge: Judge::new(Arc::clone(&rules), 1),
            sums: vec![RuleSum::default(); rules.rules.len()],
            rules,
            ledger: Ledger::default(),
            protections,
            spare,
            zone,
            gone: BTreeSet::new(),
            suspended: BTreeMap::new(),
            just_suspended: Vec::new(),
            stories: BTreeMap::new(),
            hits: Vec::new(),
            first: None,
            last: None,
            samples: 0,
            done: Vec::new(),
        }
    }

    /// The rules.
    pub fn rules(&self) -> &RuleSet {
        &self.rules
    }

    /// The zone in which hours are meant.
    pub fn zone(&self) -> &TimeZone {
        &self.zone
    }

    /// Every case, in the order in which they opened.
    pub fn stories(&self) -> impl Iterator<Item = &Story> {
        self.stories.values()
    }

    /// What each rule would have done in all, in the file's order.
    pub fn sums(&self) -> &[RuleSum] {
        &self.sums
    }

    /// When people were first told, and when something was first done.
    pub fn firsts(&self) -> (Option<Timestamp>, Option<Timestamp>) {
        let opened = self.stories().map(|story| story.opened).min();
        (opened, self.stories().filter_map(Story::first_act).min())
    }

    /// Who must not be touched, and would have been.
    pub fn hits(&self) -> &[Hit] {
        &self.hits
    }

    /// From when to when, and how many samples.
    pub fn span(&self) -> Option<(Timestamp, Timestamp, u64)> {
        Some((self.first?, self.last?, self.samples))
    }

    /// What the watcher that made the recording did at that time: readings after it are not those of a machine left
    /// alone.
    pub fn done(&self) -> &[Outcome] {
        &self.done
    }

    /// The next sample, and what the watcher that recorded it was doing: what it had suspended is not judged here either.
    pub fn take(&mut self, snapshot: &Snapshot, ours: &Ours) {
        let wall = snapshot.moment.wall;
        self.first.get_or_insert(wall);
        self.last = Some(wall);
        self.samples += 1;
        self.done.extend(ours.outcomes.iter().cloned());
        self.gone.retain(|id| snapshot.process(id.pid).is_some_and(|process| process.id == *id));
        if self.gone.is_empty() {
            self.judge_and_decide(snapshot, ours);
        } else {
            // Whoever would have ended is not there any more.
            let mut left = snapshot.clone();
            left.processes.retain(|process| !self.gone.contains(&process.id));
            self.judge_and_decide(&left, ours);
        }
    }

    fn judge_and_decide(&mut self, snapshot: &Snapshot, ours: &Ours) {
        let now = snapshot.moment.monotonic;
        // Where the watcher that recorded took the same step at the same tick, it is known when its suspension began and
        // ended: that is what the readings tell of.
        for id in std::mem::take(&mut self.just_suspended) {
            if ours.busy.contains(&id.pid)
                || ours.outcomes.iter().any(|done| done.pid == id.pid && done.verb == "suspend")
            {
                self.suspended.remove(&id);
            }
        }
        let mut suspended = recording::identities(&ours.suspended, snapshot);
        suspended.extend(self.suspended.keys());
        let busy = recording::identities(&ours.busy, snapshot);
        let standing_back = recording::identities(&ours.back, snapshot).into_iter().map(|id| (id, now)).collect();
        let tick = Tick { snapshot, suspended: &suspended, busy: &busy, only: None, zone: &self.zone };
        let events = self.judge.tick(&tick);
        // The interval in which it was resumed is not judged either.
        self.suspended.retain(|_, until| *until > now);
        let circumstances = Circumstances {
            snapshot,
            protections: &self.protections,
            standing_back: &standing_back,
            all_in_shadow: false,
            disarmed: false,
        };
        let decisions = decide::decide(&events, &mut self.judge, &circumstances, self.rules.cap, &mut self.ledger);
        for event in &events {
            self.follow(event, snapshot);
        }
        for (place, decision) in decisions.iter().enumerate() {
            // A step on several processes is told once.
            let first = !decisions[..place].iter().any(|earlier| earlier.case == decision.case);
            self.do_it(decision, first, snapshot);
        }
        for story in self.stories.values_mut().filter(|story| story.closed.is_none()) {
            if let Some(case) = self.judge.case(story.case) {
                story.read(case, snapshot.moment.wall);
            }
        }
        self.count_the_blind();
    }

    fn follow(&mut self, event: &Event, snapshot: &Snapshot) {
        let wall = snapshot.moment.wall;
        match event {
            Event::Opened { case } => {
                let Some(case) = self.judge.case(*case) else { return };
                let sum = &mut self.sums[case.rule];
                sum.alerts += 1;
                sum.subjects.insert(format!("{} {}", case.subject.app, case.subject.owner));
                if case.returned
                    && let Some(story) = self.stories.get_mut(&case.number)
                {
                    story.came_back(case, wall);
                } else {
                    sum.cases += 1;
                    self.stories.insert(case.number, Story::of(case, wall));
                }
            }
            Event::Remind { case } => {
                let Some(case) = self.judge.case(*case) else { return };
                self.sums[case.rule].alerts += 1;
                if let Some(story) = self.stories.get_mut(&case.number) {
                    story.step(wall, StepWord::Reminded, String::new());
                }
            }
            Event::HoursEnded { case } => {
                if let Some(story) = self.stories.get_mut(case) {
                    story.step(wall, StepWord::HoursEnded, String::new());
                }
            }
            Event::Closed { case, why } => {
                let rule = self.judge.rule_of(case);
                let upcoming = case.upcoming(rule).is_some();
                if *why == Closing::Calm && upcoming {
                    self.sums[case.rule].calmed += 1;
                }
                if let Some(story) = self.stories.get_mut(&case.number) {
                    story.read(case, wall);
                    story.closed = Some((wall, *why));
                }
                // What it holds is undone.
                self.suspended.retain(|id, _| !case.members.contains(id));
            }
            Event::Building { .. }
            | Event::Abandoned { .. }
            | Event::Due { .. }
            | Event::Easing { .. }
            | Event::BreachedAgain { .. } => {}
        }
    }

    fn do_it(&mut self, decision: &Decision, first: bool, snapshot: &Snapshot) {
        let Some(case) = self.judge.case(decision.case).cloned() else { return };
        let (wall, sum) = (snapshot.moment.wall, &mut self.sums[case.rule]);
        let whom = decision.subject.label();
        let (word, effect) = match &decision.verdict {
            Verdict::Alert => {
                sum.alerts += u32::from(!case.clock.is_zero());
                (StepWord::Told, false)
            }
            Verdict::Act(action) | Verdict::Shadow(action) => {
                *sum.acts.entry(action.word()).or_default() += 1;
                sum.alerts += u32::from(first);
                let facts = Facts::new(&decision.subject, &snapshot.machine);
                let spare = self.spare.as_ref().is_some_and(|spare| spare.evaluate(&facts) == Truth::True);
                if spare && action.is_act() {
                    let whom = whom.clone();
                    self.hits.push(Hit { at: wall, rule: case.rule, case: case.number, whom, action: *action });
                }
                (
                    StepWord::Done(*action),
                    self.take_effect(*action, &decision.subject, &case.key, &case.members, snapshot),
                )
            }
            Verdict::Spared(why) => {
                sum.held_back += 1;
                (StepWord::HeldBack(decision.action, why.clone()), false)
            }
            Verdict::OverBudget(action) => {
                sum.held_back += 1;
                (StepWord::HeldBack(*action, "the budget is spent".to_owned()), false)
            }
            // In a rehearsal everything can be recorded.
            Verdict::Waits(_) => return,
            Verdict::Capped(action) => {
                sum.held_back += 1;
                (StepWord::HeldBack(*action, "the most acts in an hour are reached".to_owned()), false)
            }
            Verdict::Overtaken { by } => {
                (StepWord::HeldBack(decision.action, format!("case {by} takes a stronger step")), false)
            }
            Verdict::StandingBack { .. } => {
                (StepWord::HeldBack(decision.action, "a hand was at work".to_owned()), false)
            }
        };
        if let Some(story) = self.stories.get_mut(&decision.case) {
            story.step(wall, word, if decision.action.is_act() { whom } else { String::new() });
        }
        self.judge.settled(decision.case, effect);
    }

    /// What an act would have changed. Whether something is in force then.
    fn take_effect(
        &mut self,
        action: Action,
        subject: &Process,
        key: &SubjectKey,
        members: &[ProcessId],
        snapshot: &Snapshot,
    ) -> bool {
        match action {
            Action::Alert | Action::Run => false,
            Action::Lower { .. } => true,
            Action::Suspend { length } => {
                self.just_suspended.push(subject.id);
                self.suspended.insert(subject.id, snapshot.moment.monotonic + length);
                true
            }
            Action::Restart | Action::Terminate { .. } => {
                let whole = action == Action::Restart || matches!(key, SubjectKey::Tree(root) if *root == subject.id);
                self.gone.insert(subject.id);
                if whole {
                    self.gone.extend(members);
                }
                false
            }
        }
    }

    fn count_the_blind(&mut self) {
        // A first sample has no rates: that is no want of the recording.
        if self.samples < 2 {
            return;
        }
        for ((sum, status), rule) in self.sums.iter_mut().zip(self.judge.status()).zip(&self.rules.rules) {
            if status.covered + status.undecided == 0 && rule.judge != Judged::Machine {
                continue;
            }
            sum.covered += 1;
            let memory = |field: &Field| matches!(field, Field::Memory | Field::MemoryPart);
            if !status.unreadable.is_empty() && status.unjudged > 0 {
                sum.blind += 1;
                sum.lacking.extend(&status.unreadable);
            } else if status.unjudged > 0 && rule.judge.grouping().is_some() && rule.windows.is_empty() {
                // Only upper bounds of a group's memory are recorded.
                let fields = rule.fields();
                if fields.iter().any(memory) {
                    sum.blind += 1;
                    sum.lacking.extend(fields.into_iter().filter(memory));
                }
            }
        }
    }
}
