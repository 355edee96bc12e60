//! The recorder: a thread of its own that writes to the trail, so that a slow disk never delays a tick.
//!
//! What could not be written is kept and tried again; until it is written, nothing is acted upon.

use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use sophron_core::audit::Draft;
use sophron_linux::trail::{Append, Stamped, TrailError};

/// How long an act waits for its intent to be on disk.
pub const SYNC_WAIT: Duration = Duration::from_secs(5);

/// Most records kept while the trail cannot be written; older ones are what a reader misses least.
const MOST_KEPT: usize = 10_000;
const TRY_AGAIN: Duration = Duration::from_secs(1);

struct Job {
    drafts: Vec<Draft>,
    /// Present for what must be on disk before something is done: that is never tried again later.
    reply: Option<Sender<Result<(), String>>>,
    /// Whether that may be done on the strength of a trail that is in doubt: what only takes back may.
    in_doubt: bool,
}

/// Takes records; any thread may hold one.
#[derive(Clone)]
pub struct Recorder {
    jobs: Sender<Job>,
    sound: Arc<AtomicBool>,
    /// Whether the trail is one that nobody should act upon, though it can be written.
    doubted: Arc<AtomicBool>,
}

/// What the recorder reports by itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TrailNews {
    /// The trail cannot be written: why.
    Lost(String),
    /// It can be written again.
    Back,
    /// It was cut back or taken away, or was changed where it should not be: what was found.
    Doubted(String),
    /// It was signed.
    Stamped(Stamped),
    /// It could not be signed: why.
    Unstamped(String),
}

impl Recorder {
    /// Starts the thread, which signs the trail that often. It ends when the last recorder is dropped, after a last try to
    /// write what is left, and a last stamp.
    pub fn start(
        trail: Box<dyn Append>,
        every: Duration,
        news: impl Fn(TrailNews) + Send + 'static,
    ) -> std::io::Result<(Recorder, JoinHandle<()>)> {
        let (jobs, incoming) = channel();
        let sound = Arc::new(AtomicBool::new(true));
        let doubted = Arc::new(AtomicBool::new(false));
        let stamps = Stamps { every, last: Instant::now(), refused: false };
        let (kept, news) = (VecDeque::new(), Box::new(news));
        let mut writer = Writer { trail, kept, sound: Arc::clone(&sound), doubted: Arc::clone(&doubted), news, stamps };
        let thread = std::thread::Builder::new().name("recorder".to_owned()).spawn(move || writer.run(&incoming))?;
        Ok((Recorder { jobs, sound, doubted }, thread))
    }

    /// Whether everything so far is in the trail, and nobody has tampered with it: only then is anything acted upon.
    pub fn is_sound(&self) -> bool {
        self.sound.load(Ordering::SeqCst) && !self.doubted.load(Ordering::SeqCst)
    }

    /// Nothing is acted upon while the trail is in doubt.
    pub fn doubt(&self, doubted: bool) {
        self.doubted.store(doubted, Ordering::SeqCst);
    }

    /// Records without waiting.
    pub fn note(&self, draft: Draft) {
        // The thread ends only after the last recorder.
        let _ = self.jobs.send(Job { drafts: vec![draft], reply: None, in_doubt: true });
    }

    /// Records, and returns when it is on disk.
    ///
    /// # Errors
    /// Why it is not, or not within 5 s, or the trail is in doubt: what it announces must not be done.
    pub fn commit(&self, draft: Draft) -> Result<(), String> {
        self.synced(draft, false)
    }

    /// The same for what only takes back what was done.
    ///
    /// # Errors
    /// Why it is not on disk, or not within 5 s.
    pub fn commit_undo(&self, draft: Draft) -> Result<(), String> {
        self.synced(draft, true)
    }

