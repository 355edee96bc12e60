//! What the person whose program it is is asked before a step, and what is answered.

use std::time::Duration;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::rules::{Action, Unasked};
use crate::words::words;

words! {
    /// What somebody who is asked may decide.
    Answer {
        /// It runs on, within what the rule allows.
        LetRun = "let-run",
        /// It stands still for five minutes.
        Suspend = "suspend",
        /// It is asked to end at once.
        End = "end",
        /// Its unit is started anew.
        Restart = "restart",
    }
}

/// How long it is suspended for whoever answers so.
pub(crate) const SUSPENDED_FOR: Duration = Duration::from_secs(300);

impl Answer {
    /// All of them.
    pub const ALL: [Answer; 4] = [Answer::LetRun, Answer::Suspend, Answer::End, Answer::Restart];
}

/// Who has answered, as far as that is known: over whose bus, and never "who".
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Answerer {
    /// Whose user ID the answer came with.
    pub uid: u32,
    /// By which way: `the bus of user 1001`, `the command of root`.
    pub over: String,
    /// Of a session: which.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub session: Option<String>,
    /// Whether its screen was locked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub locked: Option<bool>,
}

/// An answer as it comes in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answered {
    /// What.
    pub answer: Answer,
    /// Who.
    pub by: Answerer,
}

/// What a question is about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Question {
    /// Its number, within a run of the watcher.
    pub number: u64,
    /// What is done if nobody answers.
    pub action: Action,
    /// The step, by its place.
    pub step: usize,
    /// Who is asked: user ID and name.
    pub person: (u32, String),
    /// How long.
    pub window: Duration,
    /// What he may answer.
    pub offers: Vec<Answer>,
}

/// What has become of a question.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Turn {
    /// It is shown to him, until then: where.
    Shown(String, Timestamp),
    /// He, or who may for him, has answered; until when it runs or stands still, where that is so.
    Answered(Answered, Option<Timestamp>),
    /// An answer that does not count, and why: nothing is done.
    TurnedDown(Answered, String),
    /// Nobody has answered in time.
    Unanswered,
    /// He could not be asked: why, and what becomes of the step.
    Unasked(String, Unasked),
    /// It no longer stands, and why.
    Withdrawn(String),
}

impl Turn {
    /// Whether the question is over by it.
    pub fn is_the_end(&self) -> bool {
        !matches!(self, Turn::Shown(..) | Turn::TurnedDown(..))
    }
}
