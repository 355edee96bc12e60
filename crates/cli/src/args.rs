//! The command line as it is typed.

mod answer;
mod audit;
mod channels;
mod hands;
mod report;
mod rules;
mod service;
mod usage;

use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;

use clap::error::ErrorKind;
use clap::{Parser, Subcommand, ValueEnum};
use clap_complete::engine::ArgValueCompleter;
use sophron_core::units;

pub use answer::Answer;
pub use audit::{
    AuditAccept, AuditCommand, AuditExplain, AuditExport, AuditFilter, AuditList, AuditStats, AuditVerify, ExportFormat,
};
pub use channels::{Channels, ChannelsCommand};
pub use hands::{Hand, Only, Restore};
pub use report::{Reader, Report, ReportFormat};
pub use rules::{Draft, Played, Rehearse, Rules, Suggest, Why};
pub use service::{StandBack, Status};
pub use usage::{UsageBy, UsageChanges, UsageCommand, UsageExport, UsageGroup, UsageList, UsageSpan};

use crate::completing;
use crate::exit::{Exit, TABLE};

/// Watches processes for runaway CPU or memory use, acts by your rules, and keeps the record.
#[derive(Debug, Parser)]
#[command(name = "sophron", version, after_help = TABLE, arg_required_else_help = true)]
pub struct Args {
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Say in words whether the machine is short of something, of what, and because of whom
    #[command(after_help = TABLE)]
    Checkup(Checkup),
    /// Rank the machine's processes, the worst first
    #[command(after_help = TABLE)]
    List(List),
    /// Tell everything about one process or app: who it is, what it is doing, what hangs on it
    #[command(after_help = TABLE, arg_required_else_help = true)]
    Inspect(Inspect),
    /// Make processes milder to the others: every thread's niceness, and the disk last; measured before and after
    #[command(after_help = TABLE, arg_required_else_help = true)]
    Lower {
        #[command(flatten)]
        hand: Hand,
        /// The niceness, 1 to 19; higher gives way more
        #[arg(long, value_name = "NICE", default_value_t = 15, value_parser = milder, allow_hyphen_values = true)]
        nice: i32,
        /// Lower only that
        #[arg(long, value_enum, value_name = "WHAT", default_value_t = Only::Both)]
        only: Only,
    },
    /// Suspend processes; they go on by themselves after a time, whatever happens
    #[command(after_help = TABLE, arg_required_else_help = true)]
    Suspend {
        #[command(flatten)]
        hand: Hand,
        /// For how long
        #[arg(long = "for", value_name = "TIME", default_value = "5m", value_parser = suspension)]
        length: Duration,
    },
    /// Let suspended processes go on
    #[command(after_help = TABLE, arg_required_else_help = true)]
    Resume {
        #[command(flatten)]
        hand: Hand,
        /// Whoever a watcher has left suspended that was ended together with its guards
        #[arg(long, conflicts_with_all = ["targets", "covers", "tree"])]
        left: bool,
    },
    /// Ask processes to end; by force only as asked
    #[command(after_help = TABLE, arg_required_else_help = true)]
    Terminate {
        #[command(flatten)]
        hand: Hand,
        /// End by force what has not ended by itself after this time
        #[arg(long, value_name = "TIME", value_parser = force_time)]
        force_after: Option<Duration>,
    },
    /// Start the units of processes anew, through the service manager
    #[command(after_help = TABLE, arg_required_else_help = true)]
    Restart {
        #[command(flatten)]
        hand: Hand,
    },
    /// Take back what Sophron lowered and is still in force
    #[command(after_help = TABLE, arg_required_else_help = true)]
    Restore(Restore),
    /// Tell what was bad when and because of whom, over a day or several: to read, to print, to send
    #[command(after_help = TABLE)]
    Report(Report),
    /// Tell who used how much over weeks and months, and which hour is bad; since when something is otherwise
    #[command(after_help = TABLE, args_conflicts_with_subcommands = true)]
    Usage {
        #[command(flatten)]
        list: UsageList,
        #[command(subcommand)]
        command: Option<UsageCommand>,
    },
    /// Record this machine to a file, for looking at it later
    #[command(after_help = TABLE)]
    Record(Record),
    /// Replay recordings through rules: what they would have done, before they may touch anything
    #[command(after_help = TABLE)]
    Rehearse(Rehearse),
    /// Propose rules with limits from what is normal here; nothing is installed
    #[command(after_help = TABLE)]
    Suggest(Suggest),
    /// Write, check and explain rules
    #[command(after_help = TABLE, arg_required_else_help = true, subcommand_required = true)]
    Rules {
        #[command(subcommand)]
        command: Rules,
    },
    /// Run the rules until interrupted: alert, lower, suspend, terminate, and record it
    #[command(after_help = TABLE)]
    Watch(Watch),
    /// Show the recorded cases, the worst first; explain one, verify the record, export it
    #[command(after_help = TABLE, args_conflicts_with_subcommands = true)]
    Audit {
        #[command(flatten)]
        list: AuditList,
        #[command(subcommand)]
        command: Option<AuditCommand>,
    },
    /// Say how the running watcher stands: its rules, the worst first, its record, the ways to people
    #[command(after_help = TABLE)]
    Status(Status),
    /// Have rules keep their hands off a process, a rule or everything for a time; alerts go on
    #[command(after_help = TABLE)]
    StandBack(StandBack),
    /// Show the ways to people and how each stands; try one
    #[command(after_help = TABLE)]
    Channels(Channels),
    /// Answer what a watcher asks before a step: for one's own programs, or as root for anybody's
    #[command(after_help = TABLE, arg_required_else_help = true)]
    Answer(Answer),
    /// Show the whole way on harmless offenders of its own: rules, steps, record
    #[command(after_help = TABLE)]
    Demo,
    /// Be a real, harmless offender, for trying rules
    #[command(after_help = TABLE)]
    Misbehave(Misbehave),
    /// Watch over a suspension (started by `watch`)
    #[command(hide = true)]
    Guard,
    /// A delivery, started by the watcher
    #[command(hide = true)]
    Deliver,
    /// Notices at a person's desk, started by the watcher
    #[command(hide = true)]
    Desk,
    /// A unit started anew as its user, started by the watcher
    #[command(hide = true)]
    Unit,
    /// Figures by HTTP, started by the watcher
    #[command(hide = true)]
    Figures,
}

