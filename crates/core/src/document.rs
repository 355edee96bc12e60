//! What a command has to tell a person, before it is laid out: a first line, entries with a word in the margin, paragraphs,
//! drawings. Text for a terminal and JSON are renderings of it.

use jiff::Timestamp;
use serde_json::{Value, json};

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
                json!({ "word": entry.word, "lines": entry.lines.iter().map(Text::json).collect::<Vec<_>>() })
            }
        })
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
        }
    }
}
