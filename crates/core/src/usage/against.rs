//! Two times beside each other.

use std::collections::{BTreeMap, BTreeSet};

use jiff::SignedDuration;

use super::history::History;
use super::view::{Asked, By, Group, Name, Told, in_words, span_in_words};
use crate::document::{Cell, Table, TableRow};
use crate::order::{InOrder, IntoSet};
use crate::units::exact_duration;

/// A change by less than that part is none.
const FIFTH: f64 = 0.2;

/// A time earlier to compare with.
#[derive(Debug, Clone, Copy)]
pub struct Earlier<'a> {
    /// What is known of it.
    pub history: &'a History,
    /// How much earlier it is.
    pub by: SignedDuration,
}

impl Earlier<'_> {
    /// How it is called: `7d earlier`.
    pub(super) fn words(&self) -> String {
        format!("{} earlier", exact_duration(self.by.unsigned_abs()))
    }

    /// The whole days that lie between, for what is told by day.
    pub(super) fn days(&self) -> i64 {
        (self.by.as_secs_f64() / 86_400.0).round() as i64
    }
}

/// Whom or what a row is about: for people, and for programs where that is something else.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Called {
    pub(super) name: Name,
    pub(super) key: Option<String>,
}

/// A figure, and how long it was watched for, seconds.
#[derive(Debug, Clone, Copy)]
pub(super) struct Watched {
    pub(super) value: f64,
    pub(super) seconds: f64,
}

/// The figures of one of two times.
pub(super) struct Side {
    pub(super) of: BTreeMap<Called, Watched>,
    /// What it is of whoever is not among them: an app used nothing while the machine was watched, an hour was not watched at all.
    pub(super) absent: Option<Watched>,
}

impl Side {
    fn of(&self, called: &Called) -> Option<Watched> {
        self.of.get(called).copied().or(self.absent)
    }
}

struct Beside {
    called: Called,
    now: Option<f64>,
    before: Option<f64>,
}

impl Beside {
    /// None where one of the two was not watched.
    fn change(&self) -> Option<f64> {
        Some(self.now? - self.before?)
    }

    /// Both, where that is news: what is about as it was is none, however much it is, nor is what is nothing on both sides.
    fn news(&self, by: By) -> Option<(f64, f64)> {
        self.now.zip(self.before).filter(|(now, before)| {
            (now - before).abs() >= FIFTH * before && now != before && !by.shown(now.max(*before)).is_empty()
        })
    }
}

/// Two times beside each other, the greatest change first.
pub(super) fn compared(earlier: Earlier<'_>, asked: Asked, now: &Side, before: &Side, who: &'static str) -> Told {
    let all: BTreeSet<&Called> = now.of.keys().chain(before.of.keys()).into_set();
    let beside = |called: &Called| {
        let (now, before) = (now.of(called), before.of(called));
        // What adds up is told for as much time as was watched now, so that a shorter time is not less.
        let scale = match (now, before) {
            (Some(now), Some(before)) if asked.by != By::Held && before.seconds > 0.0 => now.seconds / before.seconds,
            _ => 1.0,
        };
        Beside {
            called: called.clone(),
            now: now.map(|now| now.value),
            before: before.map(|before| before.value * scale),
        }
    };
    let mut rows: Vec<Beside> = all.into_iter().map(beside).collect();
    let (change, much) = (|row: &Beside| row.change().map_or(-1.0, f64::abs), |row: &Beside| row.now.unwrap_or(0.0));
    // They are in the order of their names, and stay so where nothing else tells them apart.
    rows.order_by(|a, b| change(b).total_cmp(&change(a)).then(much(b).total_cmp(&much(a))));
    let headline = match rows.iter().find_map(|row| Some((row, row.news(asked.by)?))) {
        Some((row, (now, before))) => format!(
            "the greatest change is that of {}: {}, {} against {}{}",
            in_words(&row.called.name),
            asked.by.heading(),
            shown_or_nothing(asked.by, now),
            shown_or_nothing(asked.by, before),
            ratio(now, before).map(|ratio| format!(" ({ratio})")).unwrap_or_default()
        ),
        None => "nothing is otherwise by as much as a fifth".to_owned(),
    };
    let is_app = now.absent.is_some();
    let more = rows.len().saturating_sub(asked.limit);
    rows.truncate(asked.limit);
    let told = |row: Beside| {
        let cells = cells(&row, asked.by, is_app);
        TableRow { name: row.called.name, key: row.called.key, cells, sum: false }
    };
    let rows = rows.into_iter().map(told).collect();
    let own = (asked.by.heading(), asked.by.word());
    let columns = [(who, who), own, ("before", "before"), ("change", "change"), ("ratio", "ratio")];
    (headline, Table { caption: caption(earlier.history, asked), rows, ..Table::headed(&columns) }, more)
}

/// When before was, and of what it is told.
fn caption(before: &History, asked: Asked) -> String {
    let Some(before) = span_in_words(before) else { return String::new() };
    let one = match asked.group {
        _ if asked.by == By::Cases => "",
        Group::Hour => "What one such hour is like. ",
        Group::Weekday => "What one such day is like. ",
        Group::App | Group::Owner | Group::Day => "",
    };
    let scaled = if asked.by == By::Held { "" } else { ", told for as much time watched as now" };
    format!("{one}Before: {before}{scaled}")
}

fn cells(row: &Beside, by: By, is_app: bool) -> Vec<Cell> {
    let told = |value: Option<f64>| {
        value.map_or_else(|| Cell::words("not watched"), |value| Cell::figure(value, by.shown(value)))
    };
    let change = row.change().map_or_else(Cell::default, |change| Cell::figure(change, signed(by, change)));
    let ratio = match row.now.zip(row.before) {
        Some((now, before)) if now > 0.0 && before > 0.0 => {
            Cell::figure(now / before, format!("{:.2} times", now / before))
        }
        Some((now, before)) if is_app && before <= 0.0 && now > 0.0 => Cell::words("new"),
        Some((now, before)) if is_app && now <= 0.0 && before > 0.0 => Cell::words("gone"),
        _ => Cell::default(),
    };
    vec![told(row.now), told(row.before), change, ratio]
}

pub(super) fn shown_or_nothing(by: By, value: f64) -> String {
    let shown = by.shown(value);
    if shown.is_empty() { "next to nothing".to_owned() } else { shown }
}

fn signed(by: By, change: f64) -> String {
    let shown = by.shown(change.abs());
    match () {
        () if shown.is_empty() => String::new(),
        () if change < 0.0 => format!("-{shown}"),
        () => format!("+{shown}"),
    }
}

/// `2.1 times`; none where one of the two is nothing.
pub(super) fn ratio(now: f64, before: f64) -> Option<String> {
    (now > 0.0 && before > 0.0).then(|| format!("{:.1} times", now / before))
}
