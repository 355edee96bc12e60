//! The documentation's tables are those of the code. With `UPDATE_DOCS=1` the test writes them.

#![allow(clippy::disallowed_methods, reason = "core opens no files, and its documentation is files")]

use std::fmt::Write;
use std::fs;
use std::path::{Path, PathBuf};

use sophron_core::checkup::LIMITS;
use sophron_core::condition::{Condition, Place};
use sophron_core::model::{Field, Subject};
use sophron_core::rules::keys::{CHANNEL, DELIVER, FIGURES, FILE, RULE, STEP, TELL, schema};
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

/// Each kind of error by an example: the condition, what is said of it, and the mend.
#[test]
fn the_table_of_errors_is_the_codes() {
    let examples = [
        ("memry > 750 MiB", Place::Any),
        ("memory > 750", Place::Any),
        ("memory > 90%", Place::Any),
        ("memory > 750 megs", Place::Any),
        ("memory > 99999999999 GiB", Place::Any),
        ("cpu > -5%", Place::Any),
        ("age > 0.0001s", Place::Any),
        ("cpu > 90% && disk > 1 MiB/s", Place::Any),
        ("app == \"labelpress\"", Place::Any),
        ("app > \"labelpress\"", Place::Any),
        ("memory ~ \"7*\"", Place::Any),
        ("state = stoped", Place::Any),
        ("memory", Place::Any),
        ("5 MiB < 6 MiB", Place::Any),
        ("app in labelpress", Place::Any),
        ("app = \"labelpress", Place::Any),
        ("(cpu > 1%", Place::Any),
        ("cpu > 1%)", Place::Any),
        ("cpu >", Place::Any),
        ("cpu > 5% memory > 1 MiB", Place::Any),
        ("", Place::Any),
        ("max(cpu, 5m) > 90%", Place::Any),
        ("avg(cpu) > 90%", Place::Any),
        ("avg(app, 5m) > 90%", Place::Any),
        ("avg(cpu, 5) > 90%", Place::Any),
        ("avg(cpu, 30d) > 90%", Place::Any),
        ("slope(cpu, 5m) > 1 MiB/s", Place::Any),
        ("until(memory, 5%, 10m) < 1h", Place::Any),
        ("avg(cpu, 5m) > 90%", Place::Look),
        ("cpu > 90%", Place::Protect),
        ("nice > 5", Place::Judged(Judged::App)),
    ];
    let mut table = String::from("| written | error | mend |\n|---|---|---|\n");
    for (text, place) in examples {
        let errors = Condition::parse(text, place).expect_err(text);
        let cell = |text: &str| text.replace('|', "\\|");
        let error = &errors[0];
        let of = match place {
            Place::Look => " in `where`",
            Place::Protect => " in `[protect]`",
            Place::Judged(_) => " in a rule that judges an app",
            Place::Any => "",
        };
        // The list of all fields is long, and stands above.
        let mend = error.helps.join("; ");
        writeln!(table, "| `{}`{of} | {} | {} |", cell(text), cell(&error.title), cell(&mend)).unwrap();
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

/// Every key of a rules file stands in the documentation as the loader knows it.
#[test]
fn the_tables_of_rule_keys_are_the_loaders() {
    for (of, keys) in [("the file", &FILE), ("a rule", &RULE), ("a step", &STEP)] {
        let rows: Vec<String> = keys.rows().collect();
        stands_in("rules.md", &format!("| key of {of} | meaning |\n|---|---|\n{}\n", rows.join("\n")));
    }
    for (of, keys) in [("a channel", &CHANNEL), ("a tell", &TELL), ("figures", &FIGURES)] {
        let rows: Vec<String> = keys.rows().collect();
        stands_in("alerts.md", &format!("| key of {of} | meaning |\n|---|---|\n{}\n", rows.join("\n")));
    }
    let schema = schema();
    let of_telling = [
        ("/properties/channel/items", &CHANNEL),
        ("/properties/tell/items", &TELL),
        ("/properties/deliver", &DELIVER),
        ("/properties/figures", &FIGURES),
    ];
    for (place, keys) in [("", &FILE), ("/properties/rule/items", &RULE)].into_iter().chain(of_telling) {
        let known = schema.pointer(&format!("{place}/properties")).unwrap().as_object().unwrap();
        assert!(
            keys.keys.iter().map(|key| key.name).all(|name| known.contains_key(name)) && known.len() == keys.keys.len()
        );
    }
    // Who a rule is no other file may change.
    let adjusts = schema.pointer("/properties/adjust/additionalProperties/properties").unwrap();
    assert!(adjusts.get("name").is_none() && adjusts.get("judge").is_none() && adjusts.get("breach").is_some());
}

/// Every kind of record, and every key of one, stands in the documentation.
#[test]
fn the_trail_is_documented() {
    let docs = fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/audit-trail.md")).unwrap();
    for kind in sophron_core::audit::Kind::WORDS {
        assert!(docs.contains(&format!("`{kind}`")), "docs/audit-trail.md lacks the kind `{kind}`");
    }
    for key in sophron_core::audit::schema()["properties"].as_object().unwrap().keys() {
        assert!(docs.contains(&format!("`{key}`")), "docs/audit-trail.md lacks the key `{key}`");
    }
}

/// A test within the library would never be run.
#[test]
fn all_tests_of_core_are_here() {
    fn with_tests(folder: &Path) -> Vec<PathBuf> {
        let paths = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
        let of = |path: PathBuf| match path.is_dir() {
            true => with_tests(&path),
            false if fs::read_to_string(&path).unwrap().contains("#[cfg(test)]") => vec![path],
            false => Vec::new(),
        };
        paths.flat_map(of).collect()
    }
    assert_eq!(with_tests(&Path::new(env!("CARGO_MANIFEST_DIR")).join("src")), Vec::<PathBuf>::new());
}
