//! Judgement without a machine.
//!
//! Snapshots go in, decisions come out: the condition language, the rules, the judge with its
//! ladder, the arbiter between rules, and the audit records with their chain. Nothing in here
//! reads a clock, a file or the environment, and nothing prints: time and bytes are arguments.

#![forbid(unsafe_code)]

pub mod act;
pub mod answer;
pub mod audit;
pub mod checkup;
pub mod command_lines;
pub mod condition;
pub mod cost;
pub mod decide;
pub mod diag;
pub mod dispatch;
pub mod document;
pub mod effects;
pub mod facts;
pub mod figures;
pub mod groups;
pub mod happening;
pub mod inspect;
pub mod interpreter;
pub mod judge;
pub mod model;
pub mod moment;
pub mod open;
pub mod order;
pub mod over;
pub mod protect;
pub mod recording;
pub mod rehearsal;
pub mod report;
pub mod rules;
pub mod severity;
pub mod sorted;
pub mod stand_back;
pub mod state;
pub mod subject;
pub mod suggest;
pub mod telling;
pub mod text;
pub mod units;
pub mod usage;
pub mod window;
mod words;
