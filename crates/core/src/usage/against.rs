//! Two times beside each other.

use std::collections::{BTreeMap, BTreeSet};

use jiff::{SignedDuration, Timestamp};

use super::history::History;
use super::view::{Asked, By, Group, Name, Told};
use crate::document::{Cell, Table, TableRow};
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

/// A figure, and how long it was watched for, seconds.
#[derive(Debug, Clone, Copy)]
pub(super) struct Watched {
    pub(super) value: f64,
    pub(super) seconds: f64,
}

/// The figures of one of two times.
pub(super) struct Side {
    pub(super) of: BTreeMap<Name, Watched>,
    /// What it is of whoever is not among them: an app used nothing while the machine was watched, an hour was not watched at all.
    pub(super) absent: Option<Watched>,
}

impl Side {
    fn of(&self, name: &Name) -> Option<Watched> {
        self.of.get(name).copied().or(self.absent)
    }
}

struct Beside {
    name: Name,
    now: Option<f64>,
    before: Option<f64>,
}

impl Beside {
    /// None where one of the two was not watched.
    fn change(&self) -> Option<f64> {
        Some(self.now? - self.before?)
    }

    /// What is about as it was is no news, however much it is; nor is what is nothing on both sides.
    fn is_news(&self, by: By) -> bool {
        self.now.zip(self.before).is_some_and(|(now, before)| {
            (now - before).abs() >= FIFTH * before && now != before && !by.shown(now.max(before)).is_empty()
        })
    }
}

/// Two times beside each other, the greatest change first.
pub(super) fn compared(
    history: &History,
    earlier: Earlier<'_>,
    asked: Asked,
    now: &Side,
    before: &Side,
    who: &'static str,
) -> Told {
    let names: BTreeSet<&Name> = now.of.keys().chain(before.of.keys()).collect();
    let beside = |name: &Name| {
        let (now, before) = (now.of(name), before.of(name));
        // What adds up is told for as much time as was watched now, so that a shorter time is not less.
        let scale = match (now, before) {
            (Some(now), Some(before)) if asked.by != By::Held && before.seconds > 0.0 => now.seconds / before.seconds,
            _ => 1.0,
        };
        Beside { name: name.clone(), now: now.map(|now| now.value), before: before.map(|before| before.value * scale) }
    };
    let mut rows: Vec<Beside> = names.into_iter().map(beside).collect();
    let by_change = |row: &Beside| (row.change().map_or(-1.0, f64::abs), row.now.unwrap_or(0.0));
    rows.sort_by(|a, b| {
        let ((a_change, a_now), (b_change, b_now)) = (by_change(a), by_change(b));
        b_change.total_cmp(&a_change).then(b_now.total_cmp(&a_now)).then_with(|| a.name.cmp(&b.name))
    });
    let headline = match rows.iter().find(|row| row.is_news(asked.by)) {
        Some(Beside { name, now: Some(now), before: Some(before) }) => {
            let name = if name.1.is_empty() { name.0.clone() } else { format!("{} ({})", name.0, name.1) };
            format!(
                "the greatest change is that of {name}: {}, {} against {}{}",
                asked.by.heading(),
                shown_or_nothing(asked.by, *now),
                shown_or_nothing(asked.by, *before),
                ratio(*now, *before).map(|ratio| format!(" ({ratio})")).unwrap_or_default()
            )
        }
        _ => "nothing is otherwise by as much as a fifth".to_owned(),
    };
    let is_app = now.absent.is_some();
    let more = rows.len().saturating_sub(asked.limit);
    rows.truncate(asked.limit);
    let told = |row: Beside| TableRow { cells: cells(&row, asked.by, is_app), name: row.name, ..TableRow::default() };
    let rows = rows.into_iter().map(told).collect();
    let own = (asked.by.heading(), asked.by.word());
    let columns = [(who, who), own, ("before", "before"), ("change", "change"), ("ratio", "ratio")];
    (headline, Table { caption: caption(history, earlier, asked), rows, ..Table::headed(&columns) }, more)
}

/// When before was, and of what it is told.
fn caption(history: &History, earlier: Earlier<'_>, asked: Asked) -> String {
    let local = |at: Timestamp| at.to_zoned(history.zone.clone());
    let Some((from, until)) = earlier.history.span() else { return String::new() };
    let one = match asked.group {
        _ if asked.by == By::Cases => "",
        Group::Hour => "What one such hour is like. ",
        Group::Weekday => "What one such day is like. ",
        Group::App | Group::Owner | Group::Day => "",
    };
    let scaled = if asked.by == By::Held { "" } else { ", told for as much time watched as now" };
    format!(
        "{one}Before: {} to {}{scaled}",
        local(from).strftime("%a %-d %b %Y %H:%M"),
        local(until).strftime("%a %-d %b %Y %H:%M %Z")
    )
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
