//! Drawings of a document at a terminal: rows of bars, a lane of cases, the times beneath.

use jiff::Timestamp;
use sophron_core::document::{Axis, Drawing, Plot, Span, Stairs};
use sophron_core::severity::{Severity, Tone};

use super::chart;
use super::style::{Label, Styled};

/// The width where there is no terminal.
const PAGE: usize = 110;

/// Wider than that nothing is drawn.
const WIDEST: usize = 140;

/// Rows of a drawing.
const ROWS: usize = 3;

/// Columns of a small one.
const SMALL: usize = 40;

fn columns(width: Option<usize>, indent: usize) -> usize {
    width.unwrap_or(PAGE).saturating_sub(indent).clamp(16, WIDEST)
}

fn column(axis: &Axis, at: Timestamp, columns: usize) -> usize {
    ((axis.part(at) * columns as f64) as usize).min(columns.saturating_sub(1))
}

/// The columns in which some of a stretch of time is.
fn within(axis: &Axis, from: Timestamp, until: Timestamp, columns: usize) -> (usize, usize) {
    let first = column(axis, from, columns);
    let end = (axis.part(until) * columns as f64).ceil() as usize;
    (first, end.clamp(first + 1, columns.max(first + 1)) - 1)
}

/// A drawing over the width; `axis` says whether the times stand beneath.
pub fn text(plot: &Plot, indent: usize, width: Option<usize>, axis: bool) -> String {
    let wide = columns(width, indent);
    let margin = " ".repeat(indent);
    let mut head = Styled(Label::Heading, &plot.title).to_string();
    let mut lines: Vec<String> = Vec::new();
    match &plot.drawing {
        Drawing::Levels { bars, key } => {
            let words: Vec<&str> = key.iter().map(|(_, words)| words.as_str()).collect();
            head.push_str(&format!("  {}: {}", plot.of, words.join(", ")));
            lines.push(levels(&plot.axis, bars, wide));
        }
        Drawing::Spans(spans) => lines.push(lane(&plot.axis, spans, wide)),
        Drawing::Stairs(stairs) => {
            let peak = stairs.peak.as_ref().map(|(_, _, words)| format!("; highest {words}")).unwrap_or_default();
            let limits: Vec<&str> = stairs.limits.iter().map(|(_, words)| words.as_str()).collect();
            let limits = match limits.len() {
                0 => String::new(),
                1 => format!("; limit {}", limits[0]),
                _ => format!("; limits {}", limits.join(" and ")),
            };
            if !plot.title.is_empty() {
                head.push_str(&format!("  {}{peak}{limits}", plot.of));
            }
            lines.extend(rows(&plot.axis, stairs, wide, ROWS));
        }
    }
    let times = times(&plot.axis, wide);
    if axis && !times.is_empty() {
        lines.push(times);
    }
    let head = if plot.title.is_empty() { String::new() } else { format!("{margin}{head}\n") };
    head + &lines.iter().map(|line| format!("{margin}{}\n", line.trim_end())).collect::<String>()
}

/// What happened, beneath the drawing of a case.
pub fn steps(plot: &Plot) -> String {
    let Drawing::Stairs(stairs) = &plot.drawing else { return String::new() };
    let words: Vec<String> = stairs.marks.iter().map(|mark| format!("{} {}", mark.word, mark.clock)).collect();
    words.join(", ")
}

/// A small drawing in one row.
pub fn tile(plot: &Plot, width: Option<usize>) -> Vec<String> {
    let Drawing::Stairs(stairs) = &plot.drawing else { return Vec::new() };
    let room = columns(width, 48).min(SMALL);
    let drawn = rows(&plot.axis, stairs, room, 1).concat();
    let words = stairs.peak.as_ref().map(|(_, _, words)| words.clone()).unwrap_or_default();
    vec![plot.title.clone(), plot.of.clone(), anstream::adapter::strip_str(&drawn).to_string(), words]
}

