//! JSON, JSON Lines and CSV: field names, base units, unknown is null or empty.

use super::columns;
use serde_json::{Map, Value, json};
use sophron_core::facts::Facts;
use sophron_core::groups::{Group, Grouping};
use sophron_core::model::{Field, Process, Snapshot, Subject};
use sophron_core::units;

use crate::args::Format;
use crate::ui::machine;

/// Processes: all fields, or the columns that were asked for.
pub(super) fn processes(
    format: Format,
    snapshot: &Snapshot,
    rows: &[Process],
    matched: usize,
    columns: &[Field],
    chosen: bool,
    first: bool,
) -> String {
    let all: Vec<Field> = Field::ALL.iter().copied().filter(|field| field.info().subject == Subject::Process).collect();
    let fields = if chosen { columns } else { &all };
    let of = |process: &Process| {
        let facts = Facts::new(process, &snapshot.machine);
        let value = |field: &Field| facts.reading(*field).map_or(Value::Null, |reading| reading.to_json());
        let mut row: Map<String, Value> = fields.iter().map(|field| (field.name().to_owned(), value(field))).collect();
        if fields.contains(&Field::Path) && format != Format::Csv {
            row.insert("path.proven".to_owned(), process.path_proven().into());
            row.insert("path.replaced".to_owned(), process.replaced.into());
        }
        row
    };
    let rows: Vec<Map<String, Value>> = rows.iter().map(of).collect();
    let names: Vec<&str> = fields.iter().map(|field| field.name()).collect();
    write(format, snapshot, &names, rows, ("matched", matched), first)
}

/// Groups with their totals.
pub(super) fn groups(
    format: Format,
    snapshot: &Snapshot,
    (grouping, by): (Grouping, Field),
    groups: &[&Group<'_>],
    total: usize,
    first: bool,
) -> String {
    let mut names = vec![grouping.word(), "user", "processes", "cpu", "memory", "memory.at_most", "heaviest"];
    if !names.contains(&by.name()) {
        names.push(by.name());
    }
    let rows = groups
        .iter()
        .map(|group| {
            let memory = group.memory();
            let cpu = group.cpu(grouping).map(|cpu| (cpu * 1000.0).round() / 1000.0);
            let by_sum = columns::sum(group, by, &snapshot.machine);
            let values = [
                json!(group.name),
                json!(group.owner),
                json!(group.members.len()),
                json!(cpu),
                json!(memory.map(|amount| amount.bytes)),
                json!(memory.map(|amount| amount.at_most)),
                json!(group.heaviest(false).id.checked().to_string()),
                json!(by_sum),
            ];
            names.iter().map(|name| (*name).to_owned()).zip(values).collect()
        })
        .collect();
    write(format, snapshot, &names, rows, ("groups", total), first)
}

pub(super) fn write(
    format: Format,
    snapshot: &Snapshot,
    names: &[&str],
    rows: Vec<Map<String, Value>>,
    count: (&str, usize),
    first: bool,
) -> String {
    match format {
        Format::Jsonl => machine::lines(rows),
        Format::Csv => machine::csv(names, &rows, first),
        _ => {
            let mut object = json!({
                "host": snapshot.machine.host,
                "at": snapshot.moment.wall.to_string(),
                "interval": snapshot.interval.map(|interval| units::Value::Duration(interval).to_json()),
                "processes": snapshot.machine.processes,
                "machine": machine::of_machine(snapshot),
                "rows": rows,
            });
            object[count.0] = count.1.into();
            format!("{object}\n")
        }
    }
}
