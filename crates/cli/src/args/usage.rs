//! `sophron usage`, as it is typed.

use std::path::PathBuf;
use std::time::Duration;

use clap::{Subcommand, ValueEnum};

use super::{Format, State, TextOrJson};
use crate::exit::TABLE;

#[derive(Debug, clap::Args)]
pub struct UsageList {
    /// By what it is told
    #[arg(long, value_enum, value_name = "WHAT", default_value_t = UsageGroup::App)]
    pub group: UsageGroup,
    /// By what it is ranked [default: cpu.time; waiting with --group hour, weekday or day]
    #[arg(long, value_enum, value_name = "FIGURE")]
    pub by: Option<UsageBy>,
    /// Only of those for which this is true: a condition over app and owner, as 'app = labelpress'
    #[arg(long = "where", value_name = "CONDITION")]
    pub covers: Option<String>,
    #[command(flatten)]
    pub span: UsageSpan,
    /// Beside the time of the same length so much earlier, as 7d; without --since it is no longer than that
    #[arg(long, value_name = "TIME", value_parser = sophron_core::units::parse_duration)]
    pub against: Option<Duration>,
    /// At most so many rows [default: 15; 31 with --group hour, weekday or day]
    #[arg(long, value_name = "N")]
    pub limit: Option<usize>,
    /// How to print it
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub format: Format,
}

/// Of which time, and from where.
#[derive(Debug, Clone, clap::Args)]
pub struct UsageSpan {
    /// Read a kept history or a recording instead of this machine's history; `demo-months` is one that comes with Sophron
    #[arg(long, value_name = "FILE")]
    pub from: Option<PathBuf>,
    /// From that moment on, as "30d ago", monday or 2026-11-01 [default: 7d ago; of a file its beginning]
    #[arg(long, value_name = "TIME")]
    pub since: Option<String>,
    /// Up to that moment
    #[arg(long, value_name = "TIME")]
    pub until: Option<String>,
    #[command(flatten)]
    pub state: State,
}

#[derive(Debug, Subcommand)]
pub enum UsageCommand {
    /// Say since when a program uses much more or less than before, and what else happened that day
    #[command(after_help = TABLE)]
    Changes(UsageChanges),
    /// Write the history to a file that other machines' Sophron reads with --from
    #[command(after_help = TABLE, arg_required_else_help = true)]
    Export(UsageExport),
}

#[derive(Debug, clap::Args)]
pub struct UsageChanges {
    #[command(flatten)]
    pub span: UsageSpan,
    /// How to print it
    #[arg(long, value_enum, default_value_t = TextOrJson::Text)]
    pub format: TextOrJson,
}

#[derive(Debug, clap::Args)]
pub struct UsageExport {
    /// The file, which must not be there yet; compressed where its name ends in .zst
    pub file: PathBuf,
    #[command(flatten)]
    pub span: UsageSpan,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum UsageGroup {
    /// Each app of each owner
    App,
    /// Each owner
    Owner,
    /// Each hour of the day
    Hour,
    /// Each day of the week
    Weekday,
    /// Each day
    Day,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum UsageBy {
    /// CPU time
    #[value(name = "cpu.time")]
    Cpu,
    /// Memory held
    #[value(name = "memory.held")]
    Held,
    /// Read from disks
    #[value(name = "disk.read")]
    Read,
    /// Time in which programs waited for CPU, memory or a disk
    Waiting,
    /// Cases
    Cases,
}
