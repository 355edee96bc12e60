//! The built program against real processes. What counts is what the kernel says afterwards.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod alerts;
mod asking;
mod auditing;
mod blinding;
mod called_off;
mod checkup;
mod completing;
mod crashes;
mod demo;
mod evading;
mod groups;
mod guide;
mod hands;
mod in_trouble;
mod inspect;
mod ladder;
mod last_safety;
mod looking;
mod looking_closer;
mod recordings;
mod rehearsing;
mod reporting;
mod roles;
mod rules_asked;
mod rules_files;
mod safety;
mod sending;
mod service;
mod suggesting;
mod undoing;
mod usage;
mod users;
mod wrong_target;

use serde_json::Value;
use sophron_testkit::Stage;

/// A stage with the program that this test was built with.
fn stage() -> Stage {
    Stage::new(env!("CARGO_BIN_EXE_sophron"))
}

/// A story but for what steps were seen to do: beside other work that may be nothing, or not be measured in time.
fn without_effects(story: Vec<String>) -> Vec<String> {
    story.into_iter().filter(|told| !told.starts_with("effect ")).collect()
}

/// The rows of a JSON object.
fn rows(value: &Value) -> &[Value] {
    value["rows"].as_array().map_or(&[], Vec::as_slice)
}
