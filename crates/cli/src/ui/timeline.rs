//! Readings over time: a row of bars, on which half a bar is the limit, and marks beneath.

use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::ui::chart;
use crate::ui::style::{Label, Styled};

/// Columns between two times of the axis.
const APART: usize = 12;

/// A span, and how wide it is drawn.
pub struct Canvas<'z> {
    pub from: Timestamp,
    pub to: Timestamp,
    pub columns: usize,
    pub zone: &'z TimeZone,
}

impl Canvas<'_> {
    fn column(&self, at: Timestamp) -> usize {
        let all = self.to.duration_since(self.from).as_secs_f64().max(1.0);
        let part = at.duration_since(self.from).as_secs_f64() / all;
        ((part * self.columns as f64) as usize).min(self.columns.saturating_sub(1))
    }

    /// The times beneath the rows.
    pub fn axis(&self) -> String {
        let step = self.to.duration_since(self.from) / (self.columns.div_ceil(APART).max(1) as i32);
        let form = if self.to.duration_since(self.from).as_mins() < 10 { "%H:%M:%S" } else { "%H:%M" };
        let mut line = String::new();
        for place in 0..self.columns / APART {
            let at = self.from + step * place as i32;
            line.push_str(&format!("{:<APART$}", at.to_zoned(self.zone.clone()).strftime(form).to_string()));
        }
        line.trim_end().to_owned()
    }

    fn shows(&self, at: Timestamp) -> bool {
        at >= self.from && at <= self.to
    }

    /// Readings; what is past the limit stands out. `falls`: less is worse.
    pub fn bars(&self, points: &[(Timestamp, f64)], limit: f64, falls: bool) -> String {
        let mut cells: Vec<Option<f64>> = vec![None; self.columns];
        for (at, number) in points.iter().filter(|(at, _)| self.shows(*at)) {
            // How far it is past the limit: 1 at the limit itself.
            let part = if falls { limit / number.max(1.0) } else { number / limit.max(1e-9) };
            let cell = &mut cells[self.column(*at)];
            *cell = Some(cell.map_or(part, |known| known.max(part)));
        }
        // Between two readings of one story it stays as it was.
        let (first, last) = (cells.iter().position(Option::is_some), cells.iter().rposition(Option::is_some));
        if let (Some(first), Some(last)) = (first, last) {
            for place in first + 1..last {
                cells[place] = cells[place].or(cells[place - 1]);
            }
        }
        let mut line = String::new();
        for cell in cells {
            let Some(part) = cell else {
                line.push(' ');
                continue;
            };
            let bar = chart::bar(part * 4.0);
            let label = if part >= 1.0 { Label::Warning } else { Label::Faint };
            line.push_str(&Styled(label, &bar.to_string()).to_string());
        }
        line
    }

    /// A letter at each of these times.
    pub fn marks(&self, marks: &[(Timestamp, char)]) -> String {
        let mut cells = vec![' '; self.columns];
        for (at, letter) in marks.iter().filter(|(at, _)| self.shows(*at)) {
            let mut place = self.column(*at);
            // Letters of one column stand side by side.
            while place + 1 < cells.len() && cells[place] != ' ' {
                place += 1;
            }
            cells[place] = *letter;
        }
        cells.into_iter().collect::<String>().trim_end().to_owned()
    }
}
