//! The arguments of what is asked of a running watcher.

use std::path::PathBuf;
use std::time::Duration;

use clap_complete::engine::ArgValueCompleter;
use sophron_core::units;

use super::{State, TextOrJson};
use crate::completing;

#[derive(Debug, clap::Args)]
pub struct Status {
    /// Take channels from this rules file [default: the one that the watcher runs]
    #[arg(long, value_name = "FILE")]
    pub rules: Option<PathBuf>,
    /// How to print it
    #[arg(long, value_enum, default_value_t = TextOrJson::Text)]
    pub format: TextOrJson,
    #[command(flatten)]
    pub state: State,
}

#[derive(Debug, clap::Args)]
pub struct StandBack {
    /// From whom: a rule by its name, a checked PID as 51907-kqm, a PID, or an app; without any, what holds is shown
    #[arg(value_name = "TARGET|RULE", conflicts_with = "all", add = ArgValueCompleter::new(completing::rules_and_targets))]
    pub targets: Vec<String>,
    /// From everything, for 8 hours at most
    #[arg(long)]
    pub all: bool,
    /// For how long, up to 7 days
    #[arg(long = "for", value_name = "TIME", default_value = "30m", value_parser = units::parse_duration)]
    pub length: Duration,
    /// Why, for the record
    #[arg(long, value_name = "TEXT")]
    pub because: Option<String>,
    /// Rules act again: on these, or with --all on everybody
    #[arg(long)]
    pub end: bool,
    #[command(flatten)]
    pub state: State,
}
