//! The report as a document: the verdict first, then what was bad, and the figures that show it.

use std::cmp::Reverse;

use super::cases::Case;
use super::collect::Stretch;
use super::episodes::Episode;
use super::times::{Times, length, long};
use super::{figures, headline, sentences, standing, tables, tiles};
use crate::document::{Block, Document, Text};
use crate::order::InOrder;
use crate::severity::Tone;
use crate::text::counted;
use crate::units::{scaled_duration, scaled_size};

/// Most cases that are told one by one.
const MOST_CASES: usize = 24;

/// Where it comes from, and how that is said.
#[derive(Debug, Clone, Default)]
pub struct Frame {
    /// What makes another command look at the same, as ` --from demo`.
    pub suffix: String,
    /// Whether times are typed with their day.
    pub with_day: bool,
    /// `the recording demo`, `the lookback`.
    pub source: String,
    /// Whether it is a recording.
    pub recorded: bool,
    /// The rules that were rehearsed; none where cases come from the record, or there are none.
    pub rehearsed: Option<String>,
    /// Why there are no cases, where there cannot be any.
    pub no_cases: Option<String>,
    /// The command that makes it.
    pub command: String,
    /// The program's version.
    pub version: &'static str,
}

/// The whole of it.
pub fn page(stretch: &Stretch, episodes: &[Episode], cases: &[Case], frame: &Frame) -> Document {
    let times = Times::new(&stretch.setting.zone, stretch.from, stretch.until);
    let axis = figures::axis(stretch, &times);
    let mut document = Document::new(10);
    document.push(head(stretch, &times));
    let (tone, words) = headline::headline(episodes, &times);
    document.push(Block::Verdict(tone, words));
    document.push(Block::Paragraph(headline::second_line(stretch, episodes)));
    document.push(Block::Plot(Box::new(figures::felt(stretch, &axis))));
    if !cases.is_empty() {
        document.push(Block::Plot(Box::new(figures::lane(cases, &axis))));
    }
    let told: Vec<&Episode> = episodes.iter().filter(|episode| !episode.is_honest()).collect();
    if !told.is_empty() {
        document.push(Block::Heading("Worth a look".to_owned()));
        for episode in told {
            let severity = episode.severity;
            let lines = [
                Text::Title(sentences::title(episode), sentences::when(episode, &times)),
                Text::Words(sentences::told(stretch, episode, cases)),
                Text::Command(sentences::next(episode, frame, &times), String::new()),
            ];
            document.toned(severity.word(), Some(Tone::from(severity)), lines);
        }
    }
    of_cases(&mut document, stretch, cases, frame, &times);
    document.push(Block::Heading("Fine".to_owned()));
    document.push(Block::List(standing::fine(stretch, episodes, &times)));
    document.push(Block::Heading("The machine over the time".to_owned()));
    for plot in figures::machine(stretch, episodes, &axis, &times) {
        document.push(Block::Plot(Box::new(plot)));
    }
    let (drawn, full, others) = tiles::cpu(stretch, &axis, &times);
    document.push(Block::Heading("CPU by app".to_owned()));
    if !drawn.is_empty() {
        let cores = full / 100.0;
        let scale = if cores < 1.5 { "one core".to_owned() } else { format!("{cores:.0} cores") };
        document.push(Block::Paragraph(format!("All on one scale: the full height is {scale}.")));
        document.push(Block::Tiles(drawn));
    }
    document.push(Block::Paragraph(format!("{} never used more than a quarter of a core.", counted(others, "app"))));
    let (drawn, steady) = tiles::memory(stretch, episodes, &axis, &times);
    document.push(Block::Heading("Memory by app".to_owned()));
    if drawn.is_empty() && steady.is_empty() {
        document.push(Block::Paragraph(format!("No app held more than {}.", scaled_size(tiles::SMALL))));
    }
    if !drawn.is_empty() {
        document.push(Block::Paragraph(
            "Each from nothing to its own highest: the shape tells who keeps what he took.".to_owned(),
        ));
        document.push(Block::Tiles(drawn));
    }
    if !steady.is_empty() {
        let names: Vec<String> =
            steady.iter().take(12).map(|(app, held)| format!("{app} {}", scaled_size(*held))).collect();
        document.push(Block::Paragraph(format!("Steady all the time: {}.", names.join(", "))));
    }
    if let Some(table) = tables::which_hour(stretch, &times) {
        document.push(Block::Heading("Which hour".to_owned()));
        document.push(Block::Table(table));
    }
    document.push(Block::Heading("Who used how much".to_owned()));
    document.push(Block::Table(tables::by_app(stretch)));
    document.push(Block::Table(tables::by_owner(stretch)));
    document.push(Block::Heading("Not seen".to_owned()));
    document.push(Block::List(standing::not_seen(stretch, frame, &times)));
    document.push(Block::Gap);
    document.push(Block::Paragraph(made(stretch, frame)));
    document
}

