//! What a record tells beside who, what and why: the rule's words, what comes next, what people were told; of the trail itself its
//! stamps and its removed files.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::words::ToldWord;
use crate::act::Verb;
use crate::answer::{Answer, Answerer};

/// A rule as it was written when it decided.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Wording {
    /// Its lines in the rules file.
    pub text: String,
    /// SHA-256 of the files that rules were loaded from, lower-case hex.
    pub digest: String,
}

/// A file of the trail that was removed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Retired {
    /// Its name.
    pub file: String,
    /// The numbers of its first and last record.
    pub records: [u64; 2],
    /// The hash of its last record: what the first that is left follows on.
    pub hash: String,
}

/// A signature over everything before it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StampRecord {
    /// Its place among the stamps, from 1; 0 where a key begins.
    pub number: u64,
    /// The key it is signed with (Ed25519, lower-case hex); empty where a key begins.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub key: String,
    /// The key of the next stamp.
    pub next: String,
    /// The signature, lower-case hex.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub signature: String,
}

/// What comes next in a case, if the breach goes on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NextRecord {
    /// The word of the step.
    #[serde(rename = "do")]
    pub verb: Verb,
    /// When.
    pub at: Timestamp,
}

/// What somebody has answered who was asked.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AnswerRecord {
    /// What.
    pub answer: Answer,
    /// Who, as far as that is known.
    #[serde(flatten)]
    pub by: Answerer,
}

/// What became of messages to people.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ToldRecord {
    /// The channel.
    pub channel: String,
    /// The places of the records that were told of, in order; none where it is about the channel itself.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub records: Vec<u64>,
    /// What became of them, or of it.
    pub outcome: ToldWord,
    /// Why, for people.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub seen: String,
    /// How long it took, in seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub took: Option<f64>,
}

impl ToldRecord {
    /// About a channel itself.
    pub fn of(channel: &str, outcome: ToldWord) -> ToldRecord {
        ToldRecord { channel: channel.to_owned(), records: Vec::new(), outcome, seen: String::new(), took: None }
    }
}
