//! The machine as one sample shows it: identities, processes, machine figures, and the table of fields.

mod field;
mod identity;
mod process;
mod snapshot;

pub use field::{Facts, Field, FieldInfo, PENDING_FIELDS, PENDING_FUNCTIONS, Subject};
pub use identity::{Boot, CheckedPid, CheckedPidError, ProcessId};
pub use process::{Process, State};
pub use snapshot::{Machine, Moment, Snapshot};
