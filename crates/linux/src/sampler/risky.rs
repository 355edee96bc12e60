//! Files that can hang their reader: if a target waits in the kernel holding its memory-map lock, reading its
//! `cmdline` or `smaps_rollup` waits with it. They are read by a thread that can be done without.
//!
//! A reader that is late is not one that hangs: on a machine short of CPU it only has not had its turn yet. What the
//! kernel says of the reader tells the two apart, and a late one is waited for longer.

use std::fmt;
use std::fs::File;
use std::io::{self, Read as _};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, TryRecvError, channel};
use std::time::{Duration, Instant};

use rustix::thread::{Pid, gettid};
use sophron_core::model::ProcessId;
use sophron_core::sorted::SortedMap;
use sophron_core::state::State;

use crate::proc::stat;

/// How often a reader that has not answered is looked at.
const LOOK: Duration = Duration::from_millis(20);

/// A reader that only is late is waited for that long, and all of them together so long in one sample.
const LATE: Duration = Duration::from_millis(400);
const LATE_IN_ALL: Duration = Duration::from_millis(800);

/// At most that many threads are left behind, each waiting with its target, and of one user's so many: who hangs all that he may keeps
/// nobody else from being read.
const MOST_WAITING: usize = 32;
const MOST_OF_ONE: usize = 8;

/// No more than that is read of a file, bytes.
const LONGEST: u64 = 8 << 10;

/// The layer below: reads a file of a process, and may hang.
pub trait RiskyFiles: Send + Sync + fmt::Debug {
    /// The whole file.
    ///
    /// # Errors
    /// It cannot be read.
    fn read(&self, pid: u32, file: &str) -> io::Result<Vec<u8>>;
}

/// The real layer, over a /proc root.
#[derive(Debug)]
pub struct ProcFiles(pub PathBuf);

impl RiskyFiles for ProcFiles {
    fn read(&self, pid: u32, file: &str) -> io::Result<Vec<u8>> {
        let file = File::open(self.0.join(pid.to_string()).join(file))?;
        // A command line may have megabytes: its beginning says what it is.
        let mut bytes = Vec::new();
        file.take(LONGEST).read_to_end(&mut bytes)?;
        Ok(bytes)
    }
}

/// What became of a reading.
#[derive(Debug)]
pub(super) enum Read {
    Done(io::Result<Vec<u8>>),
    /// Not answered yet, or no reader can be had: nothing is known.
    Unanswered,
}

#[derive(Debug)]
struct Lane {
    requests: Sender<(u32, &'static str)>,
    answers: Receiver<io::Result<Vec<u8>>>,
    thread: Pid,
}

impl Lane {
    /// Whether its thread stands still inside of the kernel, as a reader does that hangs: and does not merely want a core.
    fn hangs(&self) -> bool {
        let line = std::fs::read(format!("/proc/self/task/{}/stat", self.thread)).unwrap_or_default();
        stat::parse(&line).is_none_or(|stat| State::from_letter(stat.state) != State::Running)
    }
}

/// A reading that is waited for no longer.
#[derive(Debug)]
struct Waiting {
    lane: Lane,
    file: &'static str,
    uid: u32,
    /// Whether it hung when it was last looked at.
    hangs: bool,
}

/// Reads with a time limit.
#[derive(Debug)]
pub(super) struct Risky {
    files: Arc<dyn RiskyFiles>,
    lane: Option<Lane>,
    /// Processes of which a reading is still to come, with the lane that waits.
    waiting: SortedMap<ProcessId, Waiting>,
    /// What came late, for the next sample.
    late: SortedMap<(ProcessId, &'static str), io::Result<Vec<u8>>>,
    /// How long late readers were waited for in this sample.
    waited: Duration,
}

impl Risky {
    pub fn new(files: Arc<dyn RiskyFiles>) -> Risky {
        let (waiting, late) = (SortedMap::new(), SortedMap::new());
        Risky { files, lane: None, waiting, late, waited: Duration::ZERO }
    }

    /// The processes that a reader hangs on at present.
    pub fn stuck(&self) -> impl Iterator<Item = &ProcessId> {
        self.waiting.iter().filter(|(_, waiting)| waiting.hangs).map(|(id, _)| id)
    }

