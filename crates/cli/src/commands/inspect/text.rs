//! An inspection for people: who it is and what it does on the second line.

use sophron_core::document::{Block, Document, Text};
use sophron_core::inspect::Answer;
use sophron_core::model::Process;
use sophron_core::text::processes;
use sophron_core::units::{scaled_duration, scaled_percent, scaled_size};

use super::{Inspection, sections};
use crate::ui::{chart, document, table, when};

/// Whoever grows or writes that fast is worth doing something about, bytes a second.
const MUCH: f64 = 1_048_576.0;

const INDENT: usize = 11;

/// Most columns of the chart.
const CHART: usize = 60;

pub(super) fn render(seen: &Inspection) -> String {
    let width = table::terminal_width();
    document::text(&told(seen, width), width)
}

fn told(seen: &Inspection, width: Option<usize>) -> Document {
    let snapshot = &seen.snapshot;
    let mut document = Document::new(INDENT);
    document.push(Block::Head(vec![
        snapshot.machine.host.clone(),
        when::date_in(snapshot.moment.wall, seen.zone.as_ref()),
        format!("over {}", scaled_duration(snapshot.interval.unwrap_or_default())),
    ]));
    document.push(Block::Verdict(None, first_words(seen)));
    if seen.gone {
        document
            .push(Block::Paragraph("it ended while it was looked at: what follows is what was seen last".to_owned()));
    }
    if seen.members.len() > 1 {
        document.push(Block::Gap);
        document.entry("app", family_of_the_app(seen));
    }
    document.push(Block::Gap);
    if let Some(doing) = &seen.doing {
        let mut lines = vec![doing.answer.to_string()];
        lines.extend(doing.evidence.iter().chain(&seen.followed.lines).cloned());
        lines.extend(doing.advice.map(str::to_owned));
        document.entry("doing", lines);
    }
    if seen.doing.is_some() || (seen.recorded && seen.sightings.cpu.len() > 1) {
        document.entry("over time", over_time(seen, width));
    }
    for (name, lines) in sections::all(seen) {
        document.entry(name, lines);
    }
    let command =
        |(command, what): (String, &str)| Text::Command(format!("sophron {command}{}", seen.suffix), what.to_owned());
    document.entry("next", next(seen).into_iter().map(command));
    document
}

/// The CPU as it was looked at, drawn as wide as there is room.
fn over_time(seen: &Inspection, width: Option<usize>) -> Vec<Text> {
    let columns = CHART.min(width.map_or(CHART, |width| width.saturating_sub(INDENT + 1)).max(8));
    let drawn = chart::bars(&seen.sightings.cpu, columns);
    let each = seen.sightings.length.as_secs_f64() / drawn.columns.max(1) as f64;
    // Looks are never quite in time: nobody reads 99 ms.
    let each = std::time::Duration::from_millis((each * 100.0).round() as u64 * 10);
    let heading = format!(
        "cpu over {}; a column is {}, its full height {} of a core",
        scaled_duration(seen.sightings.length),
        scaled_duration(each),
        scaled_percent(drawn.full)
    );
    vec![heading.into(), drawn.line.into()]
}

/// `labelpress 51907-kqm (ines): spinning; cpu 99% of a core, memory held 812 MiB`.
fn first_words(seen: &Inspection) -> String {
    let process = &seen.process;
    let state = match &seen.doing {
        Some(doing) => doing.answer.to_string(),
        None => process.state.word().to_owned(),
    };
    let cpu = process.cpu.map(|cpu| format!("cpu {} of a core", scaled_percent(cpu)));
    let held = process.memory_held.filter(|_| !process.kernel);
    let held = held.map(|held| format!("memory held {}", scaled_size(held as f64)));
    let figures: Vec<String> = cpu.into_iter().chain(held).chain(sections::growth(seen)).collect();
    format!("{}: {state}; {}", process.label(), figures.join(", "))
}

