//! A rehearsal for people: what each rule would have done, the cases over time, and each step.

use sophron_core::happening::Over;
use sophron_core::rehearsal::{Rehearsal, RuleSum, StepWord, Story};
use sophron_core::text::counted;
use sophron_core::units::{Value, exact_duration, scaled_duration};

use super::Replayed;
use super::timeline::{LEGEND, bars, marks};
use crate::ui::style::{Label, Styled};
use crate::ui::table::{self, Column};
use crate::ui::timeline::Canvas;
use crate::ui::{paragraph, when};

const INDENT: usize = 10;

/// The width where there is no terminal.
const PAGE: usize = 110;

/// Columns for the names beside the bars.
const NAMES: usize = 38;

pub fn all(rehearsal: &Rehearsal, replayed: &Replayed, origin: &str) -> String {
    let width = table::terminal_width();
    let mut text = table::flow(&head(rehearsal, replayed, origin), width);
    text.push_str(&worst_first(rehearsal, width));
    text.push_str(&done_then(rehearsal, replayed, width));
    let rules = &rehearsal.rules().rules;
    let columns = [
        Column::text("rule"),
        Column::number("cases"),
        Column::number("told, times"),
        Column::text("would have done, processes"),
        Column::number("held back"),
        Column::number("calm by itself"),
        Column::number("subjects"),
    ];
    let row = |(rule, sum): (&sophron_core::rules::Rule, &RuleSum)| {
        vec![
            format!("{}{}", rule.name, if sum.cannot_be_judged().is_some() { " (not judged)" } else { "" }),
            sum.cases.to_string(),
            sum.alerts.to_string(),
            acts(sum),
            sum.held_back.to_string(),
            sum.calmed.to_string(),
            sum.subjects.len().to_string(),
        ]
    };
    let rows: Vec<Vec<String>> = rules.iter().zip(rehearsal.sums()).map(row).collect();
    text.push_str(&format!("\n{}", table::render(&columns, &rows, width)));
    for told in &replayed.told {
        let (messages, most) = (counted(told.messages, "message"), told.in_an_hour);
        let mails = told.mails.map(|mails| format!(" in {}", counted(mails, "mail"))).unwrap_or_default();
        let line = format!("{}: {messages}{mails}, at most {most} in an hour", told.channel);
        text.push_str(&paragraph::under("channel", INDENT, &line, width));
    }
    text.push_str(&timeline(rehearsal, replayed, width));
    for story in rehearsal.stories() {
        text.push_str(&steps(story, replayed, width));
    }
    text.push('\n');
    text.push_str(&paragraph::under("", 0, UNKNOWN, width));
    text
}

const UNKNOWN: &str = "Every rule is taken for armed. What it did after an act nobody knows: who would have been ended has no readings from then on, who would have been suspended none until he is resumed, and who would have been lowered is read as if he were not.";

fn head(rehearsal: &Rehearsal, replayed: &Replayed, origin: &str) -> Vec<String> {
    let mut head = vec![Styled(Label::Heading, &replayed.host).to_string()];
    if let Some((from, to, samples)) = rehearsal.span() {
        let zone = Some(&replayed.zone);
        let every = scaled_duration(std::time::Duration::from_secs_f64(replayed.every.clamp(0.0, 1e6)));
        head.push(format!("{} to {}", when::date_in(from, zone), when::date_in(to, zone)));
        head.push(format!("{}, {every} apart", counted(samples, "sample")));
    }
    head.push(format!("rules: {origin}"));
    head
}

/// Whom it would have hit wrongly, and what could not be judged, before everything else.
fn worst_first(rehearsal: &Rehearsal, width: Option<usize>) -> String {
    let mut text = String::new();
    for hit in rehearsal.hits() {
        let rule = &hit.rule;
        let line = format!("{rule} would {} {}, which was to be spared (case {})", hit.action, hit.whom, hit.case);
        text.push_str(&paragraph::styled("hit", INDENT, &line, width, Label::Critical));
    }
    for (rule, sum) in rehearsal.rules().rules.iter().zip(rehearsal.sums()) {
        if let Some(fields) = sum.cannot_be_judged() {
            let fields: Vec<&str> = fields.iter().map(|field| field.name()).collect();
            let line = format!("{}: the recording lacks {}", rule.name, fields.join(", "));
            text.push_str(&paragraph::styled("unjudged", INDENT, &line, width, Label::Warning));
        }
    }
    text
}

/// What the watcher that recorded did itself is in the readings.
fn done_then(rehearsal: &Rehearsal, replayed: &Replayed, width: Option<usize>) -> String {
    let done = rehearsal.done();
    let Some(outcome) = done.first() else { return String::new() };
    let clock = when::date_in(outcome.at, Some(&replayed.zone));
    let line = format!(
        "the watcher that recorded this acted itself, {} times; the first at {clock}: {} {} ({}), {}. Readings from then on tell of that as well; who was suspended is not judged meanwhile",
        done.len(),
        outcome.verb,
        outcome.app,
        outcome.owner,
        outcome.outcome
    );
    paragraph::styled("acted", INDENT, &line, width, Label::Notice)
}