/// Only the drawings of the machine, with what was bad in them.
pub fn charts(stretch: &Stretch) -> Document {
    let times = Times::new(&stretch.setting.zone, stretch.from, stretch.until);
    let axis = figures::axis(stretch, &times);
    let episodes = super::episodes(stretch);
    let mut document = Document::new(0);
    for plot in figures::machine(stretch, &episodes, &axis, &times) {
        document.push(Block::Plot(Box::new(plot)));
    }
    document.push(Block::Gap);
    document
}

fn head(stretch: &Stretch, times: &Times) -> Block {
    let machine = &stretch.machine;
    let napped: jiff::SignedDuration = stretch.naps.iter().map(|(from, until)| until.duration_since(*from)).sum();
    let asleep = if napped.is_zero() { String::new() } else { format!(", {} asleep", length(napped)) };
    Block::Head(vec![
        machine.host.clone(),
        times.whole(stretch.from, stretch.until),
        format!(
            "{} seen{asleep}; {} cores, {}",
            long(stretch.seen()),
            machine.cores,
            scaled_size(machine.memory_total as f64)
        ),
    ])
}

fn made(stretch: &Stretch, frame: &Frame) -> String {
    let every =
        stretch.seen().checked_div(u32::try_from(stretch.samples).unwrap_or(u32::MAX).max(1)).unwrap_or_default();
    format!(
        "Made by Sophron {} on {} from {} ({}, about {} apart): {}",
        frame.version,
        stretch.machine.host,
        frame.source,
        counted(stretch.samples, "sample"),
        scaled_duration(std::time::Duration::from_secs(every.as_secs_f64().round() as u64)),
        frame.command
    )
}

fn of_cases(document: &mut Document, stretch: &Stretch, cases: &[Case], frame: &Frame, times: &Times) {
    let lead = match (&frame.rehearsed, &frame.no_cases, cases.is_empty()) {
        (Some(rules), _, false) => format!(
            "What went past the limit of a rule, and the steps that would have followed. The rules of {rules} were rehearsed on this: nothing was done to the machine."
        ),
        (Some(rules), _, true) => format!("The rules of {rules} were rehearsed on this: no case would have opened."),
        (None, Some(why), _) => why.clone(),
        (None, None, false) => {
            "What went past the limit of a rule, and the steps that followed, by the record.".to_owned()
        }
        (None, None, true) => "The record has no case in this time.".to_owned(),
    };
    document.push(Block::Heading("Cases".to_owned()));
    document.push(Block::Paragraph(lead));
    // Of very many the gravest and longest are told one by one.
    let mut told: Vec<&Case> = cases.iter().collect();
    told.order_by_key(|case| (Reverse(case.severity), Reverse(case.until(stretch.until).duration_since(case.opened))));
    let left_out = told.split_off(told.len().min(MOST_CASES)).len();
    told.order_by_key(|case| case.number);
    for case in told {
        let limit = case.limit.as_ref().filter(|(_, words)| !words.is_empty());
        let mut words = format!("{}: {} {} at its opening", case.rule, case.quantity, case.reading);
        if let Some((_, limit)) = limit {
            words.push_str(&format!(", limit {limit}"));
        }
        if !case.worst.is_empty() {
            words.push_str(&format!("; at worst {}", case.worst));
        }
        words.push('.');
        if let Some(breached) = case.breached {
            words.push_str(&format!(" {} in breach.", long(breached)));
        }
        let when = match case.closed {
            Some((at, _)) => times.span_of_case((case.opened, at)),
            None => format!("since {}", times.clock(case.opened)),
        };
        let plot = figures::case(case, stretch, times).map(|plot| Text::Plot(Box::new(plot)));
        let whole = case.until(stretch.until).duration_since(case.opened);
        let step = |(at, word): &(jiff::Timestamp, String)| format!("{word} {}", times.of_step(*at, whole));
        let steps: Vec<String> = case.steps.iter().map(step).collect();
        let lines = [Text::Title(case.whom.clone(), when), Text::Words(words)]
            .into_iter()
            .chain(if plot.is_none() { vec![Text::Words(steps.join(", "))] } else { Vec::new() })
            .chain(plot);
        document.toned(&format!("case {}", case.number), Some(Tone::from(case.severity)), lines);
    }
    if left_out > 0 {
        let more = format!("{left_out} more");
        document
            .push(Block::Paragraph(format!("{more}, milder or shorter ones; `sophron audit` lists those on record.")));
    }
}
