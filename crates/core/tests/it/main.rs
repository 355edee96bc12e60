//! Core on its own: handed-in time, snapshots made by hand.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod accounts;
mod adopting;
mod asking;
mod asking_laws;
mod audit;
mod checkup;
mod condition;
mod decide;
mod dispatch;
mod dispatch_acting;
mod dispatch_beside;
mod dispatch_due;
mod dispatch_holds;
mod dispatch_inquiry;
mod dispatch_laws;
mod dispatch_start;
mod docs;
mod document;
mod effects;
mod equal;
mod figures;
mod groups;
mod happening;
mod interpreters;
mod judge;
mod judge_laws;
mod judge_suspension;
mod ladder_options;
mod lazily;
mod orders;
mod outbox;
mod over;
mod protect;
mod recording;
mod recording_untrusted;
mod rehearsal;
mod rules;
mod script;
mod subjects;
mod telling;
mod units;
mod wants;
mod watch;
mod windows;
