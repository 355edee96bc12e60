//! Terminating: politely, and by force only where that was asked for.

use std::time::Duration;

use rustix::process::Signal;
use sophron_core::state::State;

use super::{ActError, Grip};

/// How long a polite signal is given where no force follows.
const PATIENCE: Duration = Duration::from_secs(5);

/// A process that was lowered answers late: 2 s on average at the idle policy, and up to 4.3.
const FORCE_PATIENCE: Duration = Duration::from_secs(6);

/// Whether it goes on is asked that often.
const ASKED_EVERY: Duration = Duration::from_millis(100);

/// How it ended, if it did.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ending {
    /// At the polite signal.
    Ended(Duration),
    /// By force.
    Forced(Duration),
    /// It does not answer the polite signal.
    StillThere,
    /// Nor is it ended by force: that was called off.
    CalledOff,
    /// Nothing was asked of it: that was called off before.
    NotAsked,
    /// The signal to end by force is pending: it waits in the kernel and ends when it comes back.
    PendingInTheKernel,
}

/// Asks the process to end, and waits for it; ends it by force after `force_after`, if given. A suspended process is
/// told to end first and resumed then, so that none of its own code runs before the signal. Until the force follows `goes_on` is asked
/// again and again, and right before it.
///
/// # Errors
/// It had ended already, or is another user's.
pub fn terminate(
    handle: &impl Grip,
    force_after: Option<Duration>,
    goes_on: &mut dyn FnMut() -> bool,
) -> Result<Ending, ActError> {
    let began = handle.clock();
    let slow = hurry(handle);
    let ending = end(handle, force_after, began, goes_on);
    if let (Ok(Ending::StillThere | Ending::CalledOff), Some(nice)) = (&ending, slow) {
        // It goes on, and as mild as it was.
        let _ = super::lower(handle, nice, super::Only::Cpu);
    }
    ending
}

/// A lowered process answers late: where that is allowed, its niceness is taken back before it is told to end. What it
/// was.
fn hurry(handle: &impl Grip) -> Option<i32> {
    let threads = handle.threads().ok()?;
    let nice = threads.iter().map(|thread| thread.nice).max().filter(|nice| *nice > 0 && super::may_raise(0))?;
    for thread in threads.iter().filter(|thread| thread.nice > 0 && !handle.has_ended()) {
        // It only would have been quicker.
        let _ = handle.set_nice(thread.id, 0);
    }
    Some(nice)
}

fn end(
    handle: &impl Grip,
    force_after: Option<Duration>,
    began: Duration,
    goes_on: &mut dyn FnMut() -> bool,
) -> Result<Ending, ActError> {
    let suspended = handle.threads()?.iter().any(|thread| thread.state == State::Suspended);
    handle.signal(Signal::TERM)?;
    if suspended {
        handle.signal(Signal::CONT)?;
    }
    let ends = |at_most| Ok(handle.wait_for_end(at_most)?.then(|| handle.clock().saturating_sub(began)));
    if let Some(ending) = answer(force_after, goes_on, ends)? {
        return Ok(ending);
    }
    match handle.signal(Signal::KILL).map_err(ActError::from) {
        Ok(()) => {}
        // It ended by itself in the very last moment.
        Err(ActError::Gone) => return Ok(Ending::Ended(handle.clock().saturating_sub(began))),
        Err(error) => return Err(error),
    }
    if handle.wait_for_end(FORCE_PATIENCE)? {
        Ok(Ending::Forced(handle.clock().saturating_sub(began)))
    } else {
        Ok(Ending::PendingInTheKernel)
    }
}

/// Gives time to answer the polite signal; where force follows, whether it goes on is asked again and again meanwhile. `ends` waits for
/// at most so long, and says how long the end took if it came. `None`: force is due.
pub(super) fn answer(
    force_after: Option<Duration>,
    goes_on: &mut dyn FnMut() -> bool,
    mut ends: impl FnMut(Duration) -> Result<Option<Duration>, ActError>,
) -> Result<Option<Ending>, ActError> {
    let Some(mut left) = force_after else {
        return Ok(Some(ends(PATIENCE)?.map_or(Ending::StillThere, Ending::Ended)));
    };
    loop {
        let now = left.min(ASKED_EVERY);
        left -= now;
        match ends(now)? {
            Some(took) => return Ok(Some(Ending::Ended(took))),
            None if !goes_on() => return Ok(Some(Ending::CalledOff)),
            None if left.is_zero() => return Ok(None),
            None => {}
        }
    }
}
