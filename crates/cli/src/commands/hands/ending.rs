//! What every act by hand ends with: whether the machine is better off, how to undo it, and what to look at next.

use sophron_core::model::Machine;
use sophron_core::units::{scaled_percent, scaled_size};

use crate::ui::{self, paragraph, table};

const INDENT: usize = 10;

/// Of what the machine was short, by what was done.
#[derive(Debug, Clone, Copy)]
pub(super) enum Asked {
    Cpu,
    Disk,
    Memory,
}

/// What the machine has of it, how to take it back, and what to type next, with what that tells.
pub(super) fn ending(machine: Option<&str>, undo: Option<&str>, next: &[(String, &str)]) {
    let width = table::terminal_width();
    said("machine", machine);
    said("undo", undo);
    let checkup = ("sophron checkup".to_owned(), "whether the machine is short of something still");
    for (place, (command, what)) in next.iter().chain([&checkup]).enumerate() {
        let word = if place == 0 { "next" } else { "" };
        ui::out(paragraph::under(word, INDENT, &format!("{command}   {what}"), width));
    }
}

/// One of its lines.
pub(super) fn said(word: &str, line: Option<&str>) {
    if let Some(line) = line {
        ui::out(paragraph::under(word, INDENT, line, table::terminal_width()));
    }
}

/// How long of the time somebody waited for a core: of the last 10 s before the act, and while it lasted.
pub(super) fn meanwhile(before: &Machine, meanwhile: &Machine) -> Option<String> {
    let (was, is) = (before.stall_cpu?.ten_seconds, meanwhile.stall_cpu?.interval?);
    let (was, is) = (scaled_percent(was), scaled_percent(is));
    Some(format!("somebody waited for a core, of the time: {was} in the 10 s before, {is} meanwhile"))
}

/// One figure of the machine, before and after: where the kernel tells it, the share of time in which somebody waited.
pub(super) fn figure(asked: Asked, before: &Machine, after: &Machine) -> Option<String> {
    let share = |what: &str, pair: Option<(f64, f64)>| {
        pair.map(|(was, is)| format!("{what} {} before, {} after", scaled_percent(was), scaled_percent(is)))
    };
    let stall = |of: fn(&Machine) -> Option<sophron_core::model::Stall>| {
        of(before).and_then(|stall| stall.interval).zip(of(after).and_then(|stall| stall.interval))
    };
    match asked {
        Asked::Cpu => share("somebody waited for a core, of the time:", stall(|machine| machine.stall_cpu))
            .or_else(|| share("its cores were busy:", before.cpu.zip(after.cpu))),
        Asked::Disk => share("somebody waited for a disk, of the time:", stall(|machine| machine.stall_io))
            .or_else(|| share("its busiest disk was busy:", before.disk_busy.zip(after.disk_busy))),
        Asked::Memory => {
            let pair = before.memory_available.zip(after.memory_available);
            pair.map(|(was, is)| {
                let size = |bytes: u64| scaled_size(bytes as f64);
                format!("memory that can be had: {} before, {} after", size(was), size(is))
            })
        }
    }
}
