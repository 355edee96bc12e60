//! Names for times of the week: `office = ["Mon-Sat 07:10-18:20"]`.

use std::fmt;
use std::sync::Arc;

use jiff::Timestamp;
use jiff::civil::Weekday;
use jiff::tz::TimeZone;

const DAYS: [(&str, Weekday); 7] = [
    ("Mon", Weekday::Monday),
    ("Tue", Weekday::Tuesday),
    ("Wed", Weekday::Wednesday),
    ("Thu", Weekday::Thursday),
    ("Fri", Weekday::Friday),
    ("Sat", Weekday::Saturday),
    ("Sun", Weekday::Sunday),
];

/// Minutes of a day.
const DAY: u16 = 24 * 60;

/// Days of the week with a time of day. A range over midnight belongs to its first day.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Span {
    /// Bit 0 is Monday.
    days: u8,
    /// Minutes since midnight.
    from: u16,
    /// Minutes since midnight, not itself in it; below `from` it is the next day's.
    to: u16,
}

impl Span {
    /// Reads `Mon-Sat 07:10-18:20`, `Sun`, `Mon,Wed 22:00-06:00` or `daily 12:00-13:00`.
    ///
    /// # Errors
    /// A sentence that says what is wrong.
    pub fn parse(text: &str) -> Result<Span, String> {
        let mut words = text.split_whitespace();
        let days = days(words.next().ok_or("no day stands there")?)?;
        let (from, to) = match words.next() {
            Some(times) => {
                let (from, to) = times.split_once('-').ok_or_else(|| format!("`{times}` is no range of times"))?;
                (minutes(from)?, minutes(to)?)
            }
            None => (0, DAY),
        };
        match words.next() {
            Some(more) => Err(format!("`{more}` stands behind the times")),
            None if from == to => Err("it begins when it ends".to_owned()),
            None if from >= DAY => Err("it begins when the day is over".to_owned()),
            None => Ok(Span { days, from, to }),
        }
    }

    fn has(self, day: Weekday) -> bool {
        self.days & (1 << day.to_monday_zero_offset()) != 0
    }

    /// Whether a local time of the week is in it.
    fn covers(self, day: Weekday, minute: u16) -> bool {
        if self.from < self.to {
            return self.has(day) && (self.from..self.to).contains(&minute);
        }
        (self.has(day) && minute >= self.from) || (self.has(day.previous()) && minute < self.to)
    }
}

fn days(text: &str) -> Result<u8, String> {
    if text.eq_ignore_ascii_case("daily") {
        return Ok(0x7f);
    }
    let place = |name: &str| {
        let known = DAYS.iter().position(|(day, _)| day.eq_ignore_ascii_case(name));
        known.ok_or_else(|| format!("`{name}` is not a day; days are Mon Tue Wed Thu Fri Sat Sun, or daily"))
    };
    let mut days = 0u8;
    for part in text.split(',') {
        let (first, last) = part.split_once('-').unwrap_or((part, part));
        let (first, last) = (place(first)?, place(last)?);
        let length = (last + 7 - first) % 7;
        (0..=length).for_each(|step| days |= 1 << ((first + step) % 7));
    }
    Ok(days)
}

fn minutes(text: &str) -> Result<u16, String> {
    let wrong = || format!("`{text}` is not a time of day; write it as `07:10`");
    let (hours, minutes) = text.split_once(':').ok_or_else(wrong)?;
    let digits = |text: &str| (text.len() == 2).then(|| text.parse::<u16>().ok()).flatten();
    let (hours, minutes) = (digits(hours).ok_or_else(wrong)?, digits(minutes).ok_or_else(wrong)?);
    let total = hours * 60 + minutes;
    if minutes < 60 && total <= DAY { Ok(total) } else { Err(wrong()) }
}

/// When a rule or a step may act: always, within named times, or outside them.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Hours {
    name: String,
    outside: bool,
    spans: Arc<[Span]>,
}

impl Hours {
    /// Within the named times, or with `outside` only outside them.
    pub fn named(name: &str, outside: bool, spans: Arc<[Span]>) -> Hours {
        Hours { name: name.to_owned(), outside, spans }
    }

    /// Whether that is at every time.
    pub(crate) fn is_always(&self) -> bool {
        self.name.is_empty()
    }

    /// Whether a moment is in it, by the clock of that zone: where summer time begins, the hour left out is in nothing;
    /// where it ends, the hour that comes twice is in it twice.
    pub fn covers(&self, at: Timestamp, zone: &TimeZone) -> bool {
        if self.is_always() {
            return true;
        }
        let local = zone.to_datetime(at);
        let minute = u16::from(local.hour() as u8) * 60 + u16::from(local.minute() as u8);
        self.spans.iter().any(|span| span.covers(local.weekday(), minute)) != self.outside
    }

    /// Whether some minute of the week is in neither of two.
    pub fn leaves_a_hole_beside(&self, other: &Hours) -> bool {
        let within = |hours: &Hours, day: Weekday, minute| {
            hours.is_always() || hours.spans.iter().any(|span| span.covers(day, minute)) != hours.outside
        };
        DAYS.iter().any(|(_, day)| (0..DAY).any(|minute| !within(self, *day, minute) && !within(other, *day, minute)))
    }
}

impl fmt::Display for Hours {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (self.is_always(), self.outside) {
            (true, _) => f.write_str("always"),
            (false, true) => write!(f, "not {}", self.name),
            (false, false) => f.write_str(&self.name),
        }
    }
}
