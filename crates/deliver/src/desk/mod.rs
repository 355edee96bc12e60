//! People at their desks. The watcher's side decides who is to see what; a helper of each person, running as that person, shows it in his own
//! graphical session, or on his terminals, and hands back what he answers. What a helper says is no more trusted than any program of his.

mod helper;
mod login;
mod notices;
mod people;
mod terminals;

use serde::{Deserialize, Serialize};
use sophron_core::telling::Notice;

pub use helper::{Opened, Speaks, serve};
pub use people::{Begin, Desk, End, Heard, Lines, Told, try_out};
pub use terminals::Terminals;

/// What a helper is told first: on its line, before anything else.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct First {
    /// Whether he may be asked at his terminals.
    pub terminals: bool,
}

/// What a helper is told then.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum ToHelper {
    /// To be seen, instead of what was seen of that case; `nonce` comes back with an answer.
    Show { notice: Box<Notice>, nonce: String },
    /// Not to be seen any more.
    TakeDown { case: u64 },
    /// It stays as it is, and is nobody's concern any more.
    Leave { case: u64 },
}

/// What a helper says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum FromHelper {
    /// It is there: where, in words.
    Shown { case: u64, nonce: String, place: String },
    /// It is not, and why.
    NotShown { case: u64, nonce: String, why: String },
    /// He has answered; in which session, and whether its screen was locked.
    Answer { case: u64, nonce: String, answer: String, session: Option<String>, locked: Option<bool> },
    /// Another program than the one that shows it says that he has.
    Forged { case: u64, nonce: String, answer: String, by: String },
}
