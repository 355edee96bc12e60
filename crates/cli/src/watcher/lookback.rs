//! The watcher's lookback and its history of usage: a thread of its own with a sampler of its own, so that it neither delays a tick
//! nor depends on what the rules need. If one of them cannot be written the watch goes on without it.

use std::path::PathBuf;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, SyncSender, channel};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use jiff::SignedDuration;
use sophron_core::model::{Needs, Snapshot};
use sophron_core::recording::{Ours, Writer};
use sophron_core::rules::{Lookback as Settings, RuleSet};
use sophron_linux::{Sampler, files};

use super::Wake;
use super::usage;
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

/// What the thread is told by the watcher.
#[derive(Default)]
struct Heard {
    /// What is to be written beside the next sample.
    ours: Ours,
    /// The rules that are in force, where they became others: their digest, and whether they ask what is usual.
    rules: Option<(String, bool)>,
    /// When the last tick was, and how long after the one before it.
    ticked: Option<(Instant, Option<Duration>)>,
}

impl Heard {
    fn tick(&mut self, now: Instant) {
        self.ticked = Some((now, self.ticked.map(|(last, _)| now.saturating_duration_since(last))));
    }

    /// How long to wait so as not to be in a tick's way, nor in the way of what is done by it: until midway between two, unless that
    /// is about now. Where they are further apart than the samples none is waited for.
    fn until_between(&self, now: Instant, every: Duration) -> Duration {
        let Some((last, Some(apart))) = self.ticked.filter(|(_, apart)| apart.is_some_and(|apart| apart <= every))
        else {
            return Duration::ZERO;
        };
        let since = now.saturating_duration_since(last).as_secs_f64() / apart.as_secs_f64();
        let share = match since.fract() {
            early if early < 0.25 => 0.5 - early,
            late if late > 0.75 => 1.5 - late,
            _ => 0.0,
        };
        apart.mul_f64(share)
    }
}

/// The thread, and what it is told.
pub struct Lookback {
    heard: Arc<Mutex<Heard>>,
    stop: Sender<()>,
    thread: JoinHandle<()>,
}

impl Lookback {
    /// Starts it; `None` where nothing is to be kept, or no thread can be started, which is said.
    pub fn start(state: PathBuf, rules: &RuleSet, own_folder: bool, news: SyncSender<Wake>) -> Option<Lookback> {
        let settings = rules.lookback;
        let mut usage = usage::Keeper::new(&state, &rules.usage, own_folder);
        if settings.keep.is_zero() && usage.is_none() {
            return None;
        }
        usage.iter_mut().for_each(|usage| usage.rules(&rules.digest));
        let heard = Arc::new(Mutex::new(Heard::default()));
        let (stop, stopped) = channel();
        let mut keeper =
            Keeper { state, settings, heard: Arc::clone(&heard), piece: None, usage, asks: rules.ask_what_is_usual() };
        let told = news.clone();
        let run = move || keeper.run(&stopped, &news);
        match std::thread::Builder::new().name("lookback".to_owned()).spawn(run) {
            Ok(thread) => Some(Lookback { heard, stop, thread }),
            Err(error) => {
                // The watcher is about to listen.
                let _ = told.try_send(Wake::Lookback(Some(error.to_string())));
                None
            }
        }
    }

    /// What the watcher is doing at this tick.
    pub fn add(&self, tick: Ours) {
        let mut heard = self.heard.lock().unwrap_or_else(PoisonError::into_inner);
        heard.tick(Instant::now());
        let ours = &mut heard.ours;
        ours.suspended.extend(tick.suspended);
        ours.busy.extend(tick.busy);
        ours.back.extend(tick.back);
        ours.back_from.extend(tick.back_from);
        ours.back_rules.extend(tick.back_rules);
        ours.back_all |= tick.back_all;
        ours.helpers.extend(tick.helpers);
        ours.outcomes.extend(tick.outcomes);
    }

