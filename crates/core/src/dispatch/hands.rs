//! Hands at work beside the watcher: rules stand back from what a person has touched, and what a person's command has left
//! suspended goes on in time.

use std::time::Duration;

use super::commission::StandsFor;
use super::{Beside, Check, Command, Commission, Dispatcher, STAND_BACK};
use crate::act::{Act, Verb};
use crate::audit::{InForce, Record};
use crate::decide::{Charge, Decision, Verdict};
use crate::facts::Facts;
use crate::happening::{Happening, Next, Subject, What};
use crate::model::{Boot, Moment, Process, ProcessId, Snapshot};
use crate::rules::Action;
use crate::sorted::{SortedMap, SortedSet};
use crate::state::State;

/// The command of a suspension by hand is given that long beyond its time.
pub const HAND_MARGIN: Duration = Duration::from_secs(5);

/// What a person did.
#[derive(Debug, Clone, PartialEq)]
pub struct Hand {
    /// To whom.
    pub process: Process,
    /// What.
    pub verb: Verb,
    /// For how long, where it was suspended.
    pub length: Option<Duration>,
    /// Who did it.
    pub by: String,
}

impl Hand {
    /// By a record of the trail; none for what was done to nobody of this boot.
    pub fn of(record: &Record, boot: Boot) -> Option<Hand> {
        let (subject, action) = (record.subject.as_ref()?, record.action.as_ref()?);
        record.identity().filter(|id| id.boot == boot)?;
        let length = action.seconds.map(|seconds| Duration::try_from_secs_f64(seconds).unwrap_or_default());
        let (process, verb, by) = (subject.process(boot), action.verb.clone(), record.who.user.clone());
        Some(Hand { process, verb, length, by })
    }
}

/// What is known of hands.
#[derive(Debug, Default)]
pub(super) struct Hands {
    /// Not looked at yet.
    queue: Vec<Hand>,
    /// From whom rules stand back, until that monotonic time.
    pub standing_back: SortedMap<ProcessId, Duration>,
    /// Suspensions by hand, and when they are over: whoever made them may not be there any more to end them.
    suspended: SortedMap<ProcessId, (Duration, Process)>,
}

impl Hands {
    pub fn queue(&mut self, hand: Hand) {
        self.queue.push(hand);
    }

    /// From whom rules stand back, those whom nobody has looked at yet among them.
    pub fn standing_back(&self) -> impl Iterator<Item = ProcessId> {
        self.standing_back.keys().copied().chain(self.queue.iter().map(|hand| hand.process.id))
    }

    /// Rules stand back from it from now on; whether they did not before, and until when.
    fn stand_back(&mut self, id: ProcessId, now: Moment) -> (bool, jiff::Timestamp) {
        let new = self.standing_back.insert(id, now.monotonic + STAND_BACK).is_none();
        (new, now.wall.checked_add(STAND_BACK).unwrap_or(now.wall))
    }
}

impl Dispatcher {
    /// What an earlier run did counts on: the cap on acts, budgets, and whom rules stand back from.
    pub fn remember(&mut self, in_force: &InForce, now: Moment, boot: Boot) {
        let age = |at: jiff::Timestamp| Duration::try_from(now.wall.duration_since(at)).unwrap_or(Duration::ZERO);
        let (mut steps, mut cases) = (SortedSet::new(), SortedSet::new());
        for act in in_force.acts() {
            let Some(action) = &act.action else { continue };
            // A step counts once, on however many processes it acts; a case counts once towards a budget.
            if action.verb != Verb::Run && steps.insert((act.case, action.step)) {
                let owner = act.subject.as_ref().map_or(self.protections.service, |subject| subject.uid);
                let case = action.counts_with.or(act.case).unwrap_or(0);
                let charge = Charge { owner, of_others: owner != self.protections.service, case };
                let at = now.monotonic.saturating_sub(age(act.at));
                self.ledger.remember(at, &action.verb, charge, self.rules.cap);
            }
            if let (Some(rule), Some(subject)) = (&act.rule, &act.subject)
                && cases.insert((act.case, rule.clone()))
                && let Some(likeness) = subject.likeness()
            {
                self.judge.remember(&rule.as_str().into(), likeness, now.boottime.saturating_sub(age(act.at)));
            }
        }
        for (id, at) in in_force.hands().filter(|(id, _)| id.boot == boot) {
            if age(at) < STAND_BACK {
                self.hands.standing_back.insert(id, now.monotonic + STAND_BACK - age(at));
            }
        }
    }

