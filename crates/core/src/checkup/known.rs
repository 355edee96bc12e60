//! Findings that are known, by a rules file, with their reason.

use super::{Finding, FindingKind};

/// A finding that somebody has looked at and left.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Known {
    /// What it is about.
    pub finding: FindingKind,
    /// The app, file system or control group that it is about; `None` for any.
    pub of: Option<String>,
    /// Why it is left.
    pub reason: String,
}

impl Known {
    /// Whether that is the finding meant: by its file system or group, else by the app of its first suspect.
    pub fn is(&self, finding: &Finding) -> bool {
        let first = finding.suspects.first().map(|suspect| &suspect.app);
        let of_it = |of: &String| finding.of.as_ref() == Some(of) || first == Some(of);
        self.finding == finding.kind && self.of.as_ref().is_none_or(of_it)
    }
}
