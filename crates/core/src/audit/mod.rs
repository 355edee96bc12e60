//! The audit trail: records, the chain that binds them, and the cases they tell of.

mod cases;
mod chain;
mod record;

pub use cases::{
    CaseSummary, HandSummary, OpenHold, OpenSuspension, Story, cases, hands, open_holds, open_suspensions,
};
pub use chain::{Fault, GENESIS, Link, Repair, Verified, tail, verify};
pub use record::{ActionRecord, Draft, Evidence, FORMAT, Kind, Record, ResultRecord, SubjectRecord, Who};
