//! The recorder: a thread of its own that writes to the trail, so that a slow disk never delays a tick.
//!
//! What could not be written is kept and tried again; until it is written, nothing is acted upon. What waits is bounded: an
//! intent that finds no room is not on disk, so its act is not done; anything else is counted, and the count recorded once there
//! is room again.

use std::collections::VecDeque;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, SyncSender, channel, sync_channel};
use std::sync::{Arc, Weak};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use sophron_core::audit::Draft;
use sophron_core::text::with_causes;
use sophron_linux::trail::{Append, Stamped, TrailError};

/// How long an act waits for its intent to be on disk.
pub const SYNC_WAIT: Duration = Duration::from_secs(5);

/// Most that waits for the recorder to take it.
const MOST_WAITING: usize = 4096;

/// Most records kept while the trail cannot be written; older ones are what a reader misses least.
const MOST_KEPT: usize = 10_000;
const TRY_AGAIN: Duration = Duration::from_secs(1);

/// So long a record that nobody waits for waits for others, so that they are synced in one go: most of all a breach for the intent
/// that answers it.
const MOMENT: Duration = Duration::from_millis(10);

/// Most that is written in one go.
const MOST_TOGETHER: usize = 256;

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
    jobs: SyncSender<Job>,
    /// Records that found no room, and are not told yet.
    lost: Arc<AtomicU64>,
    /// Whether the trail is one that nobody should act upon, though it can be written.
    doubted: Arc<AtomicBool>,
    /// Held by its thread.
    lives: Weak<()>,
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
    /// So many records were lost, for want of room.
    LostRecords(u64),
}

impl Recorder {
    /// Starts the thread, which signs the trail that often and says when something was `written`. It ends when the last recorder is dropped, after a last try to
    /// write what is left, and a last stamp.
    pub fn start(
        trail: Box<dyn Append>,
        every: Duration,
        news: impl Fn(TrailNews) + Send + 'static,
        written: impl Fn() + Send + 'static,
    ) -> std::io::Result<(Recorder, JoinHandle<()>)> {
        let (jobs, incoming) = sync_channel(MOST_WAITING);
        let lost = Arc::new(AtomicU64::new(0));
        let doubted = Arc::new(AtomicBool::new(false));
        let stamps = Stamps { every, last: Instant::now(), refused: false };
        let (kept, news, written) = (VecDeque::new(), Box::new(news), Box::new(written));
        let (told, doubts) = (Arc::clone(&lost), Arc::clone(&doubted));
        let mut writer = Writer { trail, kept, lost: told, sound: true, doubted: doubts, news, written, stamps };
        let life = Arc::new(());
        let lives = Arc::downgrade(&life);
        let run = move || {
            let _life = life;
            writer.run(&incoming);
        };
        let thread = std::thread::Builder::new().name("recorder".to_owned()).spawn(run)?;
        Ok((Recorder { jobs, lost, doubted, lives }, thread))
    }

    /// Whether its thread lives.
    pub fn lives(&self) -> bool {
        self.lives.strong_count() > 0
    }

    /// Nothing is acted upon while the trail is in doubt.
    pub fn doubt(&self, doubted: bool) {
        self.doubted.store(doubted, Ordering::SeqCst);
    }

