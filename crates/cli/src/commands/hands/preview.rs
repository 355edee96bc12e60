//! The list before the question: who each target is, what hangs on it, what cannot be undone.

use sophron_core::act::{Act, Only};
use sophron_core::inspect;
use sophron_core::model::Process;
use sophron_core::text::{children, processes};
use sophron_core::units::{exact_duration, scaled_duration, scaled_size};
use sophron_linux::inspect::{lever, restart};
use sophron_linux::{act, jobs, locks};

use super::{Chosen, Hand};
use crate::commands::ended::often;
use crate::ui::style::{Label, Styled};
use crate::ui::{paragraph, table, when};

const INDENT: usize = 11;

/// How long those that wait for a file lock are waited for.
const LOCKS: std::time::Duration = std::time::Duration::from_millis(500);

pub(super) fn render(hand: &Hand<'_>) -> String {
    let width = table::terminal_width();
    let snapshot = &hand.snapshot;
    let able = hand.chosen.iter().filter(|chosen| chosen.refused.is_none()).count();
    let what = match hand.act {
        Act::Lower { nice, only: Only::Both } => {
            format!("lower to nice {nice}, and the disk only when nobody else wants it")
        }
        Act::Lower { nice, only: Only::Cpu } => format!("lower to nice {nice}"),
        Act::Lower { only: Only::Disk, .. } => "lower: the disk only when nobody else wants it".to_owned(),
        Act::Suspend { length } => format!("suspend for {}, then resume", exact_duration(length)),
        Act::Resume | Act::Restore { .. } => hand.act.verb().to_string(),
        Act::Restart => "start the unit anew".to_owned(),
        Act::Terminate { force_after: None } => "ask to end".to_owned(),
        Act::Terminate { force_after: Some(wait) } => {
            format!("ask to end, and end by force after {}", exact_duration(wait))
        }
    };
    let of = if able == hand.chosen.len() { String::new() } else { format!(" of {}", hand.chosen.len()) };
    let count = processes(able);
    let head = [
        Styled(Label::Heading, &snapshot.machine.host).to_string(),
        when::date(snapshot.moment.wall),
        format!("{count}{of}: {what}"),
    ];
    let mut text = table::flow(&head, width);
    for chosen in hand.chosen.iter().filter(|chosen| chosen.root || chosen.refused.is_some()) {
        text.push_str(&one(hand, chosen, width));
    }
    let below: Vec<&Chosen> = hand.chosen.iter().filter(|chosen| !chosen.root && chosen.refused.is_none()).collect();
    if !below.is_empty() {
        let names: Vec<String> = below
            .iter()
            .take(6)
            .map(|chosen| format!("{} {}", chosen.process.app, chosen.process.id.checked()))
            .collect();
        let more = below.len().saturating_sub(names.len());
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        text.push_str(&paragraph::under(
            "with it",
            INDENT,
            &format!("{} below: {}{more}", below.len(), names.join(", ")),
            width,
        ));
    }
    for (word, line) in reach(hand) {
        text.push_str(&paragraph::under(word, INDENT, &line, width));
    }
    text
}

/// Where a lowering acts inside a scheduling group only: that, and what works against all others.
fn reach(hand: &Hand<'_>) -> Vec<(&'static str, String)> {
    let mut lines = Vec::new();
    if !matches!(hand.act, Act::Lower { only: Only::Both | Only::Cpu, .. }) {
        return lines;
    }
    let able = || hand.chosen.iter().filter(|chosen| chosen.refused.is_none());
    let meant = |process: &Process| able().any(|chosen| chosen.process.id == process.id);
    for chosen in able().filter(|chosen| chosen.root) {
        let process = &chosen.process;
        let Some(narrow) = hand.confined(&hand.snapshot, process, &lever(process.id.pid), meant) else { continue };
        let line = ("reach", narrow.said);
        if !lines.contains(&line) {
            let (command, what) = narrow.way;
            lines.extend([line, ("instead", format!("{command}   {what}"))]);
        }
    }
    lines
}

fn one(hand: &Hand<'_>, chosen: &Chosen, width: Option<usize>) -> String {
    let process = &chosen.process;
    let held =
        process.memory_held.map(|held| format!(", memory held {}", scaled_size(held as f64))).unwrap_or_default();
    let age = scaled_duration(std::time::Duration::from_secs(process.age.as_secs()));
    let first = format!("{}: {}, {age} old{held}", process.label(), process.state.word());
    let (word, label) = if chosen.refused.is_some() {
        ("refused".to_owned(), Label::Warning)
    } else {
        (hand.act.verb().to_string(), Label::Heading)
    };
    let mut text = paragraph::styled(&word, INDENT, &first, width, label);
    let mut say = |line: &str| text.push_str(&paragraph::under("", INDENT, line, width));
    if let Some(why) = &chosen.refused {
        say(why);
        return text;
    }
    if let Some(path) = &process.path {
        say(&format!("runs {path}{}", if process.path_proven() { "" } else { " (by its own account)" }));
    }
    for line in consequences(hand, process) {
        say(&line);
    }
    text
}

