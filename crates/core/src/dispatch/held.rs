//! What is held of processes: handles, and what is in force on them.

use super::commission::StandsFor;
use super::{Beside, Command, Commission, Dispatcher};
use crate::act::{Act, Order};
use crate::happening::{Happening, Next, Subject, What};
use crate::model::{Moment, Process, ProcessId, Snapshot};
use crate::rules::RuleName;
use crate::sorted::{SortedMap, SortedSet};

/// Whom the rules want fixed, and whom something was done to.
#[derive(Debug, Default)]
pub(super) struct Held {
    fixed: SortedMap<ProcessId, SortedSet<RuleName>>,
    /// Of those that something of ours is in force on: who they are, and for which rule.
    acted_on: SortedMap<ProcessId, (Process, Option<RuleName>)>,
    /// Of those suspended by us who holds file locks: others may come to wait for them.
    lock_holders: SortedSet<ProcessId>,
    /// Of those suspended by us: for which case, by which step, and what became of it.
    suspended: SortedMap<ProcessId, Stay>,
}

/// How a suspension of ours stays in force.
#[derive(Debug, Clone, Copy)]
pub(super) struct Stay {
    pub case: u64,
    pub step: usize,
    /// Whether it was seen running at the last sample: a hand that did so may not be in the trail yet.
    pub ran: bool,
    /// Whether it was suspended once more already.
    pub again: bool,
}

impl Held {
    /// A rule wants it fixed; whether nobody did before.
    pub fn fix(&mut self, rule: &RuleName, id: ProcessId) -> bool {
        let rules = self.fixed.entry(id).or_default();
        let first = rules.is_empty();
        rules.insert(rule.clone());
        first
    }

    /// A rule wants it no longer; whether that was the last.
    pub(crate) fn unfix(&mut self, rule: &RuleName, id: &ProcessId) -> bool {
        let Some(rules) = self.fixed.get_mut(id) else { return false };
        rules.remove(rule);
        let last = rules.is_empty();
        if last {
            self.fixed.remove(id);
        }
        last
    }

    pub(crate) fn any_holder(&self) -> bool {
        !self.lock_holders.is_empty()
    }

    pub fn holds_locks(&mut self, id: ProcessId) {
        self.lock_holders.insert(id);
    }

    pub(crate) fn is_lock_holder(&self, id: &ProcessId) -> bool {
        self.lock_holders.contains(id)
    }

    pub fn resumed(&mut self, id: &ProcessId) {
        self.lock_holders.remove(id);
        self.suspended.remove(id);
    }

    /// It is suspended by that step.
    pub fn suspended(&mut self, id: ProcessId, case: u64, step: usize) {
        let stay = self.suspended.entry(id).or_insert(Stay { case, step, ran: false, again: false });
        (stay.case, stay.step) = (case, step);
    }

    pub fn stay(&mut self, id: &ProcessId) -> Option<&mut Stay> {
        self.suspended.get_mut(id)
    }

    pub fn remember(&mut self, process: &Process, rule: Option<RuleName>) {
        self.acted_on.insert(process.id, (process.clone(), rule));
    }
}

impl Dispatcher {
    /// Handles of those that are gone are needed no longer.
    pub(super) fn forget_the_released(&mut self, snapshot: &Snapshot, beside: &Beside) {
        let seen = |id: &ProcessId| beside.unseen.contains(id) || snapshot.find(id).is_some();
        let gone: Vec<ProcessId> = self.held.fixed.keys().filter(|id| !seen(id)).copied().collect();
        for id in gone {
            self.held.fixed.remove(&id);
            self.out.push(Command::Release(id));
        }
        let effects = &self.effects;
        self.held.acted_on.retain(|id, _| effects.holds(id));
    }

    /// Suspensions that are over are resumed by us; a guard is there in case we are not.
    pub(super) fn resume_what_is_over(&mut self, now: Moment) {
        let over = self.effects.suspended().filter(|(_, suspended)| suspended.until <= now.monotonic);
        let over: Vec<ProcessId> = over.map(|(id, _)| *id).filter(|id| !self.busy.contains(id)).collect();
        for id in over {
            let case = self.effects.cases_of(&id).first().copied();
            self.take_back(now, id, Act::Resume, case, None);
        }
    }

    /// A case wants nothing of a process any more; why, where that does not go without saying.
    pub(super) fn let_go(&mut self, id: ProcessId, case: u64, why: Option<&str>) {
        let now = self.now;
        for undo in self.effects.let_go(&id, case) {
            self.take_back(now, id, undo, Some(case), why.map(str::to_owned));
        }
    }

    /// It ended, and with it whatever was in force on it; what outlives it is taken back.
    pub(super) fn forget(&mut self, id: ProcessId, case: u64) {
        let now = self.now;
        if self.effects.suspension(&id).is_some() {
            self.held.resumed(&id);
            self.out.push(Command::Dismiss(id));
        }
        if let Some(undo) = self.effects.forget(&id) {
            self.take_back(now, id, undo, Some(case), None);
        }
    }

    /// Has something taken back. Whoever is busy is left in peace until he is not.
    pub(super) fn take_back(
        &mut self,
        now: Moment,
        id: ProcessId,
        undo: Act,
        case: Option<u64>,
        remark: Option<String>,
    ) {
        let Some((process, rule)) = self.known(&id, case) else { return };
        let announced = Happening {
            at: now.wall,
            rule,
            case,
            subject: Subject::process(&process),
            what: What::Announced(Box::new(undo.clone()), Box::default()),
            next: Next::Unsaid,
        };
        let order = Order::on(process, undo);
        self.commission(Commission { order, announced, check: None, remark, stands_for: StandsFor::AStep });
    }

    /// Who that is, as far as it was ever known, and for which rule something was done to him.
    fn known(&self, id: &ProcessId, case: Option<u64>) -> Option<(Process, Option<RuleName>)> {
        let case = case.and_then(|case| self.judge.case(case));
        let lead = case.and_then(|case| case.lead.as_ref()).filter(|lead| lead.id == *id);
        let known = self.held.acted_on.get(id);
        let rule = case.map(|case| case.rule.clone()).or_else(|| known.and_then(|(_, rule)| rule.clone()));
        Some((lead.or(known.map(|(process, _)| process))?.clone(), rule))
    }

    /// Hands it out, or keeps it until nothing is under way on whom it is done to, and behind what waits for him already:
    /// what is put back follows from what was put back before.
    pub(super) fn commission(&mut self, commission: Commission) {
        let touches = commission.touches();
        let is_in_the_way = |others: &SortedSet<ProcessId>| !touches.is_disjoint(others);
        if is_in_the_way(&self.busy) || self.queued.iter().any(|queued| is_in_the_way(&queued.touches())) {
            self.queued.push(commission);
            return;
        }
        self.busy.extend(touches);
        self.acting.extend(commission.acts_for());
        if let Some(case) = commission.case() {
            self.record_its_opening(case);
        }
        self.out.push(Command::Act(Box::new(commission)));
    }

    /// What waited for somebody who is no longer busy.
    pub(super) fn go_on_with_the_queued(&mut self) {
        for commission in std::mem::take(&mut self.queued) {
            self.commission(commission);
        }
    }
}
