//! Usage for programs: JSON, JSON Lines and CSV; field names, base units, unknown is null or empty.

use serde_json::{Map, Value, json};
use sophron_core::document::{Block, Document, Table};
use sophron_core::usage::{Changed, History, MachineHour};

use crate::args::Format;
use crate::ui::machine;

/// Its rows, and with JSON what was asked and the totals.
pub(super) fn of_view(told: &Document, now: &History, before: Option<&History>, format: Format) -> String {
    let table = told.blocks.iter().find_map(|block| match block {
        Block::Table(table) => Some(table),
        _ => None,
    });
    let (names, rows) = table.map(rows).unwrap_or_default();
    match format {
        Format::Json => {
            let mut whole = heading(now, told);
            whole.insert("cpu.time".to_owned(), sum(now, |machine| machine.cpu));
            whole.insert("cpu.time.unseen".to_owned(), sum(now, |machine| machine.unseen));
            whole.insert("before".to_owned(), before.map_or(Value::Null, |before| Value::Object(span(before))));
            whole.insert("rows".to_owned(), rows.into_iter().map(Value::Object).collect());
            format!("{}\n", Value::Object(whole))
        }
        Format::Jsonl => machine::lines(rows),
        // Of a time of which nothing is known there is no table.
        Format::Csv if names.is_empty() => String::new(),
        Format::Csv => machine::csv(&names, &rows, true),
        Format::Text => String::new(),
    }
}

/// What changed, with what else happened then.
pub(super) fn of_changes(told: &Document, history: &History, changes: &[Changed]) -> String {
    let row = |changed: &Changed| {
        let (app, change) = (changed.app.as_ref(), &changed.change);
        let beside = changed.beside.iter();
        let beside = beside.map(|happened| {
            json!({ "at": happened.at, "event": happened.event.word(), "app": happened.app, "words": happened.words })
        });
        json!({
            "app": app.map(|app| &app.app),
            "owner": app.map(|app| &app.owner),
            "figure": changed.measure.word(),
            "since": change.since.to_string(),
            "before": rounded(change.before),
            "after": rounded(change.after),
            "days_before": change.days.0,
            "days_after": change.days.1,
            "those_days_too": beside.collect::<Vec<Value>>(),
        })
    };
    let mut whole = heading(history, told);
    whole.insert("rows".to_owned(), changes.iter().map(row).collect());
    format!("{}\n", Value::Object(whole))
}

/// The machine, the time, and what is said of it first.
fn heading(history: &History, told: &Document) -> Map<String, Value> {
    let mut whole = span(history);
    whole.insert("host".to_owned(), json!(history.host));
    whole.insert("verdict".to_owned(), json!(told.verdict()));
    whole
}

/// From when to when it is, and for how long of it the machine was watched, seconds.
fn span(history: &History) -> Map<String, Value> {
    let (since, until) = history.span().unzip();
    [("since", json!(since)), ("until", json!(until)), ("seen", sum(history, |machine| machine.seconds))]
        .into_iter()
        .map(|(key, value)| (key.to_owned(), value))
        .collect()
}

fn sum(history: &History, of: impl Fn(&MachineHour) -> f64) -> Value {
    rounded(history.rows.iter().fold(0.0, |sum, row| sum + of(&row.machine)))
}

/// To thousandths: what is beyond comes of the sums.
fn rounded(value: f64) -> Value {
    json!((value * 1000.0).round() / 1000.0)
}

/// The names of the columns, and the rows but for what only sums up.
fn rows(of: &Table) -> (Vec<&'static str>, Vec<Map<String, Value>>) {
    let own = of.keys.first().copied().unwrap_or_default();
    let figures = of.keys.iter().skip(1).copied();
    let names: Vec<&str> = [own].into_iter().chain((own == "app").then_some("owner")).chain(figures.clone()).collect();
    let row = |row: &sophron_core::document::TableRow| {
        let mut values: Map<String, Value> = Map::new();
        values.insert(own.to_owned(), json!(row.key.as_ref().unwrap_or(&row.name.0)));
        if own == "app" {
            values.insert("owner".to_owned(), json!(row.name.1));
        }
        for (key, cell) in figures.clone().zip(&row.cells) {
            values.insert(key.to_owned(), cell.value.map_or(Value::Null, rounded));
        }
        values
    };
    (names, of.rows.iter().filter(|row| !row.sum).map(row).collect())
}
