//! The watcher's own short-lived helpers: who delivers a message, who guards, what a rule runs. A rule never judges them: else each would
//! open a case, and the case a message, and the message the next helper.

use std::process::{Child, Command};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use sophron_core::model::Snapshot;
use sophron_core::sorted::SortedMap;
use sophron_linux::talk::{self, Ended};

/// A sample that was taken before it ended may still show it that long.
const STILL_SEEN: Duration = Duration::from_secs(5);

/// Those there are.
#[derive(Clone, Default)]
pub struct Helpers(Arc<Mutex<State>>);

#[derive(Default)]
struct State {
    /// By PID: since when it has ended, if it has.
    known: SortedMap<u32, Option<Instant>>,
    /// How many are being started, whose PID is not known yet.
    starting: usize,
}

impl Helpers {
    fn state(&self) -> MutexGuard<'_, State> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Starts one, tells it that, hands on what it says, and waits for its end at most that long.
    ///
    /// # Errors
    /// It cannot be started.
    pub fn talk(
        &self,
        start: Command,
        told: &[u8],
        most: Duration,
        heard: &mut dyn FnMut(&[u8]),
    ) -> std::io::Result<Ended> {
        let mut starting = Starting::of(self);
        let mut pid = None;
        let started = |child| {
            pid = Some(child);
            starting.is(child);
        };
        let ended = talk::with(start, told, most, started, heard);
        pid.into_iter().for_each(|pid| self.ended(pid));
        ended
    }

    /// Starts one that stays.
    ///
    /// # Errors
    /// It cannot be started.
    pub fn start(&self, mut start: Command) -> std::io::Result<Child> {
        let mut starting = Starting::of(self);
        let child = start.spawn()?;
        starting.is(child.id());
        Ok(child)
    }

    /// One of them has ended.
    pub fn ended(&self, pid: u32) {
        self.state().known.insert(pid, Some(Instant::now()));
    }

    /// Their PIDs, of a sample that was just taken: while one is being started every child of ours may be it.
    pub fn pids(&self, snapshot: &Snapshot) -> Vec<u32> {
        let mut state = self.state();
        state.known.retain(|_, ended| ended.is_none_or(|ended| ended.elapsed() < STILL_SEEN));
        let own = std::process::id();
        // Who has the number of one that has ended is somebody else's child.
        let is_ours = |pid: &u32| snapshot.process(*pid).is_none_or(|process| process.parent == own);
        let for_acts = sophron_linux::own_life::helpers();
        let mut pids: Vec<u32> = state.known.keys().copied().chain(for_acts).filter(is_ours).collect();
        if state.starting > 0 {
            let children = snapshot.processes.iter().filter(|process| process.parent == own);
            pids.extend(children.map(|process| process.id.pid));
        }
        pids
    }
}

/// While one is being started, and its PID is not known.
struct Starting<'h>(&'h Helpers);

impl Starting<'_> {
    fn of(helpers: &Helpers) -> Starting<'_> {
        helpers.state().starting += 1;
        Starting(helpers)
    }

    fn is(&mut self, pid: u32) {
        self.0.state().known.insert(pid, None);
    }
}

impl Drop for Starting<'_> {
    fn drop(&mut self) {
        self.0.state().starting -= 1;
    }
}
