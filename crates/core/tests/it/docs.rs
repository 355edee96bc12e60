//! The documentation's tables are those of the code.

use std::fmt::Write;

use sophron_core::model::{Field, Subject};

#[test]
fn the_table_of_fields_is_the_codes() {
    let mut table = String::from("| field | kind | meaning |\n|---|---|---|\n");
    for field in Field::ALL {
        let info = field.info();
        let kind = serde_json::to_value(info.kind).unwrap().as_str().unwrap_or_default().to_owned();
        let of = if info.subject == Subject::Machine { "machine: " } else { "" };
        writeln!(table, "| `{}` | {kind} | {of}{} |", info.name, info.meaning).unwrap();
    }
    let docs = include_str!("../../../../docs/conditions.md");
    assert!(docs.contains(&table), "docs/conditions.md is behind; its table of fields should be:\n{table}");
}
