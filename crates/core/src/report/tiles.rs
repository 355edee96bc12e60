//! Small drawings side by side: CPU and memory of each app.

use std::collections::BTreeMap;

use jiff::Timestamp;

use super::collect::Stretch;
use super::episodes::Episode;
use super::figures::{Points, peak};
use super::times::Times;
use crate::checkup::FindingKind;
use crate::document::{Axis, Drawing, Plot, Stairs};
use crate::order::InOrder;
use crate::severity::Severity;
use crate::units::{scaled_percent, scaled_size};
use crate::usage::AppHour;

/// A program that never used so much of a core is not drawn, percent.
const DRAWN: f64 = 25.0;

/// One that varied by less than that part of its highest held steadily.
const STEADY: f64 = 0.2;

/// Less than that is not worth a word, bytes.
pub(super) const SMALL: f64 = 96.0 * 1_048_576.0;

/// Most small drawings of a kind.
const MOST_TILES: usize = 12;

/// An app over the whole stretch.
struct OfApp<'s> {
    app: &'s str,
    owner: &'s str,
    /// By the place of the window.
    rows: BTreeMap<Timestamp, (AppHour, f64)>,
}

fn apps(stretch: &Stretch) -> Vec<OfApp<'_>> {
    let mut apps: BTreeMap<(&str, &str), OfApp<'_>> = BTreeMap::new();
    for row in &stretch.rows {
        for (app, hour) in &row.apps {
            let of = apps.entry((&app.app, &app.owner)).or_insert_with(|| OfApp {
                app: &app.app,
                owner: &app.owner,
                rows: BTreeMap::new(),
            });
            of.rows.insert(row.start, (*hour, row.machine.seconds));
        }
    }
    apps.into_values().collect()
}

impl OfApp<'_> {
    /// A figure window by window, nothing where it was not there.
    fn course(&self, stretch: &Stretch, value: impl Fn(&AppHour, f64) -> f64) -> Points {
        // As many windows together as the width has room for.
        let together = (stretch.rows.len() / 140).max(1);
        let chunk = |rows: &[crate::usage::Row]| {
            let start = rows.first()?.start.max(stretch.from);
            let seen = rows.iter().any(|row| row.machine.seconds > 0.0);
            let highest =
                rows.iter().filter_map(|row| self.rows.get(&row.start)).map(|(hour, seconds)| value(hour, *seconds));
            Some((start, seen.then(|| highest.fold(0.0, f64::max))))
        };
        stretch.rows.chunks(together).filter_map(chunk).collect()
    }
}

/// One that is drawn.
struct Drawn<'s> {
    app: &'s OfApp<'s>,
    points: Points,
    highest: f64,
    at: Timestamp,
}

impl Drawn<'_> {
    fn tile(self, axis: &Axis, full: f64, words: String, times: &Times, painted: Option<Severity>) -> Plot {
        let at = times.clock(self.at);
        let painted = painted.map(|severity| (axis.from, axis.until, severity));
        Plot {
            title: self.app.app.to_owned(),
            of: self.app.owner.to_owned(),
            says: format!("{} ({}): highest {words} at {at}.", self.app.app, self.app.owner),
            axis: axis.clone(),
            drawing: Drawing::Stairs(Stairs {
                peak: peak(&self.points, |_| format!("{words} at {at}")),
                points: self.points,
                full,
                limits: Vec::new(),
                falls: false,
                painted: painted.into_iter().collect(),
                marks: Vec::new(),
            }),
        }
    }
}

/// CPU of those that used a good part of a core, all on one scale; and how many never did.
pub(super) fn cpu(stretch: &Stretch, axis: &Axis, times: &Times) -> (Vec<Plot>, f64, usize) {
    let all = apps(stretch);
    let percent = |hour: &AppHour, seconds: f64| 100.0 * hour.accounted() / seconds.max(1.0);
    let mut drawn: Vec<Drawn<'_>> = Vec::new();
    for app in &all {
        let points = app.course(stretch, percent);
        if let Some((at, value, _)) = peak(&points, scaled_percent).filter(|(_, value, _)| *value >= DRAWN) {
            drawn.push(Drawn { app, points, highest: value, at });
        }
    }
    drawn.order_by(|a, b| b.highest.total_cmp(&a.highest));
    let full = 100.0 * ((drawn.first().map_or(0.0, |first| first.highest) - 6.0) / 100.0).ceil().max(1.0);
    let others = all.len() - drawn.len();
    drawn.truncate(MOST_TILES);
    let tiles = drawn
        .into_iter()
        .map(|of| {
            let words = scaled_percent(of.highest);
            of.tile(axis, full, words, times, None)
        })
        .collect();
    (tiles, full, others)
}

/// What apps held, each on its own scale; and those that held steadily.
pub(super) fn memory(
    stretch: &Stretch,
    episodes: &[Episode],
    axis: &Axis,
    times: &Times,
) -> (Vec<Plot>, Vec<(String, f64)>) {
    let all = apps(stretch);
    let mut drawn: Vec<Drawn<'_>> = Vec::new();
    let mut steady: Vec<(String, f64)> = Vec::new();
    for app in &all {
        let points = app.course(stretch, |hour, _| hour.held);
        let Some((at, highest, _)) = peak(&points, scaled_size).filter(|(_, highest, _)| *highest >= SMALL) else {
            continue;
        };
        let there = points.iter().filter_map(|(_, value)| *value);
        let lowest = there.fold(f64::INFINITY, f64::min);
        match highest - lowest < highest * STEADY {
            true => steady.push((app.app.to_owned(), highest)),
            false => drawn.push(Drawn { app, points, highest, at }),
        }
    }
    drawn.order_by(|a, b| b.highest.total_cmp(&a.highest));
    steady.order_by(|a, b| b.1.total_cmp(&a.1));
    drawn.truncate(MOST_TILES);
    let grows = |app: &OfApp<'_>| {
        let mut grows = episodes.iter().filter(|episode| episode.kind == FindingKind::Grows);
        let episode =
            grows.find(|episode| episode.first().is_some_and(|first| first.app == app.app && first.owner == app.owner));
        episode.map(|episode| episode.severity)
    };
    let tiles = drawn
        .into_iter()
        .map(|of| {
            let (grows, highest) = (grows(of.app), of.highest);
            let words = match grows {
                Some(_) => format!("grows, {}", scaled_size(highest)),
                None => scaled_size(highest),
            };
            of.tile(axis, highest, words, times, grows)
        })
        .collect();
    (tiles, steady)
}