    /// A process that a person's command has suspended until that time (monotonic), and may not resume itself.
    pub fn remember_suspension_by_hand(&mut self, process: Process, until: Duration) {
        self.hands.suspended.insert(process.id, (until, process));
    }

    /// After a hand has acted on a process, rules stand back from it.
    pub(super) fn take_hands(&mut self, snapshot: &Snapshot) {
        let now = snapshot.moment;
        for hand in std::mem::take(&mut self.hands.queue) {
            let id = hand.process.id;
            match (&hand.verb, hand.length) {
                (Verb::Suspend, Some(length)) => {
                    let until = now.monotonic + length + HAND_MARGIN;
                    self.hands.suspended.insert(id, (until, hand.process.clone()));
                }
                _ => {
                    self.hands.suspended.remove(&id);
                }
            }
            let Some(process) = snapshot.find(&id) else { continue };
            let (new, until) = self.hands.stand_back(id, now);
            if new {
                let what = What::StoodBack { act: hand.verb, by: hand.by, until };
                self.tell(Happening::about(now.wall, process, what));
            }
        }
        self.hands.standing_back.retain(|_, until| *until > now.monotonic);
    }

    /// What is suspended by us stays so: unless a hand was at work, whoever resumes it is no reason to leave it running. A
    /// guard that is gone has resumed it for us, or was killed outright and has resumed nobody.
    pub(super) fn look_after_the_suspended(&mut self, snapshot: &Snapshot, beside: &Beside) {
        let now = snapshot.moment;
        let held: Vec<ProcessId> =
            self.effects.suspended().map(|(id, _)| *id).filter(|id| !self.busy.contains(id)).collect();
        for id in held {
            let Some(process) = snapshot.find(&id) else { continue };
            let still =
                matches!(process.state, State::Suspended | State::Traced | State::Waiting) || process.has_ended();
            let case = self.effects.cases_of(&id).first().copied();
            if let Some(stay) = self.held.stay(&id).filter(|_| still) {
                stay.ran = false;
            }
            if beside.unguarded.contains(&id) {
                // A guard ends in its time, too, where we are late.
                let over = self.effects.suspension(&id).is_some_and(|suspended| suspended.until <= now.monotonic);
                let remark = (!over).then(|| "its guard was ended".to_owned());
                self.take_back(now, id, Act::Resume, case, remark);
            } else if !still {
                self.runs_all_the_same(process, snapshot);
            } else if let Some(by) = self.waiter_for(process, snapshot, beside) {
                self.out.push(Command::Say(Box::new(Happening::about(now.wall, process, What::WaitedFor { by }))));
                self.effects.end_suspension(&id);
            }
        }
    }