pub(super) fn acts(sum: &RuleSum) -> String {
    let asked = (sum.asked > 0).then(|| format!("ask first {}", sum.asked));
    let acts = sum.acts.iter().map(|(word, count)| format!("{word} {count}"));
    let all: Vec<String> = acts.chain(asked).collect();
    if all.is_empty() { "nothing".to_owned() } else { all.join(", ") }
}

fn timeline(rehearsal: &Rehearsal, replayed: &Replayed, width: Option<usize>) -> String {
    let Some((from, to, _)) = rehearsal.span() else { return String::new() };
    if rehearsal.stories().next().is_none() {
        return "\nno case would have opened\n".to_owned();
    }
    let columns = width.unwrap_or(PAGE).saturating_sub(NAMES).max(24);
    let canvas = Canvas { from, to, columns, zone: &replayed.zone };
    let mut text = String::from("\n");
    for story in rehearsal.stories() {
        let name = format!("{:>3} {}", story.case, story.label);
        let name: String = name.chars().take(NAMES - 1).collect();
        text.push_str(&format!("{name:<NAMES$}{}\n", bars(&canvas, story).trim_end()));
        text.push_str(&format!("{:<NAMES$}{}\n", "", marks(&canvas, story)));
    }
    text.push_str(&format!("{:<NAMES$}{}\n", "", canvas.axis()));
    text.push_str(&paragraph::under("", NAMES, LEGEND, width));
    text
}

/// One case: how it began, each step, how it ended.
fn steps(story: &Story, replayed: &Replayed, width: Option<usize>) -> String {
    let clock = |at: jiff::Timestamp| at.to_zoned(replayed.zone.clone()).strftime("%H:%M:%S").to_string();
    let scaled = |value: &Option<Value>| value.as_ref().map_or("unknown".to_owned(), Value::scaled);
    let limit = story.limit.as_ref().map(|limit| format!(", limit {}", limit.scaled())).unwrap_or_default();
    let title = format!("case {}  {}  {}", story.case, story.rule, story.label);
    let mut text = format!("\n{}\n", Styled(Label::Heading, &title));
    let began = format!("opens: {} {}{limit}", story.quantity, scaled(&story.reading));
    text.push_str(&paragraph::under(&clock(story.opened), INDENT, &began, width));
    for step in &story.steps {
        let on = match step.count {
            1 if step.whom.is_empty() || step.whom == story.label => String::new(),
            1 => format!(": {}", step.whom),
            many => format!(": {many} processes"),
        };
        let (words, label) = match &step.word {
            StepWord::Told => ("people are told".to_owned(), Label::Heading),
            StepWord::Reminded => ("people are told again".to_owned(), Label::Heading),
            StepWord::Asked(action, window) => {
                let (whom, window) = (&step.whom, exact_duration(*window));
                (format!("{whom} would be asked for {window}, before: {action}"), Label::Notice)
            }
            StepWord::Turned(what) => (what.clone(), Label::Heading),
            StepWord::Done(action) => (format!("would {action}{on}"), Label::Warning),
            StepWord::HeldBack(action, why) => (format!("would {action}{on}, but: {why}"), Label::Notice),
            StepWord::HoursEnded => ("its hours are over: undone".to_owned(), Label::Notice),
            StepWord::CameBack => ("back under another PID".to_owned(), Label::Notice),
        };
        text.push_str(&match label {
            Label::Heading => paragraph::under(&clock(step.at), INDENT, &words, width),
            label => paragraph::styled(&clock(step.at), INDENT, &words, width, label),
        });
    }
    let lasted = format!(
        "{} in breach; {} at worst {}{limit}",
        scaled_duration(story.breached),
        story.quantity,
        scaled(&story.worst)
    );
    let (at, end) = match story.closed {
        Some((at, Over::Calm)) => (clock(at), "calm: case closed"),
        Some((at, why)) if why.end() == "ended" => (clock(at), "ended: case closed"),
        Some((at, _)) => (clock(at), "no longer covered: case closed"),
        None => ("at end".to_owned(), "still open"),
    };
    text.push_str(&paragraph::under(&at, INDENT, &format!("{end}; {lasted}"), width));
    text
}

/// `--case N`: that story, and half an hour around it.
pub fn one(rehearsal: &Rehearsal, story: &Story, replayed: &Replayed) -> String {
    let width = table::terminal_width();
    let around = jiff::SignedDuration::from_mins(30);
    let Some((first, last, _)) = rehearsal.span() else { return String::new() };
    let begun = story.points.first().map_or(story.opened, |(at, _)| *at);
    let ended = story.closed.map_or(last, |(at, _)| at);
    let (from, to) = ((begun - around).max(first), (ended + around).min(last));
    let columns = width.unwrap_or(PAGE).saturating_sub(INDENT).max(24);
    let canvas = Canvas { from, to, columns, zone: &replayed.zone };
    let mut text = steps(story, replayed, width).trim_start().to_owned();
    text.push('\n');
    text.push_str(&format!("{:INDENT$}{}\n", "", bars(&canvas, story).trim_end()));
    text.push_str(&format!("{:INDENT$}{}\n", "", marks(&canvas, story)));
    text.push_str(&format!("{:INDENT$}{}\n", "", canvas.axis()));
    text.push_str(&paragraph::under("", INDENT, LEGEND, width));
    text
}
