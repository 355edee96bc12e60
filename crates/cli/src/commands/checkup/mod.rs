//! `sophron checkup`: is this machine short of something, of what, and because of whom?

mod gather;
mod machine_formats;
mod text;

pub(super) use gather::notes;

use sophron_core::checkup::{self, Report, Scene};
use sophron_core::model::Snapshot;
use sophron_core::text::counted;

use crate::args::{self, Format};
use crate::exit::{Exit, Failure};
use crate::recordings::Recordings;
use crate::ui::{self, when};
use crate::watcher::control::{self, Answer, Unanswered};
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
    let watcher = watcher(args, &gathered.scene.snapshot, &report, recordings.is_some());
    drop(around);
    let checkup = Checkup { report, scene: gathered.scene, zone: gathered.zone, watcher, suffix: gathered.suffix };
    match args.format {
        Format::Text => ui::out(text::render(&checkup)),
        format => ui::out(machine_formats::render(&checkup, format)),
    }
    Ok(if found { Exit::Found } else { Exit::Fine })
}

/// Whether a watcher runs, what it runs, and whether it would act on the worst of those found.
fn watcher(args: &args::Checkup, snapshot: &Snapshot, report: &Report, recorded: bool) -> String {
    let watches = |command: &str| command.split_whitespace().nth(1) == Some("watch");
    let mut watchers = snapshot
        .processes
        .iter()
        .filter(|process| process.app == "sophron" && process.command.as_deref().is_some_and(watches));
    let Some(first) = watchers.next() else {
        return match recorded {
            true => "none ran".to_owned(),
            false => "none runs: once this is over nobody watches; `sophron watch` runs your rules".to_owned(),
        };
    };
    let more = watchers.count();
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    let who = format!("{}{more} {}", first.label(), if recorded { "ran" } else { "runs" });
    if recorded {
        return who;
    }
    let suspect = report.findings.iter().find_map(|finding| finding.suspects.first());
    let about = suspect.map_or(first.id, |suspect| suspect.id);
    match control::ask(args.state.folder.as_deref(), "", &about) {
        Ok(answer) => format!("{who}: {}", of_rules(&answer, suspect.map(|suspect| suspect.app.as_str()))),
        Err(Unanswered::Silent(why)) => format!("{who}; {why}"),
        Err(Unanswered::NoWatcher) => {
            format!("{who}, on another state folder: `--state DIR` asks it what it does")
        }
    }
}

fn of_rules(answer: &Answer, suspect: Option<&str>) -> String {
    let running = &answer.running;
    let rules = counted(running.rules.len(), "rule");
    let until = answer.until.map(|until| format!(", until {}", when::clock(until))).unwrap_or_default();
    let (armed, verdict) = match (running.armed, suspect, running.covering.as_slice()) {
        (0, ..) => ("all in shadow".to_owned(), ": it only tells".to_owned()),
        (armed, None, _) => (format!("{armed} armed"), String::new()),
        (armed, Some(app), []) => {
            (format!("{armed} armed"), format!(": no armed one covers {app}, and nothing is done about it"))
        }
        (armed, Some(app), covering) => {
            (format!("{armed} armed"), format!(": no need to stay, {} covers {app}", covering.join(", ")))
        }
    };
    format!("{rules}, {armed}{until}{verdict}")
}