fn levels(axis: &Axis, bars: &[(Timestamp, Timestamp, Option<Tone>)], columns: usize) -> String {
    let mut cells: Vec<Option<Option<Tone>>> = vec![None; columns];
    for (from, until, tone) in bars {
        let (first, last) = within(axis, *from, *until, columns);
        for cell in &mut cells[first..=last] {
            *cell = Some(cell.map_or(*tone, |known| known.max(*tone)));
        }
    }
    let one = |cell: &Option<Option<Tone>>| match cell {
        None => " ".to_owned(),
        Some(None) => Styled(Label::Faint, "▁").to_string(),
        Some(Some(Tone::Faint)) => Styled(Label::Faint, "·").to_string(),
        Some(Some(Tone::Notice)) => Styled(Label::Notice, "▄").to_string(),
        Some(Some(Tone::Warning)) => Styled(Label::Warning, "▆").to_string(),
        Some(Some(Tone::Critical)) => Styled(Label::Critical, "█").to_string(),
    };
    cells.iter().map(one).collect()
}

/// Each case from its beginning to its end, with its number where there is room.
fn lane(axis: &Axis, spans: &[Span], columns: usize) -> String {
    let mut cells: Vec<Option<(char, Severity)>> = vec![None; columns];
    for span in spans {
        let (first, last) = (column(axis, span.from, columns), column(axis, span.until, columns));
        for cell in &mut cells[first..=last] {
            *cell = Some(('━', cell.map_or(span.severity, |(_, known)| known.max(span.severity))));
        }
    }
    for span in spans {
        let first = column(axis, span.from, columns);
        for (place, digit) in span.number.to_string().chars().enumerate() {
            if let Some(Some((letter, _))) = cells.get_mut(first + place) {
                *letter = digit;
            }
        }
    }
    let one = |cell: &Option<(char, Severity)>| match cell {
        None => " ".to_owned(),
        Some((letter, severity)) => Styled(Label::from(*severity), &letter.to_string()).to_string(),
    };
    cells.iter().map(one).collect()
}

/// The figure in so many rows; what is beyond the limit while something was wrong stands out.
fn rows(axis: &Axis, stairs: &Stairs, columns: usize, rows: usize) -> Vec<String> {
    let mut cells: Vec<Option<f64>> = vec![None; columns];
    for (place, (at, value)) in stairs.points.iter().enumerate() {
        let Some(value) = value else { continue };
        let until = stairs.points.get(place + 1).map_or(axis.until, |(next, _)| *next);
        let (first, last) = within(axis, *at, until, columns);
        for cell in &mut cells[first..=last] {
            *cell = Some(cell.map_or(*value, |known| known.max(*value)));
        }
    }
    let limit = stairs.limits.iter().map(|(limit, _)| *limit).fold(f64::INFINITY, f64::min);
    let label = |place: usize, value: f64| {
        let at = axis.from
            + axis.until.duration_since(axis.from).checked_mul(place as i32).unwrap_or_default() / columns as i32;
        let painted = stairs
            .painted
            .iter()
            .filter(|(from, until, _)| *from <= at && at <= *until)
            .map(|(.., severity)| *severity);
        let beyond = if stairs.falls { value < limit } else { value >= limit || !limit.is_finite() };
        painted.max().filter(|_| beyond).map_or(Label::Faint, Label::from)
    };
    let labels: Vec<Label> = cells.iter().enumerate().map(|(place, cell)| label(place, cell.unwrap_or(0.0))).collect();
    let drawn = chart::rows(&cells, stairs.full, rows);
    let styled = |line: &String| {
        line.chars().zip(&labels).map(|(bar, label)| Styled(*label, &bar.to_string()).to_string()).collect::<String>()
    };
    drawn.iter().map(styled).collect()
}

fn times(axis: &Axis, columns: usize) -> String {
    let mut line = String::new();
    for (at, words) in &axis.ticks {
        let place = column(axis, *at, columns);
        let used = line.chars().count();
        if place >= used && place + words.chars().count() <= columns && (used == 0 || place > used) {
            line.push_str(&" ".repeat(place - used));
            line.push_str(words);
        }
    }
    line
}
