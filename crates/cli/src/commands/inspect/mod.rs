//! `sophron inspect TARGET`: who exactly is this process, what is it doing, and what hangs on it?

mod gather;
mod machine_formats;
mod sections;
mod text;

use sophron_core::act::Lever;
use sophron_core::condition::Truth;
use sophron_core::facts::Facts;
use sophron_core::inspect::{Doing, Family, Sightings};
use sophron_core::model::{Process, ProcessId, Snapshot};
use sophron_core::sorted::SortedMap;
use sophron_linux::inspect::{Details, Followed, Restart};
use sophron_linux::open_files::OpenFile;

use crate::args::{self, Format};
use crate::exit::{Exit, Failure};
use crate::recordings::Recordings;
use crate::ui;
use crate::watcher::control;
use crate::watcher::rules_file::{self, Guidance};

/// Everything known of one process.
struct Inspection {
    snapshot: Snapshot,
    /// The process, with what is costly.
    process: Process,
    /// Its app's processes, where an app was asked for.
    members: Vec<ProcessId>,
    zone: Option<jiff::tz::TimeZone>,
    recorded: bool,
    /// What it was found doing; the answer only where it was looked at for long enough.
    sightings: Sightings,
    doing: Option<Doing>,
    details: Details,
    /// What it has open; `None` where that may not be read.
    files: Option<Vec<OpenFile>>,
    /// More about what it waits for: the file, the lock's holder, and who has to answer in the end.
    followed: Followed,
    family: Family,
    lever: Option<Lever>,
    restart: Option<Restart>,
    /// The memory limit that binds it.
    group: Option<sophron_core::checkup::GroupMemory>,
    protected: Option<String>,
    /// What it does for others: rules never suspend or terminate it then.
    role: Option<String>,
    /// What the record tells of it.
    note: Option<String>,
    /// How often its like was ended by us before, and since when.
    ended_before: Option<(usize, jiff::Timestamp)>,
    /// Why it has no answer or no rates, where something came in between.
    gone: bool,
    unmasked: Option<String>,
    guidance: Guidance,
    /// How rules stand to it, by the watcher that runs.
    standings: SortedMap<String, String>,
    suffix: String,
}

pub fn run(args: &args::Inspect) -> Result<Exit, Failure> {
    let guidance = rules_file::guidance(args.rules.as_deref())?;
    let inspection = match Recordings::asked(&args.recorded, &args.state)? {
        Some(recordings) => gather::recorded(&recordings, args, guidance)?,
        None => {
            let live = gather::live(args, guidance)?;
            Inspection { standings: standings(args, &live), ..live }
        }
    };
    match args.format {
        Format::Text => ui::out(text::render(&inspection)),
        format => ui::out(machine_formats::render(&inspection, format)),
    }
    Ok(Exit::Fine)
}

/// What the watcher that runs says of each rule that covers it: what it does, or why not.
fn standings(args: &args::Inspect, seen: &Inspection) -> SortedMap<String, String> {
    let mut all = SortedMap::new();
    let facts = Facts::new(&seen.process, &seen.snapshot.machine);
    let rules = seen.guidance.loaded.iter().flat_map(|loaded| &loaded.rules.rules);
    for rule in rules.filter(|rule| rule.covering(&facts) == Truth::True) {
        match control::ask(args.state.folder.as_deref(), &rule.name, &seen.process.id) {
            Ok(answer) => all.extend(answer.standing.map(|standing| (rule.name.to_string(), standing.verdict()))),
            // Nobody answers for the others either.
            Err(_) => break,
        }
    }
    all
}
