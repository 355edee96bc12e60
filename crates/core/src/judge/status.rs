//! What a rule saw at a tick, and what it could not see.

use std::collections::BTreeSet;

use crate::facts::Facts;
use crate::model::Field;
use crate::rules::Rule;

/// What a rule saw at the last tick, of those whom it had to look at.
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
    /// The rates among that, of processes that were there before, with the user IDs of those: a rate is unknown at a process's first
    /// sample, and that is no want of rights.
    pub rates: BTreeSet<(Field, u32)>,
}

impl RuleStatus {
    /// Whom it covers could not be decided, and for want of what.
    pub(super) fn not_decided(&mut self, rule: &Rule, facts: &Facts<'_>) {
        self.undecided += 1;
        self.cannot_read(facts, rule.covers.iter().flat_map(|condition| condition.unreadable(facts)).collect());
    }

    /// A breach could not be decided, and for want of what.
    pub(super) fn not_judged(&mut self, rule: &Rule, facts: &Facts<'_>) {
        self.unjudged += 1;
        self.cannot_read(facts, rule.breach.unreadable(facts));
    }

    /// What was only late is told apart from what cannot be read.
    fn cannot_read(&mut self, facts: &Facts<'_>, mut fields: Vec<Field>) {
        if facts.process.is_some_and(|process| process.command_unread) {
            let all = fields.len();
            fields.retain(|field| !matches!(field, Field::App | Field::Command));
            self.late += usize::from(fields.len() < all);
        }
        if let Some(process) = facts.process.filter(|process| process.cpu.is_some()) {
            let rates = fields.iter().filter(|field| field.info().rate);
            self.rates.extend(rates.map(|field| (*field, process.uid)));
        }
        self.unreadable.extend(fields);
    }
}
