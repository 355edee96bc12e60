//! Times for people: local, with their zone where a date stands.

use jiff::Timestamp;
use jiff::tz::TimeZone;

/// `09:32:20`.
pub fn clock(at: Timestamp) -> String {
    at.to_zoned(TimeZone::system()).strftime("%H:%M:%S").to_string()
}

/// `2026-11-23 09:32:20 UTC`.
pub fn date(at: Timestamp) -> String {
    date_in(at, None)
}

/// The same in a recording's own zone.
pub fn date_in(at: Timestamp, zone: Option<&TimeZone>) -> String {
    at.to_zoned(zone.cloned().unwrap_or_else(TimeZone::system)).strftime("%Y-%m-%d %H:%M:%S %Z").to_string()
}

/// `09:32:20`, with the date before it where `now` is another day.
pub fn clock_or_date(at: Timestamp, now: Timestamp, zone: Option<&TimeZone>) -> String {
    let zone = zone.cloned().unwrap_or_else(TimeZone::system);
    let (at, now) = (at.to_zoned(zone.clone()), now.to_zoned(zone));
    let form = if at.date() == now.date() { "%H:%M:%S" } else { "%Y-%m-%d %H:%M:%S" };
    at.strftime(form).to_string()
}

/// `23 Nov 09:32:20`.
pub fn short_date(at: Timestamp) -> String {
    at.to_zoned(TimeZone::system()).strftime("%d %b %H:%M:%S").to_string()
}
