//! `watch --record FILE`: the very snapshots that were judged. A recording that cannot be written ends; the watch goes on.

use std::collections::BTreeSet;
use std::path::Path;
use std::time::{Duration, Instant};

use sophron_core::model::{Process, ProcessId, Snapshot};
use sophron_core::recording::{Ours, Outcome, Writer};

use super::Watcher;
use crate::exit::Failure;
use crate::recording_file::{self, Sink};
use crate::ui::style::Label;

/// What was written is readable after that long at the latest.
const FLUSH: Duration = Duration::from_secs(10);

/// A recording being made.
pub struct Recording {
    sink: Sink,
    writer: Writer,
    flushed: Instant,
}

impl Recording {
    /// A new file; nothing is overwritten.
    pub fn create(path: &Path, every: Duration) -> Result<Recording, Failure> {
        let writer = Writer::new(recording_file::header(every)?);
        Ok(Recording { sink: Sink::create(path)?, writer, flushed: Instant::now() })
    }

    fn write(&mut self, snapshot: &Snapshot, ours: Ours) -> std::io::Result<()> {
        let line = self.writer.line(snapshot, |_| true, ours)?;
        self.sink.line(&line)?;
        if self.flushed.elapsed() >= FLUSH {
            self.sink.flush()?;
            self.flushed = Instant::now();
        }
        Ok(())
    }
}

impl Watcher<'_> {
    pub(super) fn record(&mut self, snapshot: &Snapshot) {
        let outcomes = std::mem::take(&mut self.outcomes);
        if self.recording.is_none() && self.lookback.is_none() {
            return;
        }
        let pids = |ids: &BTreeSet<ProcessId>| ids.iter().map(|id| id.pid).collect();
        let ours = Ours {
            suspended: pids(&self.touched),
            busy: pids(&self.busy),
            back: self.standing_back.keys().map(|id| id.pid).collect(),
            outcomes,
        };
        if let Some(lookback) = &self.lookback {
            lookback.add(ours.clone());
        }
        let Some(recording) = &mut self.recording else { return };
        if let Err(error) = recording.write(snapshot, ours) {
            self.recording = None;
            self.say("unrecorded", Label::Warning, format!("the recording cannot be written, and ends here: {error}"));
        }
    }

    /// What came of an act goes into the recording with the next sample.
    pub(super) fn note_outcome(&mut self, case: Option<u64>, subject: &Process, verb: &str, outcome: &str) {
        if self.recording.is_none() && self.lookback.is_none() {
            return;
        }
        self.outcomes.push(Outcome {
            at: sophron_linux::here::now().wall,
            pid: subject.id.pid,
            start: subject.id.start,
            app: subject.app.clone(),
            owner: subject.owner.clone(),
            case,
            verb: verb.to_owned(),
            outcome: outcome.to_owned(),
        });
    }

    pub(super) fn end_the_recording(&mut self) {
        if let Some(lookback) = self.lookback.take() {
            lookback.add(Ours { outcomes: std::mem::take(&mut self.outcomes), ..Ours::default() });
            lookback.end();
        }
        let Some(recording) = self.recording.take() else { return };
        if let Err(error) = recording.sink.finish() {
            self.say("unrecorded", Label::Warning, format!("the end of the recording cannot be written: {error}"));
        }
    }
}
