//! Rules: what is too much, for how long, and what is done about it, mildest first.

mod checkup;
mod load;
mod section;

use std::collections::BTreeSet;
use std::fmt;
use std::time::Duration;

pub use load::{LARGEST, Rejected, load};
use serde::Serialize;

use crate::condition::Condition;
use crate::model::Field;

/// The rules-file format that this version reads.
pub const FORMAT: i64 = 1;

/// A loaded rules file.
#[derive(Debug, Clone)]
pub struct RuleSet {
    /// The sampling interval.
    pub every: Duration,
    /// `[protect] where`, as this file has it.
    pub protect: Option<Condition>,
    /// The rules, in the file's order.
    pub rules: Vec<Rule>,
    /// What `[checkup]` says.
    pub checkup: crate::checkup::Settings,
    /// SHA-256 of the bytes that were read, lower-case hex.
    pub digest: String,
}

/// One rule.
#[derive(Debug, Clone)]
pub struct Rule {
    /// Its name, unique in the file.
    pub name: String,
    /// What people see in the alert.
    pub note: Option<String>,
    /// `where`: the processes it covers; `None` for all.
    pub covers: Option<Condition>,
    /// What is too much.
    pub breach: Condition,
    /// How long the breach must hold before a case opens.
    pub lasting: Duration,
    /// When a case closes; `None` for "the breach no longer holds".
    pub calm: Option<Condition>,
    /// How serious a case of it is.
    pub severity: Severity,
    /// Whether it acts; else it is in shadow.
    pub armed: bool,
    /// What is done, by breached time.
    pub ladder: Vec<Step>,
}

/// How serious a case is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Worth knowing.
    Notice,
    /// Worth looking at.
    Warning,
    /// Worth getting up for.
    Critical,
}

impl Severity {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Severity::Notice => "notice",
            Severity::Warning => "warning",
            Severity::Critical => "critical",
        }
    }
}

/// One step of a ladder.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Step {
    /// Breached time from the opening of the case.
    pub at: Duration,
    /// What is done.
    pub action: Action,
}

/// What a step does. The order is the order of strength.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Action {
    /// Tell people, do nothing.
    Alert,
    /// Raise the niceness of every thread to this value, where it is lower.
    Lower {
        /// 1 to 19.
        nice: i32,
    },
    /// Suspend every thread, and resume by itself after that time.
    Suspend {
        /// How long.
        length: Duration,
    },
    /// Ask to end; end by force only after that time, if one is given.
    Terminate {
        /// How long the polite signal is given.
        force_after: Option<Duration>,
    },
}

impl Action {
    /// Its word, as in `do = "…"`.
    pub fn word(self) -> &'static str {
        match self {
            Action::Alert => "alert",
            Action::Lower { .. } => "lower",
            Action::Suspend { .. } => "suspend",
            Action::Terminate { .. } => "terminate",
        }
    }
}

impl fmt::Display for Action {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        use crate::units::exact_duration;
        match self {
            Action::Alert => f.write_str("alert"),
            Action::Lower { nice } => write!(f, "lower to nice {nice}"),
            Action::Suspend { length } => write!(f, "suspend for {}", exact_duration(*length)),
            Action::Terminate { force_after: None } => f.write_str("terminate"),
            Action::Terminate { force_after: Some(wait) } => {
                write!(f, "terminate, by force after {}", exact_duration(*wait))
            }
        }
    }
}

impl Rule {
    /// The fields that its conditions name.
    pub fn fields(&self) -> BTreeSet<Field> {
        let mut fields = self.breach.fields();
        fields.extend(self.covers.iter().chain(&self.calm).flat_map(Condition::fields));
        fields
    }
}

impl RuleSet {
    /// The fields that any of its conditions names.
    pub fn fields(&self) -> BTreeSet<Field> {
        let protect = self.protect.iter().flat_map(Condition::fields);
        self.rules.iter().flat_map(Rule::fields).chain(protect).collect()
    }

    /// The rule of that name.
    pub fn rule(&self, name: &str) -> Option<&Rule> {
        self.rules.iter().find(|rule| rule.name == name)
    }
}
