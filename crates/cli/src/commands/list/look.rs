//! The look everybody takes: the apps with most CPU, those with most memory, and the machine's totals.

use sophron_core::groups::{Group, Grouping, groups};
use sophron_core::model::{Machine, Snapshot};
use sophron_core::order::InOrder;
use sophron_core::units::{scaled_percent, scaled_size};

use super::IDLE;
use super::columns::memory;
use crate::ui::style::{Label, Styled};
use crate::ui::table::{self, Column};

const ROWS: usize = 5;

pub(super) fn summary(snapshot: &Snapshot) -> String {
    let idle = snapshot.processes.iter().filter(|process| process.cpu.is_some_and(|cpu| cpu < IDLE)).count();
    format!("{} processes, {idle} idle", snapshot.machine.processes)
}

/// `machine: cpu 81% of 4 cores, memory 1.93 GiB used of 7.7 GiB`.
pub(super) fn machine_line(machine: &Machine) -> String {
    let cpu = machine.cpu.map_or("unknown".to_owned(), scaled_percent);
    let used = machine.memory_used().map_or("unknown".to_owned(), |used| scaled_size(used as f64));
    let total = scaled_size(machine.memory_total as f64);
    format!("machine: cpu {cpu} of {} cores, memory {used} used of {total}", machine.cores)
}

pub(super) fn render(snapshot: &Snapshot) -> String {
    let mut apps = groups(&snapshot.processes, Grouping::App, |_| true);
    let cpu = |group: &Group<'_>| group.cpu(Grouping::App).unwrap_or(-1.0);
    apps.order_by(|a, b| cpu(b).total_cmp(&cpu(a)));
    let busy: Vec<Vec<String>> = apps
        .iter()
        .take(ROWS)
        .map(|app| {
            let heaviest = app.heaviest(false);
            let of = heaviest.cpu.map_or("unknown".to_owned(), |cpu| format!("{cpu:.1}"));
            let sum = app.cpu(Grouping::App).map_or("unknown".to_owned(), |cpu| format!("{cpu:.1}"));
            row(app, sum, heaviest.id.checked().to_string(), of)
        })
        .collect();
    apps.order_by_key(|app| std::cmp::Reverse(app.memory().map(|amount| amount.bytes)));
    let large: Vec<Vec<String>> = apps
        .iter()
        .take(ROWS)
        .map(|app| {
            let heaviest = app.heaviest(true);
            let of = heaviest.memory.map_or("unknown".to_owned(), |memory| scaled_size(memory as f64));
            row(app, memory(app), heaviest.id.checked().to_string(), of)
        })
        .collect();
    let columns = |sum: &'static str, own: &'static str| {
        [
            Column::text("app").gives_way(),
            Column::text("owner").gives_way(),
            Column::number("processes"),
            Column::number(sum),
            Column::text("heaviest"),
            Column::number(own),
        ]
    };
    let width = table::terminal_width();
    format!(
        "\n{}\n{}\n{}\n{}",
        Styled(Label::Notice, "most cpu"),
        table::render(&columns("cpu, % of a core", "its cpu"), &busy, width),
        Styled(Label::Notice, "most memory"),
        table::render(&columns("memory", "its memory"), &large, width),
    )
}

fn row(app: &Group<'_>, sum: String, heaviest: String, of: String) -> Vec<String> {
    let own = app.members.iter().any(|process| process.id.pid == std::process::id());
    let name = if own { format!("{} (this command)", app.name) } else { app.name.clone() };
    vec![name, app.owner.clone(), app.members.len().to_string(), sum, heaviest, of]
}