    /// A new sample: answers that came late are there for it.
    pub(crate) fn tend(&mut self) {
        self.waited = Duration::ZERO;
        self.late.clear();
        let ids: Vec<ProcessId> = self.waiting.keys().copied().collect();
        for id in ids {
            let Some(waiting) = self.waiting.get_mut(&id) else { continue };
            match waiting.lane.answers.try_recv() {
                Err(TryRecvError::Empty) => waiting.hangs = waiting.lane.hangs(),
                answer => {
                    let Some(waiting) = self.waiting.remove(&id) else { continue };
                    self.late.extend(answer.ok().map(|answer| ((id, waiting.file), answer)));
                    self.lane.get_or_insert(waiting.lane);
                }
            }
        }
    }

    /// `whose` it is by its user ID.
    pub fn read(&mut self, (id, uid): (ProcessId, u32), file: &'static str, at_most: Option<Duration>) -> Read {
        if let Some(answer) = self.late.remove(&(id, file)) {
            return Read::Done(answer);
        }
        let his = self.waiting.values().filter(|waiting| waiting.uid == uid).count();
        if self.waiting.contains_key(&id) || self.waiting.len() >= MOST_WAITING || his >= MOST_OF_ONE {
            return Read::Unanswered;
        }
        let Some(lane) = self.lane.take().or_else(|| self.new_lane()) else { return Read::Unanswered };
        if lane.requests.send((id.pid, file)).is_err() {
            return Read::Unanswered;
        }
        let began = Instant::now();
        let mut hangs = false;
        loop {
            match lane.answers.recv_timeout(at_most.unwrap_or(LOOK)) {
                Ok(answer) => {
                    self.lane = Some(lane);
                    return Read::Done(answer);
                }
                Err(RecvTimeoutError::Disconnected) => return Read::Unanswered,
                Err(RecvTimeoutError::Timeout) => {}
            }
            // Twice in a row: who waits for a page from a disk is back soon.
            let hung_before = std::mem::replace(&mut hangs, lane.hangs());
            let in_all = self.waited + began.elapsed();
            if at_most.is_some() || (hangs && hung_before) || began.elapsed() >= LATE || in_all >= LATE_IN_ALL {
                self.waited += began.elapsed();
                self.waiting.insert(id, Waiting { lane, file, uid, hangs });
                return Read::Unanswered;
            }
        }
    }

    /// `None` where no thread can be started.
    fn new_lane(&self) -> Option<Lane> {
        let (requests, incoming) = channel::<(u32, &'static str)>();
        let (answering, answers) = channel();
        let (telling, told) = channel();
        let files = Arc::clone(&self.files);
        let read = move || {
            if telling.send(gettid()).is_err() {
                return;
            }
            for (pid, file) in incoming {
                if answering.send(files.read(pid, file)).is_err() {
                    return;
                }
            }
        };
        std::thread::Builder::new().name("reader".to_owned()).spawn(read).ok()?;
        let thread = told.recv().ok()?;
        Some(Lane { requests, answers, thread })
    }
}

#[cfg(test)]
mod tests {
    use sophron_core::model::Boot;

    use super::*;

    /// Whatever is asked of a process with a high number waits for ever.
    #[derive(Debug)]
    struct Trap;

    impl RiskyFiles for Trap {
        fn read(&self, pid: u32, _: &str) -> io::Result<Vec<u8>> {
            if pid <= 100 {
                return Ok(Vec::new());
            }
            loop {
                std::thread::park();
            }
        }
    }

    #[test]
    fn nobody_takes_all_readers() {
        let mut risky = Risky::new(Arc::new(Trap));
        let mut read = |pid: u32, uid: u32| {
            let id = ProcessId { pid, start: 1, boot: Boot(1) };
            matches!(risky.read((id, uid), "cmdline", None), Read::Done(Ok(_)))
        };
        let most = u32::try_from(MOST_WAITING).unwrap();
        assert!((0..most).all(|one| !read(1000 + one, 1001)));
        assert!(read(7, 1002), "another user's is read all the same");
        assert_eq!(risky.waiting.len(), MOST_OF_ONE);
    }
}
