//! Taking an effect back, on a thread of its own.

use std::sync::Arc;

use sophron_core::audit::{ActionRecord, Draft, Kind};
use sophron_core::effects::Undo;
use sophron_core::model::Process;
use sophron_linux::act::{self, ActError};
use sophron_linux::guard::Guard;
use sophron_linux::handle::Handle;

use super::drafts::DraftExt;
use super::recorder::{Recorder, chain};

/// What is to be taken back.
pub struct Request {
    pub undo: Undo,
    pub subject: Process,
    pub handle: Arc<Handle>,
    /// Present for a suspension.
    pub guard: Option<Guard>,
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

/// Does it. A resume is done even if it cannot be recorded: the guard would do it anyway, and nothing may stay
/// suspended for want of disk space. A niceness is put back only with its record; else the next start does it.
pub fn perform(request: Request, recorder: &Recorder) -> Done {
    let resumed = request.undo == Undo::Resume;
    let action = match &request.undo {
        Undo::Resume => ActionRecord::word("resume"),
        Undo::Restore { still, .. } => ActionRecord { nice: *still, ..ActionRecord::word("restore") },
    };
    let draft = request.draft.doing(action);
    let recorded = recorder.commit(draft.as_kind(Kind::Intent));
    let (kind, word, seen) = match (&request.undo, recorded) {
        (Undo::Resume, _) => resume(&request.handle),
        (Undo::Restore { .. }, Err(why)) => (
            Kind::Refused,
            "refused",
            format!("niceness not put back: no record, no action: {why}; the next start puts it back"),
        ),
        (Undo::Restore { set, originals, still }, Ok(())) => {
            match act::restore(&*request.handle, *set, originals, *still) {
                Ok(done) if done.restored == 0 && done.superseded > 0 => {
                    (Kind::Superseded, "kept", "niceness left as it is: somebody else has changed it since".to_owned())
                }
                Ok(done) => {
                    let rest = if done.superseded > 0 {
                        format!(", {} threads left as somebody else has set them", done.superseded)
                    } else {
                        String::new()
                    };
                    let target = still.unwrap_or(originals.was);
                    (Kind::Restored, "restored", format!("nice {set} → {target}{rest}"))
                }
                Err(ActError::Gone) => (Kind::Superseded, "gone", "it has ended: nothing to put back".to_owned()),
                Err(error) => (Kind::Refused, "refused", format!("niceness not put back: {}", chain(&error))),
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

fn resume(handle: &Handle) -> (Kind, &'static str, String) {
    match act::resume(handle) {
        Ok(Some(_)) => (Kind::Restored, "resumed", String::new()),
        Ok(None) => (Kind::Restored, "resumed", "some threads still wait in the kernel".to_owned()),
        Err(ActError::Gone) => (Kind::Superseded, "gone", "it has ended: nothing to resume".to_owned()),
        Err(error) => (Kind::Refused, "refused", format!("not resumed: {}", chain(&error))),
    }
}
