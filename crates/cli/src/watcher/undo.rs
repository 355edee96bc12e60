//! Taking an effect back, on a thread of its own.

use std::path::PathBuf;
use std::sync::Arc;

use sophron_core::audit::{ActionRecord, Draft, Kind};
use sophron_core::effects::Undo;
use sophron_core::model::Process;
use sophron_linux::act::{self, ActError};
use sophron_linux::guard::Guard;
use sophron_linux::handle::Handle;

use super::drafts::DraftExt;
use super::recorder::{Recorder, chain};
use crate::lowering::{self, Restored};

/// What is to be taken back.
pub struct Request {
    pub undo: Undo,
    pub subject: Process,
    /// `None` when the process is gone: what outlives it is taken back.
    pub handle: Option<Arc<Handle>>,
    /// Present for a suspension.
    pub guard: Option<Guard>,
    /// A socket at which the service manager is spoken to directly.
    pub direct: Option<PathBuf>,
    /// A draft with case, rule and subject.
    pub draft: Draft,
}

/// What came of it.
pub struct Done {
    pub case: Option<u64>,
    pub subject: Process,
    pub word: &'static str,
    pub seen: String,
    /// Whether this was a suspension.
    pub resumed: bool,
}

impl Request {
    /// What is told where whoever was at it ended midway: the trail keeps what is in force, and the next start mends it.
    pub fn unfinished(&self) -> Done {
        let seen = "whoever was at it ended midway: what was done is not known".to_owned();
        let (subject, resumed) = (self.subject.clone(), self.undo == Undo::Resume);
        Done { case: self.draft.case, subject, word: "failed", seen, resumed }
    }
}

/// Does it. A resume is done even if it cannot be recorded: the guard would do it anyway, and nothing may stay
/// suspended for want of disk space. A niceness is put back only with its record; else the next start does it.
pub fn perform(request: Request, recorder: &Recorder) -> Done {
    let resumed = request.undo == Undo::Resume;
    let action = match &request.undo {
        Undo::Resume => ActionRecord::word("resume"),
        Undo::Restore { still, .. } => ActionRecord { nice: *still, ..ActionRecord::word("restore") },
    };
    let draft = request.draft.doing(action);
    let recorded = recorder.commit_undo(draft.as_kind(Kind::Intent));
    let (kind, word, seen) = match (&request.undo, recorded) {
        (Undo::Resume, _) => resume(request.handle.as_deref()),
        (Undo::Restore { .. }, Err(why)) => (
            Kind::Refused,
            "refused",
            format!("niceness not put back: no record, no action: {why}; the next start puts it back"),
        ),
        (Undo::Restore { set, originals, still }, Ok(())) => {
            let handle = request.handle.as_deref().filter(|handle| !handle.has_ended());
            match lowering::put_back(handle, *set, originals, *still, request.direct.as_deref()) {
                Restored::Done(what) => (Kind::Restored, "restored", what),
                Restored::Superseded => {
                    (Kind::Superseded, "kept", "niceness left as it is: somebody else has changed it since".to_owned())
                }
                Restored::Gone => (Kind::Superseded, "gone", "it has ended: nothing to put back".to_owned()),
                Restored::Refused(why) => (Kind::Refused, "refused", format!("niceness not put back: {why}")),
            }
        }
    };
    match request.guard {
        Some(guard) if kind != Kind::Refused => guard.release(),
        // Let go without a word: the guard resumes it if it can.
        guard => drop(guard),
    }
    recorder.note(draft.as_kind(kind).came_of_it(word, seen.clone()));
    Done { case: draft.case, subject: request.subject, word, seen, resumed }
}

fn resume(handle: Option<&Handle>) -> (Kind, &'static str, String) {
    match handle.ok_or(ActError::Gone).and_then(act::resume) {
        Ok(Some(_)) => (Kind::Restored, "resumed", String::new()),
        Ok(None) => (Kind::Restored, "resumed", "some threads still wait in the kernel".to_owned()),
        Err(ActError::Gone) => (Kind::Superseded, "gone", "it has ended: nothing to resume".to_owned()),
        Err(error) => (Kind::Refused, "refused", format!("not resumed: {}", chain(&error))),
    }
}