    /// Records without waiting.
    pub fn note(&self, draft: Draft) {
        // The thread ends only after the last recorder: it can only be that there is no room.
        if self.jobs.try_send(Job { drafts: vec![draft], reply: None, in_doubt: true }).is_err() {
            self.lost.fetch_add(1, Ordering::SeqCst);
        }
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

    /// Returns when what was noted before is on disk.
    ///
    /// # Errors
    /// Why it is not, or not within 5 s: it is kept, and tried again.
    pub fn settle(&self) -> Result<(), String> {
        self.wait(Vec::new(), true)
    }

    fn synced(&self, draft: Draft, in_doubt: bool) -> Result<(), String> {
        self.wait(vec![draft], in_doubt)
    }

    fn wait(&self, drafts: Vec<Draft>, in_doubt: bool) -> Result<(), String> {
        let (reply, answer) = channel();
        let gone = || "the recorder has ended".to_owned();
        let job = Job { drafts, reply: Some(reply), in_doubt };
        self.jobs.try_send(job).map_err(|_| "the recorder has no room: the disk is too slow".to_owned())?;
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
    lost: Arc<AtomicU64>,
    /// Whether the last record could be written.
    sound: bool,
    doubted: Arc<AtomicBool>,
    news: Box<dyn Fn(TrailNews) + Send>,
    /// Called when something was written.
    written: Box<dyn Fn() + Send>,
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
                Ok(job) => self.take(together(job, incoming)),
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
            // Told once what is kept has been written: then there is room for it.
            if self.kept.is_empty() {
                match self.lost.swap(0, Ordering::SeqCst) {
                    0 => {}
                    lost => (self.news)(TrailNews::LostRecords(lost)),
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
                (self.news)(TrailNews::Unstamped(with_causes(&error)));
            }
            Err(_) => {}
        }
    }

    fn take(&mut self, jobs: Vec<Job>) {
        // Order is kept: what failed before goes first.
        let mut done = self.flush();
        let doubted = self.doubted.load(Ordering::SeqCst);
        let (jobs, refused): (Vec<Job>, Vec<Job>) = jobs.into_iter().partition(|job| job.in_doubt || !doubted);
        let drafts: Vec<Draft> = jobs.iter().flat_map(|job| job.drafts.iter().cloned()).collect();
        if done.is_ok() && !drafts.is_empty() {
            done = self.append(&drafts);
        }
        for job in refused {
            let why = done.clone().err().unwrap_or_else(|| "the audit trail is in doubt".to_owned());
            job.reply.inspect(|reply| drop(reply.send(Err(why))));
        }
        for job in jobs {
            match job.reply {
                // Who waited too long is gone.
                Some(reply) => drop(reply.send(done.clone())),
                None if done.is_err() => self.kept.extend(job.drafts),
                None => {}
            }
        }
        while self.kept.len() > MOST_KEPT {
            self.kept.pop_front();
            self.lost.fetch_add(1, Ordering::SeqCst);
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
            return Err(with_causes(&TrailError::Lost(what.clone())));
        }
        let done = done.map_err(|error| with_causes(&error)).inspect(|()| (self.written)());
        let sound = done.is_ok();
        if std::mem::replace(&mut self.sound, sound) != sound {
            (self.news)(match &done {
                Ok(()) => TrailNews::Back,
                Err(why) => TrailNews::Lost(why.clone()),
            });
        }
        done
    }
}

/// A job with those that follow it closely. Whoever waits for the disk waits for nobody else.
fn together(first: Job, incoming: &Receiver<Job>) -> Vec<Job> {
    let (mut jobs, mut until) = (Vec::new(), Instant::now() + MOMENT);
    let mut next = Some(first);
    while let Some(job) = next {
        if job.reply.is_some() {
            until = Instant::now();
        }
        jobs.push(job);
        let left = until.saturating_duration_since(Instant::now());
        next = if jobs.len() < MOST_TOGETHER { incoming.recv_timeout(left).ok() } else { None };
    }
    jobs
}

#[cfg(test)]
mod tests {
    use std::sync::Mutex;

    use sophron_core::audit::{Kind, Who};

    use super::*;

    fn draft(case: u64) -> Draft {
        let who = Who { uid: 0, user: "root".to_owned(), login_uid: None, by: None };
        let draft = Draft::new(jiff::Timestamp::UNIX_EPOCH, Kind::Breach, "mossgate-desk-03", "7", who);
        Draft { case: Some(case), ..draft }
    }

    /// A disk that does nothing until it is let go, and then may be full.
    struct Slow {
        go: Receiver<()>,
        full: Arc<AtomicBool>,
        written: Arc<Mutex<Vec<u64>>>,
    }

