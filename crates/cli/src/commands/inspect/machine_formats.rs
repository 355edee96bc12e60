//! An inspection for programs. JSON has all of it; a row is the process, or each process of the app.

use serde_json::{Map, Value, json};
use sophron_core::act::Lever;
use sophron_core::facts::Facts;
use sophron_core::inspect::ancestors;
use sophron_core::model::{Field, Process, Subject};
use sophron_core::order::InOrder;
use sophron_core::units;

use super::{Inspection, sections};
use crate::args::Format;
use crate::ui::machine;

pub(super) fn render(seen: &Inspection, format: Format) -> String {
    let of_process = |field: &&Field| field.info().subject == Subject::Process;
    let fields: Vec<Field> = Field::ALL.iter().filter(of_process).copied().collect();
    let row = |process: &Process| -> Map<String, Value> {
        let facts = Facts::new(process, &seen.snapshot.machine);
        let value = |field: &Field| facts.reading(*field).map_or(Value::Null, |reading| reading.to_json());
        fields.iter().map(|field| (field.name().to_owned(), value(field))).collect()
    };
    let mut rows = vec![row(&seen.process)];
    let others = seen.members.iter().filter(|id| **id != seen.process.id);
    rows.extend(others.filter_map(|id| seen.snapshot.find(id)).map(row));
    match format {
        Format::Jsonl => machine::lines(rows),
        Format::Csv => machine::csv(&fields.iter().map(|field| field.name()).collect::<Vec<_>>(), &rows, true),
        _ => format!("{}\n", object(seen, rows)),
    }
}

fn object(seen: &Inspection, rows: Vec<Map<String, Value>>) -> Value {
    let threads: Vec<Value> = seen
        .sightings
        .threads
        .iter()
        .map(|thread| {
            let waits: Vec<Value> =
                thread.waits.iter().map(|(wait, looks)| json!({ "for": wait.to_string(), "looks": looks })).collect();
            json!({
                "tid": thread.tid,
                "name": thread.name,
                "cpu": thread.cpu,
                "state": thread.state.word(),
                "looks": thread.looks,
                "running": thread.running,
                "waiting": thread.waiting,
                "waits": waits,
            })
        })
        .collect();
    let files = seen.files.as_ref().map(|files| {
        let mut largest: Vec<_> = files.iter().filter(|file| file.size > 0).collect();
        largest.order_by_key(|file| std::cmp::Reverse(file.size));
        let file = |file: &&sophron_linux::open_files::OpenFile| json!({ "name": file.name, "size": file.size, "deleted": file.deleted });
        json!({
            "count": files.len(),
            "largest": largest.iter().take(10).map(file).collect::<Value>(),
            "deleted": largest.iter().filter(|file| file.deleted).map(file).collect::<Value>(),
        })
    });
    let lever = seen.lever.as_ref().map(|lever| match lever {
        Lever::Nice => json!({ "by": "nice" }),
        Lever::Weight { group, .. } => json!({ "by": "cpu weight", "group": group }),
        Lever::SessionGroup { group } => json!({ "by": "session group", "group": group }),
    });
    let said: Map<String, Value> =
        sections::all(seen).into_iter().map(|(name, lines)| (name.to_owned(), lines.into())).collect();
    json!({
        "host": seen.snapshot.machine.host,
        "at": seen.snapshot.moment.wall.to_string(),
        "interval": seen.snapshot.interval.map(|interval| units::Value::Duration(interval).to_json()),
        "ended": seen.gone,
        "answer": seen.doing.as_ref().map(|doing| doing.answer.to_string()),
        "evidence": seen.doing.as_ref().map(|doing| &doing.evidence),
        "waits_on": seen.followed.lines,
        "cpu_over_time": seen.sightings.cpu,
        "path.proven": seen.process.path_proven(),
        "path.replaced": seen.process.replaced,
        "ancestors": ancestors(&seen.snapshot, &seen.process).iter().map(|parent| parent.id.checked().to_string()).collect::<Value>(),
        "descendants": seen.family.descendants,
        "threads": threads,
        "files": files,
        "lowering": lever,
        "protected": seen.protected,
        "role": seen.role,
        "restart": seen.restart.as_ref().map(|restart| &restart.policy),
        "said": said,
        "rows": rows,
    })
}
