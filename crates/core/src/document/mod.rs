//! What a command has to tell a person, before it is laid out: a first line, entries with a word in the margin, paragraphs,
//! drawings, tables. Text for a terminal, JSON and a page are renderings of it.

mod plot;

use jiff::Timestamp;
use serde_json::{Value, json};

pub use plot::{Axis, Drawing, Mark, Plot, Span, Stairs};

use crate::severity::Tone;

/// A document, from top to bottom.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Document {
    /// Where the text of entries begins, columns.
    pub indent: usize,
    /// What it is made of.
    pub blocks: Vec<Block>,
}

/// A part of a document.
#[derive(Debug, Clone, PartialEq)]
pub enum Block {
    /// The first line: what and where, when, over how long.
    Head(Vec<String>),
    /// What it comes to, in the tone that it deserves; `None` for a plain one.
    Verdict(Option<Tone>, String),
    /// An empty line.
    Gap,
    /// A line of its own over what follows.
    Heading(String),
    /// A paragraph over the whole width.
    Paragraph(String),
    /// A word in the margin, and what belongs to it.
    Entry(Entry),
    /// A line each.
    List(Vec<String>),
    /// A drawing over the whole width.
    Plot(Box<Plot>),
    /// Small drawings side by side.
    Tiles(Vec<Plot>),
    /// Figures in rows and columns.
    Table(Table),
}

/// Figures in rows and columns.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Table {
    /// What its figures are; empty where the headings say all.
    pub caption: String,
    /// Headings; the first column is of names.
    pub columns: Vec<String>,
    /// What programs call them; empty where a table is for people only.
    pub keys: Vec<&'static str>,
    /// Whether cells are shaded by how much they are.
    pub shaded: bool,
    /// The rows.
    pub rows: Vec<TableRow>,
}

/// One row.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct TableRow {
    /// Its name, and what stands beside it.
    pub name: (String, String),
    /// What programs call it, where that is something else.
    pub key: Option<String>,
    /// Its cells.
    pub cells: Vec<Cell>,
    /// Whether it sums up the others.
    pub sum: bool,
}

/// One cell.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Cell {
    /// For people; empty for nothing.
    pub text: String,
    /// For programs, in base units.
    pub value: Option<f64>,
    /// How much it is, from 0 to 1, where cells are shaded.
    pub share: f64,
}

/// A word in the margin, and what belongs to it.
#[derive(Debug, Clone, PartialEq)]
pub struct Entry {
    /// The word.
    pub word: String,
    /// How grave it is; `None` for a plain one.
    pub tone: Option<Tone>,
    /// What belongs to it.
    pub lines: Vec<Text>,
}

/// One piece of text beside the margin.
#[derive(Debug, Clone, PartialEq)]
pub enum Text {
    /// A paragraph.
    Words(String),
    /// A paragraph that stands out as its entry's word does.
    Marked(String),
    /// A command to type, and what it does.
    Command(String, String),
    /// Drawn, or written out elsewhere: not to be wrapped.
    Verbatim(String),
    /// Readings against their limit.
    Chart(Chart),
    /// What it is about, and when that was.
    Title(String, String),
    /// A drawing.
    Plot(Box<Plot>),
}

/// Readings over time against a limit.
#[derive(Debug, Clone, PartialEq)]
pub struct Chart {
    /// The readings, in base units.
    pub points: Vec<(Timestamp, f64)>,
    /// The limit.
    pub limit: f64,
    /// Whether less is worse.
    pub falls: bool,
    /// When it ends.
    pub until: Timestamp,
    /// What happened when, by letters.
    pub marks: Vec<(Timestamp, char)>,
    /// What they mean.
    pub legend: &'static str,
}

impl From<String> for Text {
    fn from(words: String) -> Self {
        Text::Words(words)
    }
}

impl From<&str> for Text {
    fn from(words: &str) -> Self {
        Text::Words(words.to_owned())
    }
}

impl Document {
    /// An empty one.
    pub fn new(indent: usize) -> Document {
        Document { indent, blocks: Vec::new() }
    }

    /// One more part.
    pub fn push(&mut self, block: Block) {
        self.blocks.push(block);
    }

    /// An entry; none where nothing belongs to it.
    pub fn entry<T: Into<Text>>(&mut self, word: &str, lines: impl IntoIterator<Item = T>) {
        self.toned(word, None, lines);
    }

