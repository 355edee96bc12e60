//! What a rule means, apart from how it is spelled: by this it is the same rule when the rules are read anew.

use sha2::{Digest, Sha256};

use super::{Rule, RuleSet};
use crate::text::hex;

/// A digest of everything that a rule judges and does by.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Meaning(String);

impl RuleSet {
    /// What a rule of this set means. Its note, its place and its spelling do not count; the sampling interval does, since
    /// windows are made for it.
    pub fn meaning(&self, rule: &Rule) -> Meaning {
        let shown = |condition: &Option<crate::condition::Condition>| condition.as_ref().map(ToString::to_string);
        let parts = (
            (&*rule.name, rule.judge, shown(&rule.covers), rule.breach.to_string(), rule.lasting, shown(&rule.calm)),
            (rule.severity, rule.armed, &rule.hours, &rule.again, rule.budget, rule.pick, &rule.ladder),
            (&rule.windows, self.every, rule.keep, rule.unasked),
        );
        Meaning(hex(&Sha256::digest(format!("{parts:?}"))))
    }
}
