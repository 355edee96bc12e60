//! `sophron rules list`: the rules that a watcher would run here, each with whom it covers now.

use std::path::Path;

use serde_json::{Map, Value, json};
use sophron_core::model::Snapshot;
use sophron_core::rules::Rule;
use sophron_core::units::exact_duration;

use crate::args::Format;
use crate::exit::{Exit, Failure};
use crate::ui::style::{Label, Styled};
use crate::ui::table::{self, Column};
use crate::ui::{self, machine, when};
use crate::watcher::rules_file;
use crate::{places, source};

const COLUMNS: [&str; 9] = ["rule", "judge", "armed", "severity", "hours", "breach", "lasting", "steps", "covers"];

pub fn run(rules: Option<&Path>, format: Format) -> Result<Exit, Failure> {
    let loaded = rules_file::load(&places::rules(rules)?)?;
    let snapshot = source::present()?;
    let rules = &loaded.rules.rules;
    let rows = || -> Vec<Map<String, Value>> { rules.iter().map(|rule| row(rule, &snapshot)).collect() };
    match format {
        Format::Text => {
            let head = [
                Styled(Label::Heading, &snapshot.machine.host).to_string(),
                when::date(snapshot.moment.wall),
                format!("rules: {}", loaded.origin()),
            ];
            ui::out(table::flow(&head, table::terminal_width()));
            ui::out(text(rules, &snapshot));
        }
        Format::Json => {
            let object = json!({ "host": snapshot.machine.host, "at": snapshot.moment.wall, "rows": rows() });
            ui::out(format_args!("{object}\n"));
        }
        Format::Jsonl => ui::out(machine::lines(rows())),
        Format::Csv => ui::out(machine::csv(&COLUMNS, &rows(), true)),
    }
    Ok(Exit::Fine)
}

fn steps(rule: &Rule) -> Vec<String> {
    rule.ladder.iter().map(ToString::to_string).collect()
}

fn row(rule: &Rule, snapshot: &Snapshot) -> Map<String, Value> {
    let (covered, _) = super::covered(rule, snapshot);
    let row = json!({
        "rule": rule.name,
        "judge": rule.judge.word(),
        "armed": rule.armed,
        "severity": rule.severity.word(),
        "hours": rule.hours.to_string(),
        "breach": rule.breach.to_string(),
        "lasting": rule.lasting.as_secs_f64(),
        "steps": steps(rule).join("; "),
        "covers": covered.len(),
    });
    row.as_object().cloned().unwrap_or_default()
}

fn text(rules: &[Rule], snapshot: &Snapshot) -> String {
    let columns = [
        Column::text("rule"),
        Column::text("judges"),
        Column::text("acts"),
        Column::number("covers, processes"),
        Column::text("breach, for how long").gives_way(),
        Column::text("steps, by breached time").gives_way(),
    ];
    let row = |rule: &Rule| {
        vec![
            rule.name.to_string(),
            rule.judge.word().to_owned(),
            if rule.armed { "armed" } else { "shadow" }.to_owned(),
            super::covered(rule, snapshot).0.len().to_string(),
            format!("{}, {}", rule.breach, exact_duration(rule.lasting)),
            steps(rule).join(", "),
        ]
    };
    let rows: Vec<Vec<String>> = rules.iter().map(row).collect();
    table::render(&columns, &rows, table::terminal_width())
}
