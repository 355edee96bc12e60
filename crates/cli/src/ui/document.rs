//! A document as text for a terminal.

use jiff::tz::TimeZone;
use sophron_core::document::{Block, Chart, Document, Entry, Text};

use super::style::{Label, Styled};
use super::timeline::Canvas;
use super::{paragraph, table};

/// The width where there is no terminal.
const PAGE: usize = 110;

/// Laid out, fitted to the width.
pub fn text(document: &Document, width: Option<usize>) -> String {
    document.blocks.iter().map(|block| of_block(block, document.indent, width)).collect()
}

fn of_block(block: &Block, indent: usize, width: Option<usize>) -> String {
    match block {
        Block::Head(pieces) => {
            let heading = |(place, piece): (usize, &String)| match place {
                0 => Styled(Label::Heading, piece).to_string(),
                _ => piece.clone(),
            };
            table::flow(&pieces.iter().enumerate().map(heading).collect::<Vec<_>>(), width)
        }
        Block::Verdict(tone, text) => paragraph::styled("", 0, text, width, tone.map_or(Label::Heading, Label::from)),
        Block::Gap => "\n".to_owned(),
        Block::Heading(text) => format!("{}\n", Styled(Label::Heading, text)),
        Block::Paragraph(text) => paragraph::under("", 0, text, width),
        Block::Entry(entry) => {
            let line = |(place, line): (usize, &Text)| {
                of_line(entry, if place == 0 { &entry.word } else { "" }, line, indent, width)
            };
            entry.lines.iter().enumerate().map(line).collect()
        }
    }
}

fn of_line(entry: &Entry, word: &str, line: &Text, indent: usize, width: Option<usize>) -> String {
    let label = entry.tone.map_or(Label::Heading, Label::from);
    match line {
        Text::Words(words) => paragraph::under(word, indent, words, width),
        Text::Marked(words) => paragraph::styled(word, indent, words, width, label),
        Text::Command(command, what) => {
            paragraph::under(word, indent, &format!("{}   {what}", Styled(Label::Notice, command)), width)
        }
        Text::Verbatim(drawn) => format!("{}{drawn}\n", Styled(label, &format!("{word:<indent$}"))),
        Text::Chart(chart) => of_chart(chart, word, indent, width),
    }
}

/// The readings against the limit, with what was done beneath.
fn of_chart(chart: &Chart, word: &str, indent: usize, width: Option<usize>) -> String {
    let Some(first) = chart.points.first() else { return String::new() };
    let columns = width.unwrap_or(PAGE).saturating_sub(indent).clamp(24, 100);
    let zone = TimeZone::system();
    let canvas = Canvas { from: first.0, to: chart.until, columns, zone: &zone };
    let drawn = canvas.bars(&chart.points, chart.limit, chart.falls);
    let lines = [drawn.trim_end().to_owned(), canvas.marks(&chart.marks), canvas.axis(), chart.legend.to_owned()];
    let margin = |place: usize| if place == 0 { word } else { "" };
    let line = |(place, line): (usize, &String)| {
        format!("{}{line}\n", Styled(Label::Heading, &format!("{:<indent$}", margin(place))))
    };
    lines.iter().enumerate().map(line).collect()
}
