//! Suspending and resuming: every thread, looked at afterwards.

use std::time::{Duration, Instant};

use rustix::process::Signal;
use sophron_core::model::State;

use super::{ActError, LOOK_AGAIN};
use crate::handle::Handle;

/// A process with many busy threads takes its time: 64 of them took 0.6 s.
const LONGEST: Duration = Duration::from_secs(3);

/// Suspends the process and waits until every thread is. `None` when some thread was not after 3 s: one that waits
/// in the kernel is suspended when it comes back.
///
/// # Errors
/// It is gone or another user's.
pub fn suspend(handle: &Handle) -> Result<Option<Duration>, ActError> {
    let began = Instant::now();
    handle.signal(Signal::STOP)?;
    until(handle, began, |state| matches!(state, State::Suspended | State::Traced | State::Zombie))
}

/// Resumes the process and waits until no thread is suspended. `None` when some thread still was after 3 s.
///
/// # Errors
/// It is gone or another user's.
pub fn resume(handle: &Handle) -> Result<Option<Duration>, ActError> {
    let began = Instant::now();
    handle.signal(Signal::CONT)?;
    until(handle, began, |state| state != State::Suspended)
}

fn until(handle: &Handle, began: Instant, wanted: impl Fn(State) -> bool) -> Result<Option<Duration>, ActError> {
    while began.elapsed() < LONGEST {
        if handle.threads()?.iter().all(|thread| wanted(thread.state)) {
            return Ok(Some(began.elapsed()));
        }
        std::thread::sleep(LOOK_AGAIN);
    }
    Ok(None)
}