/// The family first, then its heaviest: what would end with the parent is all of it.
fn family_of_the_app(seen: &Inspection) -> Vec<String> {
    let members: Vec<&Process> = seen.members.iter().filter_map(|id| seen.snapshot.find(id)).collect();
    let is_member = |pid: u32| members.iter().any(|member| member.id.pid == pid);
    let roots: Vec<&&Process> = members.iter().filter(|member| !is_member(member.parent)).collect();
    let cpu: f64 = members.iter().filter_map(|member| member.cpu).sum();
    let held: u64 = members.iter().filter_map(|member| member.memory_held).sum();
    let mut lines = vec![format!(
        "{} of {}: cpu {} of a core, memory held at most {}",
        processes(members.len()),
        seen.process.app,
        scaled_percent(cpu),
        scaled_size(held as f64)
    )];
    for root in roots.iter().take(4) {
        let below = sophron_core::inspect::family(&seen.snapshot, root);
        let below_of_it = match below.descendants {
            0 => "nothing below it".to_owned(),
            1 => "1 process below it".to_owned(),
            many => format!("{} below it", processes(many)),
        };
        let ends = below.ends_with_it.first().map(|what| format!("; with it ends {what}"));
        let ends = ends.or_else(|| below.goes_on.map(|what| format!("; {what}"))).unwrap_or_default();
        lines.push(format!(
            "{} is {} parent: {below_of_it}{ends}",
            root.label(),
            if roots.len() == 1 { "their" } else { "a" }
        ));
    }
    if roots.len() > 4 {
        lines.push(format!("and {} more that stand by themselves", roots.len() - 4));
    }
    lines.push(format!("the heaviest of them is {}, and told below", seen.process.label()));
    lines
}

fn next(seen: &Inspection) -> Vec<(String, &'static str)> {
    let id = seen.process.id.checked();
    let mut next = Vec::new();
    if seen.doing.is_none() && !seen.recorded && !seen.gone {
        next.push((format!("inspect {id} --for 5s"), "what it is doing: working or hung?"));
    }
    if let Some(last) = seen.followed.last.and_then(|last| seen.snapshot.process(last)) {
        next.push((format!("inspect {} --for 5s", last.id.checked()), "who has to get on before it can"));
    }
    let parent = seen.snapshot.process(seen.process.parent);
    if let Some(parent) = parent.filter(|_| seen.process.has_ended() && !seen.recorded) {
        next.push((format!("inspect {} --for 5s", parent.id.checked()), "its parent, which has to collect it"));
    }
    // What could be done to it, mildest first.
    if let Some(doing) =
        seen.doing.as_ref().filter(|_| seen.protected.is_none() && seen.role.is_none() && !seen.gone && !seen.recorded)
    {
        let (growth, written) = (seen.sightings.growth.unwrap_or(0.0), seen.process.disk_write.unwrap_or(0.0));
        let end = (format!("terminate {id} --dry-run"), "what would end with it, and what starts it again");
        match doing.answer {
            // Whatever it was found at, as waiting between one piece and the next.
            Answer::Working | Answer::Waiting(_) if growth >= MUCH => {
                next.push((format!("suspend {id}"), "it grows no further for 5 m, and goes on by itself"));
                next.push(end);
            }
            Answer::Working | Answer::Waiting(_) | Answer::Stuck(_) if f64::from(written) >= MUCH => {
                next.push((
                    format!("lower {id} --only disk"),
                    "others come first at the disk, as far as that works here",
                ));
                next.push((format!("suspend {id}"), "it writes nothing for 5 m, and goes on by itself"));
            }
            Answer::Spinning | Answer::SpinningSlowed => {
                next.push((format!("lower {id}"), "it gives way to the others, as far as that works here"));
                next.push((format!("suspend {id}"), "it stands still for 5 m, and goes on by itself"));
                next.push(end);
            }
            Answer::Deadlocked => next.push(end),
            Answer::Suspended => next.push((format!("resume {id}"), "it goes on")),
            _ => {}
        }
    }
    if seen.snapshot.processes.iter().filter(|other| other.app == seen.process.app).count() > 1
        && seen.members.is_empty()
    {
        next.push((format!("inspect {}", seen.process.app), "its family: all processes of that app"));
    }
    next
}
