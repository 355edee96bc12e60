//! What is known of usage over weeks and months, wherever it was kept.

use std::sync::Arc;

use jiff::Timestamp;
use jiff::tz::TimeZone;

use super::rows::{App, AppHour, Row};
use crate::words::words;

words! {
    /// What else happened on a machine.
    Event {
        /// The file that a program runs was replaced.
        Program = "program",
        /// An app was seen for the first time.
        NewApp = "new-app",
        /// Another kernel was started.
        Kernel = "kernel",
        /// Packages were installed, upgraded or removed.
        Packages = "packages",
        /// The rules became others.
        Rules = "rules",
        /// Nobody watched for a time.
        Unwatched = "unwatched",
    }
}

/// Something that happened on a machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Happened {
    /// When it was seen.
    pub at: Timestamp,
    /// What.
    pub event: Event,
    /// Which app it is about; empty for the machine.
    pub app: String,
    /// In words.
    pub words: String,
}

/// A case, as far as usage tells of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CaseAt {
    /// When it opened.
    pub at: Timestamp,
    /// Its app; empty for the machine.
    pub app: String,
    /// Its owner.
    pub owner: String,
    /// Its rule.
    pub rule: String,
}

/// Usage, hour by hour, and what else happened.
#[derive(Debug, Clone)]
pub struct History {
    /// The machine.
    pub host: String,
    /// By which clock hours and days are meant.
    pub zone: TimeZone,
    /// When it was read: an hour that is not over yet is known until then. None of what was kept in a file.
    pub read: Option<Timestamp>,
    /// The hours, the earliest first.
    pub rows: Vec<Row>,
    /// What else happened.
    pub happened: Vec<Happened>,
    /// The cases.
    pub cases: Vec<CaseAt>,
}

impl History {
    /// One without anything in it.
    pub fn empty(host: &str, zone: TimeZone) -> History {
        History { host: host.to_owned(), zone, read: None, rows: Vec::new(), happened: Vec::new(), cases: Vec::new() }
    }

    /// Only a part of the time.
    #[must_use]
    pub fn within(&self, from: Timestamp, until: Timestamp) -> History {
        let is = |at: Timestamp| at >= from && at < until;
        History {
            host: self.host.clone(),
            zone: self.zone.clone(),
            read: self.read,
            rows: self.rows.iter().filter(|row| is(row.start)).cloned().collect(),
            happened: self.happened.iter().filter(|happened| is(happened.at)).cloned().collect(),
            cases: self.cases.iter().filter(|case| is(case.at)).cloned().collect(),
        }
    }

    /// Only those apps: what the machine did as a whole stays.
    #[must_use]
    pub fn only(mut self, wanted: impl Fn(&App) -> bool) -> History {
        for row in &mut self.rows {
            row.apps.retain(|(app, _)| wanted(app));
        }
        self.cases.retain(|case| wanted(&App { app: case.app.clone(), owner: case.owner.clone(), uid: u32::MAX }));
        self
    }

    /// What apps of that name held, the median of all hours in which each was seen: what is typical of it here.
    pub fn typical(&self, app: &str, of: impl Fn(&AppHour) -> f64) -> Option<f64> {
        let hours = self
            .rows
            .iter()
            .flat_map(|row| row.apps.iter())
            .filter(|(known, hour)| known.app == app && hour.seconds > 0.0);
        super::changes::median(hours.map(|(_, hour)| of(hour)).collect())
    }

    /// The first hour and the end of the last.
    pub fn span(&self) -> Option<(Timestamp, Timestamp)> {
        let last = self.rows.last()?;
        let end = last.start.checked_add(jiff::SignedDuration::from_hours(1)).unwrap_or(last.start);
        let end = self.read.map_or(end, |read| end.min(read).max(last.start));
        Some((self.rows.first()?.start, end))
    }

    /// One app, as rows refer to it.
    pub fn app(app: &str, owner: &str, uid: u32) -> Arc<App> {
        Arc::new(App { app: app.to_owned(), owner: owner.to_owned(), uid })
    }
}
