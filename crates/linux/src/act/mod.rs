//! The actuator: what can be done to a process, through its handle, and what was seen afterwards.

mod lower;
mod suspend;
mod terminate;

use std::io;
use std::time::Duration;

pub use lower::{Lowering, Restoring, lower, may_raise, originals, restore};
pub use suspend::{resume, suspend};
pub use terminate::{Ending, terminate};

/// How often a state that has to come about is looked at.
pub(crate) const LOOK_AGAIN: Duration = Duration::from_millis(2);

/// Why an act could not be done.
#[derive(Debug, thiserror::Error)]
pub enum ActError {
    /// It is another user's.
    #[error("not permitted: it runs as another user; root may do it")]
    NotPermitted,
    /// Its niceness may not be brought down again by this user.
    #[error("not permitted: only root may bring niceness down again")]
    MayNotRaise,
    /// It ended before anything was done.
    #[error("it had ended already")]
    Gone,
    /// The kernel refused.
    #[error("the kernel refused")]
    Kernel(#[source] io::Error),
}

impl From<io::Error> for ActError {
    fn from(error: io::Error) -> Self {
        match error.kind() {
            io::ErrorKind::PermissionDenied => ActError::NotPermitted,
            io::ErrorKind::NotFound => ActError::Gone,
            _ if error.raw_os_error() == Some(libc::ESRCH) => ActError::Gone,
            _ => ActError::Kernel(error),
        }
    }
}
