//! Since when something is otherwise, and what else happened that day: never as its cause.

use std::collections::BTreeMap;

use jiff::ToSpan;
use jiff::civil::Date;

use super::against::ratio;
use super::changes::{Change, Day, Measure, changed};
use super::history::{Event, Happened, History};
use super::rows::{App, AppHour};
use super::view::{bytes, cpu_time};
use crate::document::{Block, Document, Text};
use crate::order::{InOrder, IntoSet};
use crate::severity::Tone;
use crate::text::counted;

/// An app that was there for less than that on a day, seconds, has no figure of that day.
const LEAST: f64 = 600.0;

/// Most events of a day that are told.
const MOST: usize = 6;

/// A level that changed, and whose.
#[derive(Debug, Clone, PartialEq)]
pub struct Changed {
    /// Whose: an app of an owner, or the machine.
    pub app: Option<App>,
    /// Which figure.
    pub measure: Measure,
    /// What became of it.
    pub change: Change,
    /// What else happened within a day of it.
    pub beside: Vec<Happened>,
}

/// Every change that is sure, the greatest first.
pub fn all_changes(history: &History) -> Vec<Changed> {
    // By app and day: its hours, and what it held in each.
    let mut days: BTreeMap<&App, BTreeMap<Date, (AppHour, Vec<f64>)>> = BTreeMap::new();
    for row in &history.rows {
        let date = row.start.to_zoned(history.zone.clone()).date();
        for (app, hour) in &row.apps {
            let (sum, held) = days.entry(app).or_default().entry(date).or_default();
            *sum = sum.and(hour);
            held.push(hour.held);
        }
    }
    let mut found = Vec::new();
    for (app, days) in days {
        for measure in Measure::ALL {
            let of = |(day, (sum, held)): (&Date, &(AppHour, Vec<f64>))| {
                let hours = sum.seconds / 3600.0;
                let value = match measure {
                    Measure::Cpu => sum.accounted() / hours,
                    Measure::Held => super::changes::median(held.clone())?,
                    Measure::Read => sum.read / hours,
                    Measure::Written => sum.written / hours,
                };
                (sum.seconds >= LEAST).then_some(Day { day: *day, value })
            };
            let course: Vec<Day> = days.iter().filter_map(of).collect();
            if let Some(change) = changed(measure, &course) {
                let beside = beside(history, app, change.since);
                found.push(Changed { app: Some(app.clone()), measure, change, beside });
            }
        }
    }
    let size =
        |changed: &Changed| (changed.change.after / changed.change.before.max(1.0)).ln().abs() * changed.change.score;
    found.order_by(|a, b| size(b).total_cmp(&size(a)));
    found
}

/// What happened within a day of it, what is about the app itself first.
fn beside(history: &History, app: &App, since: Date) -> Vec<Happened> {
    let (from, until) = (since.saturating_sub(1.day()), since.saturating_add(1.day()));
    let day = |happened: &Happened| happened.at.to_zoned(history.zone.clone()).date();
    let is_near = |happened: &&Happened| (from..=until).contains(&day(happened));
    let is_told =
        |happened: &&Happened| happened.app.is_empty() || happened.app == app.app || happened.event == Event::NewApp;
    let mut near: Vec<Happened> = history.happened.iter().filter(is_near).filter(is_told).cloned().collect();
    near.order_by_key(|happened| (happened.app != app.app, happened.at));
    near.truncate(MOST);
    near
}

fn shown(measure: Measure, value: f64) -> String {
    let words = match measure {
        Measure::Cpu => cpu_time(value),
        Measure::Held | Measure::Read | Measure::Written => bytes(value),
    };
    if words.is_empty() { "next to nothing".to_owned() } else { words }
}

/// `holds 710 MiB, before 349 MiB`.
fn told(measure: Measure, now: f64, before: f64) -> String {
    let (now, before) = (shown(measure, now), shown(measure, before));
    match measure {
        Measure::Cpu => format!("uses {now} of CPU time in an hour, before {before}"),
        Measure::Held => format!("holds {now}, before {before}"),
        Measure::Read => format!("reads {now} from disks in an hour, before {before}"),
        Measure::Written => format!("writes {now} to disks in an hour, before {before}"),
    }
}

/// `holds 2.0 times as much memory`.
fn in_short(measure: Measure, change: &Change) -> String {
    let (verb, what) = match measure {
        Measure::Cpu => ("uses", "CPU time"),
        Measure::Held => ("holds", "memory"),
        Measure::Read => ("reads", "from disks"),
        Measure::Written => ("writes", "to disks"),
    };
    match ratio(change.after, change.before) {
        Some(ratio) => format!("{verb} {ratio} as much {what}"),
        None => format!("{verb} much {} {what}", if change.after > change.before { "more" } else { "less" }),
    }
}

/// From one day to another, or the one day that it is.
pub(crate) fn from_to(first: Date, last: Date, form: &str) -> String {
    match first == last {
        true => first.strftime(form).to_string(),
        false => format!("{} to {}", first.strftime(form), last.strftime(form)),
    }
}

/// The changes as a document.
pub fn since(history: &History, changes: &[Changed]) -> Document {
    let mut document = Document::new(10);
    let days: std::collections::BTreeSet<Date> =
        history.rows.iter().map(|row| row.start.to_zoned(history.zone.clone()).date()).into_set();
    let span = days.first().zip(days.last());
    document.push(Block::Head(vec![
        history.host.clone(),
        span.map(|(first, last)| from_to(*first, *last, "%a %-d %b %Y")).unwrap_or_default(),
        counted(days.len(), "day"),
    ]));
    let verdict = match changes.len() {
        0 if days.len() < super::changes::LEAST_DAYS => {
            format!("{} watched, and at least {} are needed", counted(days.len(), "day"), super::changes::LEAST_DAYS)
        }
        0 => "nothing has come to another level that would be worth a word".to_owned(),
        count => {
            let first = changes.first().and_then(|changed| Some((changed, changed.app.as_ref()?)));
            let first = first.map(|(changed, app)| {
                format!(
                    "{} {} since {}",
                    app.app,
                    in_short(changed.measure, &changed.change),
                    changed.change.since.strftime("%A %-d %B")
                )
            });
            let more = if count > 1 { format!("; {} more", count - 1) } else { String::new() };
            format!("{}{more}", first.unwrap_or_default())
        }
    };
    document.push(Block::Verdict(None, verdict));
    for changed in changes {
        let Some(app) = &changed.app else { continue };
        let change = &changed.change;
        let mut lines = vec![
            Text::Title(
                format!("{} ({}) {}", app.app, app.owner, told(changed.measure, change.after, change.before)),
                format!("since {}", change.since.strftime("%A %-d %B %Y")),
            ),
            Text::Words(format!(
                "{}; {} since then, {} before.",
                ratio(change.after, change.before).unwrap_or_else(|| "from or to nothing".to_owned()),
                counted(change.days.1, "day"),
                counted(change.days.0, "day")
            )),
        ];
        let happened = |happened: &Happened| {
            let at = happened.at.to_zoned(history.zone.clone());
            format!("{}: {}", at.strftime("%a %-d %b %H:%M"), happened.words)
        };
        let beside: Vec<String> = changed.beside.iter().map(happened).collect();
        lines.push(Text::Words(match beside.is_empty() {
            true => "Nothing else is known of those days.".to_owned(),
            false => format!("Those days too (which need not be why): {}.", beside.join("; ")),
        }));
        document.toned(if change.after > change.before { "more" } else { "less" }, Some(Tone::Notice), lines);
    }
    document
}
