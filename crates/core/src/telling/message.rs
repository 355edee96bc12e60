//! What people are told, made of a record.

use std::time::Duration;

use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::act::{Came, Verb};
use crate::audit::{Kind, Record};
use crate::happening::clock;
use crate::severity::Severity;

/// Longest line, bytes.
const LONGEST: usize = 1000;

/// One thing that people are told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Message {
    /// The record's place in the trail; 0 of what stands in none.
    pub seq: u64,
    /// By what a receiver drops what he has already: the beginning of the record's hash, and its place.
    pub id: String,
    /// When it happened.
    pub at: Timestamp,
    /// How serious it is.
    pub severity: Severity,
    /// The machine.
    pub host: String,
    /// The case.
    pub case: Option<u64>,
    /// The rule.
    pub rule: Option<String>,
    /// What happened, in a word or two.
    pub word: String,
    /// The process, with check letters.
    pub process: Option<String>,
    /// Its program.
    pub app: Option<String>,
    /// Whose it is.
    pub owner: Option<String>,
    /// All of it in a line: no control characters, at most 1,000 bytes.
    pub line: String,
}

impl Message {
    /// Of a record that is so serious, with times in that zone.
    pub(super) fn of(record: &Record, severity: Severity, zone: &TimeZone) -> Message {
        let word = word(record);
        let subject = record.subject.as_ref();
        let mut line = match record.case {
            Some(case) => format!("case {case} {word}"),
            None => word.clone(),
        };
        for piece in [whom(record), said(record, zone)].into_iter().flatten() {
            line = format!("{line}: {piece}");
        }
        if let Some(next) = record.next.as_ref().filter(|_| !line.contains("; next: ")) {
            line = format!("{line}; next: {} {}", next.verb, clock(next.at, zone));
        }
        if let Some(note) = note(record) {
            line = format!("{line}; {note}");
        }
        Message {
            seq: record.seq,
            id: format!("{}-{}", record.hash.get(..12).unwrap_or("000000000000"), record.seq),
            at: record.at,
            severity,
            host: record.host.clone(),
            case: record.case,
            rule: record.rule.clone(),
            word,
            process: subject.map(|subject| subject.id.clone()),
            app: subject.map(|subject| crate::text::clean(subject.app.as_bytes())),
            owner: subject.map(|subject| crate::text::clean(subject.owner.as_bytes())),
            line: short(&crate::text::clean(line.as_bytes())),
        }
    }

    /// To see whether a channel takes anything.
    pub fn trial(at: Timestamp, host: &str, said: &str) -> Message {
        let said = format!("{said}; nothing has happened");
        Message { severity: Severity::Notice, ..Message::beside_the_trail(at, host, "trial", &said) }
    }

    /// What stands in no trail: that it cannot be written.
    pub fn beside_the_trail(at: Timestamp, host: &str, word: &str, said: &str) -> Message {
        Message {
            seq: 0,
            id: format!("{word}-{}", at.as_millisecond()),
            at,
            severity: Severity::Critical,
            host: host.to_owned(),
            case: None,
            rule: None,
            word: word.to_owned(),
            process: None,
            app: None,
            owner: None,
            line: short(&crate::text::clean(format!("{word}: {said}").as_bytes())),
        }
    }
}

fn short(line: &str) -> String {
    if line.len() <= LONGEST {
        return line.to_owned();
    }
    let end = (0..=LONGEST - 3).rev().find(|end| line.is_char_boundary(*end)).unwrap_or(0);
    format!("{}…", &line[..end])
}

fn word(record: &Record) -> String {
    match (&record.kind, record.came()) {
        (Kind::Outcome | Kind::Refused | Kind::Restored | Kind::Superseded | Kind::Breach, Some(came)) => {
            came.to_string()
        }
        (Kind::Alert, Some(Came::Reminder)) => "goes on".to_owned(),
        (Kind::Unreadable, Some(Came::NoSample)) => "blind".to_owned(),
        (kind, _) => kind.to_string(),
    }
}

/// `labelpress 51907-kqm (ines)`, of a group how that is named.
fn whom(record: &Record) -> Option<String> {
    let subject = record.subject.as_ref()?;
    // What is done is done to one of a group; what is told is told of the whole.
    let of_all = record.verb().is_none_or(|verb| matches!(verb, Verb::Alert | Verb::Run));
    Some(match &subject.of {
        Some(group) if of_all => group.name.clone(),
        _ => subject.label(),
    })
}

/// The reading against its limit where a case opens, and what was seen otherwise.
fn said(record: &Record, zone: &TimeZone) -> Option<String> {
    let seen = record.result.as_ref().map(|result| result.seen.as_str()).filter(|seen| !seen.is_empty());
    let reading = record.evidence.as_ref().map(|evidence| evidence.words.as_str()).filter(|words| !words.is_empty());
    match (&record.kind, reading, seen) {
        (Kind::Breach, reading, _) => reading.map(str::to_owned),
        _ if record.came() == Some(&Came::Suspended) => {
            let length = record.action.as_ref()?.seconds.and_then(|length| Duration::try_from_secs_f64(length).ok())?;
            let until = clock(record.at.checked_add(length).ok()?, zone);
            Some(seen.map_or_else(|| format!("until {until}"), |seen| format!("until {until}; {seen}")))
        }
        (_, reading, seen) => seen.or(reading).map(str::to_owned),
    }
}

/// The rule's note, where a case opens.
fn note(record: &Record) -> Option<&str> {
    let result = record.result.as_ref().filter(|_| record.kind == Kind::Breach)?;
    Some(result.seen.as_str()).filter(|note| !note.is_empty())
}
