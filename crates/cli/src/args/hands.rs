//! What the commands that act by hand are told.

use std::path::PathBuf;

use clap::ValueEnum;
use clap_complete::engine::ArgValueCompleter;

use super::State;
use crate::completing;

#[derive(Debug, Clone, clap::Args)]
pub struct Hand {
    /// Whom: a checked PID as 51907-kqm, a PID, or an app by its name
    #[arg(value_name = "TARGET", add = ArgValueCompleter::new(completing::targets))]
    pub targets: Vec<String>,
    /// Everybody for whom this condition is true
    #[arg(long = "where", value_name = "CONDITION", add = ArgValueCompleter::new(completing::condition))]
    pub covers: Option<String>,
    /// Take all that descends from them along
    #[arg(long)]
    pub tree: bool,
    #[command(flatten)]
    pub consent: Consent,
    /// With --where and --yes, act on at most this many [default: 10]
    #[arg(long, value_name = "N")]
    pub at_most: Option<usize>,
    /// Why, for the record
    #[arg(long, value_name = "TEXT")]
    pub because: Option<String>,
    /// Act on protected processes as well; never on PID 1 and kernel threads
    #[arg(long)]
    pub override_protection: bool,
    /// Take protections from this rules file [default: the one that `watch` reads]
    #[arg(long, value_name = "FILE")]
    pub rules: Option<PathBuf>,
    /// Speak to the service manager directly at this socket
    #[arg(long, value_name = "SOCKET", hide = true)]
    pub service_manager: Option<PathBuf>,
    #[command(flatten)]
    pub state: State,
}

/// Whether it is done at all, and whether it is asked before.
#[derive(Debug, Clone, Copy, clap::Args)]
pub struct Consent {
    /// Only show who it would be and what hangs on them
    #[arg(long)]
    pub dry_run: bool,
    /// Do not ask; with --where or an app all of them are meant
    #[arg(long)]
    pub yes: bool,
}

#[derive(Debug, clap::Args)]
pub struct Restore {
    /// On whom: a checked PID as 51907-kqm, a PID, or an app by its name
    #[arg(value_name = "TARGET", required_unless_present = "all", conflicts_with = "all", add = ArgValueCompleter::new(completing::targets))]
    pub targets: Vec<String>,
    /// Everything that is in force
    #[arg(long)]
    pub all: bool,
    /// Why, for the record
    #[arg(long, value_name = "TEXT")]
    pub because: Option<String>,
    /// Speak to the service manager directly at this socket
    #[arg(long, value_name = "SOCKET", hide = true)]
    pub service_manager: Option<PathBuf>,
    #[command(flatten)]
    pub state: State,
}

/// What is lowered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Only {
    /// CPU and disk
    Both,
    /// Its niceness
    Cpu,
    /// Its I/O class: idle
    Disk,
}

impl From<Only> for sophron_core::act::Only {
    fn from(only: Only) -> sophron_core::act::Only {
        match only {
            Only::Both => sophron_core::act::Only::Both,
            Only::Cpu => sophron_core::act::Only::Cpu,
            Only::Disk => sophron_core::act::Only::Disk,
        }
    }
}
