//! Threads for what takes its time: made at the start, since a machine in trouble may have none left when they are needed.
//! More are made while all are at work, as far as that goes; what finds none waits its turn.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, SyncSender, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::Builder;
use std::time::Duration;

use super::Wake;

/// A thread beyond those of the start ends after it had nothing to do for that long.
const IDLE: Duration = Duration::from_secs(30);

type Job = Box<dyn FnOnce() + Send>;

/// Some threads, and what waits for them.
pub struct Workers {
    jobs: Sender<Job>,
    shared: Arc<Shared>,
    name: &'static str,
    most: usize,
}

struct Shared {
    queue: Mutex<Receiver<Job>>,
    threads: AtomicUsize,
    /// Jobs given and not done.
    open: AtomicUsize,
}

impl Workers {
    /// `least` threads now, and up to `most` later.
    ///
    /// # Errors
    /// Not even the first can be started.
    pub fn start(name: &'static str, least: usize, most: usize) -> std::io::Result<Workers> {
        let (jobs, queue) = channel();
        let shared = Shared { queue: Mutex::new(queue), threads: AtomicUsize::new(0), open: AtomicUsize::new(0) };
        let workers = Workers { jobs, shared: Arc::new(shared), name, most };
        for _ in 0..least {
            workers.one_more(None)?;
        }
        Ok(workers)
    }

    /// Has it done by the next thread that is free. It is done or dropped: a job that has to tell what came of it does so
    /// when it is dropped.
    pub fn give(&self, job: impl FnOnce() + Send + 'static) {
        let open = self.shared.open.fetch_add(1, Ordering::SeqCst) + 1;
        // The threads of the start never end before we do.
        let _ = self.jobs.send(Box::new(job));
        let threads = self.shared.threads.load(Ordering::SeqCst);
        if open > threads && threads < self.most {
            // Where none can be had it waits its turn.
            let _ = self.one_more(Some(IDLE));
        }
    }

    fn one_more(&self, idle: Option<Duration>) -> std::io::Result<()> {
        let shared = Arc::clone(&self.shared);
        self.shared.threads.fetch_add(1, Ordering::SeqCst);
        let started = Builder::new().name(self.name.to_owned()).spawn(move || {
            shared.work(idle);
            shared.threads.fetch_sub(1, Ordering::SeqCst);
        });
        if started.is_err() {
            self.shared.threads.fetch_sub(1, Ordering::SeqCst);
        }
        started.map(|_| ())
    }
}

impl Shared {
    fn work(&self, idle: Option<Duration>) {
        loop {
            let next = {
                let queue = self.queue.lock().unwrap_or_else(PoisonError::into_inner);
                match idle {
                    Some(idle) => queue.recv_timeout(idle),
                    None => queue.recv().map_err(|_| RecvTimeoutError::Disconnected),
                }
            };
            let Ok(job) = next else { return };
            // What went wrong has been printed, and whoever waits for the job hears of it as it is dropped.
            let _ = catch_unwind(AssertUnwindSafe(job));
            self.open.fetch_sub(1, Ordering::SeqCst);
        }
    }
}

/// What a job has to tell at its end, whatever becomes of it.
pub struct Report {
    wake: SyncSender<Wake>,
    otherwise: Option<Box<dyn FnOnce() -> Wake + Send>>,
}

impl Report {
    /// `otherwise` is told where the job ends without a word.
    pub fn new(wake: SyncSender<Wake>, otherwise: impl FnOnce() -> Wake + Send + 'static) -> Report {
        Report { wake, otherwise: Some(Box::new(otherwise)) }
    }

    /// The job's own word.
    pub fn tell(mut self, done: Wake) {
        self.otherwise = None;
        // The watcher waits for what is under way before it ends.
        let _ = self.wake.send(done);
    }
}

impl Drop for Report {
    fn drop(&mut self) {
        if let Some(otherwise) = self.otherwise.take() {
            let _ = self.wake.send(otherwise());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whatever_becomes_of_a_job_it_is_told() {
        let workers = Workers::start("test", 1, 1).unwrap();
        let (wake, told) = std::sync::mpsc::sync_channel(4);
        let report = |wake: &SyncSender<Wake>| Report::new(wake.clone(), || Wake::Lookback(Some("dropped".to_owned())));
        let (one, two) = (report(&wake), report(&wake));
        workers.give(move || {
            let _held = one;
            std::panic::resume_unwind(Box::new("a fault"));
        });
        workers.give(move || two.tell(Wake::Lookback(None)));
        let next = || told.recv_timeout(Duration::from_secs(20)).unwrap();
        assert!(matches!(next(), Wake::Lookback(Some(_))));
        assert!(matches!(next(), Wake::Lookback(None)), "the thread goes on");
    }
}
