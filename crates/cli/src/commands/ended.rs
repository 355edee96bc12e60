//! What Sophron has ended before, by its record: one that is ended again and again is started by something.

use std::path::Path;

use jiff::Timestamp;
use sophron_core::audit::{Record, SubjectRecord};
use sophron_core::model::Process;
use sophron_linux::trail;

/// Whom a record tells to have been ended by us, and when.
#[derive(Debug, Clone, Default)]
pub struct Ended(Vec<(SubjectRecord, Timestamp)>);

impl Ended {
    /// By the record of that state folder; nobody, where it cannot be read.
    pub fn of(state: &Path) -> Ended {
        let mut ended = Ended::default();
        let _ = trail::latest(state, |record| ended.note(record));
        ended
    }

    /// One record more, in their order.
    pub fn note(&mut self, record: &Record) {
        let subject = record.subject.clone().filter(|_| record.tells_an_end());
        self.0.extend(subject.map(|subject| (subject, record.at)));
    }

    /// How often that program of that owner was ended before, and since when.
    pub fn before(&self, process: &Process) -> Option<(usize, Timestamp)> {
        let same = |subject: &SubjectRecord| {
            subject.app == process.app && subject.uid == process.uid && subject.path == process.path
        };
        let ends: Vec<Timestamp> = self.0.iter().filter(|(subject, _)| same(subject)).map(|(_, at)| *at).collect();
        ends.first().map(|first| (ends.len(), *first))
    }
}

/// `once`, `twice`, `3 times`.
pub fn often(times: usize) -> String {
    match times {
        1 => "once".to_owned(),
        2 => "twice".to_owned(),
        more => format!("{more} times"),
    }
}
