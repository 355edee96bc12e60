//! What is wrong with a text, where, and how to mend it. Rendering is the interface's business.

use std::ops::Range;

/// One error in a rules file or a condition.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Diagnostic {
    /// The short title: what is wrong.
    pub title: String,
    /// Where, in bytes of the text that was read; `None` when it concerns the whole of it.
    pub span: Option<Range<usize>>,
    /// Said at the place.
    pub label: String,
    /// How to mend it: the text to write.
    pub helps: Vec<String>,
}

impl Diagnostic {
    /// An error at a place.
    pub fn at(span: Range<usize>, title: impl Into<String>, label: impl Into<String>) -> Self {
        Diagnostic { title: title.into(), span: Some(span), label: label.into(), helps: Vec::new() }
    }

    /// An error of the whole text.
    pub fn whole(title: impl Into<String>) -> Self {
        Diagnostic { title: title.into(), span: None, label: String::new(), helps: Vec::new() }
    }

    /// With a mend.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Self {
        self.helps.push(help.into());
        self
    }

    /// With a mend, if there is one.
    #[must_use]
    pub fn maybe_help(self, help: Option<String>) -> Self {
        match help {
            Some(help) => self.help(help),
            None => self,
        }
    }

    /// The same error in a text that holds this one's text from `by` on.
    #[must_use]
    pub(crate) fn shifted(mut self, by: usize) -> Self {
        self.span = self.span.map(|span| span.start + by..span.end + by);
        self
    }

    /// The same error with another place, for a text whose bytes do not map one to one.
    #[must_use]
    pub(crate) fn moved_to(mut self, span: Range<usize>) -> Self {
        self.span = Some(span);
        self
    }
}

/// Line and column (both from 1, the column in characters) of a byte offset.
pub fn line_and_column(text: &str, offset: usize) -> (usize, usize) {
    let before = text.get(..offset).unwrap_or(text);
    let line_start = before.rfind('\n').map_or(0, |newline| newline + 1);
    (before.matches('\n').count() + 1, before[line_start..].chars().count() + 1)
}
