//! `list --by growth --since TIME`: whose memory has grown, with its course over the span.

use std::collections::BTreeMap;

use serde_json::{Map, Value, json};
use sophron_core::model::{Process, Snapshot};
use sophron_core::order::InOrder;
use sophron_core::over::Seen;
use sophron_core::units::{scaled_duration, scaled_size};

use super::machine_formats::write;
use crate::args::Format;
use crate::recordings::Spanned;
use crate::ui::chart;
use crate::ui::table::{self, Column};

/// The word that `--by` takes.
pub const WORD: &str = "growth";

/// Columns of a chart.
const CHART: usize = 32;

/// The processes whose growth is known, the one that has grown most first.
fn ranked<'s>(snapshot: &'s Snapshot, over: &'s Spanned) -> Vec<(&'s Process, &'s Seen, f64)> {
    let seen = |process: &'s Process| {
        let seen = over.get(&process.id)?;
        Some((process, seen, seen.growth?))
    };
    let mut rows: Vec<_> = snapshot.processes.iter().filter_map(seen).collect();
    rows.order_by(|a, b| b.2.total_cmp(&a.2).then(a.0.id.pid.cmp(&b.0.id.pid)));
    rows
}

/// One app's processes together: bytes more, bytes held.
struct App<'s> {
    app: &'s str,
    owner: &'s str,
    processes: usize,
    growth: f64,
    held: u64,
}

/// The apps, the one that has grown most first. Who began within the span has grown from nothing known: by what he has gained since.
fn apps<'s>(snapshot: &'s Snapshot, over: &'s Spanned) -> Vec<App<'s>> {
    let mut apps: BTreeMap<(&str, &str), App<'s>> = BTreeMap::new();
    for (process, _, growth) in ranked(snapshot, over) {
        let (app, owner) = (process.app.as_str(), process.owner.as_str());
        let sum = apps.entry((app, owner)).or_insert(App { app, owner, processes: 0, growth: 0.0, held: 0 });
        sum.processes += 1;
        sum.growth += growth;
        sum.held += process.memory_held.unwrap_or(0);
    }
    let mut apps: Vec<App<'s>> = apps.into_values().collect();
    apps.order_by(|a, b| b.growth.total_cmp(&a.growth));
    apps
}

/// How many are shown of how many, in words.
pub fn words(snapshot: &Snapshot, over: &Spanned, limit: usize, by_app: bool) -> String {
    let (all, what) = match by_app {
        true => (apps(snapshot, over).len(), "apps"),
        false => (ranked(snapshot, over).len(), "processes"),
    };
    format!("{} of {all} {what}, most growth first", limit.min(all))
}

fn signed(growth: f64) -> String {
    format!("{}{}", if growth < 0.0 { "-" } else { "" }, scaled_size(growth.abs()))
}

fn text_of_apps(snapshot: &Snapshot, over: &Spanned, limit: usize) -> String {
    let columns = [
        Column::text("app").gives_way(),
        Column::text("owner").gives_way(),
        Column::number("processes"),
        Column::number("growth"),
        Column::number("memory.held"),
    ];
    let row = |app: &App<'_>| {
        let (processes, held) = (app.processes.to_string(), scaled_size(app.held as f64));
        vec![app.app.to_owned(), app.owner.to_owned(), processes, signed(app.growth), held]
    };
    let rows: Vec<Vec<String>> = apps(snapshot, over).iter().take(limit).map(row).collect();
    table::render(&columns, &rows, table::terminal_width())
}

pub fn text(snapshot: &Snapshot, over: &Spanned, limit: usize, span: &str, by_app: bool) -> String {
    if by_app {
        return text_of_apps(snapshot, over, limit);
    }
    let length = snapshot.interval.unwrap_or_default().as_secs_f64();
    let columns = [
        Column::text("id"),
        Column::text("app").gives_way(),
        Column::text("owner").gives_way(),
        Column::number("growth"),
        Column::number("memory.held"),
        Column::text(format!("memory.held, {span}")),
        Column::number("age"),
    ];
    let row = |(process, seen, growth): &(&Process, &Seen, f64)| {
        vec![
            process.id.checked().to_string(),
            process.app.clone(),
            process.owner.clone(),
            signed(*growth),
            process.memory_held.map_or("unknown".to_owned(), |held| scaled_size(held as f64)),
            chart::columns(&seen.course.columns(length, CHART)),
            scaled_duration(std::time::Duration::from_secs(process.age.as_secs())),
        ]
    };
    let rows: Vec<Vec<String>> = ranked(snapshot, over).iter().take(limit).map(row).collect();
    let legend =
        "each chart goes from nothing to the highest of its row; growth is since then, or since the process began\n";
    table::render(&columns, &rows, table::terminal_width()) + legend
}

/// The same for programs: bytes, and the course as a list over the span.
pub fn machine_format(format: Format, snapshot: &Snapshot, over: &Spanned, limit: usize, by_app: bool) -> String {
    if by_app {
        const OF_APPS: [&str; 5] = ["app", "owner", "processes", "growth", "memory.held"];
        let apps = apps(snapshot, over);
        let row = |app: &App<'_>| {
            let values = [json!(app.app), json!(app.owner), json!(app.processes), json!(app.growth), json!(app.held)];
            OF_APPS.iter().map(|name| (*name).to_owned()).zip(values).collect::<Map<String, Value>>()
        };
        let rows = apps.iter().take(limit).map(row).collect();
        return write(format, snapshot, &OF_APPS, rows, ("groups", apps.len()), true);
    }
    const NAMES: [&str; 7] = ["id", "pid", "app", "owner", "growth", "memory.held", "age"];
    let length = snapshot.interval.unwrap_or_default().as_secs_f64();
    let ranked = ranked(snapshot, over);
    let row = |(process, seen, growth): &(&Process, &Seen, f64)| {
        let values = [
            json!(process.id.checked().to_string()),
            json!(process.id.pid),
            json!(process.app),
            json!(process.owner),
            json!(growth),
            json!(process.memory_held),
            json!(process.age.as_secs_f64()),
        ];
        let mut row: Map<String, Value> = NAMES.iter().map(|name| (*name).to_owned()).zip(values).collect();
        row.insert("course".to_owned(), json!(seen.course.columns(length, CHART)));
        row
    };
    let rows = ranked.iter().take(limit).map(row).collect();
    write(format, snapshot, &NAMES, rows, ("matched", ranked.len()), true)
}
