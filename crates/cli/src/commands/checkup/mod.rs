//! `sophron checkup`: is this machine short of something, of what, and because of whom?

mod gather;
mod machine_formats;
mod text;

pub(super) use gather::notes;

use sophron_core::checkup::{self, Report, Scene};
use sophron_core::dispatch::Request;
use sophron_core::model::Snapshot;
use sophron_core::text::counted;

use crate::args::{self, Format};
use crate::exit::{Exit, Failure};
use crate::recordings::Recordings;
use crate::ui::{self, when};
use crate::watcher::control::{self, Answer, Reply, Unanswered};
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
    if !recorded && let Some(said) = by_the_watcher(args, snapshot, report) {
        return said;
    }
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
    if recorded { who } else { format!("{who}, on another state folder: `--state DIR` asks it what it does") }
}

/// What the watcher of this state folder says; none where there is none.
fn by_the_watcher(args: &args::Checkup, snapshot: &Snapshot, report: &Report) -> Option<String> {
    let state = args.state.folder.as_deref();
    let status = match control::request(state, &Request::Status) {
        Ok(Reply::Status(status)) => status,
        Ok(Reply::Refused(why)) | Err(Unanswered::Silent(why)) => return Some(format!("one runs; {why}")),
        Ok(_) => return Some("one runs, of another version".to_owned()),
        Err(Unanswered::NoWatcher) => return None,
    };
    let who = snapshot.process(status.pid).map_or_else(|| format!("PID {}", status.pid), |process| process.label());
    let suspect = report.findings.iter().find_map(|finding| finding.suspects.first());
    let about = suspect.map(|suspect| suspect.id).or(snapshot.process(status.pid).map(|process| process.id))?;
    let rules = match control::ask(state, "", &about) {
        Ok(answer) => of_rules(&answer, suspect.map(|suspect| suspect.app.as_str())),
        Err(_) => return Some(format!("{who} runs, and does not answer")),
    };
    let breached: Vec<&str> =
        status.status.rules.iter().filter(|rule| rule.state == "breached").map(|rule| rule.rule.as_str()).collect();
    let breached = match breached.as_slice() {
        [] => String::new(),
        all => format!("; breached: {}", all.join(", ")),
    };
    let back = match status.status.stand_backs.len() {
        0 => String::new(),
        count => format!("; rules stand back by {}: `sophron stand-back` shows from whom", counted(count, "word")),
    };
    let disarmed = status.status.disarmed.map(|why| format!("; disarmed: {why}")).unwrap_or_default();
    Some(format!("{who} runs: {rules}{breached}{back}{disarmed}"))
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
