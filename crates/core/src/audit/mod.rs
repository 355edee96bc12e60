//! The audit trail: records, the chain that binds them, and the cases they tell of.

mod cases;
mod chain;
mod filter;
mod kind;
mod record;
mod schema;
pub mod stamps;
mod stats;

pub use cases::{
    CaseSummary, HandSummary, OpenHold, OpenSuspension, Story, cases, hands, open_holds, open_intents, open_suspensions,
};
pub use chain::{
    Checked, Fault, GENESIS, Link, Repair, Verified, check, check_files, find_time, tail, verify, verify_files,
};
pub use filter::Filter;
pub use kind::Kind;
pub use record::{
    ActionRecord, Draft, Evidence, FORMAT, Record, ResultRecord, Retired, StampRecord, SubjectRecord, Who, Wording,
};
pub use schema::schema;
pub use stats::{RuleStats, stats};
