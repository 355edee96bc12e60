//! Quantities with units: what a literal may be, how it is read and how it is written back.

use std::fmt;
use std::time::Duration;

use serde::Serialize;

use crate::state::State;

/// What kind of quantity a field or a literal is. Only like kinds can be compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// Bytes.
    Size,
    /// Bytes a second.
    Rate,
    /// Percent; of what, the field says.
    Percent,
    /// A length of time.
    Duration,
    /// A bare number.
    Count,
    /// Words.
    Text,
    /// One of the words of [`State`].
    State,
    /// Yes or no.
    Flag,
}

impl Kind {
    /// The kind with its article, for messages: `a size`.
    pub fn with_article(self) -> &'static str {
        match self {
            Kind::Size => "a size",
            Kind::Rate => "a rate",
            Kind::Percent => "a percentage",
            Kind::Duration => "a duration",
            Kind::Count => "a bare number",
            Kind::Text => "a text",
            Kind::State => "a state",
            Kind::Flag => "yes or no",
        }
    }

    /// A literal of this kind, for messages.
    pub fn example(self) -> &'static str {
        match self {
            Kind::Size => "750 MiB",
            Kind::Rate => "5 MiB/s",
            Kind::Percent => "90%",
            Kind::Duration => "2m",
            Kind::Count => "8",
            Kind::Text => "\"labelpress\"",
            Kind::State => "suspended",
            Kind::Flag => "yes",
        }
    }

    /// A number in base units as a value of this kind; a bare number where the kind is none of numbers.
    pub fn of_number(self, number: f64) -> Value {
        match self {
            Kind::Size => Value::Size(number.max(0.0) as u64),
            Kind::Rate => Value::Rate(number),
            Kind::Percent => Value::Percent(number),
            Kind::Duration => Value::Duration(Duration::try_from_secs_f64(number).unwrap_or_default()),
            Kind::Count | Kind::Text | Kind::State | Kind::Flag => Value::Count(number),
        }
    }

    /// Whether `<` and `>` mean something for it.
    pub fn is_ordered(self) -> bool {
        !matches!(self, Kind::Text | Kind::State | Kind::Flag)
    }
}

/// A reading or a literal: a quantity of one [`Kind`].
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// Bytes.
    Size(u64),
    /// Bytes a second.
    Rate(f64),
    /// Percent.
    Percent(f64),
    /// A length of time.
    Duration(Duration),
    /// A bare number.
    Count(f64),
    /// Words.
    Text(String),
    /// A process state.
    State(State),
    /// Yes or no.
    Flag(bool),
}

impl Value {
    /// The kind of this value.
    pub fn kind(&self) -> Kind {
        match self {
            Value::Size(_) => Kind::Size,
            Value::Rate(_) => Kind::Rate,
            Value::Percent(_) => Kind::Percent,
            Value::Duration(_) => Kind::Duration,
            Value::Count(_) => Kind::Count,
            Value::Text(_) => Kind::Text,
            Value::State(_) => Kind::State,
            Value::Flag(_) => Kind::Flag,
        }
    }

    /// The order of two values of one kind; `None` across kinds.
    pub fn compare(&self, other: &Value) -> Option<std::cmp::Ordering> {
        match (self, other) {
            (Value::Size(a), Value::Size(b)) => Some(a.cmp(b)),
            (Value::Rate(a), Value::Rate(b)) | (Value::Percent(a), Value::Percent(b)) => a.partial_cmp(b),
            (Value::Count(a), Value::Count(b)) => a.partial_cmp(b),
            (Value::Duration(a), Value::Duration(b)) => Some(a.cmp(b)),
            (Value::Text(a), Value::Text(b)) => Some(a.cmp(b)),
            (Value::State(a), Value::State(b)) => Some(a.cmp(b)),
            (Value::Flag(a), Value::Flag(b)) => Some(a.cmp(b)),
            _ => None,
        }
    }

    /// As a plain number in base units; `None` where there is none.
    pub fn number(&self) -> Option<f64> {
        match self {
            Value::Size(bytes) => Some(*bytes as f64),
            Value::Rate(number) | Value::Percent(number) | Value::Count(number) => Some(*number),
            Value::Duration(time) => Some(time.as_secs_f64()),
            Value::Text(_) | Value::State(_) | Value::Flag(_) => None,
        }
    }

