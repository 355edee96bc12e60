//! The actuator: what can be done to a process, through its handle, and what was seen afterwards.
//!
//! [`Actuator::perform`] is the one way in, for rules, hands, what is taken back and what is mended at a start: the same
//! refusals, the same checks and the same order for all. The rest are its parts.

mod grip;
mod levers;
mod lineage;
mod lower;
mod perform;
mod suspend;
mod terminate;
mod tree;

use std::io;
use std::time::Duration;

pub use grip::Grip;
pub use lineage::Lineage;
pub use lower::{Lowering, Restoring, lower, may_raise, originals, restore};
pub use perform::{Actuator, Commit, Found, Performed, Standing};
pub use sophron_core::act::Only;
pub use suspend::{resume, suspend};
pub use terminate::{Ending, terminate};
pub use tree::{GuardThem, Suspended, Tree};

use crate::here::Capability;

/// How often a state that has to come about is looked at.
pub(crate) const LOOK_AGAIN: Duration = Duration::from_millis(2);

/// Why an act could not be done.
#[derive(Debug, thiserror::Error)]
pub enum ActError {
    /// It is another user's.
    #[error("not permitted: it runs as another user; root, or who has {0}, may do it")]
    NotPermitted(Capability),
    /// Its niceness may not be brought down again by this user.
    #[error("not permitted: only root, or who has CAP_SYS_NICE, may bring niceness down again")]
    MayNotRaise,
    /// It ended before anything was done.
    #[error("it had ended already")]
    Gone,
    /// Nobody would resume it whatever happens, so it is not suspended.
    #[error("no guard could be started")]
    Unguarded(#[source] io::Error),
    /// Somebody of its tree may have been missed: a part of it is not ended for the whole.
    #[error("it cannot be seen now who belongs to it")]
    NotWhole(#[source] io::Error),
    /// The kernel refused.
    #[error("the kernel refused")]
    Kernel(#[source] io::Error),
}

impl ActError {
    /// A refusal of the kernel, with the capability that would have allowed it.
    pub(crate) fn lacking(capability: Capability, error: io::Error) -> ActError {
        match error.kind() {
            io::ErrorKind::PermissionDenied => ActError::NotPermitted(capability),
            _ => error.into(),
        }
    }
}

impl From<io::Error> for ActError {
    fn from(error: io::Error) -> Self {
        match error.kind() {
            io::ErrorKind::PermissionDenied => ActError::NotPermitted(Capability::Kill),
            io::ErrorKind::NotFound => ActError::Gone,
            _ if error.raw_os_error() == Some(libc::ESRCH) => ActError::Gone,
            _ => ActError::Kernel(error),
        }
    }
}
