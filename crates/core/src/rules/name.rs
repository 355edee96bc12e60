//! The name of a rule: what a case, a budget, a window or a record knows its rule by. A place in a list would mean another
//! rule once the rules are read anew.

use std::borrow::Borrow;
use std::fmt;
use std::ops::Deref;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

/// A rule's name, cheap to hand on.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(from = "String", into = "String")]
pub struct RuleName(Arc<str>);

impl From<&str> for RuleName {
    fn from(name: &str) -> Self {
        RuleName(name.into())
    }
}

impl From<String> for RuleName {
    fn from(name: String) -> Self {
        RuleName(name.into())
    }
}

impl From<RuleName> for String {
    fn from(name: RuleName) -> Self {
        name.0.as_ref().to_owned()
    }
}

impl Deref for RuleName {
    type Target = str;

    fn deref(&self) -> &str {
        &self.0
    }
}

impl Borrow<str> for RuleName {
    fn borrow(&self) -> &str {
        &self.0
    }
}

impl PartialEq<str> for RuleName {
    fn eq(&self, other: &str) -> bool {
        &*self.0 == other
    }
}

impl PartialEq<&str> for RuleName {
    fn eq(&self, other: &&str) -> bool {
        &*self.0 == *other
    }
}

impl fmt::Display for RuleName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}
