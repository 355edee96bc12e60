//! Paragraphs beside a word in the margin, fitted to the width.

use super::style::{Label, Styled};
use super::table::wrap;

/// Narrower than that is not wrapped.
const NARROWEST: usize = 24;

/// `word      text, and what does not fit the line goes on below it`.
pub fn under(word: &str, indent: usize, text: &str, width: Option<usize>) -> String {
    lay_out(word, indent, text, width, Label::Heading, str::to_owned)
}

/// The same with the word and the text in a style.
pub fn styled(word: &str, indent: usize, text: &str, width: Option<usize>, label: Label) -> String {
    let style = |line: &str| if line.trim().is_empty() { line.to_owned() } else { Styled(label, line).to_string() };
    lay_out(word, indent, text, width, label, style)
}

fn lay_out(
    word: &str,
    indent: usize,
    text: &str,
    width: Option<usize>,
    margin_label: Label,
    style: impl Fn(&str) -> String,
) -> String {
    let room = width.map_or(usize::MAX, |width| width.saturating_sub(indent).max(NARROWEST));
    let margin = " ".repeat(indent);
    let mut shown = String::new();
    for (at, line) in wrap(text, room).iter().enumerate() {
        let line = line.trim_end();
        if at == 0 && indent > 0 {
            let rest = " ".repeat(indent.saturating_sub(word.len()));
            shown.push_str(&if word.is_empty() { rest } else { format!("{}{rest}", Styled(margin_label, word)) });
        } else {
            shown.push_str(&margin);
        }
        shown.push_str(&style(line));
        shown.push('\n');
    }
    shown
}
