//! What came of acts and undos, told to the judge, the effects and the person.

use std::time::Duration;

use super::commission::StandsFor;
use super::{Call, Commission, Dispatcher, Done};
use crate::act::Outcome;
use crate::happening::{CarriedOut, Happening, Next, Subject, What};
use crate::judge::Case;
use crate::model::{Moment, Process, ProcessId};

impl Dispatcher {
    pub(super) fn acted(&mut self, now: Moment, done: Done) {
        self.revision += 1;
        for id in done.commission.touches() {
            self.busy.remove(&id);
        }
        let case = done.commission.acts_for();
        if let Some(place) = self.acting.iter().position(|acting| Some(*acting) == case) {
            self.acting.swap_remove(place);
        }
        let Some(target) = done.commission.target().cloned() else { return };
        if done.commission.is_undo() {
            self.undone(now, done, &target);
        } else {
            self.done(now, done, &target);
        }
        self.close_what_waited(now);
        self.undo_what_is_no_step_any_more();
        self.go_on_with_the_queued();
        self.go_on_ending(now);
    }

    fn done(&mut self, now: Moment, done: Done, target: &Process) {
        let Done { commission, outcome, took, announced } = done;
        let (id, case) = (target.id, commission.case().unwrap_or_default());
        let joined = self.joining.remove(&id).unwrap_or_default();
        let rule = commission.announced.rule.clone();
        match &outcome {
            Outcome::Lowered(lowering) => {
                for (case, nice) in joined {
                    self.effects.lower(id, case, nice, lowering.originals.clone());
                }
                self.effects.lower(id, case, lowering.nice, lowering.originals.clone());
                self.held.remember(target, rule);
                if !self.settings.assumed {
                    let over = self.interval.unwrap_or(self.rules.every);
                    self.measuring.begin(case, target.clone(), lowering, over);
                }
            }
            Outcome::Suspended(still) => {
                self.effects.suspend(id, case, still.until);
                self.held.remember(target, rule);
                self.held.suspended(id, case, commission.announced.step().unwrap_or_default());
                if still.holds_locks {
                    self.held.holds_locks(id);
                }
                self.touched.insert(id);
            }
            Outcome::Restarted { .. } | Outcome::Ended(_) => {
                self.ended_by_us.insert(id);
            }
            _ => {}
        }
        match &outcome {
            Outcome::Suspended(_) if commission.stands_for == StandsFor::TheSameOnceMore => {}
            _ if commission.stands_for == StandsFor::TheSameOnceMore => self.suspended_no_more(id),
            outcome if commission.stands_for == StandsFor::AnAnswer => {
                self.judge.has_answered(case, outcome.has_effect());
            }
            // It is tried again as soon as the trail can be written, or what called it off is over: nobody gains by being calm for just
            // as long as he is waited for.
            Outcome::Unrecorded(_) | Outcome::CalledOff(..) => self.judge.postponed(case),
            outcome if outcome.is_hindered() => {
                if self.judge.hindered(case) {
                    self.ledger.give_back(&commission.order.act.verb(), target.person());
                }
            }
            // What found nobody was no act.
            Outcome::Gone => {
                if self.judge.found_nobody(case) {
                    self.ledger.give_back(&commission.order.act.verb(), target.person());
                }
            }
            outcome => self.judge.settled(case, Some(id), outcome.has_effect()),
        }
        let has_effect = outcome.has_effect();
        let step = (case, commission.announced.step().unwrap_or_default(), Some(id));
        let news = self.is_to_be_told(step, &outcome);
        if announced || news {
            let happening = self.what_came(now, &commission, outcome, Some(took));
            match announced {
                true => self.tell(happening),
                false => self.tell_in_bounds(happening),
            }
        }
        // Nobody else would take it back.
        if has_effect
            && self.judge.case(case).is_none()
            && !self.closing.iter().any(|leaving| leaving.case.number == case)
        {
            self.let_go(id, case, None);
        }
    }

    /// What is in the way of a step is told once, all else each time.
    fn is_to_be_told(&mut self, step: (u64, usize, Option<ProcessId>), outcome: &Outcome) -> bool {
        if outcome.is_hindered() {
            return self.is_news(step, &outcome.seen());
        }
        self.in_the_way.remove(&step);
        true
    }

    fn undone(&mut self, now: Moment, done: Done, target: &Process) {
        let Done { commission, outcome, took, .. } = done;
        if commission.resumes() {
            self.effects.resumed(&target.id);
            self.held.resumed(&target.id);
            self.touched.insert(target.id);
        }
        let happening = self.what_came(now, &commission, outcome, Some(took));
        self.tell(happening);
    }

    fn what_came(&self, now: Moment, commission: &Commission, outcome: Outcome, took: Option<Duration>) -> Happening {
        let case = commission.case().and_then(|case| self.judge.case(case));
        let rule = case.and_then(|case| self.judge.rule(&case.rule));
        // What it was done for, and not what a process that is ending has left.
        let announced = match &commission.announced.what {
            What::Announced(_, announced) => Some(announced),
            _ => None,
        };
        let decided = announced.and_then(|announced| announced.grounds.as_ref()?.measure.clone());
        let what = What::Came(CarriedOut {
            step: commission.announced.step(),
            tree: commission.order.whole.is_some(),
            took,
            measure: decided.or_else(|| case.and_then(|case| case.measure.clone())),
            assumed: self.settings.assumed,
            remark: commission.remark.clone(),
            because: announced.and_then(|announced| announced.because.clone()),
            ..CarriedOut::of(commission.order.act.clone(), outcome)
        });
        let next = case.zip(rule).map_or(Next::Unsaid, |(case, rule)| self.next_of(case, rule, self.counted_from(now)));
        Happening { at: now.wall, what, next, ..commission.announced.clone() }
    }

    /// Up to when the clocks of ladders have run: the last sample, in the wall-clock time of now.
    fn counted_from(&self, now: Moment) -> jiff::Timestamp {
        let since = self.last.map_or(Duration::ZERO, |last| now.monotonic.saturating_sub(last.monotonic));
        now.wall.checked_sub(since).unwrap_or(now.wall)
    }

    pub(super) fn ran(&mut self, now: Moment, call: Call, outcome: Outcome) {
        self.running.remove(&call.rule);
        match &outcome {
            Outcome::Unrecorded(_) => self.judge.postponed(call.case),
            outcome if outcome.is_hindered() => {
                self.judge.hindered(call.case);
            }
            _ => self.judge.settled(call.case, None, false),
        }
        self.tell_of_call(now, &call, outcome);
        self.go_on_ending(now);
    }

    pub(super) fn tell_of_call(&mut self, now: Moment, call: &Call, outcome: Outcome) {
        let subject = match self.judge.case(call.case) {
            Some(case) => Subject::of(case),
            None => call.announced.subject.clone(),
        };
        let what = What::Came(CarriedOut {
            step: Some(call.step),
            measure: self.judge.case(call.case).and_then(|case: &Case| case.measure.clone()),
            assumed: self.settings.assumed,
            ..CarriedOut::of(None, outcome)
        });
        let happening = Happening { at: now.wall, subject, what, next: Next::Unsaid, ..call.announced.clone() };
        self.tell(happening);
    }
}
