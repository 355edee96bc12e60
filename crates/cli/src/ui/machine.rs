//! Output for programs: JSON Lines and CSV from rows, and the machine's figures. Base units, unknown is null or empty.

use serde_json::{Map, Value};
use sophron_core::facts::Facts;
use sophron_core::model::{Field, Process, ProcessId, Snapshot, Subject};

/// A row a line.
pub fn lines(rows: Vec<Map<String, Value>>) -> String {
    rows.into_iter().map(|row| format!("{}\n", Value::Object(row))).collect()
}

/// Those columns of the rows, with a heading where asked for.
pub fn csv(names: &[&str], rows: &[Map<String, Value>], heading: bool) -> String {
    let mut writer = csv::Writer::from_writer(Vec::new());
    // Writing to memory does not fail, and every row has as many cells as there are names.
    if heading {
        let _ = writer.write_record(names);
    }
    for row in rows {
        let _ = writer.write_record(names.iter().map(|name| cell(row.get(*name))));
    }
    writer.into_inner().map(|bytes| String::from_utf8_lossy(&bytes).into_owned()).unwrap_or_default()
}

/// A spreadsheet takes a cell that begins with `=`, `+`, `-` or `@` for a formula: a text that does is quoted.
fn cell(value: Option<&Value>) -> String {
    match value {
        None | Some(Value::Null) => String::new(),
        Some(Value::String(text)) if text.starts_with(['=', '+', '-', '@', '\t', '\r']) => format!("'{text}"),
        Some(Value::String(text)) => text.clone(),
        Some(other) => other.to_string(),
    }
}

/// The machine's figures by field name.
pub fn of_machine(snapshot: &Snapshot) -> Map<String, Value> {
    let nobody = Process::unread(ProcessId { pid: 0, start: 0, boot: snapshot.machine.boot });
    let facts = Facts::new(&nobody, &snapshot.machine);
    let fields = Field::ALL.iter().filter(|field| field.info().subject == Subject::Machine && **field != Field::Host);
    let value = |field: &Field| facts.reading(*field).map_or(Value::Null, |reading| reading.to_json());
    fields.map(|field| (field.name().to_owned(), value(field))).collect()
}
