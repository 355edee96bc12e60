//! `sophron audit export` and `stats`: the record for other programs, and counted.

use std::time::Duration;

use serde_json::{Map, Value, json};
use sophron_core::audit::{self, ChannelStats, Record, RuleStats};
use sophron_core::units::scaled_duration;

use super::{nothing_there, pick};
use crate::args::{self, ExportFormat, TextOrJson};
use crate::exit::{Exit, Failure};
use crate::ui;
use crate::ui::machine;
use crate::ui::table::{self, Column};

/// The columns of a spreadsheet.
const COLUMNS: [&str; 17] = [
    "seq",
    "at",
    "host",
    "kind",
    "case",
    "rule",
    "user",
    "login_uid",
    "pid",
    "id",
    "app",
    "owner",
    "evidence",
    "do",
    "outcome",
    "seen",
    "hash",
];

pub fn run(args: &args::AuditExport) -> Result<Exit, Failure> {
    let Some(picked) = pick(&args.filter, false)? else { return nothing_there(&args.filter.state) };
    match args.format {
        ExportFormat::Jsonl => ui::out(picked.records.iter().map(line).collect::<String>()),
        ExportFormat::Csv => {
            let rows: Vec<Map<String, Value>> = picked.records.iter().map(row).collect();
            ui::out(machine::csv(&COLUMNS, &rows, true));
        }
    }
    Ok(if picked.broken { Exit::Found } else { Exit::Fine })
}

/// A record as a line of JSON.
pub fn line(record: &Record) -> String {
    // A record that was read can be written.
    serde_json::to_string(record).map(|line| line + "\n").unwrap_or_default()
}

fn row(record: &Record) -> Map<String, Value> {
    let subject = record.subject.as_ref();
    let values = [
        json!(record.seq),
        json!(record.at),
        json!(record.host),
        json!(record.kind),
        json!(record.case),
        json!(record.rule),
        json!(record.who.user),
        json!(record.who.login_uid),
        json!(subject.map(|subject| subject.pid)),
        json!(subject.map(|subject| &subject.id)),
        json!(subject.map(|subject| &subject.app)),
        json!(subject.map(|subject| &subject.owner)),
        json!(record.evidence.as_ref().map(|evidence| &evidence.words)),
        json!(record.action.as_ref().map(|action| &action.verb)),
        json!(record.result.as_ref().map(|result| &result.outcome)),
        json!(record.result.as_ref().map(|result| &result.seen)),
        json!(record.hash),
    ];
    COLUMNS.iter().map(|name| (*name).to_owned()).zip(values).collect()
}

pub fn stats(args: &args::AuditStats) -> Result<Exit, Failure> {
    let Some(picked) = pick(&args.filter, false)? else { return nothing_there(&args.filter.state) };
    let rows = audit::stats(&picked.records);
    let channels = audit::channel_stats(&picked.records);
    match args.format {
        TextOrJson::Json => {
            let rows: Vec<Value> = rows
                .iter()
                .map(|row| {
                    json!({ "rule": row.rule, "app": row.app, "cases": row.cases, "acts": row.acts,
                        "outcomes": row.outcomes, "calm": row.calm, "returns": row.returns })
                })
                .collect();
            let channel = |one: &ChannelStats| json!({ "channel": one.channel, "taken": one.taken, "given_up": one.given_up, "down": one.down });
            let channels: Vec<Value> = channels.iter().map(channel).collect();
            let object = json!({ "records": picked.records.len(), "channels": channels, "rows": rows });
            ui::out(format_args!("{object}\n"));
        }
        TextOrJson::Text => {
            ui::out(if rows.is_empty() { "no rule has a record yet\n".to_owned() } else { as_text(&rows) });
            ui::out(by_channel(&channels));
        }
    }
    Ok(if picked.broken { Exit::Found } else { Exit::Fine })
}

/// What each channel has taken; nothing where there is none.
fn by_channel(channels: &[ChannelStats]) -> String {
    if channels.is_empty() {
        return String::new();
    }
    let columns = [
        Column::text("channel"),
        Column::number("taken, messages"),
        Column::number("given up, messages"),
        Column::number("was down, times"),
    ];
    let row = |one: &ChannelStats| {
        vec![one.channel.clone(), one.taken.to_string(), one.given_up.to_string(), one.down.to_string()]
    };
    let rows: Vec<Vec<String>> = channels.iter().map(row).collect();
    format!("\n{}", table::render(&columns, &rows, table::terminal_width()))
}

fn as_text(rows: &[RuleStats]) -> String {
    let columns = [
        Column::text("rule").gives_way(),
        Column::text("app").gives_way(),
        Column::number("cases"),
        Column::number("came back"),
        Column::number("acts"),
        Column::text("what came of them").gives_way(),
        Column::number("to calm, middle"),
    ];
    let row = |row: &RuleStats| {
        let outcomes: Vec<String> = row.outcomes.iter().map(|(word, count)| format!("{word} {count}")).collect();
        let calm = row.calm.map(|seconds| scaled_duration(Duration::from_secs_f64(seconds.max(0.0))));
        vec![
            row.rule.clone(),
            row.app.clone(),
            row.cases.to_string(),
            row.returns.to_string(),
            row.acts.to_string(),
            if outcomes.is_empty() { "none was taken".to_owned() } else { outcomes.join(", ") },
            calm.unwrap_or_else(|| "never calm".to_owned()),
        ]
    };
    table::render(&columns, &rows.iter().map(row).collect::<Vec<_>>(), table::terminal_width())
}
