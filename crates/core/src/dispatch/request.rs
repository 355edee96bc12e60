//! What may be asked of a running watcher, as it is put.

use serde::{Deserialize, Serialize};

use super::Wanted;

/// One question, or one word, on one line.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Request {
    /// How a rule stands to a process.
    Why(Wanted),
    /// How the watch stands.
    Status,
    /// Rules are to stand back.
    StandBack(Back),
    /// They are to do so no longer.
    ActAgain(Back),
    /// The rules file is to be read anew.
    Reload,
}

/// From whom rules are to stand back.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Back {
    /// From everything.
    #[serde(default)]
    pub all: bool,
    /// These rules, from everybody.
    #[serde(default)]
    pub rules: Vec<String>,
    /// From these processes: PID and start time, clock ticks since boot.
    #[serde(default)]
    pub processes: Vec<(u32, u64)>,
    /// For how many seconds.
    #[serde(default)]
    pub seconds: u64,
    /// Why.
    #[serde(default)]
    pub because: Option<String>,
}

/// Longest stand-back from everything, seconds.
pub const LONGEST_FROM_ALL: u64 = 8 * 3600;

/// Longest stand-back from a rule or a process, seconds.
pub const LONGEST_BACK: u64 = 7 * 86_400;

impl Request {
    /// From one line, which may come from anybody.
    ///
    /// # Errors
    /// It is none.
    pub fn read(line: &[u8]) -> serde_json::Result<Request> {
        serde_json::from_slice(line)
    }
}

impl Back {
    /// Why that may not be.
    ///
    /// # Errors
    /// In words.
    pub fn check(&self) -> Result<(), String> {
        let most = if self.all { LONGEST_FROM_ALL } else { LONGEST_BACK };
        if !self.all && self.rules.is_empty() && self.processes.is_empty() {
            return Err("nobody is named".to_owned());
        }
        match self.seconds {
            0 => Err("for no time at all: write --for 30m".to_owned()),
            seconds if seconds > most => Err(match self.all {
                true => "from everything for 8 hours at most: longer the machine would be unwatched; `hours` in the rules file is for what is known beforehand".to_owned(),
                false => "for 7 days at most; `hours` in the rules file is for what is known beforehand".to_owned(),
            }),
            _ => Ok(()),
        }
    }
}
