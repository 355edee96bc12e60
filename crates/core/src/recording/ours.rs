//! What the watcher that made the recording was doing itself.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::model::{ProcessId, Snapshot};
use crate::sorted::SortedSet;
use crate::text;

/// Most outcomes of one sample that are taken from a recording.
const MOST_OUTCOMES: usize = 1024;

/// The hand that a watcher had in one sample: readings of these processes tell of it as well, not of the program alone.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Ours {
    /// PIDs on which a suspension of the watcher was in force since the sample before.
    #[serde(default, skip_serializing_if = "SortedSet::is_empty")]
    pub suspended: SortedSet<u32>,
    /// PIDs with an act under way.
    #[serde(default, skip_serializing_if = "SortedSet::is_empty")]
    pub busy: SortedSet<u32>,
    /// PIDs from which rules stood back, because a hand had acted on them.
    #[serde(default, skip_serializing_if = "SortedSet::is_empty")]
    pub back: SortedSet<u32>,
    /// PIDs from which they stood back by somebody's word.
    #[serde(default, skip_serializing_if = "SortedSet::is_empty")]
    pub back_from: SortedSet<u32>,
    /// Rules that stood back from everybody, by somebody's word.
    #[serde(default, skip_serializing_if = "SortedSet::is_empty")]
    pub back_rules: SortedSet<String>,
    /// Whether all did.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub back_all: bool,
    /// PIDs of its helpers, which were not judged.
    #[serde(default, skip_serializing_if = "SortedSet::is_empty")]
    pub helpers: SortedSet<u32>,
    /// What became of its questions since the sample before.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub asked: Vec<Asked>,
    /// What came of its acts since the sample before.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub outcomes: Vec<Outcome>,
}

/// What came of one act.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Outcome {
    /// When it was known.
    pub at: Timestamp,
    /// The process.
    pub pid: u32,
    /// Its start time, clock ticks since boot.
    pub start: u64,
    /// Its program.
    pub app: String,
    /// Its owner.
    pub owner: String,
    /// The case, if it was a rule.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub case: Option<u64>,
    /// What was to be done.
    #[serde(rename = "do")]
    pub verb: String,
    /// What came of it, as in the audit trail.
    pub outcome: String,
}

/// What became of a question about a process.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Asked {
    /// When it was known.
    pub at: Timestamp,
    /// The process.
    pub pid: u32,
    /// Its start time, clock ticks since boot.
    pub start: u64,
    /// The act that was asked about.
    #[serde(rename = "do")]
    pub verb: String,
    /// What became of it, as in the audit trail.
    pub came: String,
    /// What was answered, and the user ID that the answer came with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answer: Option<(String, u32)>,
    /// Where it was shown, or why it could not be.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub why: String,
}

impl Ours {
    /// Whether there is nothing to tell.
    pub fn is_empty(&self) -> bool {
        let none = self.suspended.is_empty() && self.busy.is_empty() && self.back.is_empty() && self.helpers.is_empty();
        let nobody = self.back_from.is_empty() && self.back_rules.is_empty() && !self.back_all;
        none && nobody && self.asked.is_empty() && self.outcomes.is_empty()
    }

    /// The same with texts made harmless and counts bounded.
    pub(super) fn checked(mut self) -> Ours {
        self.outcomes.truncate(MOST_OUTCOMES);
        self.asked.truncate(MOST_OUTCOMES);
        for asked in &mut self.asked {
            for words in [&mut asked.verb, &mut asked.came, &mut asked.why] {
                *words = text::clean(words.as_bytes());
            }
        }
        for outcome in &mut self.outcomes {
            for words in [&mut outcome.app, &mut outcome.owner, &mut outcome.verb, &mut outcome.outcome] {
                *words = text::clean(words.as_bytes());
            }
        }
        self
    }
}

/// The processes of a sample that have these PIDs.
pub fn identities(pids: &SortedSet<u32>, snapshot: &Snapshot) -> SortedSet<ProcessId> {
    pids.iter().filter_map(|pid| Some(snapshot.process(*pid)?.id)).collect()
}
