//! What lowering did: the CPU share before and after, over a stated time; where it did nothing, why.

use std::time::Duration;

use sophron_core::model::{Process, Snapshot};
use sophron_core::units::{Value, scaled_duration, scaled_percent};
use sophron_linux::act::Only;
use sophron_linux::inspect::{Lever, lever};

/// A share that falls by less than a tenth has not changed.
const NO_CHANGE: f64 = 0.9;

/// A core, or a machine, busier than that has somebody who wants it, percent.
const CONTENDED: f64 = 90.0;

/// The reading before and the look after.
pub struct Measured<'a> {
    pub before: &'a Process,
    pub after: &'a Snapshot,
    /// Its share after, percent of one core; `None` for that of the look.
    pub cpu: Option<f64>,
    /// Over how long each was measured, before and after.
    pub over: (Duration, Duration),
    pub only: Only,
    pub whole_session: bool,
}

/// `cpu 98% → 31% of a core (each over 2 s)`, with a reason where nothing changed. `meant` says who else was lowered.
pub fn words(measured: &Measured<'_>, meant: impl Fn(&Process) -> bool) -> String {
    let Measured { before: was, after, only, whole_session, .. } = measured;
    let Some(is) = after.process(was.id.pid).filter(|now| now.id == was.id) else {
        return "it ended meanwhile".to_owned();
    };
    let (first, second) = (scaled_duration(measured.over.0), scaled_duration(measured.over.1));
    let over = if first == second { format!("each over {first}") } else { format!("over {first} and {second}") };
    if *only == Only::Disk {
        let rate =
            |process: &Process| process.disk_read.zip(process.disk_write).map(|(read, write)| f64::from(read + write));
        return match (rate(was), rate(is)) {
            (Some(was), Some(is)) => {
                format!("disk {} → {} ({over})", Value::Rate(was).scaled(), Value::Rate(is).scaled())
            }
            _ => "its disk rates may not be read".to_owned(),
        };
    }
    let (Some(was_cpu), Some(is_cpu)) = (was.cpu, measured.cpu.or(is.cpu)) else {
        return "its effect could not be measured".to_owned();
    };
    let figures = format!("cpu {} → {} of a core ({over})", scaled_percent(was_cpu), scaled_percent(is_cpu));
    if was_cpu < 1.0 {
        return format!("{figures}: it used hardly any before");
    }
    if is_cpu < was_cpu * NO_CHANGE {
        return figures;
    }
    // All cores busy, or one of them while this process gets less than one.
    let core = after.machine.core_fullest.is_some_and(|core| core >= CONTENDED) && is_cpu < CONTENDED;
    let contended = core || after.machine.cpu.is_some_and(|cpu| cpu >= CONTENDED);
    let others = after.processes.iter().filter(|process| !meant(process)).filter_map(|process| process.cpu);
    let why = match lever(was.id.pid) {
        _ if others.sum::<f64>() < 5.0 => "nobody but those lowered uses the CPU".to_owned(),
        _ if !contended => "nobody else wants the CPU: it gives way as soon as somebody does".to_owned(),
        Lever::Weight { group, .. } => format!(
            "it is in the control group {group}: niceness acts only against that group's own processes, against the others its CPU weight"
        ),
        Lever::SessionGroup { .. } if !whole_session => {
            "the kernel groups CPU by session: niceness acts only inside its own; lowering the whole session (its leader with --tree) acts against the others".to_owned()
        }
        _ => "those who want the CPU are no milder than it, or there is room for all".to_owned(),
    };
    format!("{figures}: no effect, since {why}")
}
