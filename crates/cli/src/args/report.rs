//! `sophron report`, as it is typed.

use std::path::PathBuf;

use clap::ValueEnum;

use super::{Played, State};

/// A report reads more than recordings.
const FROM: &str = "The recordings, one after the other, or a kept history of usage; `demo` and `demo-months` come with Sophron \
    [default: the watcher's lookback, and before it the history]";

#[derive(Debug, clap::Args)]
#[command(mut_arg("from", |from| from.help(FROM)))]
pub struct Report {
    #[command(flatten)]
    pub played: Played,
    /// Take limits and hours from this rules file; on a recording its rules are rehearsed [default: the one that `watch` reads]
    #[arg(long, value_name = "FILE")]
    pub rules: Option<PathBuf>,
    /// Count how it felt only within these hours of the rules file's `[hours]`
    #[arg(long, value_name = "NAME")]
    pub hours: Option<String>,
    /// Write it to this file, which must not be there yet
    #[arg(long, value_name = "FILE")]
    pub save: Option<PathBuf>,
    /// In plain words, for the person whose machine it is
    #[arg(long, value_enum, value_name = "WHOM")]
    pub to: Option<Reader>,
    /// What you suggest to that person; once for each
    #[arg(long, value_name = "TEXT", requires = "to")]
    pub suggest: Vec<String>,
    /// How to write it [default: text, and html with --save]
    #[arg(long, value_enum)]
    pub format: Option<ReportFormat>,
    #[command(flatten)]
    pub state: State,
}

/// Who reads it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Reader {
    /// The person whose machine it is
    Customer,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ReportFormat {
    /// A page in one file, to look at, print or send
    Html,
    /// For people at a terminal
    Text,
    /// For programs: one object, base units
    Json,
}