    /// The same in a tone.
    pub fn toned<T: Into<Text>>(&mut self, word: &str, tone: Option<Tone>, lines: impl IntoIterator<Item = T>) {
        let lines: Vec<Text> = lines.into_iter().map(Into::into).collect();
        if !lines.is_empty() {
            self.push(Block::Entry(Entry { word: word.to_owned(), tone, lines }));
        }
    }

    /// Whether it has several parts, each under its heading.
    pub fn has_sections(&self) -> bool {
        self.blocks.iter().filter(|block| matches!(block, Block::Heading(_))).count() > 1
    }

    /// What it comes to.
    pub fn verdict(&self) -> Option<&str> {
        self.blocks.iter().find_map(|block| match block {
            Block::Verdict(_, words) => Some(words.as_str()),
            _ => None,
        })
    }

    /// For programs: the first line, what it comes to, and the entries in their order.
    pub fn json(&self) -> Value {
        let head = self.blocks.iter().find_map(|block| match block {
            Block::Head(pieces) => Some(pieces),
            _ => None,
        });
        let entries: Vec<Value> = self.blocks.iter().filter_map(Block::json).collect();
        json!({ "head": head, "entries": entries })
    }
}

impl Block {
    fn json(&self) -> Option<Value> {
        Some(match self {
            Block::Head(_) | Block::Gap => return None,
            Block::Verdict(_, text) => json!({ "word": "verdict", "lines": [text] }),
            Block::Heading(text) => json!({ "word": "heading", "lines": [text] }),
            Block::Paragraph(text) => json!({ "word": null, "lines": [text] }),
            Block::Entry(entry) => {
                let mut told =
                    json!({ "word": entry.word, "lines": entry.lines.iter().map(Text::json).collect::<Vec<_>>() });
                if let (Some(tone), Some(told)) = (entry.tone, told.as_object_mut()) {
                    told.insert("tone".to_owned(), json!(tone_word(tone)));
                }
                told
            }
            Block::List(lines) => json!({ "word": "list", "lines": lines }),
            Block::Plot(plot) => json!({ "word": "plot", "lines": [plot.json()] }),
            Block::Tiles(plots) => json!({ "word": "plot", "lines": plots.iter().map(Plot::json).collect::<Vec<_>>() }),
            Block::Table(table) => json!({ "word": "table", "lines": [table.json()] }),
        })
    }
}

/// Its word, for programs.
fn tone_word(tone: Tone) -> &'static str {
    match tone {
        Tone::Faint => "faint",
        Tone::Notice => "notice",
        Tone::Warning => "warning",
        Tone::Critical => "critical",
    }
}

impl Table {
    /// A table with those headings, for people and for programs.
    pub fn headed(columns: &[(&'static str, &'static str)]) -> Table {
        Table {
            columns: columns.iter().map(|column| column.0.to_owned()).collect(),
            keys: columns.iter().map(|column| column.1).collect(),
            ..Table::default()
        }
    }

    fn json(&self) -> Value {
        let row = |row: &TableRow| {
            let cells: Vec<Value> =
                row.cells.iter().map(|cell| cell.value.map_or(json!(cell.text), |value| json!(value))).collect();
            json!({ "name": row.key.as_ref().unwrap_or(&row.name.0), "of": row.name.1, "cells": cells, "sum": row.sum })
        };
        let columns = if self.keys.is_empty() { json!(self.columns) } else { json!(self.keys) };
        json!({ "caption": self.caption, "columns": columns, "rows": self.rows.iter().map(row).collect::<Vec<_>>() })
    }
}

impl Cell {
    /// A figure in its base unit, and for people; nothing where it is nothing.
    pub fn figure(value: f64, text: String) -> Cell {
        Cell { text, value: Some(value), share: 0.0 }
    }

    /// The same, shaded.
    pub fn shaded(value: f64, text: String, share: f64) -> Cell {
        Cell { text, value: Some(value), share: share.clamp(0.0, 1.0) }
    }

    /// Words only.
    pub fn words(text: impl Into<String>) -> Cell {
        Cell { text: text.into(), ..Cell::default() }
    }
}

impl Text {
    fn json(&self) -> Value {
        match self {
            Text::Words(words) | Text::Marked(words) | Text::Verbatim(words) => json!(words),
            Text::Command(command, what) => json!({ "command": command, "what": what }),
            Text::Chart(chart) => {
                let points: Vec<Value> = chart.points.iter().map(|(at, value)| json!([at, value])).collect();
                json!({ "points": points, "limit": chart.limit })
            }
            Text::Title(what, when) => json!({ "title": what, "when": when }),
            Text::Plot(plot) => plot.json(),
        }
    }
}
