//! By whom a process is told of: by its main thread, or where that has exited, and its own files are empty, by another.

use std::time::Duration;

use sophron_core::model::{Process, ProcessId};

use super::Context;
use super::risky::Read;
use crate::living;
use crate::proc::stat;

/// What is told of a process.
pub(super) struct Voice {
    /// The other thread; 0 for the main one.
    pub thread: u32,
    /// Where it is wanted.
    pub name: Vec<u8>,
    pub hash: u32,
    pub state: u8,
    /// The place of its code, folded; whether that may be read.
    pub code: u32,
    pub readable: bool,
}

impl Voice {
    pub fn of(stat: &stat::Stat<'_>, thread: u32, wants_name: impl FnOnce(u32, u32) -> bool) -> Voice {
        let (hash, code) = (hash(stat.name), (stat.code ^ stat.code >> 32) as u32);
        let name = if wants_name(hash, code) { stat.name.to_vec() } else { Vec::new() };
        Voice { thread, name, hash, state: stat.state, code, readable: stat.code > 1 }
    }
}

fn done(read: Read) -> Option<Vec<u8>> {
    match read {
        Read::Done(bytes) => bytes.ok(),
        Read::Unanswered => None,
    }
}

impl Context {
    /// What a living thread says of a process whose main thread has exited.
    pub(super) fn spoken_for(&mut self, pid: u32, before: u32) -> Option<Voice> {
        let folder = self.reader.root().join(pid.to_string());
        let before = Some(before).filter(|thread| *thread != 0);
        before.and_then(|thread| self.voice(pid, thread)).or_else(|| self.voice(pid, living::thread(&folder)?))
    }

    fn voice(&mut self, pid: u32, thread: u32) -> Option<Voice> {
        let stat = stat::parse(self.reader.guarded(pid, &format!("task/{thread}/stat")).ok()?)?;
        let lives = !living::has_exited(stat.state);
        lives.then(|| Voice::of(&stat, thread, |_, _| true))
    }

    /// Its memory in full (`smaps_rollup`, proc_pid_smaps(5)).
    pub(super) fn rollup(&mut self, process: &Process, at_most: Duration) -> Option<Vec<u8>> {
        let id = process.id;
        let own = self.risky.read((id, process.uid), "smaps_rollup", Some(at_most));
        if let (Read::Done(Err(_)), true) = (&own, process.threads > 0) {
            let thread = living::thread(&self.reader.root().join(id.pid.to_string()))?;
            let spoken = self.risky.read((ProcessId { pid: thread, ..id }, process.uid), "smaps_rollup", Some(at_most));
            return done(spoken);
        }
        done(own)
    }
}

/// FNV-1a: only to see that a name has changed.
pub fn hash(bytes: &[u8]) -> u32 {
    bytes.iter().fold(0x811c_9dc5, |hash, byte| (hash ^ u32::from(*byte)).wrapping_mul(0x0100_0193))
}