    /// A hand may resume it. Whoever else does finds it suspended once more, and after that its ladder goes on: a partner that
    /// sends the signal would otherwise be a way out.
    fn runs_all_the_same(&mut self, process: &Process, snapshot: &Snapshot) {
        let (id, now) = (process.id, snapshot.moment);
        if self.hands.standing_back.contains_key(&id) {
            self.suspended_no_more(id);
            return;
        }
        let Some(stay) = self.held.stay(&id) else { return self.suspended_no_more(id) };
        if !std::mem::replace(&mut stay.ran, true) {
            // The record of a hand comes before its act, and may not have been read yet.
            return;
        }
        let first = !std::mem::replace(&mut stay.again, true);
        stay.ran = false;
        let (case, step) = (stay.case, stay.step);
        let commission = first.then(|| self.once_more(process, case, step, snapshot)).flatten();
        let what = What::LetLoose { again: commission.is_some() };
        let told = match self.judge.case(case) {
            Some(case) => {
                let next = self.judge.rule(&case.rule).map_or(Next::Unsaid, |rule| self.next_of(case, rule, now.wall));
                Happening::of_case(now.wall, case, what).on(Subject::one_of(case, process)).followed_by(next)
            }
            None => Happening::about(now.wall, process, what),
        };
        self.tell(told);
        match commission {
            Some(commission) => {
                self.out.push(Command::Dismiss(id));
                self.commission(commission);
            }
            None => self.suspended_no_more(id),
        }
    }

    /// The same suspension for the rest of its time; none where that is hardly worth it, or it may not be.
    fn once_more(&self, process: &Process, case: u64, step: usize, snapshot: &Snapshot) -> Option<Commission> {
        let left = self.effects.suspension(&process.id)?.until.saturating_sub(snapshot.moment.monotonic);
        let protected = self.protections.reason(&Facts::new(process, &snapshot.machine)).is_some();
        if left < Duration::from_secs(1) || protected || self.is_disarmed() {
            return None;
        }
        let length = Duration::from_secs(left.as_secs());
        let (action, verdict) = (Action::Suspend { length }, Verdict::Act(Action::Suspend { length }));
        let target = Some(process.clone());
        let decision = Decision { case, step, action, target, picked: false, verdict, beyond_share: None };
        let commission = self.commission_of(&decision, Act::Suspend { length }, process, snapshot)?;
        // For the rest of its time: that is not what the step says, and what stood still meanwhile says nothing of the breach.
        let check = commission.check.map(|check| Check { step: None, tick: None, ..check });
        Some(Commission { check, stands_for: StandsFor::TheSameOnceMore, ..commission })
    }

    /// Our suspension of it is over, and it runs.
    pub(super) fn suspended_no_more(&mut self, id: ProcessId) {
        self.effects.resumed(&id);
        self.held.resumed(&id);
        self.out.push(Command::Dismiss(id));
    }

    /// Who waits for a file lock of a process that we hold suspended: of another user, since otherwise a child of his own would
    /// be everybody's way out.
    fn waiter_for(&self, of: &Process, snapshot: &Snapshot, beside: &Beside) -> Option<u32> {
        if !self.held.is_lock_holder(&of.id) {
            return None;
        }
        let anothers = |waiter: u32| snapshot.process(waiter).is_some_and(|process| process.person() != of.person());
        let waiters = beside.waits.iter().filter(|(holder, _)| *holder == of.id.pid).map(|(_, waiter)| *waiter);
        waiters.into_iter().find(|waiter| anothers(*waiter))
    }

    /// A suspension by hand is ended by its own command; where that is gone, and its guard with it, by us.
    pub(super) fn end_what_hands_left(&mut self, snapshot: &Snapshot) {
        let now = snapshot.moment;
        let over = self.hands.suspended.iter().filter(|(_, (until, _))| *until <= now.monotonic);
        let over: Vec<ProcessId> = over.map(|(id, _)| *id).collect();
        for id in over {
            self.hands.suspended.remove(&id);
            let process = snapshot.find(&id);
            // What we hold suspended ourselves is ended in its own time.
            let stands = |process: &&Process| {
                process.state == State::Suspended && self.effects.suspension(&id).is_none() && !self.busy.contains(&id)
            };
            let Some(process) = process.filter(stands) else { continue };
            self.held.remember(process, None);
            let remark = "its time is over, and the command that had suspended it is gone".to_owned();
            self.take_back(now, id, Act::Resume, None, Some(remark));
        }
    }
}
