//! Hours of rules.

use jiff::tz::TimeZone;
use sophron_core::rules::{Hours, Span};

fn hours(spans: &[&str], outside: bool) -> Hours {
    Hours::named("office", outside, spans.iter().map(|span| Span::parse(span).unwrap()).collect())
}

/// Whether each of these local times of 2026 in London is in it.
fn at(hours: &Hours, times: &[&str]) -> Vec<bool> {
    let zone = TimeZone::posix("GMT0BST,M3.5.0/1,M10.5.0").unwrap();
    let covers = |time: &&str| hours.covers(time.parse().unwrap(), &zone);
    times.iter().map(covers).collect()
}

#[test]
fn days_times_and_midnight() {
    let office = hours(&["Mon-Sat 07:10-18:20"], false);
    // Monday is the 23rd.
    let times =
        ["2026-11-23T07:09Z", "2026-11-23T07:10Z", "2026-11-28T18:19Z", "2026-11-28T18:20Z", "2026-11-29T12:00Z"];
    assert_eq!(at(&office, &times), [false, true, true, false, false]);
    assert_eq!(at(&hours(&["Mon-Sat 07:10-18:20"], true), &times), [true, false, false, true, true]);
    let night = hours(&["Sat,Sun 22:00-06:00"], false);
    let times =
        ["2026-11-28T21:59Z", "2026-11-28T22:00Z", "2026-11-29T05:59Z", "2026-11-30T05:59Z", "2026-11-30T23:00Z"];
    assert_eq!(at(&night, &times), [false, true, true, true, false], "a night belongs to the day it begins on");
    assert_eq!(at(&hours(&["Fri-Mon"], false), &["2026-11-29T00:00Z", "2026-11-25T00:00Z"]), [true, false]);
}

#[test]
fn summer_time_begins_and_ends() {
    let night = hours(&["daily 01:00-02:00"], false);
    // 29 March: 01:00 is left out. 25 October: it comes twice.
    let times =
        ["2026-03-29T00:59Z", "2026-03-29T01:00Z", "2026-10-25T00:30Z", "2026-10-25T01:30Z", "2026-10-25T02:30Z"];
    assert_eq!(at(&night, &times), [false, false, true, true, false]);
}

#[test]
fn what_is_no_time_says_so() {
    for wrong in [
        "",
        "Mon 7:10-8:00",
        "Mon 07:10",
        "Mun 07:10-08:00",
        "Mon 25:00-26:00",
        "Mon 07:00-07:00",
        "Mon 24:00-06:00",
        "Mon 07:00-08:00 x",
    ] {
        assert!(Span::parse(wrong).is_err(), "{wrong}");
    }
    assert!(Span::parse("daily 06:00-24:00").is_ok());
}

#[test]
fn a_hole_between_two() {
    let office = hours(&["Mon-Fri 08:00-18:00"], false);
    assert!(office.leaves_a_hole_beside(&hours(&["Mon-Fri 18:00-08:00"], false)), "the weekend");
    assert!(!office.leaves_a_hole_beside(&hours(&["Mon-Fri 08:00-18:00"], true)));
}
