//! The watcher's lookback: a thread of its own with a sampler of its own, so that it neither delays a tick nor depends
//! on what the rules need. If it cannot be written the watch goes on without it.

use std::path::PathBuf;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, SyncSender, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use jiff::SignedDuration;
use sophron_core::model::{Needs, Snapshot};
use sophron_core::recording::{Ours, Writer};
use sophron_core::rules::Lookback as Settings;
use sophron_linux::{Sampler, files};

use super::Wake;
use crate::exit::{Exit, Failure};
use crate::lookback;
use crate::recording_file::{self, Sink};

/// A new piece at least this often.
const PIECE: Duration = Duration::from_secs(3600);

/// So many pieces share the size that is allowed.
const PIECES: u64 = 16;

/// What was written can be read after that long at the latest.
const FLUSH: Duration = Duration::from_secs(30);

/// After a failure it is tried again that much later.
const TRY_AGAIN: Duration = Duration::from_secs(60);

/// The thread, and what it is to write beside the samples.
pub struct Lookback {
    ours: Arc<Mutex<Ours>>,
    stop: Sender<()>,
    thread: JoinHandle<()>,
}

impl Lookback {
    /// Starts it; `None` where nothing is to be kept, or no thread can be started, which is said.
    pub fn start(state: PathBuf, settings: Settings, news: SyncSender<Wake>) -> Option<Lookback> {
        if settings.keep.is_zero() {
            return None;
        }
        let ours = Arc::new(Mutex::new(Ours::default()));
        let (stop, stopped) = channel();
        let mut keeper = Keeper { state, settings, ours: Arc::clone(&ours), piece: None };
        let told = news.clone();
        let run = move || keeper.run(&stopped, &news);
        match std::thread::Builder::new().name("lookback".to_owned()).spawn(run) {
            Ok(thread) => Some(Lookback { ours, stop, thread }),
            Err(error) => {
                // The watcher is about to listen.
                let _ = told.try_send(Wake::Lookback(Some(error.to_string())));
                None
            }
        }
    }

    /// What the watcher is doing at this tick.
    pub fn add(&self, tick: Ours) {
        let mut ours = self.ours.lock().unwrap_or_else(PoisonError::into_inner);
        ours.suspended.extend(tick.suspended);
        ours.busy.extend(tick.busy);
        ours.back.extend(tick.back);
        ours.outcomes.extend(tick.outcomes);
    }

    /// Ends it; the piece is whole then.
    pub fn end(self) {
        drop(self.stop);
        // A panic in it has been printed.
        let _ = self.thread.join();
    }
}

struct Keeper {
    state: PathBuf,
    settings: Settings,
    ours: Arc<Mutex<Ours>>,
    piece: Option<Piece>,
}

/// The piece that is being written.
struct Piece {
    sink: Sink,
    writer: Writer,
    begun: Instant,
    flushed: Instant,
    size: u64,
}

impl Keeper {
    fn run(&mut self, stopped: &Receiver<()>, news: &SyncSender<Wake>) {
        sophron_linux::own_life::stand_back();
        let mut trouble = false;
        let mut sampler = None;
        let mut snapshot = Snapshot::default();
        loop {
            let begun = Instant::now();
            let done = self.one(&mut sampler, &mut snapshot);
            if trouble != done.is_err() {
                trouble = done.is_err();
                // The watcher may have ended meanwhile.
                let _ = news.try_send(Wake::Lookback(done.as_ref().err().map(Failure::in_a_line)));
            }
            if done.is_err() {
                self.piece = None;
            }
            let wait = if trouble { TRY_AGAIN } else { self.settings.every.saturating_sub(begun.elapsed()) };
            if !matches!(stopped.recv_timeout(wait), Err(RecvTimeoutError::Timeout)) {
                // What the watcher did last is told by a last sample.
                let _ = self.one(&mut sampler, &mut snapshot);
                if let Some(piece) = self.piece.take() {
                    let _ = piece.sink.finish();
                }
                return;
            }
        }
    }

    /// One sample, into the present piece or a new one.
    fn one(&mut self, sampler: &mut Option<Sampler>, snapshot: &mut Snapshot) -> Result<(), Failure> {
        let failed = |error| Failure::of(Exit::Failed, error);
        let sampler = match sampler {
            Some(sampler) => sampler,
            None => sampler.insert(Sampler::new(std::path::Path::new("/proc"), Needs::PERIODIC).map_err(failed)?),
        };
        sampler.sample(snapshot).map_err(failed)?;
        // Beside what the watcher runs all the time this runs rarely: without it both would stay in memory.
        let _ = sophron_linux::sys::let_go_of_code();
        let ours = std::mem::take(&mut *self.ours.lock().unwrap_or_else(PoisonError::into_inner));
        let most = self.settings.most / PIECES;
        let mut last = None;
        if let Some(full) = self.piece.take_if(|piece| piece.size >= most || piece.begun.elapsed() >= PIECE) {
            full.sink.finish().map_err(unwritten)?;
            last = full.writer.into_last();
        }
        let piece = match &mut self.piece {
            Some(piece) => piece,
            None => {
                let piece = self.begin(snapshot, last)?;
                self.piece.insert(piece)
            }
        };
        piece.write(snapshot, ours)
    }

    /// A new piece. With the latest sample of the one before it begins, so that no interval is lost between two.
    fn begin(&self, snapshot: &Snapshot, last: Option<Snapshot>) -> Result<Piece, Failure> {
        let folder = lookback::folder(&self.state);
        files::private_folder(&folder).map_err(|error| Failure::of(Exit::Failed, error))?;
        let now = snapshot.moment.wall;
        // Room is made beforehand, so that the size is never exceeded.
        let most = self.settings.most - self.settings.most / PIECES;
        lookback::prune(&self.state, self.settings.keep, most, now).map_err(unwritten)?;
        // Only what follows on the last sample without a gap begins with it.
        let fresh = SignedDuration::try_from(self.settings.every * 3).unwrap_or(SignedDuration::ZERO);
        let last = last.filter(|last| now.duration_since(last.moment.wall).abs() <= fresh);
        let begun = last.as_ref().map_or(now, |last| last.moment.wall);
        let sink = Sink::lean(&folder.join(lookback::name(begun)))?;
        let mut piece = Piece {
            sink,
            writer: Writer::new(recording_file::header(self.settings.every)?),
            begun: Instant::now(),
            flushed: Instant::now(),
            size: 0,
        };
        if let Some(last) = last {
            piece.sink.go_on(&mut piece.writer, last).map_err(unwritten)?;
        }
        Ok(piece)
    }
}

impl Piece {
    fn write(&mut self, snapshot: &Snapshot, ours: Ours) -> Result<(), Failure> {
        self.sink.sample(&mut self.writer, snapshot, |_| true, ours).map_err(unwritten)?;
        if self.size == 0 || self.flushed.elapsed() >= FLUSH {
            self.size = self.sink.flush().map_err(unwritten)?;
            self.flushed = Instant::now();
        }
        Ok(())
    }
}

fn unwritten(error: std::io::Error) -> Failure {
    Failure::new(Exit::Failed, "it cannot be written").because(error)
}
