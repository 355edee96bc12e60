//! Lowering: the niceness of every thread, to a clean pass, and back.

use std::io;
use std::time::{Duration, Instant};

use rustix::process::{Pid, Resource, getrlimit, setpriority_process};
use sophron_core::effects::Originals;

use super::ActError;
use crate::handle::{Handle, Thread};

/// New threads inherit from the one that makes them, so a pass that changes nothing means that all are done.
/// A process that makes threads faster than this is left as far as it was lowered, and that is said.
const MOST_PASSES: u32 = 50;

/// What came of lowering.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Lowering {
    /// Threads at the niceness wanted, or above it.
    pub threads: usize,
    /// Threads that were changed.
    pub changed: usize,
    /// Whether a last pass found nothing to change.
    pub complete: bool,
    /// How long it took.
    pub took: Duration,
}

/// What came of taking a lowering back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Restoring {
    /// Threads brought back.
    pub restored: usize,
    /// Threads whose niceness somebody else has changed since: left as they are.
    pub superseded: usize,
}

/// The niceness of every thread as it is now.
///
/// # Errors
/// The process is gone.
pub fn originals(handle: &Handle) -> Result<Originals, ActError> {
    let threads = handle.threads()?;
    let main = threads.iter().find(|thread| thread.id == handle.id().pid).or(threads.first());
    let was = main.map_or(0, |thread| thread.nice);
    let others = threads.iter().filter(|thread| thread.nice != was).map(|thread| (thread.id, thread.nice)).collect();
    Ok(Originals { was, others })
}

/// Raises every thread's niceness to `nice` where it is lower: setpriority(2) changes one thread only.
///
/// # Errors
/// The process is gone or another user's.
pub fn lower(handle: &Handle, nice: i32) -> Result<Lowering, ActError> {
    let began = Instant::now();
    let mut changed = 0;
    for _ in 0..MOST_PASSES {
        let threads = handle.threads()?;
        let to_change: Vec<&Thread> = threads.iter().filter(|thread| thread.nice < nice).collect();
        if to_change.is_empty() {
            return Ok(Lowering { threads: threads.len(), changed, complete: true, took: began.elapsed() });
        }
        for thread in to_change {
            changed += usize::from(set(handle, thread.id, nice)?);
        }
    }
    let threads = handle.threads()?.iter().filter(|thread| thread.nice >= nice).count();
    Ok(Lowering { threads, changed, complete: false, took: began.elapsed() })
}

/// Takes a lowering back: every thread that still has the niceness we set gets what it had, or `still` if that is
/// higher. New threads have inherited ours, and get what the main thread had.
///
/// # Errors
/// The process is gone, or this user may not bring niceness down again.
pub fn restore(
    handle: &Handle,
    set_by_us: i32,
    originals: &Originals,
    still: Option<i32>,
) -> Result<Restoring, ActError> {
    let mut done = Restoring { restored: 0, superseded: 0 };
    for _ in 0..MOST_PASSES {
        let threads = handle.threads()?;
        let target = |thread: &Thread| originals.of(thread.id).max(still.unwrap_or(i32::MIN));
        done.superseded =
            threads.iter().filter(|thread| thread.nice != set_by_us && thread.nice != target(thread)).count();
        let to_change = threads.iter().filter(|thread| thread.nice == set_by_us && target(thread) != set_by_us);
        let mut clean = true;
        for thread in to_change {
            clean = false;
            match set(handle, thread.id, target(thread)) {
                Ok(set) => done.restored += usize::from(set),
                Err(ActError::NotPermitted) => return Err(ActError::MayNotRaise),
                Err(error) => return Err(error),
            }
        }
        if clean {
            break;
        }
    }
    Ok(done)
}

/// Whether this user may bring the niceness of a process down to `nice` again: root, or a limit that allows it
/// (RLIMIT_NICE, getrlimit(2): 20 minus the niceness).
pub fn may_raise(nice: i32) -> bool {
    let limit = getrlimit(Resource::Nice).current.unwrap_or(u64::MAX);
    crate::here::is_root() || i64::try_from(limit).unwrap_or(i64::MAX) >= i64::from(20 - nice)
}

/// One thread. Setting takes no handle, so that the process still lives is looked at right before; `false` for a
/// thread that ended midway.
fn set(handle: &Handle, thread: u32, nice: i32) -> Result<bool, ActError> {
    if handle.has_ended() {
        return Err(ActError::Gone);
    }
    let Some(thread) = Pid::from_raw(thread.cast_signed()) else { return Ok(false) };
    match setpriority_process(Some(thread), nice).map_err(io::Error::from) {
        Ok(()) => Ok(true),
        Err(error) if error.raw_os_error() == Some(libc::ESRCH) => Ok(false),
        // EACCES: a niceness lower than the limit allows. EPERM: another user's process.
        Err(error) => Err(error.into()),
    }
}