    /// The difference to another of the same kind, in base units.
    pub fn minus(&self, other: &Value) -> Option<f64> {
        if self.kind() == other.kind() { Some(self.number()? - other.number()?) } else { None }
    }

    /// For people: sizes scaled to three figures (`812 MiB`), percentages rounded, durations in their two
    /// greatest units.
    pub fn scaled(&self) -> String {
        match self {
            Value::Size(bytes) => scaled_size(*bytes as f64),
            Value::Rate(rate) => format!("{}/s", scaled_size(*rate)),
            Value::Percent(percent) => scaled_percent(*percent),
            Value::Duration(Duration::MAX) => "never".to_owned(),
            Value::Duration(duration) => scaled_duration(*duration),
            Value::Text(text) => text.clone(),
            other => other.to_string(),
        }
    }

    /// In base units for machines: bytes, seconds, percent, bytes a second.
    pub fn to_json(&self) -> serde_json::Value {
        match self {
            Value::Size(bytes) => (*bytes).into(),
            Value::Rate(number) | Value::Percent(number) => serde_json::Value::from((number * 1000.0).round() / 1000.0),
            Value::Count(number) if number.fract() == 0.0 => (*number as i64).into(),
            Value::Count(number) => (*number).into(),
            Value::Duration(Duration::MAX) => "never".into(),
            Value::Duration(duration) => (duration.as_millis() as f64 / 1000.0).into(),
            Value::Text(text) => text.as_str().into(),
            Value::State(state) => state.word().into(),
            Value::Flag(flag) => (*flag).into(),
        }
    }
}

/// The exact text of a literal: reading it back gives the same value.
impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Value::Size(bytes) => f.write_str(&exact_size(*bytes)),
            Value::Rate(rate) if rate.fract() == 0.0 && (0.0..=MOST_EXACT).contains(rate) => {
                write!(f, "{}/s", exact_size(*rate as u64))
            }
            Value::Rate(rate) => write!(f, "{rate} B/s"),
            Value::Percent(percent) => write!(f, "{percent}%"),
            Value::Duration(duration) => f.write_str(&exact_duration(*duration)),
            Value::Count(count) => write!(f, "{count}"),
            Value::Text(text) => f.write_str(&quoted(text)),
            Value::State(state) => f.write_str(state.word()),
            Value::Flag(flag) => f.write_str(if *flag { "yes" } else { "no" }),
        }
    }
}

/// A text as it stands in a condition.
pub fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

/// Up to there a float is every whole number.
const MOST_EXACT: f64 = (1_u64 << 53) as f64;

/// As a person would have written it: in the unit in which it is the smallest whole number.
fn exact_size(bytes: u64) -> String {
    let whole = |(_, factor): &&(&str, u64)| bytes != 0 && bytes.is_multiple_of(*factor);
    let units = BINARY.iter().chain(&DECIMAL).filter(whole);
    let (unit, factor) = units.min_by_key(|(_, factor)| bytes / factor).unwrap_or(&DECIMAL[0]);
    format!("{} {unit}", bytes / factor)
}

const KIB: u64 = 1024;
const BINARY: [(&str, u64); 4] =
    [("KiB", KIB), ("MiB", KIB * KIB), ("GiB", KIB * KIB * KIB), ("TiB", KIB * KIB * KIB * KIB)];
const DECIMAL: [(&str, u64); 5] =
    [("B", 1), ("kB", 1_000), ("MB", 1_000_000), ("GB", 1_000_000_000), ("TB", 1_000_000_000_000)];
const TIME_MS: [(&str, u64); 5] = [("d", 86_400_000), ("h", 3_600_000), ("m", 60_000), ("s", 1_000), ("ms", 1)];

/// Every unit a literal may carry, for messages and nearest names.
pub(crate) fn unit_names() -> impl Iterator<Item = &'static str> {
    DECIMAL.iter().chain(&BINARY).chain(&TIME_MS).map(|(name, _)| *name).chain(["%"])
}

