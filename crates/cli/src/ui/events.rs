//! The event lines of a watcher: time, what happened in one word, case, who, and what comes next.

use jiff::Timestamp;

use super::style::{Label, Styled};
use super::when;

/// One line.
#[derive(Debug, Clone)]
pub struct EventLine {
    pub at: Timestamp,
    pub word: &'static str,
    pub label: Label,
    pub case: Option<u64>,
    /// App, checked PID and owner.
    pub who: String,
    pub text: String,
}

impl EventLine {
    pub fn render(&self) -> String {
        let case = self.case.map(|case| format!("case {case}  ")).unwrap_or_default();
        let who = if self.who.is_empty() { String::new() } else { format!("{}  ", self.who) };
        let word = format!("{:<9}", self.word);
        format!("{}  {}  {case}{who}{}", when::clock(self.at), Styled(self.label, word), self.text)
    }
}
