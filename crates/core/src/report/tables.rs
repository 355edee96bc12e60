//! The tables of a report: which hour, and who used how much.

use std::collections::BTreeMap;

use jiff::Timestamp;

use super::collect::Stretch;
use super::times::Times;
use crate::document::{Cell, Table, TableRow};
use crate::order::InOrder;
use crate::usage::{App, Slot, Total, cpu, cpu_time, figures, total, used};

/// Most apps of a table.
const MOST: usize = 12;

/// So many columns of hours at most; beyond that days are told.
const HOURS: usize = 26;

fn ranked<K: Ord>(totals: BTreeMap<K, Total>) -> Vec<(K, Total)> {
    let mut ranked: Vec<(K, Total)> = totals.into_iter().collect();
    ranked.order_by(|a, b| b.1.sum.accounted().total_cmp(&a.1.sum.accounted()).then_with(|| a.0.cmp(&b.0)));
    ranked
}

/// CPU time of each app in each hour, or on each day where the hours are too many.
pub(super) fn which_hour(stretch: &Stretch, times: &Times) -> Option<Table> {
    let hour = |at: Timestamp| Slot::Hour.start(at, &stretch.setting.zone);
    let mut hours: Vec<Timestamp> = stretch.rows.iter().map(|row| hour(row.start)).collect();
    hours.dedup();
    let by_day = hours.len() > HOURS;
    let day = |at: Timestamp| times.local(at).start_of_day().map_or(at, |day| day.timestamp());
    let slot = |at: Timestamp| if by_day { day(at) } else { hour(at) };
    let mut slots: Vec<Timestamp> = stretch.rows.iter().map(|row| slot(row.start)).collect();
    slots.dedup();
    let cores = f64::from(stretch.machine.cores.max(1));
    let whole = cores * if by_day { 86_400.0 } else { 3600.0 };
    let apps = ranked(total(&stretch.rows, App::clone));
    if apps.is_empty() {
        return None;
    }
    let mut cells: BTreeMap<(&App, Timestamp), f64> = BTreeMap::new();
    let mut machine: BTreeMap<Timestamp, f64> = BTreeMap::new();
    for row in &stretch.rows {
        *machine.entry(slot(row.start)).or_default() += row.machine.cpu;
        for (app, hour) in &row.apps {
            *cells.entry((app, slot(row.start))).or_default() += hour.accounted();
        }
    }
    let minutes = |seconds: f64| if seconds < 30.0 { String::new() } else { format!("{:.0}", seconds / 60.0) };
    let most = cells.values().copied().fold(whole / 8.0, f64::max);
    let row = |(app, total): &(App, Total)| {
        let of = |at: &Timestamp| {
            let seconds = cells.get(&(app, *at)).copied().unwrap_or(0.0);
            Cell::shaded(seconds, minutes(seconds), seconds / most)
        };
        let sum = total.sum.accounted();
        TableRow {
            name: (app.app.clone(), app.owner.clone()),
            cells: slots.iter().map(of).chain([Cell::figure(sum, cpu_time(sum))]).collect(),
            ..TableRow::default()
        }
    };
    let mut rows: Vec<TableRow> =
        apps.iter().take(MOST - 2).filter(|(_, total)| total.sum.accounted() >= 60.0).map(row).collect();
    let all: f64 = machine.values().sum();
    if rows.is_empty() && all < 60.0 {
        return None;
    }
    let of =
        |at: &Timestamp| machine.get(at).map_or(Cell::default(), |seconds| Cell::figure(*seconds, minutes(*seconds)));
    rows.push(TableRow {
        name: ("the machine".to_owned(), String::new()),
        cells: slots.iter().map(of).chain([Cell::figure(all, cpu_time(all))]).collect(),
        sum: true,
        ..TableRow::default()
    });
    let heading = |at: &Timestamp| times.local(*at).strftime(if by_day { "%a %-d" } else { "%H" }).to_string();
    let (what, minutes) =
        if by_day { ("on each day; a day", cores * 1440.0) } else { ("in each hour; an hour", cores * 60.0) };
    Some(Table {
        caption: format!("Minutes of CPU time {what} of {cores} cores has {minutes}"),
        columns: ["app".to_owned()].into_iter().chain(slots.iter().map(heading)).chain(["in all".to_owned()]).collect(),
        shaded: true,
        rows,
        ..Table::default()
    })
}

/// Who used how much, by app.
pub(super) fn by_app(stretch: &Stretch) -> Table {
    let used = used(&stretch.rows);
    let unseen: f64 = stretch.rows.iter().map(|row| row.machine.unseen).sum();
    let row = |(app, total): (App, Total)| {
        let mut cells = figures(&total, used).to_vec();
        cells.push(Cell::figure(f64::from(total.sum.most), total.sum.most.to_string()));
        TableRow { name: (app.app, app.owner), cells, ..TableRow::default() }
    };
    let apps = ranked(total(&stretch.rows, App::clone));
    let more = apps.len().saturating_sub(MOST);
    let mut rows: Vec<TableRow> = apps.into_iter().take(MOST).map(row).collect();
    let nobody = "used by the kernel for devices, and by processes that came and went between two samples";
    rows.push(TableRow {
        name: ("nobody, by what could be seen".to_owned(), String::new()),
        cells: cpu(unseen, used).into_iter().chain([Cell::words(nobody)]).collect(),
        sum: true,
        ..TableRow::default()
    });
    let columns = [
        ("app", "app"),
        ("cpu time", "cpu.time"),
        ("of all used", "cpu.time.part"),
        ("by its short-lived children", "cpu.time.children"),
        ("memory held, typical", "memory.held"),
        ("highest", "memory.held.highest"),
        ("read", "disk.read"),
        ("written", "disk.write"),
        ("processes at most", "processes"),
    ];
    Table {
        caption: if more > 0 { format!("The {MOST} with most CPU time; {more} more used less") } else { String::new() },
        rows,
        ..Table::headed(&columns)
    }
}

/// Who used how much, by owner.
pub(super) fn by_owner(stretch: &Stretch) -> Table {
    let used = used(&stretch.rows);
    let row = |(owner, total): (String, Total)| {
        let [cpu, part, _, held, _, read, written] = figures(&total, used);
        TableRow { name: (owner, String::new()), cells: vec![cpu, part, held, read, written], ..TableRow::default() }
    };
    let owners = ranked(total(&stretch.rows, |app| app.owner.clone()));
    let columns = [
        ("owner", "owner"),
        ("cpu time", "cpu.time"),
        ("of all used", "cpu.time.part"),
        ("memory held, typical", "memory.held"),
        ("read", "disk.read"),
        ("written", "disk.write"),
    ];
    Table { rows: owners.into_iter().take(MOST).map(row).collect(), ..Table::headed(&columns) }
}
