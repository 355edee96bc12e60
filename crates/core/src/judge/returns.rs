//! What the judge remembers beyond a case: who ended and may come back, whose breach was building up when it ended, and what was
//! spent of budgets.

use std::collections::VecDeque;
use std::time::Duration;

use super::{Allowance, Case, Points};
use crate::model::Moment;
use crate::rules::{Budget, RuleName};
use crate::sorted::SortedMap;
use crate::subject::Likeness;

/// For how long a subject that ended is the same case when it is back.
pub const COMES_BACK: Duration = Duration::from_secs(600);

/// When a process began is known to a hundredth of a second, rounded down (proc_pid_stat(5), field 22).
const CLOCK: Duration = Duration::from_millis(10);

/// Most breaches that are remembered which had not held long enough.
const MOST_UNRIPE: usize = 4096;

/// A case whose subject ended.
#[derive(Debug, Clone)]
pub(super) struct Gone {
    rule: RuleName,
    likeness: Likeness,
    at: Duration,
    /// When its subject was last seen, on the boot clock.
    seen: Duration,
    pub number: u64,
    /// The step that came next.
    pub next: usize,
    /// Breached time since it opened.
    pub clock: Duration,
}

/// A subject that ended while its breach was building up.
#[derive(Debug, Clone)]
pub(super) struct Unripe {
    pub rule: RuleName,
    pub likeness: Likeness,
    /// How long the breach had held.
    pub held: Duration,
    pub points: Points,
    /// When it was last seen, and until when another may go on with it, on the boot clock.
    pub seen: Duration,
    pub until: Duration,
}

/// Of all rules together.
#[derive(Debug)]
pub(super) struct Memory {
    next_case: u64,
    gone: VecDeque<Gone>,
    unripe: Vec<Unripe>,
    /// When cases of a subject were acted upon, on the boot clock.
    spent: SortedMap<RuleName, SortedMap<Likeness, VecDeque<Duration>>>,
}

impl Memory {
    pub fn new(next_case: u64) -> Memory {
        Memory { next_case, gone: VecDeque::new(), unripe: Vec::new(), spent: SortedMap::new() }
    }

    pub(crate) fn next_number(&mut self) -> u64 {
        let number = self.next_case;
        self.next_case = number.saturating_add(1);
        number
    }

    pub fn ended(&mut self, case: &Case, now: &Moment) {
        let likeness = case.key.likeness(case.lead.as_ref());
        let (rule, number, next, clock) = (case.rule.clone(), case.number, case.ladder.next, case.ladder.clock);
        self.gone.push_back(Gone { rule, likeness, at: now.boottime, seen: case.last_seen, number, next, clock });
    }

    /// That number is taken.
    pub(super) fn is_taken(&mut self, number: u64) {
        self.next_case = self.next_case.max(number.saturating_add(1));
    }

    /// Its breach was building up.
    pub fn ended_early(&mut self, unripe: Unripe) {
        if self.unripe.len() < MOST_UNRIPE {
            self.unripe.push(unripe);
        }
    }

    /// The breach that a subject goes on with: of the same owner, program and file, which has ended. `age` is that of its
    /// process: whoever ran long before is no successor of it, but another.
    pub fn take_over(
        &mut self,
        rule: &RuleName,
        likeness: impl FnOnce() -> Likeness,
        age: Option<Duration>,
        now: &Moment,
    ) -> Option<Unripe> {
        self.unripe.retain(|unripe| unripe.until >= now.boottime);
        if self.unripe.is_empty() {
            return None;
        }
        let likeness = likeness();
        let is_it = |unripe: &Unripe| {
            let margin = unripe.until.saturating_sub(unripe.seen);
            let later = began_after(age, now, unripe.seen, margin);
            unripe.rule == *rule && unripe.likeness == likeness && later
        };
        let longest =
            (0..self.unripe.len()).filter(|at| is_it(&self.unripe[*at])).max_by_key(|at| self.unripe[*at].held);
        longest.map(|at| self.unripe.swap_remove(at))
    }

    /// Forgets who did not come back in time.
    pub fn forget(&mut self, now: &Moment) {
        while self.gone.front().is_some_and(|gone| now.boottime.saturating_sub(gone.at) > COMES_BACK) {
            self.gone.pop_front();
        }
    }

    /// The case that a subject goes on with, if it is one that ended. `age` is that of its process: whoever began while the other
    /// still lived ran beside it, and has a case of its own.
    pub(crate) fn come_back(
        &mut self,
        rule: &RuleName,
        likeness: &Likeness,
        age: Option<Duration>,
        now: &Moment,
    ) -> Option<Gone> {
        self.forget(now);
        let is_it =
            |gone: &Gone| gone.rule == *rule && gone.likeness == *likeness && began_after(age, now, gone.seen, CLOCK);
        let place = self.gone.iter().position(is_it)?;
        self.gone.remove(place)
    }

    /// Whether one more case of a subject may be acted upon; if so, that is counted.
    pub(crate) fn spend(&mut self, rule: &RuleName, likeness: Likeness, budget: Budget, now: &Moment) -> bool {
        let spent = self.spent.entry(rule.clone()).or_default().entry(likeness).or_default();
        spent.retain(|at| now.boottime.saturating_sub(*at) < budget.per);
        let may = spent.len() < budget.cases as usize;
        if may {
            spent.push_back(now.boottime);
        }
        may
    }

    /// What a case may do by another budget than before: one that was acted upon counts already.
    pub(super) fn by_another_budget(&self, case: &Case, budget: Option<Budget>, now: &Moment) -> Allowance {
        let likeness = case.key.likeness(case.lead.as_ref());
        let spent = |budget: Budget| self.spent(&case.rule, &likeness, budget, now) > budget.cases as usize;
        match case.ladder.budget {
            Allowance::Granted if budget.is_some_and(spent) => Allowance::Spent,
            Allowance::Granted => Allowance::Granted,
            Allowance::Spent | Allowance::Unasked => Allowance::Unasked,
        }
    }

    /// Of a rule that means something else now nothing is remembered.
    pub(crate) fn forget_rule(&mut self, rule: &RuleName) {
        self.gone.retain(|gone| gone.rule != *rule);
        self.unripe.retain(|unripe| unripe.rule != *rule);
        self.spent.remove(rule);
    }

    /// A case of an earlier run that was acted upon.
    pub fn remember(&mut self, rule: &RuleName, likeness: Likeness, at: Duration) {
        self.spent.entry(rule.clone()).or_default().entry(likeness).or_default().push_back(at);
    }

    /// How many cases of a subject were acted upon in the budget's time.
    pub fn spent(&self, rule: &RuleName, likeness: &Likeness, budget: Budget, now: &Moment) -> usize {
        let spent = self.spent.get(rule).and_then(|spent| spent.get(likeness));
        spent.map_or(0, |spent| spent.iter().filter(|at| now.boottime.saturating_sub(**at) < budget.per).count())
    }
}

/// Whether whoever is of that age now began once another had been seen for the last time, give or take `margin`. Groups have no beginning.
fn began_after(age: Option<Duration>, now: &Moment, seen: Duration, margin: Duration) -> bool {
    age.is_none_or(|age| now.boottime.saturating_sub(age) + margin >= seen)
}
