//! Files that can hang their reader: if a target waits in the kernel holding its memory-map lock, reading its
//! `cmdline` or `smaps_rollup` waits with it. They are read by a thread that can be done without.

use std::collections::BTreeMap;
use std::fmt;
use std::io;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::Duration;

use sophron_core::model::ProcessId;

/// How long the first reading of a file is waited for.
const PATIENCE: Duration = Duration::from_millis(20);

/// At most that many threads are left behind, each waiting with its target.
const MOST_STUCK: usize = 4;

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
        std::fs::read(self.0.join(pid.to_string()).join(file))
    }
}

/// What became of a reading.
#[derive(Debug)]
pub(super) enum Read {
    Done(io::Result<Vec<u8>>),
    /// The reader hangs, or hung before with this process.
    Stuck,
}

#[derive(Debug)]
struct Lane {
    requests: Sender<(u32, &'static str)>,
    answers: Receiver<io::Result<Vec<u8>>>,
}

/// Reads with a time limit.
#[derive(Debug)]
pub(super) struct Risky {
    files: Arc<dyn RiskyFiles>,
    lane: Option<Lane>,
    /// Processes that a reader hangs on, with the lane that waits; when it answers they are well again.
    stuck: BTreeMap<ProcessId, Lane>,
}

impl Risky {
    pub fn new(files: Arc<dyn RiskyFiles>) -> Risky {
        Risky { files, lane: None, stuck: BTreeMap::new() }
    }

    /// The processes that a reader hangs on at present.
    pub fn stuck(&self) -> impl Iterator<Item = &ProcessId> {
        self.stuck.keys()
    }

    /// Lets go of readers whose target has come back or ended.
    pub fn tend(&mut self) {
        self.stuck.retain(|_, lane| {
            lane.answers.try_recv().is_err_and(|error| error == std::sync::mpsc::TryRecvError::Empty)
        });
    }

    pub fn read(&mut self, id: ProcessId, file: &'static str, at_most: Option<Duration>) -> Read {
        if self.stuck.contains_key(&id) || self.stuck.len() >= MOST_STUCK {
            return Read::Stuck;
        }
        let lane = self.lane.take().unwrap_or_else(|| self.new_lane());
        if lane.requests.send((id.pid, file)).is_err() {
            return Read::Stuck;
        }
        match lane.answers.recv_timeout(at_most.unwrap_or(PATIENCE)) {
            Ok(answer) => {
                self.lane = Some(lane);
                Read::Done(answer)
            }
            Err(_) => {
                self.stuck.insert(id, lane);
                Read::Stuck
            }
        }
    }

    fn new_lane(&self) -> Lane {
        let (requests, incoming) = channel::<(u32, &'static str)>();
        let (answering, answers) = channel();
        let files = Arc::clone(&self.files);
        std::thread::spawn(move || {
            for (pid, file) in incoming {
                if answering.send(files.read(pid, file)).is_err() {
                    return;
                }
            }
        });
        Lane { requests, answers }
    }
}
