//! Suspending and resuming: every thread, looked at afterwards.

use std::time::Duration;

use rustix::process::Signal;
use sophron_core::state::State;

use super::{ActError, Grip, LOOK_AGAIN};

/// A process with many busy threads takes its time: 64 of them took 0.6 s.
const LONGEST: Duration = Duration::from_secs(3);

/// Suspends the process and waits until every thread is. `None` when some thread was not after 3 s: one that waits
/// in the kernel is suspended when it comes back.
///
/// # Errors
/// It is gone or another user's.
pub fn suspend(handle: &impl Grip) -> Result<Option<Duration>, ActError> {
    let began = handle.clock();
    handle.signal(Signal::STOP)?;
    until(handle, began, |state| matches!(state, State::Suspended | State::Traced | State::Zombie))
}

/// Resumes the process and waits until no thread is suspended. `None` when some thread still was after 3 s.
///
/// # Errors
/// It is gone or another user's.
pub fn resume(handle: &impl Grip) -> Result<Option<Duration>, ActError> {
    let began = handle.clock();
    handle.signal(Signal::CONT)?;
    until(handle, began, |state| state != State::Suspended)
}

fn until(handle: &impl Grip, began: Duration, wanted: impl Fn(State) -> bool) -> Result<Option<Duration>, ActError> {
    while handle.clock().saturating_sub(began) < LONGEST {
        if handle.threads()?.iter().all(|thread| wanted(thread.state)) {
            return Ok(Some(handle.clock().saturating_sub(began)));
        }
        handle.pause(LOOK_AGAIN);
    }
    Ok(None)
}
