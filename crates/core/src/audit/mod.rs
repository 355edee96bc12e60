//! The audit trail: records, the chain that binds them, and the cases they tell of.

mod about;
mod account;
mod cases;
mod chain;
mod filter;
mod in_force;
pub mod letter;
mod record;
mod schema;
pub mod stamps;
mod stats;
mod words;

pub use about::{AnswerRecord, NextRecord, Retired, StampRecord, ToldRecord, Wording};
pub use account::account;
pub use cases::{CaseSummary, Done, HandSummary, Story, cases, hands};
pub use chain::{
    Checked, Fault, GENESIS, Link, Repair, Verified, Walk, check, check_files, clock_was_behind, find_time, tail,
    verify, verify_files,
};
pub use filter::Filter;
pub use in_force::{InForce, OpenHold, OpenSuspension, ToldBy};
pub use record::{ActionRecord, By, Draft, Evidence, FORMAT, GroupRecord, Record, ResultRecord, SubjectRecord, Who};
pub use schema::schema;
pub use stats::{ChannelStats, RuleStats, channel_stats, stats};
pub use words::{JudgedWord, Kind, ReadsAs, SeverityWord, ToldWord};

pub use crate::act::{Came, Verb};
