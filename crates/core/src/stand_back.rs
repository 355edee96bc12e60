//! Standing back by somebody's word: from whom rules keep their hands off, until when, who said so and why.

use std::fmt;
use std::time::Duration;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::audit::{SubjectRecord, Who};
use crate::dispatch::LONGEST_BACK;
use crate::model::{Moment, Process, ProcessId};
use crate::rules::RuleName;
use crate::sorted::SortedMap;

/// What rules keep their hands off.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Whom {
    /// Everything: no rule does anything to anybody.
    All,
    /// One rule does nothing to anybody.
    Rule(String),
    /// No rule does anything to a process.
    Process {
        /// Which.
        process: Box<SubjectRecord>,
        /// In which boot, as 32 hex digits.
        boot: String,
    },
}

impl Whom {
    /// A process.
    pub fn process(process: &Process) -> Whom {
        Whom::Process { process: Box::new(process.into()), boot: process.id.boot.to_string() }
    }

    /// The process, where it is one.
    pub fn as_process(&self) -> Option<Process> {
        match self {
            Whom::Process { process, boot } => Some(process.process(boot.parse().ok()?)),
            Whom::All | Whom::Rule(_) => None,
        }
    }

    /// Its identity, where it is a process.
    pub fn id(&self) -> Option<ProcessId> {
        match self {
            Whom::Process { process, boot } => Some(process.identity(boot.parse().ok()?)),
            Whom::All | Whom::Rule(_) => None,
        }
    }

    /// Whether both mean the same.
    pub fn is_same(&self, other: &Whom) -> bool {
        self.id().map_or(self == other, |id| other.id() == Some(id))
    }
}

impl fmt::Display for Whom {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Whom::All => f.write_str("everything"),
            Whom::Rule(rule) => write!(f, "rule {rule}"),
            Whom::Process { process, .. } => f.write_str(&process.label()),
        }
    }
}

/// Somebody's word that rules stand back.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct StandBack {
    /// From whom.
    pub whom: Whom,
    /// Since when.
    pub since: Timestamp,
    /// When it is over: on the boot-time clock of the boot it was said in, nanoseconds kept, and in wall-clock time.
    pub over: (Duration, Timestamp),
    /// For how long it was said.
    pub length: Duration,
    /// Who said so.
    pub by: Who,
    /// Why, in his words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub because: Option<String>,
}

impl StandBack {
    /// From now on.
    pub fn new(whom: Whom, length: Duration, by: Who, because: Option<String>, now: Moment) -> StandBack {
        let over = (now.boottime + length, now.wall.checked_add(length).unwrap_or(Timestamp::MAX));
        StandBack { whom, since: now.wall, over, length, by, because }
    }

    /// How much of it is left; nothing where it is over. It is counted on the boot-time clock, which nobody sets.
    pub fn left(&self, now: Moment) -> Duration {
        self.over.0.saturating_sub(now.boottime)
    }

    /// As it goes on in another run of the watcher: after another boot by the wall clock, and never longer than was said. Of
    /// that boot's processes none is left.
    pub fn in_this_boot(mut self, same_boot: bool, now: Moment) -> Option<StandBack> {
        self.length = self.length.min(Duration::from_secs(LONGEST_BACK));
        self.over.0 = self.over.0.min(now.boottime + self.length);
        if !same_boot {
            if matches!(self.whom, Whom::Process { .. }) {
                return None;
            }
            let left = Duration::try_from(self.over.1.duration_since(now.wall)).unwrap_or(Duration::ZERO);
            self.over.0 = now.boottime + left.min(self.length);
        }
        (self.left(now) > Duration::ZERO).then_some(self)
    }
}

/// From whom rules stand back at one moment, each until a time of the monotonic clock.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct StandsBack {
    /// From everything.
    pub all: Option<Duration>,
    /// These rules, from everybody.
    pub rules: SortedMap<RuleName, Duration>,
    /// Every rule, from these.
    pub processes: SortedMap<ProcessId, Duration>,
}

impl StandsBack {
    /// By what was said, and what is left of each.
    pub(crate) fn of(all: &[StandBack], now: Moment) -> StandsBack {
        let mut back = StandsBack::default();
        for one in all {
            let until = now.monotonic + one.left(now);
            match &one.whom {
                Whom::All => back.all = back.all.max(Some(until)),
                Whom::Rule(rule) => drop(back.rules.insert(rule.as_str().into(), until)),
                process => back.processes.extend(process.id().map(|id| (id, until))),
            }
        }
        back
    }

    /// Whether there is nobody.
    pub fn is_empty(&self) -> bool {
        self.all.is_none() && self.rules.is_empty() && self.processes.is_empty()
    }

    /// Until when a rule stands back from a process; none where it does not.
    pub fn until(&self, rule: &RuleName, process: &ProcessId) -> Option<Duration> {
        self.all.max(self.rules.get(rule).copied()).max(self.processes.get(process).copied())
    }

    /// Whether a rule does nothing at all to a subject of these processes.
    pub(crate) fn covers(&self, rule: &RuleName, members: &[ProcessId]) -> bool {
        let every = || !members.is_empty() && members.iter().all(|id| self.processes.contains_key(id));
        self.all.is_some() || self.rules.contains_key(rule) || (!self.processes.is_empty() && every())
    }
}
