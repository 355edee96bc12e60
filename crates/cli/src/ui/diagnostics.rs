//! Errors in a rules file or a condition, with the excerpt they stand in.

use std::path::Path;

use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet};
use sophron_core::diag::{Diagnostic, line_and_column};

use super::table::terminal_width;

/// Most errors shown at once; the rest is counted.
const MOST: usize = 40;

/// The longest line that is shown as an excerpt; of a longer one only the place is named.
const LONGEST_LINE: usize = 400;

/// All errors of a text, as text.
pub fn render(errors: &[Diagnostic], text: &str, origin: &str) -> String {
    let renderer = Renderer::styled().decor_style(DecorStyle::Ascii).term_width(terminal_width().unwrap_or(120));
    let mut out = String::new();
    for error in errors.iter().take(MOST) {
        out.push_str(&one(&renderer, error, text, origin));
        out.push_str("\n\n");
    }
    if errors.len() > MOST {
        out.push_str(&format!("… and {} more\n\n", errors.len() - MOST));
    }
    out
}

fn one(renderer: &Renderer, error: &Diagnostic, text: &str, origin: &str) -> String {
    let mut group = Group::with_title(Level::ERROR.primary_title(error.title.as_str()));
    // Control characters of the file must not reach the terminal: one byte each, so that places stay right.
    let shown: String = text.chars().map(|c| if c.is_control() && c != '\n' && c != '\t' { '?' } else { c }).collect();
    let same_places = shown.len() == text.len();
    match &error.span {
        Some(span) if same_places && excerpt_is_short(text, span.start) => {
            let end = span.end.max(span.start).min(text.len());
            let label = AnnotationKind::Primary.span(span.start.min(end)..end).label(error.label.as_str());
            group = group.element(Snippet::source(shown).path(origin).annotation(label));
        }
        Some(span) => {
            let (line, column) = line_and_column(text, span.start);
            group = group.element(Level::NOTE.message(format!("at {origin}:{line}:{column}: {}", error.label)));
        }
        None => group = group.element(Level::NOTE.message(format!("in {origin}"))),
    }
    for help in &error.helps {
        group = group.element(Level::HELP.message(help.as_str()));
    }
    renderer.render(&[group])
}

fn excerpt_is_short(text: &str, at: usize) -> bool {
    let before = text.get(..at).unwrap_or(text);
    let start = before.rfind('\n').map_or(0, |newline| newline + 1);
    text.get(start..).and_then(|rest| rest.lines().next()).is_none_or(|line| line.len() <= LONGEST_LINE)
}

/// A file's path for messages, made harmless.
pub fn origin(path: &Path) -> String {
    sophron_core::text::clean(path.as_os_str().as_encoded_bytes())
}
