//! The arguments of what is done with rules files: written, checked, asked, rehearsed.

use std::path::PathBuf;

use clap::{Subcommand, ValueEnum};
use clap_complete::engine::ArgValueCompleter;

use super::{Format, Recorded, State, TextOrJson};
use crate::completing;
use crate::exit::TABLE;

#[derive(Debug, Subcommand)]
pub enum Rules {
    /// Report every error of a rules file, with its place and a mend, and what is worth a second look
    #[command(after_help = TABLE)]
    Check {
        /// The rules file; rules.d/*.toml beside it are read as well
        file: PathBuf,
        /// Take warnings for errors
        #[arg(long)]
        strict: bool,
        /// Measure what watching with it costs on this machine, rule by rule: takes ten samples
        #[arg(long)]
        cost: bool,
    },
    /// Say rules back in plain sentences: whom, when, what is done, until when; and whom they cover now
    #[command(after_help = TABLE)]
    Explain {
        /// The rules file
        file: PathBuf,
        /// One rule [default: all]
        #[arg(add = ArgValueCompleter::new(completing::rules))]
        rule: Option<String>,
    },
    /// Say why a rule does or does not act on a process now
    #[command(after_help = TABLE)]
    Why(Why),
    /// Print a filled-in rule for a process or app, in shadow, with limits from what it has done so far
    #[command(after_help = TABLE)]
    Draft(Draft),
    /// List the rules that a watcher would run here
    #[command(after_help = TABLE)]
    List {
        /// The rules file [default: the one that `watch` reads]
        #[arg(long, value_name = "FILE")]
        rules: Option<PathBuf>,
        /// How to print it
        #[arg(long, value_enum, default_value_t = Format::Text)]
        format: Format,
    },
    /// Print a commented rules file to begin with, all in shadow
    #[command(after_help = TABLE)]
    New {
        /// Write it there instead; nothing is overwritten
        file: Option<PathBuf>,
    },
    /// Have the running watcher read its rules anew; if they are not sound it keeps those that it has
    #[command(after_help = TABLE)]
    Reload {
        #[command(flatten)]
        state: State,
    },
    /// Show every key of a rules file: what it means and what it wants
    #[command(after_help = TABLE)]
    Keys,
    /// Print the JSON Schema of rules files, for editors
    #[command(after_help = TABLE)]
    Schema,
    /// Explain the fields of conditions: meaning, how measured, what is usual, what to do when high
    #[command(after_help = TABLE)]
    Fields {
        /// One field, as memory.held [default: the table of all]
        #[arg(add = ArgValueCompleter::new(completing::fields))]
        name: Option<String>,
        /// How to print it
        #[arg(long, value_enum, default_value_t = Format::Text)]
        format: Format,
    },
}

#[derive(Debug, clap::Args)]
pub struct Why {
    /// The rule
    #[arg(add = ArgValueCompleter::new(completing::rules))]
    pub rule: String,
    /// The process: a checked PID as 51907-kqm, a PID, or an app (its heaviest process)
    #[arg(add = ArgValueCompleter::new(completing::targets))]
    pub target: String,
    /// The rules file [default: the one that `watch` reads]
    #[arg(long, value_name = "FILE")]
    pub rules: Option<PathBuf>,
    #[command(flatten)]
    pub state: State,
}

#[derive(Debug, clap::Args)]
pub struct Draft {
    /// The offender: a checked PID as 51907-kqm, a PID, or an app (its heaviest process)
    #[arg(add = ArgValueCompleter::new(completing::targets))]
    pub target: String,
    /// What the trouble is [default: what shows most]
    #[arg(long, value_enum, value_name = "WHAT")]
    pub trouble: Option<Trouble>,
    #[command(flatten)]
    pub recorded: Recorded,
    #[command(flatten)]
    pub state: State,
}

/// What a rule is to be about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Trouble {
    /// What it holds
    Memory,
    /// What it computes
    Cpu,
    /// What it reads and writes
    Disk,
}

impl From<Trouble> for sophron_core::suggest::Trouble {
    fn from(trouble: Trouble) -> sophron_core::suggest::Trouble {
        match trouble {
            Trouble::Memory => sophron_core::suggest::Trouble::Memory,
            Trouble::Cpu => sophron_core::suggest::Trouble::Cpu,
            Trouble::Disk => sophron_core::suggest::Trouble::Disk,
        }
    }
}

/// Recordings that are gone through from beginning to end.
#[derive(Debug, clap::Args)]
pub struct Played {
    /// The recordings, one after the other; `demo` is the one that comes with Sophron [default: the watcher's lookback]
    #[arg(long, value_name = "FILE", num_args = 1..)]
    pub from: Vec<PathBuf>,
    /// From that moment on, as 10:00, "yesterday 18:00" or "2h ago"
    #[arg(long, value_name = "TIME")]
    pub since: Option<String>,
    /// Up to that moment
    #[arg(long, value_name = "TIME")]
    pub until: Option<String>,
}

#[derive(Debug, clap::Args)]
pub struct Suggest {
    /// Only for this app, also where it never ran away
    #[arg(long, value_name = "APP", add = ArgValueCompleter::new(completing::targets))]
    pub app: Option<String>,
    #[command(flatten)]
    pub played: Played,
    /// How to print it
    #[arg(long, value_enum, default_value_t = TextOrJson::Text)]
    pub format: TextOrJson,
    #[command(flatten)]
    pub state: State,
}

#[derive(Debug, clap::Args)]
// Behind --from, which takes several, the rules file would be one of them.
#[command(override_usage = "sophron rehearse <RULES> --from <FILE>... [OPTIONS]")]
pub struct Rehearse {
    /// The rules file; rules.d/*.toml beside it are read as well
    pub rules: PathBuf,
    #[command(flatten)]
    pub played: Played,
    /// Processes that must not be touched: whoever of them would be is told first, and the exit status is 3
    #[arg(long, value_name = "CONDITION", add = ArgValueCompleter::new(completing::condition))]
    pub spare: Option<String>,
    /// Only this rule
    #[arg(long, value_name = "RULE", add = ArgValueCompleter::new(completing::rules))]
    pub only: Option<String>,
    /// Only this case, and half an hour around it
    #[arg(long, value_name = "N", conflicts_with_all = ["against", "vary"])]
    pub case: Option<u64>,
    /// Compare with what these rules would have done
    #[arg(long, value_name = "OLD_RULES", conflicts_with = "vary")]
    pub against: Option<PathBuf>,
    /// Show the very lines that a watcher would have shown, in their order; with --format json an object a line
    #[arg(long, conflicts_with_all = ["against", "vary", "case"])]
    pub lines: bool,
    /// Vary one setting: 'lasting=5s..60s', or the limit of a field, 'memory.held=500MiB..1GiB'
    #[arg(long, value_name = "SETTING")]
    pub vary: Option<String>,
    /// How to print it
    #[arg(long, value_enum, default_value_t = TextOrJson::Text)]
    pub format: TextOrJson,
    #[command(flatten)]
    pub state: State,
}
