//! What a rule saw at a tick, and what it could not see.

use crate::facts::Facts;
use crate::model::{Field, ProcessId};
use crate::rules::Rule;
use crate::sorted::SortedSet;

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
    /// Of how many of both something could not be read.
    pub unread: usize,
    /// What could not be read.
    pub unreadable: SortedSet<Field>,
    /// The same with whose readings those are, and their user IDs; so many at most. Who ends while it is read, or has no rate yet, is
    /// not there at the next tick.
    pub lacking: SortedSet<Lacking>,
}

/// A field, whose reading it is (of no process, where it is the machine's), and that one's user ID.
pub type Lacking = (Field, Option<ProcessId>, u32);

/// Most that are kept of whom something cannot be read.
const MOST: usize = 64;

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
        self.unread += usize::from(!fields.is_empty());
        if self.lacking.len() < MOST {
            let whose = facts.process.map(|process| process.id);
            let uid = facts.process.map_or(u32::MAX, |process| process.uid);
            self.lacking.extend(fields.iter().map(|field| (*field, whose, uid)));
        }
        self.unreadable.extend(fields);
    }
}
