//! Times in a report: as short as they can be told, by the clock of where it was.

use std::time::Duration;

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, Zoned};

use super::collect::Run;

/// The clock, and whether several days are told of.
#[derive(Debug, Clone)]
pub struct Times {
    zone: TimeZone,
    days: bool,
}

impl Times {
    /// For what happened from one moment to another.
    pub fn new(zone: &TimeZone, from: Timestamp, until: Timestamp) -> Times {
        let days = from.to_zoned(zone.clone()).date() != until.to_zoned(zone.clone()).date();
        Times { zone: zone.clone(), days }
    }

    pub(super) fn local(&self, at: Timestamp) -> Zoned {
        at.to_zoned(self.zone.clone())
    }

    /// Whether several days are told of.
    pub fn several_days(&self) -> bool {
        self.days
    }

    /// `15:32`, or `Mon 15:32`.
    pub fn clock(&self, at: Timestamp) -> String {
        self.local(at).strftime(if self.days { "%a %H:%M" } else { "%H:%M" }).to_string()
    }

    /// `15:32` whatever the day.
    pub fn hour(&self, at: Timestamp) -> String {
        self.local(at).strftime("%H:%M").to_string()
    }

    /// The time of a step: with its seconds where all of it took a few minutes.
    pub fn of_step(&self, at: Timestamp, whole: SignedDuration) -> String {
        let form = if whole < SignedDuration::from_mins(5) { "%H:%M:%S" } else { "%H:%M" };
        self.local(at).strftime(form).to_string()
    }

    /// As a command takes it: `15:32`, or with its day.
    pub fn typed(&self, at: Timestamp, with_day: bool) -> String {
        self.local(at).strftime(if self.days || with_day { "%Y-%m-%dT%H:%M" } else { "%H:%M" }).to_string()
    }

    /// `15:32 to 15:55`: to the nearest minute.
    pub fn span(&self, (from, until): Run) -> String {
        let near = |at: Timestamp| at.checked_add(SignedDuration::from_secs(30)).unwrap_or(at);
        self.span_of_case((near(from), near(until)))
    }

    /// The same as the record has it: by the minute in which it was.
    pub fn span_of_case(&self, (from, until): Run) -> String {
        let same = self.local(from).date() == self.local(until).date();
        let end = if same { self.hour(until) } else { self.clock(until) };
        format!("{} to {end}", self.clock(from))
    }

    /// `Monday 12 October 2026, 07:10 to 18:20 BST`.
    pub fn whole(&self, from: Timestamp, until: Timestamp) -> String {
        let (from, until) = (self.local(from), self.local(until));
        if self.days {
            return format!("{} to {}", from.strftime("%A %-d %B %Y, %H:%M"), until.strftime("%A %-d %B %Y, %H:%M %Z"));
        }
        format!("{} to {}", from.strftime("%A %-d %B %Y, %H:%M"), until.strftime("%H:%M %Z"))
    }

    /// When in the day: `in the morning`; over several days the days.
    pub fn when(&self, spans: &[Run]) -> String {
        let mut parts: Vec<String> = Vec::new();
        for (from, until) in spans {
            let middle = *from + until.duration_since(*from) / 2;
            let local = self.local(middle);
            let part = match self.days {
                true => format!("on {}", local.strftime("%A")),
                false => match local.hour() {
                    6..12 => "in the morning".to_owned(),
                    12..17 => "in the afternoon".to_owned(),
                    17.. => "in the evening".to_owned(),
                    _ => "in the night".to_owned(),
                },
            };
            if !parts.contains(&part) {
                parts.push(part);
            }
        }
        match parts.as_slice() {
            [] => String::new(),
            [one] => one.clone(),
            [first, .., last] if parts.len() == 2 => format!("{first} and {last}"),
            many if self.days => format!("on {} days", many.len()),
            many => format!("{} times", many.len()),
        }
    }
}

/// `23 m`, `1 h 01 m`, `40 s`: nobody reads seconds in a day.
pub fn length(length: SignedDuration) -> String {
    let seconds = length.as_secs().unsigned_abs();
    let minutes = (seconds + 30) / 60;
    match (seconds, minutes) {
        (0..60, _) => format!("{seconds} s"),
        (_, 0..60) => format!("{minutes} m"),
        (_, 60..1440) => format!("{} h {:02} m", minutes / 60, minutes % 60),
        _ => format!("{} d {} h", minutes / 1440, minutes % 1440 / 60),
    }
}

/// The same of what is never negative.
pub fn long(duration: Duration) -> String {
    length(SignedDuration::try_from(duration).unwrap_or(SignedDuration::MAX))
}
