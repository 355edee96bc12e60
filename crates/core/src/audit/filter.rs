//! Picking records out of the trail's bytes: of most lines only what is asked for is read.

use std::borrow::Cow;

use jiff::Timestamp;
use serde::Deserialize;

use super::record::{Record, SubjectRecord};
use super::words::Kind;
use crate::condition::{Condition, Truth};
use crate::facts::Facts;
use crate::model::{Boot, Machine};

/// Which records are wanted.
#[derive(Debug, Clone, Default)]
pub struct Filter {
    /// From that time on.
    pub since: Option<Timestamp>,
    /// Up to that time.
    pub until: Option<Timestamp>,
    /// Of that rule.
    pub rule: Option<String>,
    /// About that app.
    pub app: Option<String>,
    /// Of that case.
    pub case: Option<u64>,
    /// About processes of which this is true, by what the record says of them.
    pub covers: Option<Condition>,
}

/// What has to be known of a line to leave it out.
#[derive(Deserialize)]
struct Brief<'a> {
    at: Timestamp,
    #[serde(default)]
    case: Option<u64>,
    kind: Kind,
    #[serde(default, borrow)]
    rule: Option<Cow<'a, str>>,
    #[serde(default, borrow)]
    subject: Option<BriefSubject<'a>>,
}

#[derive(Deserialize)]
struct BriefSubject<'a> {
    #[serde(borrow)]
    app: Cow<'a, str>,
}

impl Filter {
    /// Whether everything is wanted.
    pub fn is_open(&self) -> bool {
        self.since.is_none() && self.until.is_none() && self.is_by_time_alone()
    }

    /// Whether nothing but times is asked for.
    fn is_by_time_alone(&self) -> bool {
        self.rule.is_none() && self.app.is_none() && self.case.is_none() && self.covers.is_none()
    }

    /// Whether a record is wanted.
    pub fn takes(&self, record: &Record) -> bool {
        let within =
            self.since.is_none_or(|since| record.at >= since) && self.until.is_none_or(|until| record.at <= until);
        let rule = self.rule.as_ref().is_none_or(|rule| record.rule.as_ref() == Some(rule));
        let of = |app: &String| record.subject.as_ref().is_some_and(|subject| subject.app == *app);
        let case = self.case.is_none_or(|case| record.case == Some(case));
        within && rule && self.app.as_ref().is_none_or(of) && case && self.covered(record.subject.as_ref())
    }

    fn covered(&self, subject: Option<&SubjectRecord>) -> bool {
        let Some(covers) = &self.covers else { return true };
        let Some(subject) = subject else { return false };
        let process = subject.process(Boot(0));
        covers.evaluate(&Facts::lasting(&process, &Machine::default())) == Truth::True
    }

    fn may_take(&self, brief: &Brief<'_>) -> bool {
        self.since.is_none_or(|since| brief.at >= since)
            && self.until.is_none_or(|until| brief.at <= until)
            && self.rule.as_deref().is_none_or(|rule| brief.rule.as_deref() == Some(rule))
            && self.case.is_none_or(|case| brief.case == Some(case))
            && self.app.as_deref().is_none_or(|app| brief.subject.as_ref().is_some_and(|subject| subject.app == app))
            && (self.covers.is_none() || brief.subject.is_some())
    }

    /// Whether a record says when a watcher began or ended, up to the time that is asked for: without those it is not known what
    /// became of a case.
    pub fn is_mark(&self, kind: &Kind, at: Timestamp) -> bool {
        matches!(kind, Kind::WatcherStarted | Kind::WatcherEnded) && self.until.is_none_or(|until| at <= until)
    }

    /// The records of some lines that are wanted; with `marks` also those that say when a watcher began and ended. Lines that
    /// cannot be read are left out: `verify` names them.
    pub fn pick(&self, bytes: &[u8], marks: bool) -> Vec<Record> {
        let lines = bytes.split(|byte| *byte == b'\n').filter(|line| !line.is_empty());
        let is_mark = |kind: &Kind, at: Timestamp| marks && self.is_mark(kind, at);
        // Of most lines the brief is enough, but where only times are asked for, by which they were found.
        let brief_first = !self.is_by_time_alone();
        let mut picked = Vec::new();
        for line in lines {
            let brief = || serde_json::from_slice::<Brief<'_>>(line).ok();
            if brief_first && !brief().is_some_and(|brief| is_mark(&brief.kind, brief.at) || self.may_take(&brief)) {
                continue;
            }
            let record = serde_json::from_slice::<Record>(line).ok();
            picked.extend(record.filter(|record| is_mark(&record.kind, record.at) || self.takes(record)));
        }
        picked
    }
}
