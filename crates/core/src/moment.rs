//! Moments as people write them: `10:00`, `yesterday 18:00`, `2h ago`.

use jiff::civil::{Date, DateTime, Time, Weekday};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan, Zoned};

use crate::units::parse_duration;

/// What a moment without a date refers to.
#[derive(Debug, Clone)]
pub enum Anchor {
    /// The present: a time of day is its latest occurrence.
    Now(Zoned),
    /// The day on which a recording begins: a time of day is on that day.
    Day(Zoned),
}

impl Anchor {
    fn zone(&self) -> &TimeZone {
        match self {
            Anchor::Now(at) | Anchor::Day(at) => at.time_zone(),
        }
    }
}

/// What is no moment.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum MomentError {
    /// It cannot be read.
    #[error("`{0}` is not a time")]
    Form(String),
    /// It counts from the present, and there is none.
    #[error("`{0}` counts from now, and a recording has its own time")]
    NoPresent(String),
    /// Further away than time is counted.
    #[error("`{0}` is out of range")]
    Range(String),
}

/// A moment so much later, or earlier: the last there is, or the first, where time is counted no further.
pub fn shifted(at: Timestamp, by: SignedDuration) -> Timestamp {
    at.checked_add(by).unwrap_or(if by.is_negative() { Timestamp::MIN } else { Timestamp::MAX })
}

/// How a moment can be written, for messages.
pub fn examples(anchor: &Anchor) -> &'static str {
    match anchor {
        Anchor::Now(_) => "write it as 10:00, \"yesterday 18:00\", \"monday 9:30\", \"2h ago\" or 2026-11-23T10:00:00Z",
        Anchor::Day(_) => {
            "write it as 10:00, which is on its first day, 2026-11-23, \"2026-11-23 10:00\" or 2026-11-23T10:00:00Z"
        }
    }
}

/// Reads a moment.
///
/// # Errors
/// It is none, or needs a present where there is only a recording.
pub fn parse(text: &str, anchor: &Anchor) -> Result<Timestamp, MomentError> {
    let written = text.trim();
    let shown = || crate::text::clean(written.as_bytes());
    let range = || MomentError::Range(shown());
    if let Ok(at) = written.parse::<Timestamp>() {
        return Ok(at);
    }
    let day = |day: Date, time: Time| on(anchor, day, time).ok_or_else(range);
    // The last time that it was so: on that day, or so many days before it.
    let latest = |on: Date, time: Time, apart: i64, now: &Zoned| {
        let at = day(on, time)?;
        if at <= now.timestamp() { Ok(at) } else { day(on.checked_sub(apart.days()).map_err(|_| range())?, time) }
    };
    let lower = written.to_lowercase();
    let present = || match anchor {
        Anchor::Now(now) => Ok(now),
        Anchor::Day(_) => Err(MomentError::NoPresent(shown())),
    };
    if let Some(length) = lower.strip_suffix(" ago") {
        let length = parse_duration(length).map_err(|_| MomentError::Form(shown()))?;
        let length = SignedDuration::try_from(length).map_err(|_| range())?;
        return present()?.timestamp().checked_sub(length).map_err(|_| range());
    }
    if lower == "now" {
        return Ok(present()?.timestamp());
    }
    if let Some(time) = time_of_day(&lower) {
        return match anchor {
            Anchor::Day(begun) => day(begun.date(), time),
            Anchor::Now(now) => latest(now.date(), time, 1, now),
        };
    }
    let (name, rest) = match lower.split_once([' ', 't']).filter(|(day, _)| day.contains('-')) {
        Some(split) => split,
        None => lower.split_once(' ').unwrap_or((&lower, "")),
    };
    let time = if rest.trim().is_empty() { Some(Time::midnight()) } else { time_of_day(rest.trim()) };
    let time = time.ok_or_else(|| MomentError::Form(shown()))?;
    if let Ok(date) = name.parse::<Date>() {
        return day(date, time);
    }
    match name {
        "today" => day(present()?.date(), time),
        "yesterday" => day(present()?.date().yesterday().map_err(|_| range())?, time),
        _ => {
            let weekday = weekday(name).ok_or_else(|| MomentError::Form(shown()))?;
            let now = present()?;
            let back = weekday.until(now.date().weekday());
            latest(now.date().checked_sub(back.days()).map_err(|_| range())?, time, 7, now)
        }
    }
}

/// A moment on that day, where the anchor's clocks hang; `None` beyond what is counted.
fn on(anchor: &Anchor, day: Date, time: Time) -> Option<Timestamp> {
    day.to_datetime(time).to_zoned(anchor.zone().clone()).ok().map(|at| at.timestamp())
}

/// A time of day as people type it: `7:30`, `07:30`, `07:30:15`.
pub fn time_of_day(text: &str) -> Option<Time> {
    if !text.contains(':') {
        return None;
    }
    let padded = if text.find(':') == Some(1) { format!("0{text}") } else { text.to_owned() };
    let with_seconds = if padded.len() == 5 { format!("{padded}:00") } else { padded };
    format!("2000-01-01T{with_seconds}").parse::<DateTime>().ok().map(|at| at.time())
}

fn weekday(name: &str) -> Option<Weekday> {
    const NAMES: [(&str, Weekday); 7] = [
        ("monday", Weekday::Monday),
        ("tuesday", Weekday::Tuesday),
        ("wednesday", Weekday::Wednesday),
        ("thursday", Weekday::Thursday),
        ("friday", Weekday::Friday),
        ("saturday", Weekday::Saturday),
        ("sunday", Weekday::Sunday),
    ];
    let found = NAMES.iter().find(|(whole, _)| name == *whole || (name.len() == 3 && whole.starts_with(name)));
    found.map(|(_, day)| *day)
}
