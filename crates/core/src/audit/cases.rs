//! What the records tell: cases, and acts by hand.

use std::cmp::Reverse;
use std::fmt;

use jiff::Timestamp;

use super::record::Record;
use super::words::{Kind, SeverityWord};
use crate::act::{Came, Verb};
use crate::order::InOrder;
use crate::sorted::SortedMap;

/// One case in short.
#[derive(Debug, Clone, PartialEq)]
pub struct CaseSummary {
    /// Its number.
    pub case: u64,
    /// When it opened.
    pub began: Timestamp,
    /// The rule.
    pub rule: String,
    /// How serious the rule calls it.
    pub severity: SeverityWord,
    /// The program.
    pub app: String,
    /// Its checked PID.
    pub id: String,
    /// Whose it is.
    pub owner: String,
    /// The reading and its limit when the case opened.
    pub why: String,
    /// What was done, in order: `lowered`, `suspended`, …
    pub done: Vec<Done>,
    /// Where it stands.
    pub story: Story,
}

/// One thing that became of a step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Done {
    /// It came to this.
    Came(Came),
    /// That step was not taken: why, in a word.
    Not(Verb, Came),
}

impl fmt::Display for Done {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Done::Came(came) => write!(f, "{came}"),
            Done::Not(verb, why) => write!(f, "{verb}: {why}"),
        }
    }
}

/// Where a case stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Story {
    /// Still breached, as far as the trail knows.
    Open,
    /// The subject ended.
    Ended,
    /// The rule no longer covers it.
    Left,
    /// Calm.
    Calm,
    /// Open when the watcher ended.
    Unwatched,
}

impl Story {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Story::Open => "open",
            Story::Ended => "ended",
            Story::Left => "left",
            Story::Calm => "calm",
            Story::Unwatched => "unwatched",
        }
    }
}

/// Every case of the records, worst first: by severity, then those that are open, then the newest.
pub fn cases(records: &[Record]) -> Vec<CaseSummary> {
    let mut cases: SortedMap<u64, CaseSummary> = SortedMap::new();
    for record in records {
        if matches!(record.kind, Kind::WatcherStarted | Kind::WatcherEnded) {
            cases.values_mut().filter(|case| case.story == Story::Open).for_each(|case| case.story = Story::Unwatched);
        }
        let Some(number) = record.case else { continue };
        if record.kind == Kind::Breach {
            cases.entry(number).or_insert_with(|| opened(number, record));
        } else if let Some(case) = cases.get_mut(&number) {
            follow(case, record);
        }
    }
    let mut cases: Vec<CaseSummary> = cases.into_values().collect();
    cases.order_by(|a, b| {
        let rank = |case: &CaseSummary| (Reverse(case.severity.known()), case.story, Reverse(case.case));
        rank(a).cmp(&rank(b))
    });
    cases
}

fn opened(case: u64, record: &Record) -> CaseSummary {
    let subject = record.subject.as_ref();
    let group = subject.and_then(|subject| subject.of.as_ref());
    let of = |part: fn(&super::SubjectRecord) -> &String| subject.map(part).cloned().unwrap_or_default();
    CaseSummary {
        case,
        began: record.at,
        rule: record.rule.clone().unwrap_or_default(),
        severity: severity(record),
        app: match group {
            Some(group) => group.name.clone(),
            None => of(|subject| &subject.app),
        },
        id: if group.is_some() { String::new() } else { of(|subject| &subject.id) },
        owner: of(|subject| &subject.owner),
        why: record.evidence.as_ref().map(|evidence| evidence.words.clone()).unwrap_or_default(),
        done: Vec::new(),
        story: Story::Open,
    }
}

/// An unknown severity is unknown.
fn severity(record: &Record) -> SeverityWord {
    let told = record.evidence.as_ref().map(|evidence| evidence.severity.clone());
    told.unwrap_or_else(|| SeverityWord::Other("unknown".to_owned()))
}

fn follow(case: &mut CaseSummary, record: &Record) {
    let verb = || record.verb().cloned().unwrap_or(Verb::Other("unknown".to_owned()));
    let mut done = |done| case.done.push(done);
    match record.kind {
        Kind::Outcome | Kind::Restored => done(Done::Came(record.came().cloned().unwrap_or(Came::Unknown))),
        Kind::Refused => done(Done::Not(verb(), Came::Refused)),
        Kind::Shadow => done(Done::Not(verb(), Came::Other("shadow".to_owned()))),
        Kind::Spared => done(Done::Not(verb(), Came::Spared)),
        Kind::Calm => case.story = Story::Calm,
        Kind::Ended => case.story = Story::Ended,
        Kind::Left => case.story = Story::Left,
        _ => {}
    }
}

/// One act by hand in short.
#[derive(Debug, Clone, PartialEq)]
pub struct HandSummary {
    /// When its outcome was recorded.
    pub at: Timestamp,
    /// Who did it.
    pub who: super::Who,
    /// What was done: `lower`, `suspend` …
    pub verb: Verb,
    /// On whom.
    pub subject: super::SubjectRecord,
    /// What came of it.
    pub outcome: Came,
    /// Why, in the person's words.
    pub because: Option<String>,
}

/// Every act by hand, the newest first.
pub fn hands(records: &[Record]) -> Vec<HandSummary> {
    let told = |record: &&Record| {
        record.is_by_hand() && matches!(record.kind, Kind::Outcome | Kind::Refused | Kind::Restored | Kind::Superseded)
    };
    let summary = |record: &Record| {
        let action = record.action.as_ref()?;
        Some(HandSummary {
            at: record.at,
            who: record.who.clone(),
            verb: action.verb.clone(),
            subject: record.subject.clone()?,
            outcome: record.result.as_ref()?.outcome.clone(),
            because: action.because.clone(),
        })
    };
    records.iter().rev().filter(told).filter_map(summary).collect()
}
