//! Quantities: what is written back is what is read, whatever it is, and what people are shown has three figures.

use std::time::Duration;

use proptest::prelude::*;
use sophron_core::state::State;
use sophron_core::units::{
    QuantityError, Value, exact_duration, parse_duration, parse_percent, parse_rate, parse_size, quantity,
    scaled_duration, scaled_percent, scaled_size,
};

const LONGEST_MS: u64 = 3650 * 86_400_000;

proptest! {
    #[test]
    fn what_is_written_is_read_back(ms in 0..=LONGEST_MS, bytes in 0_u64..1_000_000_000_000_000, eighths in 0_u32..8_000_000) {
        let duration = Duration::from_millis(ms);
        prop_assert_eq!(parse_duration(&exact_duration(duration)), Ok(duration));
        prop_assert_eq!(parse_size(&Value::Size(bytes).to_string()), Ok(bytes));
        let fraction = f64::from(eighths) / 8.0;
        prop_assert_eq!(parse_percent(&Value::Percent(fraction).to_string()), Ok(fraction));
        prop_assert_eq!(parse_rate(&Value::Rate(fraction).to_string()), Ok(fraction));
    }

    /// Three figures, and a number that is at most half of the last of them off.
    #[test]
    fn sizes_for_people_are_near_enough(exponent in 0.0_f64..49.0) {
        let bytes = exponent.exp2().round();
        let shown = scaled_size(bytes);
        let (number, unit) = shown.split_once(' ').unwrap();
        let factor = ["B", "KiB", "MiB", "GiB", "TiB"].iter().position(|name| *name == unit).unwrap();
        let read = number.parse::<f64>().unwrap() * 1024_f64.powi(i32::try_from(factor).unwrap());
        prop_assert!((read - bytes).abs() <= bytes * 0.0051, "{} for {}", shown, bytes);
        let figures = number.chars().filter(char::is_ascii_digit).count();
        prop_assert!(figures == 3 || unit == "B" || bytes > 1000.0 * 1024_f64.powi(4), "{}", shown);
    }

    #[test]
    fn no_text_crashes_a_reader(text: String, digits in "[0-9.]{0,8}[ ]?[a-zA-Z%/]{0,6}") {
        for text in [&text, &digits] {
            let _ = (parse_duration(text), parse_size(text), parse_rate(text), parse_percent(text));
        }
    }
}

#[test]
fn each_option_says_what_it_wants() {
    assert_eq!(parse_size("1.5 GiB"), Ok(3 << 29));
    assert_eq!(parse_size("380MiB"), Ok(380 << 20));
    assert_eq!(parse_rate("20 MiB/s"), Ok(20.0 * 1_048_576.0));
    assert_eq!(parse_rate("6kB/m"), Ok(100.0));
    assert_eq!(parse_percent(" 95% "), Ok(95.0));
    let wrong = |found: Result<(), String>, wanted: &str| {
        let why = found.unwrap_err();
        assert!(why.contains(wanted), "{why}");
    };
    for text in ["", "MiB", "5", "5 m", "5 MiB/s", "5 MB5", "-5 MiB", "1e3 MiB"] {
        wrong(parse_size(text).map(|_| ()), "is not a size; write it as `380MiB` or `1.5GiB`");
    }
    wrong(parse_rate("20MiB").map(|_| ()), "is not a rate; write it as `20MiB/s`");
    wrong(parse_percent("95").map(|_| ()), "is not a percentage; write it as `95%` (of one core)");
    wrong(parse_duration("1.0005s").map(|_| ()), "durations are whole milliseconds");
    wrong(parse_duration("3651d").map(|_| ()), "the number is out of range");
    assert_eq!(parse_duration("3650d"), Ok(Duration::from_millis(LONGEST_MS)));
    assert_eq!(quantity("1000001", "%"), Err(QuantityError::OutOfRange));
    assert_eq!(quantity("1000000", "%"), Ok(Value::Percent(1e6)));
    assert_eq!(quantity("7", ""), Ok(Value::Count(7.0)));
}

/// What people try for a unit is answered with ours.
#[test]
fn units_that_people_try() {
    let nearest = |unit: &str| match quantity("5", unit) {
        Err(QuantityError::UnknownUnit { unit: told, nearest }) if told == unit => nearest,
        other => panic!("{unit}: {other:?}"),
    };
    for (ours, tried) in [
        ("KiB", &["k", "K", "kb", "KB"][..]),
        ("MiB", &["m ", "Mb", "mib", "meg", "MIB"]),
        ("GiB", &["g", "G", "Gb", "gig"]),
        ("s", &["sec", "secs"]),
        ("m", &["min", "mins"]),
        ("h", &["hr", "hrs"]),
        ("%", &["percent", "pct"]),
    ] {
        for unit in tried.iter().map(|unit| unit.trim()).filter(|unit| *unit != "m") {
            assert_eq!(nearest(unit), Some(ours), "{unit}");
        }
    }
    assert_eq!(nearest("furlongs"), None);
}

