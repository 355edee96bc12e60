//! `sophron rules fields [NAME]`: what a figure means, how it is measured, what is usual, what to do when it is high.

use serde_json::{Map, Value, json};
use sophron_core::model::{Cost, Field, Subject};
use sophron_core::text::{clean, nearest};

use crate::args::Format;
use crate::exit::{Exit, Failure};
use crate::ui::table::{self, Column};
use crate::ui::{self, machine, paragraph};

const COLUMNS: [&str; 9] = ["field", "of", "kind", "rate", "meaning", "usual", "when_high", "cost", "rights"];

pub fn run(name: Option<&str>, format: Format) -> Result<Exit, Failure> {
    let fields: Vec<Field> = match name {
        None => Field::ALL.to_vec(),
        Some(name) => vec![named(name)?],
    };
    let rows = || -> Vec<Map<String, Value>> { fields.iter().map(|field| row(*field)).collect() };
    ui::out(match format {
        Format::Text if name.is_some() => one(fields[0]),
        Format::Text => all(&fields),
        Format::Json => format!("{}\n", json!({ "rows": rows() })),
        Format::Jsonl => machine::lines(rows()),
        Format::Csv => machine::csv(&COLUMNS, &rows(), true),
    });
    Ok(Exit::Fine)
}

fn named(name: &str) -> Result<Field, Failure> {
    Field::named(name).ok_or_else(|| {
        let failure = Failure::new(Exit::Usage, format!("no field is called {}", clean(name.as_bytes())));
        let near = nearest(name, Field::ALL.iter().map(|field| field.name()));
        match near {
            Some(near) => failure.hint(format!("the nearest is {near}")),
            None => failure.hint("`sophron rules fields` shows all"),
        }
    })
}

fn of(field: Field) -> &'static str {
    if field.info().subject == Subject::Machine { "machine" } else { "process" }
}

fn kind(field: Field) -> String {
    let kind = serde_json::to_value(field.kind()).ok();
    kind.and_then(|kind| kind.as_str().map(str::to_owned)).unwrap_or_default()
}

/// What reading it takes, and of whom it may be read.
fn cost(cost: Cost) -> (&'static str, &'static str) {
    let (all, own) = ("everybody may read it of everybody", "of other users' processes only root may read it");
    match cost {
        Cost::Free => ("nothing more than every sample reads", all),
        Cost::Stat => ("/proc/PID/stat: 3 to 5 µs a process", all),
        Cost::Statm => ("/proc/PID/statm: 2.5 µs a process", all),
        Cost::Status => ("/proc/PID/status: 6 µs a process", all),
        Cost::Io => ("/proc/PID/io: 3 µs a process", own),
        Cost::Cgroup => ("/proc/PID/cgroup: 4.5 µs a process", all),
        Cost::Rollup => {
            ("/proc/PID/smaps_rollup: 20 µs to 76 ms by size; read only of those for which all else holds", own)
        }
        Cost::Files => ("/proc/PID/fd: 9 µs and more; read only of those for which all else holds", own),
        Cost::Family => ("counted over all processes", all),
        Cost::Command => ("/proc/PID/cmdline: 4 µs, once a program", all),
        Cost::Proof => ("4 µs, once a program", own),
        Cost::Groups => ("the CPU clock of every control group: 5 µs each", all),
        Cost::Machine => ("a file of the machine, once a sample", all),
        Cost::Disks => ("a system call for each mounted disk", all),
    }
}

fn row(field: Field) -> Map<String, Value> {
    let (info, help) = (field.info(), field.help());
    let (cost, rights) = cost(info.cost);
    let values = [
        json!(info.name),
        json!(of(field)),
        json!(kind(field)),
        json!(info.rate),
        json!(info.meaning),
        json!(help.usual),
        json!(help.when_high),
        json!(cost),
        json!(rights),
    ];
    COLUMNS.iter().map(|name| (*name).to_owned()).zip(values).collect()
}

fn one(field: Field) -> String {
    let (info, help) = (field.info(), field.help());
    let width = table::terminal_width().or(Some(120));
    let (cost, rights) = cost(info.cost);
    let rate = if info.rate { "; a rate over the sampling interval: a first sample has none" } else { "" };
    let lines = [
        ("meaning", info.meaning.to_owned()),
        ("kind", format!("{} of a {}, as `{} > {}`{rate}", kind(field), of(field), info.name, info.kind.example())),
        ("usual", help.usual.to_owned()),
        ("when high", help.when_high.to_owned()),
        ("cost", cost.to_owned()),
        ("rights", rights.to_owned()),
    ];
    let order = if info.kind.is_ordered() { ">" } else { "=" };
    let mut text = format!("{}\n", ui::style::Styled(ui::style::Label::Heading, info.name));
    for (word, line) in lines.iter().filter(|(_, line)| !line.is_empty()) {
        let line = line.replace(&format!("{} > ", info.name), &format!("{} {order} ", info.name));
        text.push_str(&paragraph::under(word, 11, &line, width));
    }
    text
}

fn all(fields: &[Field]) -> String {
    let columns =
        [Column::text("field"), Column::text("kind"), Column::text("of"), Column::text("meaning").gives_way()];
    let cells: Vec<Vec<String>> = fields
        .iter()
        .map(|field| {
            vec![field.name().to_owned(), kind(*field), of(*field).to_owned(), field.info().meaning.to_owned()]
        })
        .collect();
    table::render(&columns, &cells, table::terminal_width())
        + "\nmore about one: sophron rules fields NAME, as sophron rules fields memory.held\n"
}
