//! Labels to styles: one small table. The colours are told apart by colour-blind eyes too.

use std::fmt;

use anstyle::{Ansi256Color, Style};
use sophron_core::severity::{Severity, Tone};

/// What a piece of text is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Label {
    Heading,
    Faint,
    Notice,
    Warning,
    Critical,
}

impl From<Severity> for Label {
    fn from(severity: Severity) -> Label {
        match severity {
            Severity::Notice => Label::Notice,
            Severity::Warning => Label::Warning,
            Severity::Critical => Label::Critical,
        }
    }
}

impl From<Tone> for Label {
    fn from(tone: Tone) -> Label {
        match tone {
            Tone::Faint => Label::Faint,
            Tone::Notice => Label::Notice,
            Tone::Warning => Label::Warning,
            Tone::Critical => Label::Critical,
        }
    }
}

const BLUE: Ansi256Color = Ansi256Color(75);
const ORANGE: Ansi256Color = Ansi256Color(214);
const PURPLE_RED: Ansi256Color = Ansi256Color(204);

fn style(label: Label) -> Style {
    match label {
        Label::Heading => Style::new().bold(),
        Label::Faint => Style::new().dimmed(),
        Label::Notice => Style::new().fg_color(Some(BLUE.into())),
        Label::Warning => Style::new().fg_color(Some(ORANGE.into())),
        Label::Critical => Style::new().fg_color(Some(PURPLE_RED.into())).bold(),
    }
}

/// Text with its label; the stream it goes to decides whether colour is shown.
pub struct Styled<T>(pub Label, pub T);

impl<T: fmt::Display> fmt::Display for Styled<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let style = style(self.0);
        write!(f, "{style}{}{style:#}", self.1)
    }
}
