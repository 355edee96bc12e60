//! Who waits for whose file locks (`/proc/locks`, proc_locks(5)). Its length is up to any user: reading 90,000 locks took
//! 7.7 s. So it is read only where a process holds a lock at all, by one thread that can be done without, and nobody waits
//! for it longer than a moment.

use std::fs;
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::thread::Builder;
use std::time::{Duration, Instant};

use crate::handle::is_gone;
use crate::living;
use crate::patience::within;
use crate::proc::locks;

/// How long it is looked whether a process holds a lock: one that holds very many makes that take long as well.
const PATIENCE: Duration = Duration::from_millis(200);

/// An answer that old is read anew.
const FRESH: Duration = Duration::from_millis(100);

/// Holders of file locks and those that wait for them, by PID.
type Pairs = Vec<(u32, u32)>;

/// What a reading has shown; none where it could not be read.
type Shown = Option<Arc<Pairs>>;

/// One reading, shared by all who want to know meanwhile.
#[derive(Debug, Clone)]
struct Reading {
    begun: Instant,
    /// What it has shown, once it is done.
    done: Arc<(Mutex<Option<Shown>>, Condvar)>,
}

static LATEST: Mutex<Option<Reading>> = Mutex::new(None);

impl Reading {
    /// The one under way, or one that has just been made, or a new one; `None` where no thread can be started.
    fn get() -> Option<Reading> {
        let mut latest = LATEST.lock().unwrap_or_else(PoisonError::into_inner);
        let goes = |reading: &Reading| !reading.is_done() || reading.begun.elapsed() < FRESH;
        if let Some(reading) = latest.as_ref().filter(|reading| goes(reading)) {
            return Some(reading.clone());
        }
        let reading = Reading { begun: Instant::now(), done: Arc::default() };
        let done = Arc::clone(&reading.done);
        let read = move || {
            let pairs = fs::read_to_string("/proc/locks").map(|text| Arc::new(locks::parse(&text)));
            let (slot, told) = &*done;
            *slot.lock().unwrap_or_else(PoisonError::into_inner) = Some(pairs.ok());
            told.notify_all();
        };
        Builder::new().name("locks".to_owned()).spawn(read).ok()?;
        Some(latest.insert(reading).clone())
    }

    fn answer(&self, patience: Duration) -> Option<Arc<Pairs>> {
        let (slot, told) = &*self.done;
        let found = slot.lock().unwrap_or_else(PoisonError::into_inner);
        let waited = told.wait_timeout_while(found, patience, |found| found.is_none());
        waited.unwrap_or_else(PoisonError::into_inner).0.clone().flatten()
    }

    fn is_done(&self) -> bool {
        self.done.0.lock().unwrap_or_else(PoisonError::into_inner).is_some()
    }
}

/// Who waits for whose file lock, by PID; `None` where that cannot be read, or not within `patience`.
pub fn waits(patience: Duration) -> Option<Arc<Pairs>> {
    Reading::get()?.answer(patience)
}

/// The same for one who asks again and again, and never waits: what the latest reading has shown, while a new one is made.
pub fn last_waits() -> Option<Arc<Pairs>> {
    let latest = LATEST.lock().unwrap_or_else(PoisonError::into_inner).clone();
    let known = latest.and_then(|reading| reading.answer(Duration::ZERO));
    // Where no thread can be had the next time may bring one.
    let _ = Reading::get();
    known
}

/// Whether a process holds a file lock: a line `lock:` in one of its `fdinfo` (proc_pid_fdinfo(5)). `None` where that may not
/// be read, or takes long.
pub fn holds_any(pid: u32) -> Option<bool> {
    let look = move || -> Option<bool> {
        let folder = living::open_folder(pid).ok()?;
        for entry in fs::read_dir(folder.join("fdinfo")).ok()?.flatten() {
            // What has no path has no lock either, and that of a queue of events hangs its reader while somebody polls for ever.
            if fs::read_link(folder.join("fd").join(entry.file_name())).is_ok_and(|link| !link.is_absolute()) {
                continue;
            }
            let info = match fs::read(entry.path()) {
                Ok(info) => info,
                // Closed meanwhile.
                Err(error) if is_gone(&error) => continue,
                Err(_) => return None,
            };
            if has_lock(&info) {
                return Some(true);
            }
        }
        Some(false)
    };
    within(PATIENCE, look).flatten()
}

/// Whether a descriptor's `fdinfo` shows a lock that is held by it.
pub(crate) fn has_lock(info: &[u8]) -> bool {
    info.split(|byte| *byte == b'\n').any(|line| line.starts_with(b"lock:"))
}

/// Those that wait for file locks which one of these processes holds, but for themselves; `None` where that is not known
/// within `patience`.
pub fn waiting_for(pids: &[u32], patience: Duration) -> Option<Vec<u32>> {
    if pids.iter().all(|pid| holds_any(*pid) == Some(false)) {
        return Some(Vec::new());
    }
    let waits = waits(patience)?;
    let theirs = waits.iter().filter(|(holder, waiter)| pids.contains(holder) && !pids.contains(waiter));
    Some(theirs.map(|(_, waiter)| *waiter).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_lock_is_seen_with_its_holder() {
        assert_eq!(holds_any(std::process::id()), Some(false));
        let file = tempfile::tempfile().unwrap();
        rustix::fs::flock(&file, rustix::fs::FlockOperation::LockExclusive).unwrap();
        assert_eq!(holds_any(std::process::id()), Some(true));
        assert_eq!(waiting_for(&[std::process::id()], Duration::from_secs(20)), Some(Vec::new()));
    }
}