/// What was, instead of what is.
#[derive(Debug, clap::Args)]
pub struct Recorded {
    /// Read a recording instead of this machine; `demo` is the one that comes with Sophron [default: with a time, the watcher's lookback]
    #[arg(long, value_name = "FILE")]
    pub from: Option<PathBuf>,
    /// That moment, as 10:00, "yesterday 18:00", "2h ago" or 2026-11-23T10:00:00Z [default: of a recording its end]
    #[arg(long, value_name = "TIME", conflicts_with_all = ["since", "until"])]
    pub at: Option<String>,
    /// From that moment on
    #[arg(long, value_name = "TIME")]
    pub since: Option<String>,
    /// Up to that moment
    #[arg(long, value_name = "TIME")]
    pub until: Option<String>,
}

/// A niceness that makes a process milder.
fn milder(text: &str) -> Result<i32, String> {
    let nice: i32 = text.parse().map_err(|_| "write a number from 1 to 19".to_owned())?;
    match nice {
        1..=19 => Ok(nice),
        ..=0 => Err("a niceness of 0 or less puts a process on a level with the others or before them, and Sophron only makes it give way: \
                     write 1 to 19; `sophron restore` takes a lowering back"
            .to_owned()),
        _ => Err("write 1 to 19: 19 gives way most".to_owned()),
    }
}

#[derive(Debug, clap::Args)]
pub struct Checkup {
    /// Measure for this long [default: 3s; 30s of a recording]
    #[arg(long = "for", value_name = "TIME", value_parser = measuring_time)]
    pub length: Option<Duration>,
    /// Take limits, known findings and protections from this rules file [default: the one that `watch` reads]
    #[arg(long, value_name = "FILE")]
    pub rules: Option<PathBuf>,
    #[command(flatten)]
    pub recorded: Recorded,
    /// How to print it
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub format: Format,
    #[command(flatten)]
    pub state: State,
}

