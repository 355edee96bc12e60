//! The rules as they are at present: they may be read anew while messages are under way.

use std::sync::{Arc, Mutex, PoisonError};

use sophron_core::rules::RuleSet;

/// The rules that count, for everybody who tells people.
#[derive(Debug, Clone)]
pub struct Current(Arc<Mutex<Arc<RuleSet>>>);

impl Current {
    /// These.
    pub fn of(rules: &Arc<RuleSet>) -> Current {
        Current(Arc::new(Mutex::new(Arc::clone(rules))))
    }

    /// As they are now.
    pub fn now(&self) -> Arc<RuleSet> {
        Arc::clone(&self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// Others from now on.
    pub fn set(&self, rules: &Arc<RuleSet>) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Arc::clone(rules);
    }
}