    impl Append for Slow {
        fn append(&mut self, drafts: &[Draft]) -> Result<(), TrailError> {
            let _ = self.go.recv();
            if self.full.load(Ordering::SeqCst) {
                return Err(TrailError::Locked("audit/lock".into()));
            }
            self.written.lock().unwrap().extend(drafts.iter().filter_map(|draft| draft.case));
            Ok(())
        }
    }

    struct Bench {
        recorder: Recorder,
        thread: JoinHandle<()>,
        go: Sender<()>,
        full: Arc<AtomicBool>,
        written: Arc<Mutex<Vec<u64>>>,
        news: Receiver<TrailNews>,
    }

    fn begin() -> Bench {
        let ((go, wait), (tell, news)) = (channel(), channel());
        let written = Arc::new(Mutex::new(Vec::new()));
        let full = Arc::new(AtomicBool::new(false));
        let slow = Slow { go: wait, full: Arc::clone(&full), written: Arc::clone(&written) };
        let told = move |what| drop(tell.send(what));
        let (recorder, thread) = Recorder::start(Box::new(slow), Duration::from_secs(3600), told, || ()).unwrap();
        Bench { recorder, thread, go, full, written, news }
    }

    /// A disk that hangs: what waits is bounded, an intent without room is refused at once, and what was lost is counted.
    #[test]
    fn what_waits_for_a_slow_disk_is_bounded_and_counted() {
        let Bench { recorder, thread, go, written, news, .. } = begin();
        let (waiting, together) = (MOST_WAITING as u64, MOST_TOGETHER as u64);
        let most = waiting + together;
        for case in 0..most + 50 {
            recorder.note(draft(case));
        }
        let began = Instant::now();
        assert!(recorder.commit(draft(0)).unwrap_err().contains("no room"), "it is not announced, so nothing is done");
        assert!(began.elapsed() < SYNC_WAIT, "and nobody waits for that");
        let lost = recorder.lost.load(Ordering::SeqCst);
        // The thread may have taken some by now.
        assert!((50..=50 + together).contains(&lost), "{lost}");
        drop(go);
        drop(recorder);
        thread.join().unwrap();
        assert_eq!(written.lock().unwrap().len() as u64 + lost, most + 50);
        let told = news.iter().filter_map(|news| match news {
            TrailNews::LostRecords(count) => Some(count),
            _ => None,
        });
        assert_eq!(told.sum::<u64>(), lost);
    }

    /// A full disk: an intent is refused and never written later; all else is kept, in its order, until there is room.
    #[test]
    fn what_a_full_disk_refuses_is_kept_in_order_but_for_intents() {
        let Bench { recorder, thread, go, full, written, news } = begin();
        drop(go);
        full.store(true, Ordering::SeqCst);
        recorder.note(draft(1));
        assert!(recorder.commit(draft(2)).is_err());
        recorder.note(draft(3));
        full.store(false, Ordering::SeqCst);
        recorder.commit(draft(4)).unwrap();
        recorder.doubt(true);
        assert!(recorder.commit(draft(5)).unwrap_err().contains("in doubt"));
        recorder.commit_undo(draft(6)).unwrap();
        drop(recorder);
        thread.join().unwrap();
        assert_eq!(*written.lock().unwrap(), [1, 3, 4, 6]);
        let told: Vec<TrailNews> = news.iter().collect();
        assert!(matches!(told[..], [TrailNews::Lost(_), TrailNews::Back]), "{told:?}");
    }

    /// One sync for a breach, the intent that answers it and what else has come by then, in the order in which they came.
    #[test]
    fn what_comes_closely_is_written_in_one_go() {
        let (jobs, incoming) = sync_channel(MOST_WAITING);
        let (reply, _answer) = channel();
        let job = |case, reply| Job { drafts: vec![draft(case)], reply, in_doubt: false };
        for (case, reply) in [(2, Some(reply)), (3, None), (4, None)] {
            jobs.send(job(case, reply)).unwrap();
        }
        let all = together(job(1, None), &incoming);
        let cases: Vec<_> = all.iter().flat_map(|job| &job.drafts).filter_map(|draft| draft.case).collect();
        assert_eq!(cases, [1, 2, 3, 4]);
    }
}
