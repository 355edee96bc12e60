//! `sophron checkup`: is this machine short of something, of what, and because of whom?

mod gather;
mod machine_formats;
mod text;

pub(super) use gather::notes;

use sophron_core::checkup::{self, Report, Scene};
use sophron_core::model::Snapshot;

use crate::args::{self, Format};
use crate::exit::{Exit, Failure};
use crate::recordings::Recordings;
use crate::ui;
use crate::watcher::rules_file;

/// A checkup with what it was made from.
struct Checkup {
    report: Report,
    scene: Scene,
    zone: Option<jiff::tz::TimeZone>,
    /// Whether a watcher runs, in words.
    watcher: String,
    /// What has to be added to a command that is to look at the same recording.
    suffix: String,
}

pub fn run(args: &args::Checkup) -> Result<Exit, Failure> {
    let guidance = rules_file::guidance(args.rules.as_deref())?;
    let settings = guidance.loaded.as_ref().map(|loaded| loaded.rules.checkup.clone()).unwrap_or_default();
    let recordings = Recordings::asked(&args.recorded, &args.state)?;
    let gathered = match &recordings {
        Some(recordings) => gather::recorded(recordings, args, &settings)?,
        None => gather::live(args, &settings)?,
    };
    for note in &gathered.notes {
        ui::err(format_args!("sophron: {note}\n"));
    }
    let protections = match &recordings {
        Some(recordings) => guidance.protections_of_a_recording(recordings.recorder()),
        None => guidance.protections_now(&gathered.scene.snapshot, gathered.terminal.clone()),
    };
    let machine = &gathered.scene.snapshot.machine;
    let protected =
        |process: &sophron_core::model::Process| protections.reason(&sophron_core::facts::Facts::new(process, machine));
    let around = checkup::Surroundings { protected: Some(&protected), ..gathered.around };
    let report = checkup::check(&gathered.scene, &settings, &around);
    let found = report.found();
    let watcher = watcher(&gathered.scene.snapshot, recordings.is_some());
    drop(around);
    let checkup = Checkup { report, scene: gathered.scene, zone: gathered.zone, watcher, suffix: gathered.suffix };
    match args.format {
        Format::Text => ui::out(text::render(&checkup)),
        format => ui::out(machine_formats::render(&checkup, format)),
    }
    Ok(if found { Exit::Found } else { Exit::Fine })
}

/// Whether a watcher runs, by the processes: its lock stands in a folder that not everybody may look into.
fn watcher(snapshot: &Snapshot, recorded: bool) -> String {
    let watches = |command: &str| command.split_whitespace().nth(1) == Some("watch");
    let mut watchers = snapshot
        .processes
        .iter()
        .filter(|process| process.app == "sophron" && process.command.as_deref().is_some_and(watches));
    match watchers.next() {
        Some(first) => {
            let more = watchers.count();
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            format!("{}{more} runs: no need to stay, rules go on watching", first.label())
        }
        None if recorded => "none ran".to_owned(),
        None => "none runs: once this is over nobody watches; `sophron watch` runs your rules".to_owned(),
    }
}
