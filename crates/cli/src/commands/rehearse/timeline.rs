//! The cases over time: a row of bars each, on which half a bar is the limit, and the steps as letters beneath.

use jiff::Timestamp;
use jiff::tz::TimeZone;
use sophron_core::judge::Closing;
use sophron_core::rehearsal::{StepWord, Story};
use sophron_core::rules::Action;

use crate::ui::chart;
use crate::ui::style::{Label, Styled};

/// Columns between two times of the axis.
const APART: usize = 12;

/// What the letters mean.
pub const LEGEND: &str = "half a bar is the limit, a full one twice that; a told, i told again, l lower, s suspend, r restart, t terminate, - held back, c calm, e ended, b back";

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
        let mut line = String::new();
        for place in 0..self.columns / APART {
            let at = self.from + step * place as i32;
            line.push_str(&format!("{:<APART$}", at.to_zoned(self.zone.clone()).strftime("%H:%M").to_string()));
        }
        line.trim_end().to_owned()
    }

    /// The readings of a story; what is past the limit stands out.
    pub fn bars(&self, story: &Story) -> String {
        let limit = story.limit.as_ref().and_then(sophron_core::units::Value::number).unwrap_or_default();
        let falls =
            story.worst.as_ref().and_then(sophron_core::units::Value::number).is_some_and(|worst| worst < limit);
        let mut cells: Vec<Option<f64>> = vec![None; self.columns];
        for (at, number) in story.points.iter().filter(|(at, _)| *at >= self.from && *at <= self.to) {
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

    /// The steps of a story.
    pub fn marks(&self, story: &Story) -> String {
        let mut cells = vec![' '; self.columns];
        let mut put = |at: Timestamp, letter: char| {
            let mut place = self.column(at);
            // Letters of one column stand side by side.
            while place + 1 < cells.len() && cells[place] != ' ' {
                place += 1;
            }
            cells[place] = letter;
        };
        put(story.opened, 'a');
        for step in story.steps.iter().filter(|step| step.at >= self.from && step.at <= self.to) {
            match letter(&step.word) {
                'a' if step.at == story.opened => {}
                letter => put(step.at, letter),
            }
        }
        if let Some((at, why)) = story.closed.filter(|(at, _)| *at <= self.to) {
            put(at, if why == Closing::Calm { 'c' } else { 'e' });
        }
        cells.into_iter().collect::<String>().trim_end().to_owned()
    }
}

fn letter(word: &StepWord) -> char {
    match word {
        StepWord::Told => 'a',
        StepWord::Reminded => 'i',
        StepWord::HeldBack(..) => '-',
        StepWord::HoursEnded => 'h',
        StepWord::CameBack => 'b',
        StepWord::Done(action) => match action {
            Action::Alert => 'a',
            Action::Run => 'x',
            Action::Lower { .. } => 'l',
            Action::Suspend { .. } => 's',
            Action::Restart => 'r',
            Action::Terminate { .. } => 't',
        },
    }
}
