//! Drafts of records: who, where, and about whom.

use std::time::Duration;

use sophron_core::audit::{ActionRecord, Draft, Evidence, Kind, ResultRecord, SubjectRecord, Who, Wording};
use sophron_core::judge::Case;
use sophron_core::model::{Boot, Process, Snapshot};
use sophron_core::rules::Rule;
use sophron_linux::patience::within;
use sophron_linux::{here, open_files};

/// What every record of this run has in common.
#[derive(Debug, Clone)]
pub struct Drafter {
    pub host: String,
    pub boot: Boot,
    pub who: Who,
}

impl Drafter {
    /// A record about nobody.
    pub fn plain(&self, kind: Kind) -> Draft {
        Draft::new(here::now().wall, kind, &self.host, &self.boot.to_string(), self.who.clone())
    }

    /// A record of a case.
    pub fn of_case(&self, kind: Kind, case: &Case, rule: &Rule) -> Draft {
        Draft {
            case: Some(case.number),
            rule: Some(rule.name.clone()),
            subject: SubjectRecord::of_case(case),
            ..self.plain(kind)
        }
    }

    /// The record that a case opens: what it rests on, and the rule in its own words.
    pub fn opening(&self, case: &Case, rule: &Rule, digest: &str) -> Draft {
        let wording = Wording { text: rule.text.clone(), digest: digest.to_owned() };
        Draft { wording: Some(wording), ..self.with_evidence(Kind::Breach, case, rule) }
    }

    /// A record of a case with what it rests on.
    pub fn with_evidence(&self, kind: Kind, case: &Case, rule: &Rule) -> Draft {
        Draft { evidence: Some(Evidence::of(case, rule)), ..self.of_case(kind, case, rule) }
    }
}

/// Most children, and most open files, that a record names.
const MOST_CHILDREN: usize = 32;
const MOST_OPEN: usize = 16;

/// How long the open files are waited for: one on a disk that does not answer hangs whoever asks.
const PATIENCE: Duration = Duration::from_millis(40);

/// The children of a process, named as everywhere.
pub fn children(snapshot: &Snapshot, pid: u32) -> Vec<String> {
    let is_child = |process: &&Process| process.parent == pid && process.id.pid != pid && !process.has_ended();
    snapshot.processes.iter().filter(is_child).take(MOST_CHILDREN).map(Process::label).collect()
}

/// What a process holds open, as far as that may be read: files and sockets, each once.
pub fn holds_open(pid: u32) -> Vec<String> {
    let files = within(PATIENCE, move || open_files::of(pid)).flatten().unwrap_or_default();
    let mut names: Vec<String> = files.into_iter().map(|file| file.name).collect();
    names.sort_unstable();
    names.dedup();
    names.truncate(MOST_OPEN);
    names
}

/// Small additions to a draft.
pub trait DraftExt {
    fn doing(self, action: ActionRecord) -> Draft;
    fn came_of_it(self, outcome: &str, seen: impl Into<String>) -> Draft;
    /// The same story, now told by a record of another kind.
    fn as_kind(&self, kind: Kind) -> Draft;
}

impl DraftExt for Draft {
    fn doing(self, action: ActionRecord) -> Draft {
        Draft { action: Some(action), ..self }
    }

    fn came_of_it(self, outcome: &str, seen: impl Into<String>) -> Draft {
        let result = ResultRecord { outcome: outcome.to_owned(), seen: seen.into(), took: None };
        Draft { result: Some(result), ..self }
    }

    fn as_kind(&self, kind: Kind) -> Draft {
        let mut told = Draft { at: here::now().wall, kind, evidence: None, ..self.clone() };
        // Who hung on it, and what it had open, stands in the intent.
        if let Some(subject) = told.subject.as_mut().filter(|_| kind != Kind::Intent) {
            (subject.children, subject.open) = (Vec::new(), Vec::new());
        }
        told
    }
}
