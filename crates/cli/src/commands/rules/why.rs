//! `sophron rules why RULE TARGET`: why a rule does or does not act on a process now, part by part.

use std::path::Path;
use std::time::Duration;

use jiff::tz::TimeZone;
use sophron_core::dispatch::{PartInWords, Standing, Story};
use sophron_core::facts::Facts;
use sophron_core::model::{Needs, Process, Snapshot};
use sophron_core::text::counted;
use sophron_core::units::scaled_duration;
use sophron_linux::{Sampler, roles, terminal};

use crate::args;
use crate::commands::target;
use crate::exit::{Exit, Failure};
use crate::places;
use crate::source;
use crate::ui::style::{Label, Styled};
use crate::ui::{self, paragraph, table, when};
use crate::watcher::control::{self, Answer, Unanswered};
use crate::watcher::rules_file;

const INDENT: usize = 13;

/// A word, how serious it is, and what there is to say.
type Line = (&'static str, Option<Label>, String);

/// Over how long rates are measured.
const MEASURED: Duration = Duration::from_secs(1);

pub fn run(args: &args::Why) -> Result<Exit, Failure> {
    let (snapshot, process) = look(&args.target)?;
    let asked = control::ask(args.state.folder.as_deref(), &args.rule, &process.id);
    let mut remarks = Vec::new();
    let standing = match asked {
        Ok(Answer { standing: Some(standing), running, .. }) => {
            remarks.extend(other_file(args, &running.digest));
            standing
        }
        other => {
            remarks.push(match other {
                Err(Unanswered::NoWatcher) => "no watcher runs here: this is what the file says; how long a breach has lasted, cases and budgets only a watcher knows".to_owned(),
                Err(Unanswered::Silent(why)) => format!("{why}: this is what the file says"),
                Ok(Answer { running, .. }) if running.rules.contains(&args.rule) => {
                    "the watcher that runs here has not seen that process yet: this is what the file says".to_owned()
                }
                Ok(Answer { running, .. }) => format!(
                    "the watcher that runs here has no rule {} (it has {}): this is what the file says",
                    args.rule,
                    running.rules.join(", ")
                ),
            });
            by_file(args, &snapshot, &process)?
        }
    };
    // A role protects from what cannot be taken back, and is seen on the machine only.
    let role = roles::role(&process).filter(|_| standing.protected.is_none());
    let width = table::terminal_width();
    ui::out(paragraph::styled("verdict", INDENT, &standing.verdict(), width, Label::Heading));
    let head = [
        Styled(Label::Heading, &snapshot.machine.host).to_string(),
        when::date(snapshot.moment.wall),
        format!("{} on {}", args.rule, process.label()),
    ];
    ui::out(table::flow(&head, width));
    let mut lines = covers(&standing);
    lines.extend(breach(&standing));
    lines.extend(standing.story.iter().flat_map(|story| state(&standing, story)));
    lines.extend(held_back(&standing));
    if let Some(role) = role {
        lines.push(("protected", Some(Label::Warning), format!("from suspending and ending: {role}")));
    }
    lines.extend(remarks.into_iter().map(|remark| ("watcher", Some(Label::Notice), remark)));
    for (word, label, line) in lines {
        ui::out(match label {
            Some(label) => paragraph::styled(word, INDENT, &line, width, label),
            None => paragraph::under(word, INDENT, &line, width),
        });
    }
    Ok(Exit::Fine)
}

/// The rule as the file has it, judged by one look.
fn by_file(args: &args::Why, snapshot: &Snapshot, process: &Process) -> Result<Standing, Failure> {
    let loaded = rules_file::load(&places::rules(args.rules.as_deref())?)?;
    let (_, rule) = super::named(&loaded.rules, &args.rule)?;
    let guidance = rules_file::Guidance::of(loaded.protections()?);
    let protections = guidance.protections_now(snapshot, terminal::holders(snapshot.machine.boot));
    let facts = Facts::new(process, &snapshot.machine);
    Ok(Standing::of(rule, &facts, process.label(), &protections, snapshot.moment, &TimeZone::system()))
}

/// Whether the watcher judges by other rules than the file has now.
fn other_file(args: &args::Why, digest: &str) -> Option<String> {
    let path = places::rules(args.rules.as_deref()).ok().filter(|path| places::is_there(path))?;
    let now = rules_file::digest(&path)?;
    (now != digest).then(|| {
        format!(
            "this is what the watcher runs; {} has other rules now, which count once it has read them: sophron rules reload",
            path.display()
        )
    })
}

/// Two samples, and the process meant: of an app the heaviest.
fn look(text: &str) -> Result<(Snapshot, Process), Failure> {
    let failed = |error| Failure::of(Exit::Failed, error);
    let mut sampler = Sampler::new(Path::new("/proc"), Needs::PERIODIC).map_err(failed)?;
    let mut snapshot = sampler.look().map_err(failed)?;
    target::find(text, &snapshot)?;
    source::measuring(MEASURED);
    std::thread::sleep(MEASURED);
    snapshot = sampler.look().map_err(failed)?;
    source::measured();
    let process = target::find(text, &snapshot)?.heaviest().clone();
    Ok((snapshot, process))
}

/// `memory.held over 750 MiB: true (memory.held is 812 MiB)`.
fn part((words, truth, reading): &PartInWords, missing: &str) -> String {
    format!("{words}: {truth} ({})", reading.as_deref().unwrap_or(missing))
}

fn covers(standing: &Standing) -> Vec<Line> {
    let (word, label, text): Line = match standing.covered.as_str() {
        "true" if standing.covers.is_empty() => ("covered", None, "the rule covers every process".to_owned()),
        "true" => ("covered", None, "its `where` is true of it".to_owned()),
        "false" if standing.by_tree => (
            "covered",
            Some(Label::Notice),
            "by itself it is not; as a descendant of one that is, it would be".to_owned(),
        ),
        "false" => ("not covered", Some(Label::Warning), "its `where` is false of it".to_owned()),
        _ => (
            "not covered",
            Some(Label::Warning),
            "its `where` cannot be decided, and an unknown one covers nobody".to_owned(),
        ),
    };
    let parts = standing.covers.iter().map(|covers| ("", None, part(covers, "it may not be read")));
    std::iter::once((word, label, text)).chain(parts).collect()
}

fn breach(standing: &Standing) -> Vec<Line> {
    let mut lines = Vec::new();
    let by_watcher = standing.story.is_some();
    if let Some(judged) = &standing.judged {
        let whose = match by_watcher {
            true => standing.subject.clone(),
            false => format!("judged is {judged}: the watcher knows its sums"),
        };
        lines.push(("judged", None, whose));
    }
    for (place, (words, truth, reading)) in standing.parts.iter().enumerate() {
        let missing = match words.contains(" in ") {
            true if by_watcher => "its window is not full yet, or it may not be read",
            true => "a watcher knows what was before",
            false => "it may not be read",
        };
        let word = if place == 0 { "breach" } else { "" };
        let text = match by_watcher || standing.judged.is_none() {
            true => part(&(words.clone(), truth.clone(), reading.clone()), missing),
            false => words.clone(),
        };
        lines.push((word, None, text));
    }
    lines
}

/// What the watcher knows: building up, an open case, a spent budget.
fn state(standing: &Standing, story: &Story) -> Vec<Line> {
    let mut lines = Vec::new();
    if let Some(held) = story.building {
        lines.push(("building", Some(Label::Notice), format!("{} of {}", seconds(held), seconds(standing.lasting))));
    }
    if let Some(case) = &story.case {
        let next = case.next.as_ref().map_or("no further step".to_owned(), |next| format!("next: {next}"));
        lines.push((
            "case",
            Some(Label::Notice),
            format!("case {} is open; {} of breach; {next}", case.number, seconds(case.clock)),
        ));
    }
    if let (Some(spent), Some((cases, per))) = (story.spent, standing.budget) {
        let (label, rest): (Option<Label>, &str) = if spent >= cases as usize {
            (Some(Label::Warning), "it is spent: of further cases people are told, and nothing is done")
        } else {
            (None, "not spent")
        };
        lines.push(("budget", label, format!("{spent} of {} in {}: {rest}", counted(cases, "case"), seconds(per))));
    }
    if let Some(left) = story.standing_back {
        let text = format!("a hand was at work: rules stand back for {} more", seconds(left));
        lines.push(("back", Some(Label::Notice), text));
    }
    if let Some(left) = story.settling {
        let text = format!("nothing is done for {} more: the start, or a nap", seconds(left));
        lines.push(("settling", Some(Label::Notice), text));
    }
    lines
}

/// What keeps the rule from acting, whatever the breach.
fn held_back(standing: &Standing) -> Vec<Line> {
    let mut lines: Vec<Line> = Vec::new();
    if let Some(why) = &standing.protected {
        lines.push(("protected", Some(Label::Warning), format!("{why}; rules only ever alert on it")));
    }
    if let Some(hours) = &standing.outside {
        lines.push(("hours", Some(Label::Warning), format!("now is outside `{hours}`: its ladder stands still")));
    }
    for step in &standing.waiting_steps {
        lines.push(("hours", Some(Label::Notice), format!("{step}: this step waits for its hours")));
    }
    if let Some(why) = &standing.only_tells {
        lines.push(("shadow", Some(Label::Notice), format!("{why}: it says what it would do, and does nothing")));
    }
    lines
}

fn seconds(seconds: f64) -> String {
    scaled_duration(Duration::try_from_secs_f64(seconds).unwrap_or_default())
}