#[derive(Debug, clap::Args)]
pub struct Inspect {
    /// A checked PID as 51907-kqm, a PID, or an app by its name
    #[arg(add = ArgValueCompleter::new(completing::targets))]
    pub target: String,
    /// Look at it for this long, and say whether it works or hangs [default: 1s, without an answer; 5m of a recording]
    #[arg(long = "for", value_name = "TIME", value_parser = measuring_time)]
    pub length: Option<Duration>,
    /// Show the command line with its secrets
    #[arg(long, conflicts_with_all = ["from", "at", "since", "until"])]
    pub unmasked: bool,
    /// Take rules and protections from this rules file [default: the one that `watch` reads]
    #[arg(long, value_name = "FILE")]
    pub rules: Option<PathBuf>,
    #[command(flatten)]
    pub recorded: Recorded,
    /// How to print it
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub format: Format,
    #[command(flatten)]
    pub state: State,
}

fn within(text: &str, least: Duration, most: Duration, words: &str) -> Result<Duration, String> {
    let length = units::parse_duration(text)?;
    if (least..=most).contains(&length) { Ok(length) } else { Err(format!("write something from {words}")) }
}

/// Nothing stays suspended for ever.
fn suspension(text: &str) -> Result<Duration, String> {
    within(text, Duration::from_secs(1), Duration::from_secs(86_400), "1s to 24h")
}

fn force_time(text: &str) -> Result<Duration, String> {
    within(text, Duration::from_millis(100), Duration::from_secs(600), "100ms to 10m")
}

/// A measuring of a few looks takes a moment, and nobody waits an hour for a checkup.
fn measuring_time(text: &str) -> Result<Duration, String> {
    within(text, Duration::from_millis(500), Duration::from_secs(600), "500ms to 10m")
}

