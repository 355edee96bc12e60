//! What people are told, made of a record.

use std::time::Duration;

use jiff::tz::TimeZone;
use jiff::{Timestamp, Zoned};
use serde::{Deserialize, Serialize};

use crate::act::{Came, Verb};
use crate::audit::{Kind, Record};
use crate::happening::clock;
use crate::severity::Severity;

/// Longest line, bytes.
const LONGEST: usize = 1000;

/// The same of what only says what it is about.
const BRIEF: usize = 200;

/// One thing that people are told.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Message {
    /// The record's place in the trail; 0 of what stands in none.
    pub seq: u64,
    /// By what a receiver drops what he has already: the beginning of the record's hash, and its place.
    pub id: String,
    /// When it happened.
    pub at: Timestamp,
    /// The same, as people there read it.
    pub when: String,
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
    /// The least that says what it is about: no control characters, at most 200 bytes.
    pub brief: String,
    /// All of it in a line: no control characters, at most 1,000 bytes.
    pub line: String,
}

impl Message {
    /// Of a record that is so serious, with times in that zone.
    pub(super) fn of(record: &Record, severity: Severity, zone: &TimeZone) -> Message {
        let word = word(record);
        let subject = record.subject.as_ref();
        let (app, owner) = (subject.map(|subject| &subject.app), subject.map(|subject| &subject.owner));
        let brief = match (app, owner, &record.kind, said(record, zone)) {
            (Some(app), Some(owner), Kind::Breach, Some(said)) => format!("{app} ({owner}) {said}"),
            (Some(app), Some(owner), ..) => format!("{app} ({owner}) {word}"),
            (.., Some(said)) => format!("{word}: {said}"),
            _ => word.clone(),
        };
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
            when: when(record.at, zone),
            severity,
            host: record.host.clone(),
            case: record.case,
            rule: record.rule.clone(),
            word,
            process: subject.map(|subject| subject.id.clone()),
            app: app.map(|app| short(&crate::text::clean(app.as_bytes()), BRIEF)),
            owner: owner.map(|owner| short(&crate::text::clean(owner.as_bytes()), BRIEF)),
            brief: short(&crate::text::clean(brief.as_bytes()), BRIEF),
            line: short(&crate::text::clean(line.as_bytes()), LONGEST),
        }
    }

    /// To see whether a channel takes anything.
    pub fn trial(at: &Zoned, host: &str, said: &str) -> Message {
        let said = format!("{said}; nothing has happened");
        Message { severity: Severity::Notice, ..Message::beside_the_trail(at, host, "trial", &said) }
    }

    /// What stands in no trail: that it cannot be written.
    pub fn beside_the_trail(at: &Zoned, host: &str, word: &str, said: &str) -> Message {
        let line = crate::text::clean(format!("{word}: {said}").as_bytes());
        Message {
            seq: 0,
            id: format!("{word}-{}", at.timestamp().as_millisecond()),
            at: at.timestamp(),
            when: when(at.timestamp(), at.time_zone()),
            severity: Severity::Critical,
            host: host.to_owned(),
            case: None,
            rule: None,
            word: word.to_owned(),
            process: None,
            app: None,
            owner: None,
            brief: short(&line, BRIEF),
            line: short(&line, LONGEST),
        }
    }

    /// A line above it: whose machine it is, how serious, about what.
    pub fn heading(&self) -> String {
        let case = self.case.map(|case| format!(" (case {case})")).unwrap_or_default();
        format!("[{}] {}: {}{case}", self.host, self.severity.word(), self.brief)
    }
}

fn when(at: Timestamp, zone: &TimeZone) -> String {
    at.to_zoned(zone.clone()).strftime("%Y-%m-%d %H:%M:%S %Z").to_string()
}

fn short(line: &str, longest: usize) -> String {
    if line.len() <= longest {
        return line.to_owned();
    }
    format!("{}…", crate::text::cut(line, longest - 3))
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
