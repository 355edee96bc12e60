//! Fields as columns: a heading with its unit over every number.

use sophron_core::condition::fields_meant;
use sophron_core::facts::Facts;
use sophron_core::groups::{Group, Grouping};
use sophron_core::model::{Field, Machine, Process, Subject};
use sophron_core::subject::{Judged, Summing};
use sophron_core::units::{Kind, Value, scaled_duration, scaled_size};

use crate::exit::{Exit, Failure};
use crate::ui::table::Column;

/// What is shown when nobody says what.
pub(super) const DEFAULT: [Field; 7] =
    [Field::Id, Field::App, Field::Owner, Field::Cpu, Field::Memory, Field::Age, Field::State];

/// The field of a process of that name.
pub(super) fn field_named(name: &str, option: &str) -> Result<Field, Failure> {
    let of_process = |field: &Field| field.info().subject == Subject::Process;
    if let Some(field) = Field::named(name).filter(of_process) {
        return Ok(field);
    }
    let meant: Vec<&str> = fields_meant(name).into_iter().filter(of_process).map(Field::name).collect();
    let shown = sophron_core::text::clean(name.as_bytes());
    let failure = Failure::new(Exit::Usage, format!("{option}: there is no field `{shown}` of a process"));
    Err(match meant.is_empty() {
        false => failure.hint(format!("write {}", meant.join(" or "))),
        true => failure.hint("`sophron rules fields` explains all that there are"),
    })
}

/// The unit that a heading names, where the cells do not.
fn unit(field: Field) -> &'static str {
    match field {
        Field::Cpu | Field::CpuChildren => ", % of a core",
        Field::CpuPart => ", % of the machine",
        Field::MemoryPart => ", % of RAM",
        Field::Faults => ", a second",
        _ => "",
    }
}

pub(super) fn headings(columns: &[Field]) -> Vec<Column> {
    columns
        .iter()
        .map(|field| {
            let heading = format!("{field}{}", unit(*field));
            let column = if field.kind().is_ordered() { Column::number(heading) } else { Column::text(heading) };
            if matches!(field, Field::App | Field::Owner | Field::Path | Field::Command | Field::Unit | Field::Name) {
                column.gives_way()
            } else {
                column
            }
        })
        .collect()
}

pub(super) fn row(process: &Process, machine: &Machine, columns: &[Field]) -> Vec<String> {
    let facts = Facts::new(process, machine);
    columns.iter().map(|field| cell(&facts, *field)).collect()
}

fn cell(facts: &Facts<'_>, field: Field) -> String {
    let Some(reading) = facts.reading(field) else { return "unknown".to_owned() };
    let is = |what: fn(&Process) -> bool| facts.process.is_some_and(what);
    match (field, reading) {
        (Field::App, Value::Text(app)) if is(|process| process.id.pid == std::process::id()) => {
            format!("{app} (this command)")
        }
        (Field::App, Value::Text(app)) if is(|process| process.kernel) => format!("{app} (kernel)"),
        // A forged path can name anything: what is not proven is marked, where it was looked at.
        (Field::Path, Value::Text(path)) if is(|process| process.replaced) => format!("{path} (replaced on disk)"),
        (Field::Path, Value::Text(path)) if !path.is_empty() && is(|process| !process.path_proven()) => {
            format!("{path} (a claim)")
        }
        (Field::Age, Value::Duration(age)) => scaled_duration(std::time::Duration::from_secs(age.as_secs())),
        (field, reading) => figure(field, &reading),
    }
}

/// What a heading gives the unit of stands without it.
fn figure(field: Field, reading: &Value) -> String {
    match reading {
        Value::Percent(percent) if !unit(field).is_empty() => format!("{percent:.1}"),
        Value::Count(count) if !unit(field).is_empty() => format!("{count:.0}"),
        reading if field.kind() == Kind::Flag => reading.to_string(),
        reading => reading.scaled(),
    }
}

/// Whether a field adds up over a group.
pub(super) fn sums(field: Field) -> bool {
    matches!(Judged::App.summing(field), Some(Summing::Sum | Summing::Cpu | Summing::Memory | Summing::Count))
}

/// The sum of a field over a group, in base units; `None` where it is known of nobody.
pub(super) fn sum(group: &Group<'_>, field: Field, machine: &Machine) -> Option<f64> {
    if field == Field::Instances {
        return Some(group.members.len() as f64);
    }
    let readings = group.members.iter().filter_map(|process| Facts::new(process, machine).reading(field)?.number());
    readings.fold(None, |sum: Option<f64>, reading| Some(sum.unwrap_or(0.0) + reading))
}

/// One that the columns of groups have already.
fn is_shown(by: Field) -> bool {
    matches!(by, Field::Cpu | Field::Memory | Field::Instances)
}

pub(super) fn group_headings(grouping: Grouping, by: Field) -> Vec<Column> {
    let mut columns = vec![Column::text(grouping.word()).gives_way()];
    if matches!(grouping, Grouping::App | Grouping::Tree) {
        columns.push(Column::text("owner").gives_way());
    }
    let cpu = if grouping == Grouping::Tree { "cpu with ended children, % of a core" } else { "cpu, % of a core" };
    columns.push(Column::number("processes"));
    if !is_shown(by) {
        columns.push(Column::number(format!("{by}{}", unit(by))));
    }
    columns.extend([Column::number(cpu), Column::number("memory"), Column::text("heaviest").gives_way()]);
    columns
}

pub(super) fn group_row(group: &Group<'_>, grouping: Grouping, by: Field, machine: &Machine) -> Vec<String> {
    // A tree is named by its root.
    let mut row = vec![match grouping {
        Grouping::Tree => format!("{} {}", group.name, group.members[0].id.checked()),
        _ if group.members[0].kernel => format!("{} (kernel)", group.name),
        _ => group.name.clone(),
    }];
    if matches!(grouping, Grouping::App | Grouping::Tree) {
        row.push(group.owner.clone());
    }
    let heaviest = group.heaviest(by == Field::Memory);
    let heaviest = match grouping {
        Grouping::App => heaviest.id.checked().to_string(),
        _ => format!("{} {}", heaviest.app, heaviest.id.checked()),
    };
    let cpu = group.cpu(grouping).map_or("unknown".to_owned(), |cpu| format!("{cpu:.1}"));
    row.push(group.members.len().to_string());
    if !is_shown(by) {
        let value = sum(group, by, machine).map(|sum| by.kind().of_number(sum));
        row.push(value.map_or("unknown".to_owned(), |value| figure(by, &value)));
    }
    row.extend([cpu, memory(group), heaviest]);
    row
}

/// `819 MiB`, or `at most 6.80 GiB` where shared pages may be in it more than once.
pub(super) fn memory(group: &Group<'_>) -> String {
    group.memory().map_or("unknown".to_owned(), |amount| {
        let bound = if amount.at_most { "at most " } else { "" };
        format!("{bound}{}", scaled_size(amount.bytes as f64))
    })
}