#[test]
fn people_are_shown_two_units_at_most() {
    let shown = |ms: u64| scaled_duration(Duration::from_millis(ms));
    for (ms, words) in [
        (0, "0 s"),
        (1, "1 ms"),
        (999, "999 ms"),
        (1000, "1 s"),
        (1049, "1 s"),
        (1050, "1.1 s"),
        (9_949, "9.9 s"),
        (9_950, "10 s"),
        (10_000, "10 s"),
        (59_999, "59 s"),
        (60_000, "1 m 00 s"),
        (3_599_999, "59 m 59 s"),
        (3_600_000, "1 h 00 m"),
        (86_399_999, "23 h 59 m"),
        (86_400_000, "1 d 0 h"),
        (360_000_000, "4 d 4 h"),
    ] {
        assert_eq!(shown(ms), words, "{ms} ms");
    }
    assert_eq!(
        [0.0, 0.04, 9.94, 9.95, 98.4, 412.6].map(scaled_percent),
        ["0.0%", "0.0%", "9.9%", "10%", "98%", "413%"]
    );
    assert_eq!(Value::Duration(Duration::MAX).scaled(), "never");
}

/// Only like kinds compare, and only numbers have a difference.
#[test]
fn kinds_are_kept_apart() {
    let all = [
        Value::Size(5),
        Value::Rate(5.0),
        Value::Percent(5.0),
        Value::Duration(Duration::from_secs(5)),
        Value::Count(5.0),
        Value::Text("5".to_owned()),
        Value::State(State::Running),
        Value::Flag(true),
    ];
    for (place, one) in all.iter().enumerate() {
        for (other_place, other) in all.iter().enumerate() {
            let same = place == other_place;
            assert_eq!(one.compare(other).is_some(), same, "{one} and {other}");
            assert_eq!(one.minus(other), (same && one.number().is_some()).then_some(0.0), "{one} and {other}");
        }
        assert_eq!(one.kind().is_ordered(), place < 5);
    }
    let json: Vec<String> = all.iter().map(|value| value.to_json().to_string()).collect();
    assert_eq!(json, ["5", "5.0", "5.0", "5.0", "5", "\"5\"", "\"running\"", "true"]);
    assert_eq!(Value::Text("a \"b\" \\".to_owned()).to_string(), "\"a \\\"b\\\" \\\\\"");
}

#[test]
fn sizes_are_scaled_to_three_figures() {
    let shown: Vec<String> =
        [0.0, 999.0, 1023.0, 786_432_000.0, 104_857_600.0, 1_342_177_280.0].map(scaled_size).into();
    assert_eq!(shown, ["0 B", "999 B", "1.00 KiB", "750 MiB", "100 MiB", "1.25 GiB"]);
}

/// A limit is said back as somebody wrote it.
#[test]
fn exact_figures_stand_in_a_unit_that_a_person_would_write() {
    for text in ["1 MiB/s", "100 kB/s", "1.5 B/s", "500 MB", "750 MiB", "0 B", "1023 B"] {
        let (number, unit) = text.split_once(' ').unwrap();
        assert_eq!(quantity(number, unit).unwrap().to_string(), text);
    }
}

#[test]
fn durations_read_and_write() {
    assert_eq!(parse_duration("1 hour 30 minutes"), parse_duration("1h30m"));
    for text in ["90s", "1h30m", "500ms", "2d"] {
        let duration = parse_duration(text).unwrap();
        assert_eq!(parse_duration(&exact_duration(duration)), Ok(duration));
    }
    assert_eq!(parse_duration("1.5s"), Ok(Duration::from_millis(1500)));
    for wrong in ["", "5", "5 x", "s", "0.0001s", "99999999d", "1..2s"] {
        assert!(parse_duration(wrong).is_err(), "{wrong}");
    }
}

#[test]
fn a_wrong_unit_names_the_right_one() {
    let nearest = |unit| match quantity("5", unit) {
        Err(QuantityError::UnknownUnit { nearest, .. }) => nearest,
        other => panic!("{other:?}"),
    };
    assert_eq!(
        [nearest("M"), nearest("mib"), nearest("min"), nearest("gib")],
        [Some("MiB"), Some("MiB"), Some("m"), Some("GiB")]
    );
    assert_eq!(quantity("1e999", "B"), Err(QuantityError::OutOfRange));
    assert_eq!(quantity("99999999999", "GiB"), Err(QuantityError::OutOfRange));
}
