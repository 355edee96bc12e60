//! The documentation's tables are those of the code. With `UPDATE_DOCS=1` the test writes them.

#![allow(clippy::disallowed_methods, reason = "core opens no files, and its documentation is files")]

use std::fmt::Write;
use std::fs;
use std::path::Path;

use sophron_core::checkup::LIMITS;
use sophron_core::model::{Field, Subject};
use sophron_core::subject::{Judged, Summing};
use sophron_core::window::Function;

/// The table that begins with that heading is this one.
fn stands_in(file: &str, table: &str) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(file);
    let docs = fs::read_to_string(&path).unwrap();
    let heading = table.lines().next().unwrap();
    let (before, rest) = docs.split_once(heading).expect("the table's heading stands in the page");
    let after = rest.split_once("\n\n").map_or(String::new(), |(_, after)| format!("\n{after}"));
    let wanted = format!("{before}{table}{after}");
    if std::env::var_os("UPDATE_DOCS").is_some() {
        fs::write(&path, &wanted).unwrap();
    }
    assert!(fs::read_to_string(&path).unwrap() == wanted, "docs/{file} is behind; run this test with UPDATE_DOCS=1");
}

#[test]
fn the_table_of_fields_is_the_codes() {
    let mut table = String::from("| field | kind | meaning |\n|---|---|---|\n");
    for field in Field::ALL {
        let info = field.info();
        let kind = serde_json::to_value(info.kind).unwrap().as_str().unwrap_or_default().to_owned();
        let of = if info.subject == Subject::Machine { "machine: " } else { "" };
        writeln!(table, "| `{}` | {kind} | {of}{} |", info.name, info.meaning).unwrap();
    }
    stands_in("conditions.md", &table);
}

#[test]
fn the_table_of_functions_is_the_codes() {
    let mut table = String::from("| function | definition |\n|---|---|\n");
    for function in Function::ALL {
        writeln!(table, "| `{}` | {} |", function.form(), function.definition()).unwrap();
    }
    stands_in("conditions.md", &table);
}

#[test]
fn the_table_of_subjects_and_fields_is_the_codes() {
    let mut table = String::from("| field | process | app | tree | owner | unit |\n|---|---|---|---|---|---|\n");
    for field in Field::ALL.iter().filter(|field| field.info().subject == Subject::Process) {
        let how = |judged: Judged| judged.summing(*field).map_or("", Summing::word);
        let of = [Judged::Process, Judged::App, Judged::Tree, Judged::Owner, Judged::Unit].map(how);
        writeln!(table, "| `{field}` | {} |", of.join(" | ")).unwrap();
    }
    stands_in("conditions.md", &table);
}

#[test]
fn the_table_of_limits_is_the_codes() {
    let mut table = String::from("| figure | notice | critical | why |\n|---|---|---|---|\n");
    for limit in LIMITS {
        let side = if limit.over { "from" } else { "under" };
        let of = if limit.field == Field::MachineMemoryAvailable { " of RAM" } else { "" };
        let shown = |level: f64| match level.is_finite() {
            true => format!("{side} {}{of}", limit.shown(level)),
            false => "never".to_owned(),
        };
        let (notice, critical) = (shown(limit.notice), shown(limit.critical));
        writeln!(table, "| `{}` | {notice} | {critical} | {} |", limit.field, limit.reason).unwrap();
    }
    stands_in("checkup.md", &table);
}