fn size_factor(word: &str) -> Option<u64> {
    DECIMAL.iter().chain(&BINARY).find(|(name, _)| *name == word).map(|(_, factor)| *factor)
}

fn time_factor_ms(word: &str) -> Option<u64> {
    let short = match word {
        "second" | "seconds" => "s",
        "minute" | "minutes" => "m",
        "hour" | "hours" => "h",
        "day" | "days" => "d",
        short => short,
    };
    TIME_MS.iter().find(|(name, _)| *name == short).map(|(_, factor)| *factor)
}

/// Why a number with its unit is not a quantity.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum QuantityError {
    /// The unit is not one of ours; with the nearest that is.
    #[error("`{unit}` is not a unit")]
    UnknownUnit {
        /// As written.
        unit: String,
        /// The nearest unit, if one is near.
        nearest: Option<&'static str>,
    },
    /// Too large, or not finite.
    #[error("the number is out of range")]
    OutOfRange,
    /// Finer than a millisecond.
    #[error("durations are whole milliseconds")]
    TooFine,
}

/// A quantity from a number as written (digits and at most one point) and its unit, empty for none.
///
/// # Errors
/// The unit is unknown, or the value does not fit the quantity.
pub fn quantity(number: &str, unit: &str) -> Result<Value, QuantityError> {
    let value: f64 = number.parse().map_err(|_| QuantityError::OutOfRange)?;
    if !value.is_finite() || value > 1e15 {
        return Err(QuantityError::OutOfRange);
    }
    if unit.is_empty() {
        return Ok(Value::Count(value));
    }
    if unit == "%" {
        return if value <= 1e6 { Ok(Value::Percent(value)) } else { Err(QuantityError::OutOfRange) };
    }
    if let Some(factor) = size_factor(unit) {
        let bytes = value * factor as f64;
        return if bytes < 1e18 { Ok(Value::Size(bytes.round() as u64)) } else { Err(QuantityError::OutOfRange) };
    }
    if let Some(factor) = time_factor_ms(unit) {
        return milliseconds(value * factor as f64).map(Value::Duration);
    }
    if let Some((size, time)) = unit.split_once('/')
        && let (Some(bytes), Some(ms)) = (size_factor(size), time_factor_ms(time))
    {
        return Ok(Value::Rate(value * bytes as f64 * 1000.0 / ms as f64));
    }
    let lower = unit.to_ascii_lowercase();
    let nearest = match lower.as_str() {
        "k" | "kb" => Some("KiB"),
        "m" | "mb" | "mib" | "meg" => Some("MiB"),
        "g" | "gb" | "gib" | "gig" => Some("GiB"),
        "sec" | "secs" => Some("s"),
        "min" | "mins" => Some("m"),
        "hr" | "hrs" => Some("h"),
        "percent" | "pct" => Some("%"),
        _ => unit_names()
            .find(|name| name.to_ascii_lowercase() == lower)
            .or_else(|| crate::text::nearest(unit, unit_names())),
    };
    Err(QuantityError::UnknownUnit { unit: unit.to_owned(), nearest })
}

fn milliseconds(ms: f64) -> Result<Duration, QuantityError> {
    const LONGEST: f64 = 3650.0 * 86_400_000.0;
    if ms > LONGEST {
        return Err(QuantityError::OutOfRange);
    }
    // Decimal fractions such as 0.1 s are not exact in binary; a millionth of a millisecond is rounding, not meaning.
    if (ms - ms.round()).abs() > 1e-6 {
        return Err(QuantityError::TooFine);
    }
    Ok(Duration::from_millis(ms.round() as u64))
}

/// A duration as written in rules files and options: `90s`, `1h30m`, `500ms`.
///
/// # Errors
/// A sentence that says what is wrong and shows a duration that is right.
pub fn parse_duration(text: &str) -> Result<Duration, String> {
    let mend = || format!("`{text}` is not a duration; write it as `90s`, `2m`, `1h30m` or `500ms`");
    let mut total = 0.0;
    let mut rest = text.trim();
    if rest.is_empty() {
        return Err(mend());
    }
    while !rest.is_empty() {
        let digits = rest.find(|c: char| !c.is_ascii_digit() && c != '.').ok_or_else(mend)?;
        let (number, after) = rest.split_at(digits);
        let after = after.trim_start();
        let letters = after.find(|c: char| !c.is_ascii_alphabetic()).unwrap_or(after.len());
        let (unit, next) = after.split_at(letters);
        let factor = time_factor_ms(unit).ok_or_else(mend)?;
        total += number.parse::<f64>().map_err(|_| mend())? * factor as f64;
        rest = next.trim_start();
    }
    milliseconds(total).map_err(|error| format!("`{text}`: {error}"))
}

