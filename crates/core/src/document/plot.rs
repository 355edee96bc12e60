//! What is drawn: figures over time, with their limits and what happened. A terminal and a page draw the same.

use jiff::Timestamp;
use serde_json::{Value, json};

use crate::severity::{Severity, Tone};

/// Figures over time.
#[derive(Debug, Clone, PartialEq)]
pub struct Plot {
    /// What it shows, in a word or two.
    pub title: String,
    /// What its figures are, as `% of 4 cores`; or whose they are.
    pub of: String,
    /// The same in a sentence, for whoever does not see it.
    pub says: String,
    /// From when to when.
    pub axis: Axis,
    /// What is drawn.
    pub drawing: Drawing,
}

/// A stretch of time.
#[derive(Debug, Clone, PartialEq)]
pub struct Axis {
    /// Its beginning.
    pub from: Timestamp,
    /// Its end.
    pub until: Timestamp,
    /// Times that are named.
    pub ticks: Vec<(Timestamp, String)>,
    /// When nothing was seen, and why.
    pub blanks: Vec<(Timestamp, Timestamp, &'static str)>,
}

/// What is drawn over an axis.
#[derive(Debug, Clone, PartialEq)]
pub enum Drawing {
    /// A bar for each stretch: how bad it was.
    Levels {
        /// From, until, and the tone; none for fine.
        bars: Vec<(Timestamp, Timestamp, Option<Tone>)>,
        /// What the tones mean, the worst first.
        key: Vec<(Option<Tone>, String)>,
    },
    /// Stretches with their numbers.
    Spans(Vec<Span>),
    /// A figure that stays until the next.
    Stairs(Stairs),
}

/// A stretch with its number.
#[derive(Debug, Clone, PartialEq)]
pub struct Span {
    /// Its beginning.
    pub from: Timestamp,
    /// Its end.
    pub until: Timestamp,
    /// How grave it is.
    pub severity: Severity,
    /// Its number.
    pub number: u64,
}

/// A figure over time.
#[derive(Debug, Clone, PartialEq)]
pub struct Stairs {
    /// The figure from that moment on; `None` where it is not known.
    pub points: Vec<(Timestamp, Option<f64>)>,
    /// What the full height stands for.
    pub full: f64,
    /// Limits, with their words.
    pub limits: Vec<(f64, String)>,
    /// Whether less is worse.
    pub falls: bool,
    /// Stretches in the colour of a severity.
    pub painted: Vec<(Timestamp, Timestamp, Severity)>,
    /// What happened when: a word, the time of day, and whether it was by itself.
    pub marks: Vec<Mark>,
    /// The highest, with its words.
    pub peak: Option<(Timestamp, f64, String)>,
}

/// Something that happened.
#[derive(Debug, Clone, PartialEq)]
pub struct Mark {
    /// When.
    pub at: Timestamp,
    /// What, in a word or three.
    pub word: String,
    /// The time of day.
    pub clock: String,
    /// It came by itself: nobody did it.
    pub by_itself: bool,
}

impl Axis {
    /// Where a moment is, from 0 to 1.
    pub fn part(&self, at: Timestamp) -> f64 {
        let all = self.until.duration_since(self.from).as_secs_f64().max(1e-3);
        (at.duration_since(self.from).as_secs_f64() / all).clamp(0.0, 1.0)
    }
}

impl Plot {
    /// For programs.
    pub(super) fn json(&self) -> Value {
        let tone = |tone: &Option<Tone>| tone.map(super::tone_word);
        let drawing = match &self.drawing {
            Drawing::Levels { bars, key } => json!({
                "bars": bars.iter().map(|(from, until, level)| json!([from, until, tone(level)])).collect::<Vec<_>>(),
                "key": key.iter().map(|(level, words)| json!([tone(level), words])).collect::<Vec<_>>(),
            }),
            Drawing::Spans(spans) => json!({
                "spans": spans
                    .iter()
                    .map(|span| json!({ "from": span.from, "until": span.until, "severity": span.severity, "number": span.number }))
                    .collect::<Vec<_>>(),
            }),
            Drawing::Stairs(stairs) => json!({
                "points": stairs.points.iter().map(|(at, value)| json!([at, value])).collect::<Vec<_>>(),
                "limits": stairs.limits.iter().map(|(limit, _)| limit).collect::<Vec<_>>(),
                "marks": stairs.marks.iter().map(|mark| json!([mark.at, mark.word])).collect::<Vec<_>>(),
            }),
        };
        json!({ "title": self.title, "of": self.of, "says": self.says, "from": self.axis.from, "until": self.axis.until, "drawn": drawing })
    }
}
