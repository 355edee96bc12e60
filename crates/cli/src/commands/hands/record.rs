//! What a hand writes down: the intent before, the outcome after, in the same trail as rules.

use std::path::PathBuf;

use sophron_core::audit::{ActionRecord, By, Draft, InForce, Kind, Record, ResultRecord, SubjectRecord};
use sophron_core::model::{Process, Snapshot};
use sophron_core::rules::Audit;
use sophron_linux::here;
use sophron_linux::trail::{self, Append, Keeping, TrailFile};

use crate::args;
use crate::exit::{Exit, Failure};
use crate::places;
use crate::watcher::drafts::{DraftExt, Drafter, children, holds_open};
use crate::watcher::keeping;
use crate::watcher::recorder::chain;

/// The trail that a hand writes to.
pub(super) struct Trail {
    pub state: PathBuf,
    pub drafter: Drafter,
    because: Option<String>,
    /// What is in force by it.
    pub in_force: InForce,
    /// What was ended by us before: whom, and when.
    ended: Vec<(SubjectRecord, jiff::Timestamp)>,
    file: Option<TrailFile>,
    keeping: Keeping,
}

impl Trail {
    /// Reads what was recorded so far; nothing is written yet.
    pub fn new(args: &args::Hand, settings: &Audit) -> Result<Trail, Failure> {
        let state = places::state(args.state.folder.as_deref())?;
        let boot = here::boot(std::path::Path::new("/proc"))
            .map_err(|error| Failure::new(Exit::Failed, "the boot ID cannot be read").because(error))?;
        let who = here::who(&mut here::Users::default(), By::Hand);
        let mut ended = Vec::new();
        let latest = trail::latest(&state, |record| ended.extend(end_of(record)));
        let unreadable = "no record, no action: nothing was done; --state DIR names another place";
        let latest = latest.map_err(|error| Failure::of(Exit::Failed, error).hint(unreadable))?.unwrap_or_default();
        if let Some(fault) = &latest.fault {
            let seen =
                format!("the audit trail is not sound at record {}: {}; nothing was done", fault.seq, fault.what);
            return Err(Failure::new(Exit::Failed, seen).hint("look at it with `sophron audit verify`"));
        }
        let usual = args.state.folder.is_none();
        Ok(Trail {
            drafter: Drafter { host: here::host(), boot, who },
            because: args.because.as_ref().map(|text| sophron_core::text::clean(text.as_bytes())),
            in_force: latest.in_force,
            ended,
            file: None,
            keeping: Keeping { own_folder: usual, ..keeping(settings)? },
            state,
        })
    }

    /// Opens it for writing: without it nothing is done.
    pub fn open(&mut self) -> Result<(), Failure> {
        let file = TrailFile::open(&self.state, self.drafter.plain(Kind::TrailOpened), self.keeping);
        self.file = Some(file.map_err(|error| {
            Failure::of(Exit::Failed, error)
                .hint("no record, no action: nothing was done; --state DIR names another place")
        })?);
        Ok(())
    }

    /// An intent: returns when it is on disk.
    pub fn intend(&mut self, process: &Process, snapshot: &Snapshot, action: ActionRecord) -> Result<Draft, String> {
        let action = ActionRecord { because: self.because.clone(), ..action };
        let open = holds_open(process.id.pid);
        let subject =
            SubjectRecord { children: children(snapshot, process.id.pid), open, ..SubjectRecord::from(process) };
        let draft = Draft { subject: Some(subject), ..self.drafter.plain(Kind::Intent) }.doing(action);
        self.write(&draft)?;
        Ok(draft)
    }

    /// What came of it. A trail that cannot take it any more is said: the act has been done.
    pub fn tell(&mut self, intent: &Draft, kind: Kind, outcome: &str, seen: &str, took: Option<f64>) {
        let result = ResultRecord { outcome: outcome.to_owned(), seen: seen.to_owned(), took };
        let draft = Draft { result: Some(result), ..intent.as_kind(kind) };
        if let Err(why) = self.write(&draft) {
            crate::ui::err(format_args!("sophron: the outcome could not be recorded, its intent was: {why}\n"));
        }
    }

    pub fn write(&mut self, draft: &Draft) -> Result<(), String> {
        let file = self.file.as_mut().ok_or("the trail is not open")?;
        file.append(std::slice::from_ref(draft)).map_err(|error| chain(&error))
    }

    /// How often that program of that owner was ended by Sophron before, and since when.
    pub fn ended_before(&self, process: &Process) -> Option<(usize, jiff::Timestamp)> {
        let same = |subject: &SubjectRecord| {
            subject.app == process.app && subject.uid == process.uid && subject.path == process.path
        };
        let ends: Vec<jiff::Timestamp> =
            self.ended.iter().filter(|(subject, _)| same(subject)).map(|(_, at)| *at).collect();
        ends.first().map(|first| (ends.len(), *first))
    }
}

/// Whom a record tells to have been ended by us.
fn end_of(record: &Record) -> Option<(SubjectRecord, jiff::Timestamp)> {
    let terminated = record.action.as_ref().is_some_and(|action| action.verb == "terminate");
    let ended = record.result.as_ref().is_some_and(|result| result.outcome.starts_with("ended"));
    let subject = record.subject.clone().filter(|_| record.kind == Kind::Outcome && terminated && ended)?;
    Some((subject, record.at))
}
