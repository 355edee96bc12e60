//! Two times beside each other.

use std::collections::{BTreeMap, BTreeSet};

use super::history::History;
use super::view::{Asked, By, Name, Told, cpu_time};
use crate::document::{Cell, Table, TableRow};

/// A change by less than that part is none.
const FIFTH: f64 = 0.2;

/// Two times beside each other, the greatest change first.
pub(super) fn compared(
    history: &History,
    against: &History,
    asked: Asked,
    now: BTreeMap<Name, f64>,
    before: &BTreeMap<Name, f64>,
    who: &str,
) -> Told {
    // What adds up is told by the hour seen, so that a shorter time is not less.
    let hours = |history: &History| history.rows.iter().map(|row| row.machine.seconds).sum::<f64>() / 3600.0;
    let sums = !matches!(asked.by, By::Held);
    let scale = if sums && hours(against) > 0.0 { hours(history) / hours(against) } else { 1.0 };
    let names: BTreeSet<&Name> = now.keys().chain(before.keys()).collect();
    let mut rows: Vec<(Name, f64, f64)> = names
        .into_iter()
        .map(|name| {
            let of = |of: &BTreeMap<Name, f64>| of.get(name).copied().unwrap_or(0.0);
            (name.clone(), of(&now), of(before) * scale)
        })
        .collect();
    rows.sort_by(|a, b| (b.1 - b.2).abs().total_cmp(&(a.1 - a.2).abs()).then_with(|| a.0.cmp(&b.0)));
    // What is about as it was is no news, however much it is.
    let is_news = |(_, now, before): &&(Name, f64, f64)| (now - before).abs() > FIFTH * now.max(*before);
    let headline = match rows.iter().find(is_news) {
        Some((name, now, before)) => {
            let name = if name.1.is_empty() { name.0.clone() } else { format!("{} ({})", name.0, name.1) };
            format!(
                "the greatest change of {} is that of {name}: {} against {}{}",
                asked.by.word(),
                shown_or_nothing(asked.by, *now),
                shown_or_nothing(asked.by, *before),
                ratio(*now, *before).map(|ratio| format!(" ({ratio})")).unwrap_or_default()
            )
        }
        None => "nothing is otherwise by as much as a fifth".to_owned(),
    };
    let more = rows.len().saturating_sub(asked.limit);
    rows.truncate(asked.limit);
    let rows = rows
        .into_iter()
        .map(|(name, now, before)| TableRow {
            name,
            cells: vec![
                Cell::figure(now, asked.by.shown(now)),
                Cell::figure(before, asked.by.shown(before)),
                Cell::figure(now - before, signed(asked.by, now - before)),
                Cell::figure(
                    now / before.max(f64::MIN_POSITIVE),
                    ratio(now, before)
                        .unwrap_or_else(|| if before <= 0.0 { "new".to_owned() } else { "gone".to_owned() }),
                ),
            ],
            sum: false,
        })
        .collect();
    let caption = match sums && (scale - 1.0).abs() > 0.01 {
        true => format!("Before: as much as in {} watched", cpu_time(hours(history) * 3600.0)),
        false => String::new(),
    };
    let columns = [who, asked.by.word(), "before", "change", "ratio"].map(str::to_owned).to_vec();
    (headline, Table { caption, columns, shaded: false, rows }, more)
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