#[derive(Debug, clap::Args)]
pub struct List {
    /// Rank by this field, the heaviest first, as cpu, memory, disk.write or age; with --since also growth [default: cpu]
    #[arg(long, value_name = "FIELD", add = ArgValueCompleter::new(completing::fields))]
    pub by: Option<String>,
    /// Rank groups with their totals instead of processes
    #[arg(long, value_enum)]
    pub group: Option<Group>,
    /// Draw the processes as trees, with totals for each branch
    #[arg(long, conflicts_with_all = ["group", "by", "columns"])]
    pub tree: bool,
    /// Show at most this many rows [default: 10]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    pub limit: Option<u32>,
    /// Only processes for which this condition is true, as 'memory > 750 MiB and owner != root'; with --group tree, the trees that begin with them
    #[arg(long = "where", value_name = "CONDITION", conflicts_with = "tree", add = ArgValueCompleter::new(completing::condition))]
    pub covers: Option<String>,
    /// Show these fields, as id,app,disk.read
    #[arg(long, value_name = "FIELD,…", value_delimiter = ',', add = ArgValueCompleter::new(completing::fields))]
    pub columns: Option<Vec<String>>,
    /// Whether processes that use no CPU are shown [default: hidden where cpu ranks and no --where names them, and counted]
    #[arg(long, value_enum)]
    pub idle: Option<Idle>,
    /// Draw how the machine went, above the rows: over the span that is asked for [default: the last hour of the lookback]
    #[arg(long, conflicts_with_all = ["every", "times", "at"])]
    pub chart: bool,
    /// Measure over this time, and again and again
    #[arg(long, value_name = "TIME", value_parser = units::parse_duration)]
    pub every: Option<Duration>,
    /// That many times [default: 1; with --every without end]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    pub times: Option<u32>,
    #[command(flatten)]
    pub recorded: Recorded,
    #[command(flatten)]
    pub state: State,
    /// Write what is shown to a new file as well
    #[arg(long, value_name = "FILE")]
    pub save: Option<PathBuf>,
    /// How to print it
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub format: Format,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Group {
    /// No groups
    Process,
    /// One owner's processes of one program
    App,
    /// A process with all its descendants
    Tree,
    /// All processes of one user
    Owner,
    /// All processes of one unit
    Unit,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Idle {
    /// Show them
    Show,
    /// Hide and count them
    Hide,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// For people
    Text,
    /// For programs: one object, base units
    Json,
    /// For programs: a row a line
    Jsonl,
    /// For spreadsheets
    Csv,
}

#[derive(Debug, clap::Args)]
pub struct Record {
    /// The new file; compressed when the name ends in .zst
    pub file: PathBuf,
    /// Take a sample this often
    #[arg(long, value_name = "TIME", default_value = "2s", value_parser = units::parse_duration)]
    pub every: Duration,
    /// End after this time
    #[arg(long = "for", value_name = "TIME", value_parser = units::parse_duration)]
    pub length: Option<Duration>,
    /// Wait until this time of day
    #[arg(long, value_name = "HH:MM")]
    pub begin: Option<String>,
    /// End when the file has this size
    #[arg(long, value_name = "SIZE", value_parser = units::parse_size)]
    pub max_size: Option<u64>,
    /// Record only processes for which this condition is true
    #[arg(long = "where", value_name = "CONDITION", add = ArgValueCompleter::new(completing::condition))]
    pub covers: Option<String>,
}

#[derive(Debug, clap::Args)]
pub struct Watch {
    /// The rules file [default: as root /etc/sophron/rules.toml; else rules.toml in your configuration folder's sophron/, then /etc/sophron/]
    #[arg(long, value_name = "FILE")]
    pub rules: Option<PathBuf>,
    /// End after this time, as 30s or 1h30m
    #[arg(long = "for", value_name = "TIME", value_parser = units::parse_duration)]
    pub length: Option<Duration>,
    /// Let no rule act: decide, alert and record only
    #[arg(long)]
    pub shadow: bool,
    /// Run under a service manager: tell it what goes on, read the rules anew on SIGHUP and when their file changes
    #[arg(long, conflicts_with = "length")]
    pub service: bool,
    /// Write the very samples that were judged to this new file, for `sophron rehearse`; compressed when its name ends in .zst
    #[arg(long, value_name = "FILE")]
    pub record: Option<PathBuf>,
    /// The form of its lines
    #[arg(long, value_enum, value_name = "FORMAT", default_value_t = TextOrLines::Text)]
    pub format: TextOrLines,
    #[command(flatten)]
    pub state: State,
    /// Speak to the service manager directly at this socket
    #[arg(long, value_name = "SOCKET", hide = true)]
    pub service_manager: Option<PathBuf>,
    /// Where the system log listens
    #[arg(long, value_name = "SOCKET", hide = true)]
    pub system_log: Option<PathBuf>,
}

#[derive(Debug, Clone, Default, clap::Args)]
pub struct State {
    /// The state folder, which holds the audit trail [default: as root /var/lib/sophron; else sophron/ in your state folder]
    #[arg(long = "state", value_name = "DIR")]
    pub folder: Option<PathBuf>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum TextOrLines {
    /// For people
    Text,
    /// For programs: an object a line, base units
    Jsonl,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum TextOrJson {
    /// For people
    Text,
    /// For programs: one object, base units
    Json,
}

#[derive(Debug, Clone, clap::Args)]
pub struct Misbehave {
    /// Use this much CPU, percent of one core; 250% runs on three threads
    #[arg(long, value_name = "PERCENT", value_parser = units::parse_percent)]
    pub cpu: Option<f64>,
    /// Grow by this much memory, as 20MiB/s
    #[arg(long, value_name = "RATE", value_parser = units::parse_rate)]
    pub grow: Option<f64>,
    /// Stop growing at this size
    #[arg(long, value_name = "SIZE", default_value = "380MiB", value_parser = units::parse_size)]
    pub up_to: u64,
    /// Write this much to a file and have it on disk, as 20MiB/s
    #[arg(long, value_name = "RATE", value_parser = units::parse_rate)]
    pub write: Option<f64>,
    /// Read a file of this size again and again
    #[arg(long, value_name = "SIZE", value_parser = units::parse_size)]
    pub read: Option<u64>,
    /// Keep this many threads that live for a moment each, one after the other
    #[arg(long, value_name = "N", default_value_t = 0, value_parser = clap::value_parser!(u32).range(..=256))]
    pub threads: u32,
    /// Do nothing but wait
    #[arg(long, value_enum, value_name = "WHAT", conflicts_with_all = ["cpu", "grow", "write", "read"])]
    pub wait_on: Option<WaitOn>,
    /// Start this many children that do the same
    #[arg(long, value_name = "N", default_value_t = 0, value_parser = clap::value_parser!(u32).range(..=64))]
    pub children: u32,
    /// Do not answer the polite signal to end
    #[arg(long)]
    pub deaf: bool,
    /// Be calm from this time on: free the memory, use no CPU
    #[arg(long, value_name = "TIME", value_parser = units::parse_duration)]
    pub calm_after: Option<Duration>,
    /// End after this time
    #[arg(long = "for", value_name = "TIME", default_value = "60s", value_parser = units::parse_duration)]
    pub length: Duration,
    /// Run as a copy of that name, from a private folder
    #[arg(long = "as", value_name = "NAME")]
    pub name: Option<String>,
    /// Put that private folder in there; as root it has to be root's [default: the folder for temporary files; as root /tmp]
    #[arg(long, value_name = "DIR", requires = "name")]
    pub into: Option<PathBuf>,
    /// The private folder of the copy, removed at the end
    #[arg(long, hide = true)]
    pub folder: Option<PathBuf>,
}

/// What an offender waits for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum WaitOn {
    /// Words from a pipe that nobody writes to
    Pipe,
    /// Time to pass
    Time,
    /// The kernel, uninterruptibly: the polite signal is not answered
    Kernel,
}

/// What other words people try, and ours for them.
const ANSWERS: [(&str, &str); 12] = [
    (
        "stop",
        "there is no `stop`, which could mean two things: `sophron suspend` (it can go on) or `sophron terminate` (it ends)",
    ),
    ("kill", "`sophron terminate` asks it to end; `--force-after 10s` ends by force what does not end by itself"),
    ("end", "`sophron terminate` asks it to end; `--force-after 10s` ends by force what does not end by itself"),
    ("freeze", "`sophron suspend` lets it stand still for a time, and `sophron resume` lets it go on"),
    ("pause", "`sophron suspend` lets it stand still for a time, and `sophron resume` lets it go on"),
    (
        "raise",
        "Sophron never raises a priority; `sophron lower` makes the offender milder, and `sophron restore` takes that back",
    ),
    ("history", "what happened is in the record: `sophron audit`"),
    ("log", "what happened is in the record: `sophron audit`"),
    ("undo", "`sophron restore` takes back what was lowered, `sophron resume` lets go on what was suspended"),
    ("reload", "`sophron rules reload` has the running watcher read its rules anew"),
    ("hold", "`sophron stand-back` has rules keep their hands off a process, a rule or everything for a time"),
    ("check", "to check a rules file: `sophron rules check FILE`; to check this machine: `sophron checkup`"),
];

/// Prints what clap has to say, and answers words that people try.
pub fn answer(error: &clap::Error) -> ExitCode {
    let tried = error.get(clap::error::ContextKind::InvalidSubcommand).map(ToString::to_string);
    let ours = tried.and_then(|tried| ANSWERS.iter().find(|(word, _)| *word == tried));
    if let Some((_, answer)) = ours {
        crate::ui::err(format_args!("sophron: {answer}\n"));
        return Exit::Usage.into();
    }
    // The help goes to standard output; if that is closed there is nobody to tell.
    let _ = error.print();
    match error.kind() {
        ErrorKind::DisplayHelp | ErrorKind::DisplayVersion => Exit::Fine.into(),
        _ => Exit::Usage.into(),
    }
}
