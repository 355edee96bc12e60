//! The machine as one sample shows it: identities, processes, machine figures, and the table of fields.

mod counts;
mod field;
mod field_help;
mod identity;
mod machine;
mod process;
mod quiet;
mod snapshot;
mod unit;

pub use counts::Counts;
pub use field::{Cost, Field, FieldInfo, Needs, Subject};
pub use field_help::FieldHelp;
pub use identity::{Boot, CheckedPid, CheckedPidError, ProcessId};
pub use machine::{CpuSplit, DiskUse, GroupUse, Machine, Passing, Stall, Volume};
pub use process::{Basis, Names, Origin, Process, count_families, is_at_work};
pub use quiet::{NO_BOUND, Promise, Quiet, Reader};
pub use snapshot::{Moment, Snapshot};
pub use unit::{Manager, Unit, slice_of, unit_of};