    /// The rules that are in force from now on.
    pub fn rules(&self, rules: &RuleSet) {
        let told = Some((rules.digest.clone(), rules.ask_what_is_usual()));
        self.heard.lock().unwrap_or_else(PoisonError::into_inner).rules = told;
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
    heard: Arc<Mutex<Heard>>,
    piece: Option<Piece>,
    usage: Option<usage::Keeper>,
    /// Whether a rule asks what is usual.
    asks: bool,
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
        let mut trouble = [None, None];
        let mut sampler = None;
        let mut snapshot = Snapshot::default();
        if let Some(usage) = &mut self.usage {
            // What was recorded before is read before anything is recorded anew.
            let caught_up = usage.fill();
            say(&mut trouble[1], &caught_up, Wake::Usage, news);
        }
        loop {
            let begun = Instant::now();
            let done = self.one(&mut sampler, &mut snapshot);
            let why = done.as_ref().map(|_| ()).map_err(Failure::in_a_line);
            say(&mut trouble[0], &why, Wake::Lookback, news);
            if let Some(kept) = done.ok().flatten() {
                say(&mut trouble[1], &kept, Wake::Usage, news);
            }
            if let Some(usual) = self.usage.as_mut().filter(|_| self.asks).and_then(usage::Keeper::usual) {
                let _ = news.try_send(Wake::Usual(usual));
            }
            if why.is_err() {
                self.piece = None;
            }
            // It runs rarely: what it has run would stay in memory beside what the watcher runs all the time.
            let _ = sophron_linux::sys::let_go_of_code();
            let wait = if why.is_err() { TRY_AGAIN } else { self.settings.every.saturating_sub(begun.elapsed()) };
            let goes_on = |wait| matches!(stopped.recv_timeout(wait), Err(RecvTimeoutError::Timeout));
            let now_or_between = || self.heard().until_between(Instant::now(), self.settings.every);
            if !goes_on(wait) || !goes_on(now_or_between()) {
                // What the watcher did last is told by a last sample.
                let _ = self.one(&mut sampler, &mut snapshot);
                if let Some(piece) = self.piece.take() {
                    let _ = piece.sink.finish();
                }
                if let Some(usage) = self.usage.take() {
                    usage.end();
                }
                return;
            }
        }
    }

    fn heard(&self) -> MutexGuard<'_, Heard> {
        self.heard.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// One sample, into the present piece or a new one, and into the history: whether that could be kept, where it was time to.
    fn one(
        &mut self,
        sampler: &mut Option<Sampler>,
        snapshot: &mut Snapshot,
    ) -> Result<Option<Result<(), String>>, Failure> {
        let failed = |error| Failure::of(Exit::Failed, error);
        let sampler = match sampler {
            Some(sampler) => sampler,
            None => sampler.insert(Sampler::new(std::path::Path::new("/proc"), Needs::PERIODIC).map_err(failed)?),
        };
        sampler.sample(snapshot).map_err(failed)?;
        // Before the rest of it is run: both would be in memory at once.
        let _ = sophron_linux::sys::let_go_of_code();
        let (ours, rules) = {
            let mut heard = self.heard();
            (std::mem::take(&mut heard.ours), heard.rules.take())
        };
        let kept = self.usage.as_mut().and_then(|usage| {
            if let Some((digest, asks)) = &rules {
                usage.rules(digest);
                self.asks = *asks;
            }
            usage.take(snapshot)
        });
        if self.settings.keep.is_zero() {
            return Ok(kept);
        }
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
        piece.write(snapshot, ours)?;
        Ok(kept)
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

/// What became otherwise is said once.
fn say(
    trouble: &mut Option<String>,
    done: &Result<(), String>,
    wake: fn(Option<String>) -> Wake,
    news: &SyncSender<Wake>,
) {
    let why = done.as_ref().err().cloned();
    if *trouble != why {
        trouble.clone_from(&why);
        // The watcher may have ended meanwhile.
        let _ = news.try_send(wake(why));
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_keeps_out_of_the_way_of_ticks() {
        let begun = Instant::now();
        let (at, every) = (|millis| begun + Duration::from_millis(millis), Duration::from_secs(10));
        let mut heard = Heard::default();
        heard.tick(at(0));
        assert_eq!(heard.until_between(at(1), every), Duration::ZERO, "nobody knows when the next is");
        heard.tick(at(2000));
        let waits = [2000, 2400, 2600, 3000, 3400, 3600, 4100].map(|now| {
            let waits = heard.until_between(at(now), every);
            (now as f64 + waits.as_secs_f64() * 1e3).round()
        });
        assert_eq!(waits, [3000.0, 3000.0, 2600.0, 3000.0, 3400.0, 5000.0, 5000.0]);
        heard.tick(at(62_000));
        assert_eq!(heard.until_between(at(62_001), every), Duration::ZERO);
    }
}
