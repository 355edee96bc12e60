//! What a helper is told to deliver, and what it says: lines of JSON by its standard output, so that what was taken is known even of one
//! that was ended.

use std::fmt;

use serde::{Deserialize, Serialize};
use sophron_core::telling::{Message, To, Trouble};

use crate::{collector, hook, mail};

/// One delivery.
#[derive(Debug, Serialize, Deserialize)]
pub struct Job {
    /// By which way.
    pub to: To,
    /// What it takes.
    pub supplies: Supplies,
    /// What is delivered, the oldest first.
    pub messages: Vec<Message>,
}

/// What a way takes that stands in no rules file.
#[derive(Debug, Default, Serialize, Deserialize)]
pub struct Supplies {
    /// What only we and the other side know.
    pub secret: Option<Secret>,
    /// Certificates of those who may vouch for the other side (PEM).
    pub roots: String,
}

/// Shown to nobody.
#[derive(Clone, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Secret(String);

impl Secret {
    /// As it stands in its file: a last line end is not of it.
    ///
    /// # Errors
    /// It is empty, or no single line of text.
    pub fn of_file(bytes: &[u8]) -> Result<Secret, &'static str> {
        let text = str::from_utf8(bytes).map_err(|_| "is not text")?.trim_end_matches(['\n', '\r']);
        match text {
            "" => Err("is empty"),
            text if text.chars().any(char::is_control) => Err("has more than one line"),
            text => Ok(Secret(text.to_owned())),
        }
    }

    pub(crate) fn text(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("…")
    }
}

/// What a helper says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Said {
    /// How far it has come.
    Step(String),
    /// So many more were taken.
    Taken(usize),
    /// The next one was not.
    Trouble(Trouble),
}

/// Delivers, and says how far it came.
pub fn carry_out(job: &Job, say: &mut dyn FnMut(Said)) {
    let done = match &job.to {
        // The machine's own log is told by the watcher itself, and people at their desks by helpers of their own.
        To::Log | To::Desk(_) => Ok(()),
        To::Collector(to) => collector::deliver(to, job, say),
        To::Mail(to) => mail::deliver(to, job, say),
        To::Hook(to) => hook::deliver(to, job, say),
    };
    if let Err(trouble) = done {
        say(Said::Trouble(trouble));
    }
}
