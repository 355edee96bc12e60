//! Lowering: niceness and I/O class of every thread, to a clean pass, and back.

use std::io;
use std::time::Duration;

use rustix::process::{Resource, getrlimit};
use sophron_core::act::{Only, Originals};
use sophron_core::state::State;

use super::{ActError, Grip};
use crate::handle::{Handle, Thread};
use crate::here::{self, Capability};

/// New threads inherit from the one that makes them, so a pass that changes nothing means that all are done.
/// A process that makes threads faster than this is left as far as it was lowered, and that is said.
const MOST_PASSES: u32 = 50;

/// A thread takes the niceness of the one that makes it before it can be seen (clone(2)): only what a second pass, that
/// much later, finds nothing in either is done.
const BEING_STARTED: Duration = Duration::from_millis(5);

/// The idle class: its requests are served when nobody else has any (ioprio_set(2)).
const IDLE_CLASS: u32 = 3 << 13;

fn cpu(only: Only) -> bool {
    only != Only::Disk
}

fn disk(only: Only) -> bool {
    only != Only::Cpu
}

/// What came of lowering.
#[derive(Debug)]
pub struct Lowering {
    /// Threads at the niceness wanted, or above it.
    pub threads: usize,
    /// Threads that were changed.
    pub changed: usize,
    /// Whether a last pass found nothing to change.
    pub complete: bool,
    /// How long it took.
    pub took: Duration,
    /// What could not be lowered, where something else was.
    pub hindered: Option<ActError>,
}

/// What came of taking a lowering back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Restoring {
    /// Threads whose niceness was brought back.
    pub restored: usize,
    /// Threads whose I/O class was.
    pub disks: usize,
    /// Threads whose niceness somebody else has changed since: left as they are.
    pub superseded: usize,
}

/// The niceness and the I/O priority of every thread as they are now.
///
/// # Errors
/// The process is gone.
pub fn originals(handle: &impl Grip, only: Only) -> Result<Originals, ActError> {
    let threads = handle.threads()?;
    let main = threads.iter().find(|thread| thread.id == handle.id().pid).or(threads.first());
    let was = main.map_or(0, |thread| thread.nice);
    let others = threads.iter().filter(|thread| thread.nice != was).map(|thread| (thread.id, thread.nice)).collect();
    let mut originals = Originals { was, others, ..Originals::default() };
    if disk(only) {
        originals.disk = main.and_then(|thread| handle.io_priority(thread.id).ok());
        let of = |thread: &Thread| handle.io_priority(thread.id).ok().map(|value| (thread.id, value));
        originals.disk_others =
            threads.iter().filter_map(of).filter(|(_, value)| Some(*value) != originals.disk).collect();
    }
    Ok(originals)
}

/// Raises every thread's niceness to `nice` where it is lower, and puts every thread into the idle I/O class: both calls
/// change one thread only.
///
/// # Errors
/// The process is gone or another user's, and nothing was changed: what was done is never an error.
pub fn lower(handle: &impl Grip, nice: i32, only: Only) -> Result<Lowering, ActError> {
    let began = handle.clock();
    let mut changed = 0;
    let mut hindered = None;
    let mut complete = false;
    let mut passes = Passes::default();
    for _ in 0..MOST_PASSES {
        let threads = match handle.threads().map_err(ActError::from) {
            Err(error) if changed > 0 && !matches!(error, ActError::Gone) => {
                hindered.get_or_insert(error);
                break;
            }
            threads => threads?,
        };
        complete = true;
        for thread in &threads {
            let milder = cpu(only) && thread.nice < nice;
            let idle = disk(only) && handle.io_priority(thread.id).is_ok_and(|value| value != IDLE_CLASS);
            let cpu = if milder { set(handle, thread.id, nice) } else { Ok(false) };
            let disk = if idle { set_disk(handle, thread.id, IDLE_CLASS) } else { Ok(false) };
            let touched = matches!(cpu, Ok(true)) || matches!(disk, Ok(true));
            changed += usize::from(touched);
            complete &= !touched;
            for failure in [cpu.err(), disk.err()].into_iter().flatten() {
                // With a process that has ended everything that was done to it is over.
                if changed == 0 || matches!(failure, ActError::Gone) {
                    return Err(failure);
                }
                hindered.get_or_insert(failure);
            }
        }
        if passes.are_done(handle, &threads, complete) {
            break;
        }
    }
    complete &= hindered.is_none();
    let threads = handle.threads().unwrap_or_default();
    let threads = threads.iter().filter(|thread| !cpu(only) || thread.nice >= nice).count();
    Ok(Lowering { threads, changed, complete, took: handle.clock().saturating_sub(began), hindered })
}