/// What hangs on it, as far as that verb touches it.
fn consequences(hand: &Hand<'_>, process: &Process) -> Vec<String> {
    let family = inspect::family(&hand.snapshot, process);
    let mut lines = Vec::new();
    match hand.act {
        Act::Terminate { .. } => {
            if family.descendants > 0 && !hand.args.tree {
                let children = children(family.children);
                lines.push(format!(
                    "{children}, {} below it in all; --tree takes them along",
                    processes(family.descendants)
                ));
            }
            lines.extend(family.goes_on.filter(|_| !hand.args.tree));
            lines.extend(family.ends_with_it.iter().map(|what| format!("with it ends {what}")));
            let unit = process.unit.as_deref().unwrap_or_default();
            let of_a_user = process.unit_of().is_some_and(|unit| unit.is_a_claim());
            if let Some(restart) =
                restart(std::path::Path::new("/"), unit, of_a_user).filter(|restart| restart.after_a_polite_end())
            {
                lines.push(format!("the service manager will start {unit} again (Restart={})", restart.policy));
            }
            if let Some((times, since)) = hand.trail.ended.before(process) {
                let times = often(times);
                let since = when::clock_or_date(since, hand.snapshot.moment.wall, None);
                lines.push(format!(
                    "ended {times} since {since}, and it is back: this will not hold; find what starts it ({})",
                    inspect::ancestors(&hand.snapshot, process)
                        .first()
                        .map_or("unknown".to_owned(), |parent| parent.label())
                ));
            }
            lines.push("cannot be undone: what it has not saved is lost".to_owned());
        }
        Act::Suspend { .. } => lines.extend(upset(hand, process)),
        Act::Lower { only, .. } => {
            if only != Only::Disk && !act::may_raise(process.nice) {
                lines.push(
                    "cannot be undone without root or CAP_SYS_NICE: you may not bring its niceness down again"
                        .to_owned(),
                );
            }
            let heavy = process.memory_held.is_some_and(|held| held > hand.snapshot.machine.memory_total / 10);
            if heavy {
                lines.push("lowering frees no memory: what it holds it keeps; suspend keeps it from growing, only its end frees it".to_owned());
            }
        }
        Act::Restart => {
            let unit = process.unit.as_deref().unwrap_or_default();
            let others = hand.snapshot.processes.iter().filter(|other| other.unit.as_deref() == Some(unit)).count();
            lines.push(format!(
                "the unit {unit}, with {}, is ended and started anew by the service manager",
                processes(others)
            ));
            lines.push("cannot be undone: what it has not saved is lost".to_owned());
        }
        Act::Resume | Act::Restore { .. } => {}
    }
    lines
}

/// What suspending it upsets.
fn upset(hand: &Hand<'_>, process: &Process) -> Vec<String> {
    let pid = process.id.pid;
    let mut lines = Vec::new();
    let others = |group: u32| {
        let of_it = |other: &&Process| other.id.pid != pid && jobs::group(other.id.pid) == Some(group);
        hand.snapshot.processes.iter().filter(|other| other.session == process.session).filter(of_it).count()
    };
    if let Some(job) = jobs::job(pid) {
        if job.in_front {
            lines.push(format!(
                "it has the terminal {}: its shell takes that back; after the resume type fg there",
                process.tty
            ));
        }
        if others(job.group) > 0 {
            lines.push("it is one of several in a pipeline: the others stand still with it".to_owned());
        }
        let parent_of_its_session = hand
            .snapshot
            .process(process.parent)
            .is_some_and(|parent| parent.session == process.session && jobs::group(parent.id.pid) != Some(job.group));
        if parent_of_its_session {
            lines.push("if its shell ends meanwhile the kernel hangs it up, and it may end".to_owned());
        }
    }
    match locks::waiting_for(&[pid], LOCKS).as_deref() {
        Some([first, ..]) => {
            let name = hand.snapshot.process(*first).map_or(format!("process {first}"), Process::label);
            lines.push(format!("it holds a file lock that {name} waits for: that one stands still with it"));
        }
        Some([]) => {}
        None => lines.push("whether others wait for a file lock of it could not be seen in time".to_owned()),
    }
    lines.push("it keeps its memory while it is suspended".to_owned());
    lines
}
