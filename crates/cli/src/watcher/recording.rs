//! `watch --record FILE`: the very snapshots that were judged. A recording that cannot be written ends; the watch goes on.

use std::path::Path;
use std::time::{Duration, Instant};

use sophron_core::model::Snapshot;
use sophron_core::recording::{Ours, Writer};

use super::lookback::Lookback;
use crate::exit::Failure;
use crate::recording_file::{self, Sink};

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
        self.sink.sample(&mut self.writer, snapshot, |_| true, ours)?;
        if self.flushed.elapsed() >= FLUSH {
            self.sink.flush()?;
            self.flushed = Instant::now();
        }
        Ok(())
    }
}

/// What is kept of what is seen: a recording that was asked for, and the lookback.
#[derive(Default)]
pub struct Kept {
    pub recording: Option<Recording>,
    pub lookback: Option<Lookback>,
}

impl Kept {
    /// A sample that was judged, and what the watcher was doing; why the recording ends here, if it does.
    pub fn sample(&mut self, snapshot: &Snapshot, ours: Ours) -> Option<String> {
        if let Some(lookback) = &self.lookback {
            lookback.add(ours.clone());
        }
        let written = self.recording.as_mut()?.write(snapshot, ours);
        let error = written.err()?;
        self.recording = None;
        Some(error.to_string())
    }

    /// The end; why the recording's cannot be written, if it cannot.
    pub fn end(&mut self, ours: Ours) -> Option<String> {
        if let Some(lookback) = self.lookback.take() {
            lookback.add(ours);
            lookback.end();
        }
        self.recording.take()?.sink.finish().err().map(|error| error.to_string())
    }
}