    fn synced(&self, draft: Draft, in_doubt: bool) -> Result<(), String> {
        let (reply, answer) = channel();
        let gone = || "the recorder has ended".to_owned();
        self.jobs.send(Job { drafts: vec![draft], reply: Some(reply), in_doubt }).map_err(|_| gone())?;
        match answer.recv_timeout(SYNC_WAIT) {
            Ok(done) => done,
            Err(RecvTimeoutError::Timeout) => {
                Err(format!("the record was not on disk within {} s", SYNC_WAIT.as_secs()))
            }
            Err(RecvTimeoutError::Disconnected) => Err(gone()),
        }
    }
}

struct Writer {
    trail: Box<dyn Append>,
    kept: VecDeque<Draft>,
    sound: Arc<AtomicBool>,
    doubted: Arc<AtomicBool>,
    news: Box<dyn Fn(TrailNews) + Send>,
    stamps: Stamps,
}

/// When the trail is signed.
struct Stamps {
    every: Duration,
    last: Instant,
    /// Whether the last try failed, which is said once.
    refused: bool,
}

impl Writer {
    fn run(&mut self, incoming: &Receiver<Job>) {
        loop {
            let until_stamp = self.stamps.every.saturating_sub(self.stamps.last.elapsed());
            let wait = if self.kept.is_empty() { until_stamp } else { until_stamp.min(TRY_AGAIN) };
            match incoming.recv_timeout(wait) {
                Ok(job) => self.take(job),
                Err(RecvTimeoutError::Timeout) => {
                    let _ = self.flush();
                }
                Err(RecvTimeoutError::Disconnected) => {
                    if self.flush().is_ok() {
                        self.stamp();
                    }
                    return;
                }
            }
            if self.stamps.last.elapsed() >= self.stamps.every {
                self.stamp();
            }
        }
    }

    fn stamp(&mut self) {
        self.stamps.last = Instant::now();
        match self.trail.stamp() {
            Ok(stamped) => {
                self.stamps.refused = false;
                if let Some(stamped) = stamped {
                    (self.news)(TrailNews::Stamped(stamped));
                }
            }
            Err(error) if !self.stamps.refused => {
                self.stamps.refused = true;
                (self.news)(TrailNews::Unstamped(chain(&error)));
            }
            Err(_) => {}
        }
    }

    fn take(&mut self, job: Job) {
        // Order is kept: what failed before goes first.
        let mut done = self.flush();
        if done.is_ok() && !job.in_doubt && self.doubted.load(Ordering::SeqCst) {
            done = Err("the audit trail is in doubt".to_owned());
        } else if done.is_ok() {
            done = self.append(&job.drafts);
        }
        if done.is_err() && job.reply.is_none() {
            self.kept.extend(job.drafts);
            while self.kept.len() > MOST_KEPT {
                self.kept.pop_front();
            }
        }
        if let Some(reply) = job.reply {
            // Who waited too long is gone.
            let _ = reply.send(done);
        }
    }

    fn flush(&mut self) -> Result<(), String> {
        if self.kept.is_empty() {
            return Ok(());
        }
        let drafts: Vec<Draft> = self.kept.iter().cloned().collect();
        self.append(&drafts)?;
        self.kept.clear();
        Ok(())
    }

    fn append(&mut self, drafts: &[Draft]) -> Result<(), String> {
        let done = self.trail.append(drafts);
        if let Err(TrailError::Lost(what)) = &done {
            // A new trail has been begun, and tells of it.
            self.doubted.store(true, Ordering::SeqCst);
            (self.news)(TrailNews::Doubted(what.clone()));
            return Err(chain(&TrailError::Lost(what.clone())));
        }
        let done = done.map_err(|error| chain(&error));
        let sound = done.is_ok();
        if self.sound.swap(sound, Ordering::SeqCst) != sound {
            (self.news)(match &done {
                Ok(()) => TrailNews::Back,
                Err(why) => TrailNews::Lost(why.clone()),
            });
        }
        done
    }
}

/// An error and its causes in one line.
pub fn chain(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut next = error.source();
    while let Some(cause) = next {
        text.push_str(&format!(": {cause}"));
        next = cause.source();
    }
    text
}
