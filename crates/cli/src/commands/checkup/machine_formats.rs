//! A checkup for programs. A row is a finding.

use serde_json::{Map, Value, json};
use sophron_core::checkup::{Finding, NOT_EXAMINED, Next, Since, Suspect};
use sophron_core::units;

use super::Checkup;
use crate::args::Format;
use crate::ui::machine;

const COLUMNS: [&str; 8] = ["finding", "severity", "headline", "of", "known", "since", "suspect", "amount"];

pub(super) fn render(checkup: &Checkup, format: Format) -> String {
    let rows: Vec<Map<String, Value>> = checkup.report.findings.iter().map(|finding| row(checkup, finding)).collect();
    match format {
        Format::Jsonl => machine::lines(rows),
        Format::Csv => {
            let flat = |mut row: Map<String, Value>| {
                let first = row.get("suspects").and_then(|suspects| suspects.get(0)).cloned();
                let first = first.unwrap_or(Value::Null);
                row.insert("suspect".to_owned(), first["id"].clone());
                row.insert("amount".to_owned(), first["amount"].clone());
                row
            };
            machine::csv(&COLUMNS, &rows.into_iter().map(flat).collect::<Vec<_>>(), true)
        }
        _ => {
            let (snapshot, report) = (&checkup.scene.snapshot, &checkup.report);
            let object = json!({
                "host": snapshot.machine.host,
                "at": snapshot.moment.wall.to_string(),
                "interval": units::Value::Duration(checkup.scene.length).to_json(),
                "looks": checkup.scene.looks,
                "verdict": report.verdict,
                "found": report.found(),
                "machine": machine::of_machine(snapshot),
                "fine": report.fine,
                "unread": report.unread,
                "not_examined": NOT_EXAMINED,
                "watcher": checkup.watcher,
                "own_cpu": report.own,
                "rows": rows,
            });
            format!("{object}\n")
        }
    }
}

fn row(checkup: &Checkup, finding: &Finding) -> Map<String, Value> {
    let figures: Vec<Value> = finding
        .figures
        .iter()
        .map(|figure| {
            json!({
                "field": figure.field.name(),
                "value": figure.value,
                "words": figure.words,
                "limit": figure.limit,
                "severity": figure.severity.map(|severity| severity.word()),
            })
        })
        .collect();
    let next: Vec<Value> = finding
        .next
        .iter()
        .map(|next| match next {
            Next::Say(advice) => json!({ "advice": advice }),
            Next::Type(command, what) => {
                json!({ "command": format!("sophron {command}{}", checkup.suffix), "what": what })
            }
        })
        .collect();
    let (since, on_average) = match finding.since {
        Some(Since::At(at)) => (json!(at.to_string()), Value::Null),
        Some(Since::OnAverage(length)) => (Value::Null, units::Value::Duration(length).to_json()),
        None => (Value::Null, Value::Null),
    };
    let values = [
        ("finding", json!(finding.kind.word())),
        ("severity", json!(finding.severity.word())),
        ("headline", json!(finding.headline)),
        ("of", json!(finding.of)),
        ("known", json!(finding.known)),
        ("since", since),
        ("on_average_over", on_average),
        ("figures", json!(figures)),
        ("remarks", json!(finding.remarks)),
        ("suspects", finding.suspects.iter().map(suspect).collect()),
        ("next", json!(next)),
    ];
    values.into_iter().map(|(key, value)| (key.to_owned(), value)).collect()
}

fn suspect(suspect: &Suspect) -> Value {
    json!({
        "id": suspect.id.checked().to_string(),
        "pid": suspect.id.pid,
        "app": suspect.app,
        "owner": suspect.owner,
        "processes": suspect.members,
        "amount": suspect.amount,
        "started": suspect.started.to_string(),
        "path": suspect.path,
        "path.proven": suspect.path_proven,
        "unit": suspect.unit,
        "started_by": suspect.started_by,
        "notes": suspect.notes,
        "honest": suspect.honest,
    })
}