/// Takes a lowering back: every thread that still has the niceness we set gets what it had, or `still` if that is
/// higher. New threads have inherited ours, and get what the main thread had.
///
/// # Errors
/// The process is gone, or this user may not bring niceness down again.
pub fn restore(
    handle: &impl Grip,
    set_by_us: i32,
    originals: &Originals,
    still: Option<i32>,
) -> Result<Restoring, ActError> {
    let mut done = Restoring { restored: 0, disks: 0, superseded: 0 };
    let mut passes = Passes::default();
    for _ in 0..MOST_PASSES {
        let threads = handle.threads()?;
        let target = |thread: &Thread| originals.of(thread.id).max(still.unwrap_or(i32::MIN));
        done.superseded =
            threads.iter().filter(|thread| thread.nice != set_by_us && thread.nice != target(thread)).count();
        let to_change = threads.iter().filter(|thread| thread.nice == set_by_us && target(thread) != set_by_us);
        let mut clean = true;
        // The I/O class first: anybody may bring that back.
        for thread in &threads {
            let was = originals.disk_of(thread.id).filter(|was| *was != IDLE_CLASS && still.is_none());
            if let Some(was) = was
                && handle.io_priority(thread.id).is_ok_and(|value| value == IDLE_CLASS)
            {
                clean = false;
                done.disks += usize::from(set_disk(handle, thread.id, was)?);
            }
        }
        for thread in to_change {
            clean = false;
            match set(handle, thread.id, target(thread)) {
                Ok(set) => done.restored += usize::from(set),
                Err(ActError::NotPermitted(_)) => return Err(ActError::MayNotRaise),
                Err(error) => return Err(error),
            }
        }
        if passes.are_done(handle, &threads, clean) {
            break;
        }
    }
    Ok(done)
}

/// What the passes before have found.
#[derive(Default)]
struct Passes {
    /// Whether the last one found nothing to change.
    last: bool,
    /// Whether any thread ran, or waited inside of the kernel: only such a one can be starting another.
    any_ran: bool,
}

impl Passes {
    /// Whether this pass and the one before found nothing, with the time between them in which a thread comes to be seen; of whom
    /// nothing ran, whether this one did.
    fn are_done(&mut self, handle: &impl Grip, threads: &[Thread], now: bool) -> bool {
        let before = std::mem::replace(&mut self.last, now);
        self.any_ran |= threads.iter().any(|thread| matches!(thread.state, State::Running | State::Waiting));
        if !now || before || !self.any_ran {
            return now;
        }
        handle.pause(BEING_STARTED);
        false
    }
}

/// Whether this user may bring the niceness of a process down to `nice` again: CAP_SYS_NICE, or a limit that allows it
/// (RLIMIT_NICE, getrlimit(2): 20 minus the niceness).
pub fn may_raise(nice: i32) -> bool {
    let limit = getrlimit(Resource::Nice).current.unwrap_or(u64::MAX);
    here::has(Capability::SysNice) || i64::try_from(limit).unwrap_or(i64::MAX) >= i64::from(20 - nice)
}

/// One thread. Setting takes no handle, so that the process still lives is looked at right before; `false` for a
/// thread that ended midway.
fn set(handle: &impl Grip, thread: u32, nice: i32) -> Result<bool, ActError> {
    if handle.has_ended() {
        return Err(ActError::Gone);
    }
    match handle.set_nice(thread, nice) {
        Ok(()) => Ok(true),
        Err(error) if error.raw_os_error() == Some(libc::ESRCH) => Ok(false),
        // EACCES: a niceness lower than the limit allows. EPERM: another user's process.
        Err(error) => Err(ActError::lacking(Capability::SysNice, error)),
    }
}

/// The same for the I/O priority.
fn set_disk(handle: &impl Grip, thread: u32, value: u32) -> Result<bool, ActError> {
    if handle.has_ended() {
        return Err(ActError::Gone);
    }
    match handle.set_io_priority(thread, value) {
        Ok(()) => Ok(true),
        Err(error) if error.raw_os_error() == Some(libc::ESRCH) => Ok(false),
        Err(error) => Err(ActError::lacking(Capability::SysNice, error)),
    }
}

/// The value of the session's scheduling group, `/autogroup-41 nice 0` (sched(7)).
pub(super) fn session_value(handle: &Handle) -> Option<i32> {
    let line = std::fs::read_to_string(format!("/proc/{}/autogroup", handle.id().pid)).ok()?;
    line.rsplit(' ').next()?.trim().parse().ok()
}

/// Sets it: all processes of the session get more, or less, against the other sessions. The kernel takes a change every
/// 100 ms at most.
///
/// # Errors
/// The process is gone or another user's.
pub(super) fn set_session_value(handle: &Handle, nice: i32) -> Result<(), ActError> {
    let path = format!("/proc/{}/autogroup", handle.id().pid);
    for _ in 0..10 {
        if handle.has_ended() {
            return Err(ActError::Gone);
        }
        match std::fs::write(&path, nice.to_string()) {
            Err(error) if error.raw_os_error() == Some(libc::EAGAIN) => std::thread::sleep(Duration::from_millis(60)),
            // The file is the target's owner's to write, whatever else one may do to his processes.
            Err(error) if error.raw_os_error() == Some(libc::EACCES) => {
                return Err(ActError::lacking(Capability::DacOverride, error));
            }
            done => return done.map_err(|error| ActError::lacking(Capability::SysNice, error)),
        }
    }
    Err(ActError::Kernel(io::Error::from(io::ErrorKind::WouldBlock)))
}