/// A size as written in options: `380MiB`, `1.5 GiB`.
///
/// # Errors
/// A sentence that says what is wrong and shows a size that is right.
pub fn parse_size(text: &str) -> Result<u64, String> {
    match parse_quantity(text) {
        Some(Value::Size(bytes)) => Ok(bytes),
        _ => Err(format!("`{text}` is not a size; write it as `380MiB` or `1.5GiB`")),
    }
}

/// A rate as written in options: `20MiB/s`, in bytes a second.
///
/// # Errors
/// A sentence that says what is wrong and shows a rate that is right.
pub fn parse_rate(text: &str) -> Result<f64, String> {
    match parse_quantity(text) {
        Some(Value::Rate(rate)) => Ok(rate),
        _ => Err(format!("`{text}` is not a rate; write it as `20MiB/s`")),
    }
}

/// A percentage as written in options: `95%`.
///
/// # Errors
/// A sentence that says what is wrong and shows a percentage that is right.
pub fn parse_percent(text: &str) -> Result<f64, String> {
    match parse_quantity(text) {
        Some(Value::Percent(percent)) => Ok(percent),
        _ => Err(format!("`{text}` is not a percentage; write it as `95%` (of one core)")),
    }
}

/// A quantity with its unit, as a text has it.
pub(crate) fn parse_quantity(text: &str) -> Option<Value> {
    let text = text.trim();
    let digits = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
    let (number, unit) = text.split_at(digits);
    if number.is_empty() { None } else { quantity(number, unit.trim()).ok() }
}

/// `812 MiB`, `1.25 GiB`: three significant figures, binary units.
pub fn scaled_size(bytes: f64) -> String {
    let mut value = bytes;
    let mut unit = "B";
    for (name, _) in BINARY {
        if value < 999.5 {
            break;
        }
        value /= 1024.0;
        unit = name;
    }
    match value {
        v if unit == "B" || v >= 99.95 => format!("{v:.0} {unit}"),
        v if v >= 9.995 => format!("{v:.1} {unit}"),
        v => format!("{v:.2} {unit}"),
    }
}

/// `98%`, `3.4%`: one decimal below ten.
pub fn scaled_percent(percent: f64) -> String {
    if percent >= 9.95 { format!("{percent:.0}%") } else { format!("{percent:.1}%") }
}

/// `3 d 4 h`, `1 h 05 m`, `42 s`, `1.4 s`, `40 ms`: the two greatest units.
pub fn scaled_duration(duration: Duration) -> String {
    let seconds = duration.as_secs();
    match seconds {
        0 if duration.subsec_millis() > 0 => format!("{} ms", duration.as_millis()),
        9 if duration.subsec_millis() >= 950 => "10 s".to_owned(),
        1..10 if duration.subsec_millis() >= 50 => format!("{:.1} s", duration.as_secs_f64()),
        0..60 => format!("{seconds} s"),
        60..3600 => format!("{} m {:02} s", seconds / 60, seconds % 60),
        3600..86_400 => format!("{} h {:02} m", seconds / 3600, seconds % 3600 / 60),
        _ => format!("{} d {} h", seconds / 86_400, seconds % 86_400 / 3600),
    }
}

/// A duration as a literal: `1h30m`, `500ms`, `0s`.
pub fn exact_duration(duration: Duration) -> String {
    let mut rest = duration.as_millis() as u64;
    let mut out = String::new();
    for (unit, factor) in TIME_MS {
        if rest >= factor {
            out.push_str(&format!("{}{unit}", rest / factor));
            rest %= factor;
        }
    }
    if out.is_empty() { "0s".to_owned() } else { out }
}
