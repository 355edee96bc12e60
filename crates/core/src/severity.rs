//! How serious something is.

use serde::{Deserialize, Serialize};

/// How serious a case is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
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
    /// Every severity, the mildest first.
    pub(crate) const ALL: [Severity; 3] = [Severity::Notice, Severity::Warning, Severity::Critical];

    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Severity::Notice => "notice",
            Severity::Warning => "warning",
            Severity::Critical => "critical",
        }
    }

    /// The severity of that word.
    pub fn of_word(word: &str) -> Option<Severity> {
        Severity::ALL.into_iter().find(|severity| severity.word() == word)
    }
}

/// How grave a line is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Tone {
    /// Only for whoever reads all.
    Faint,
    /// Worth knowing.
    Notice,
    /// Worth looking at.
    Warning,
    /// Worth getting up for.
    Critical,
}

impl From<Severity> for Tone {
    fn from(severity: Severity) -> Tone {
        match severity {
            Severity::Notice => Tone::Notice,
            Severity::Warning => Tone::Warning,
            Severity::Critical => Tone::Critical,
        }
    }
}
