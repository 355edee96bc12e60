//! What lowering did: the CPU share before and after, over a stated time; where it did nothing, why.

use std::time::Duration;

use crate::act::{Lever, Only};
use crate::model::{Process, Snapshot};
use crate::units::{Value, scaled_duration, scaled_percent};

/// A share that falls by less than a tenth has not changed.
const NO_CHANGE: f64 = 0.9;

/// A core, or a machine, busier than that has somebody who wants it, percent.
const CONTENDED: f64 = 90.0;

/// Who uses less before, percent of a core, has little to give.
const HARDLY_ANY: f64 = 1.0;

/// Who moves less than that has little to give, bytes a second.
const HARDLY_A_BYTE: f64 = 64.0 * 1024.0;

/// All others together using less are nobody, percent of a core.
const NOBODY: f64 = 5.0;

/// The reading before and the look after.
#[derive(Debug)]
pub struct Look<'a> {
    /// The process before.
    pub before: &'a Process,
    /// The sample after.
    pub after: &'a Snapshot,
    /// Its share after, percent of one core; `None` for that of the sample.
    pub cpu: Option<f64>,
    /// Over how long each was measured, before and after.
    pub over: (Duration, Duration),
    /// What was lowered.
    pub only: Only,
    /// Whether that was a whole session.
    pub whole_session: bool,
    /// By what lowering works on it.
    pub lever: &'a Lever,
}

/// What was found.
#[derive(Debug, Clone, PartialEq)]
pub struct Effect {
    /// Over how long each was measured, before and after.
    pub over: (Duration, Duration),
    /// What was found.
    pub measured: Measured,
}

/// A reading before and after.
#[derive(Debug, Clone, PartialEq)]
pub enum Measured {
    /// It ended meanwhile.
    Ended,
    /// It could not be read.
    Unknown,
    /// Bytes a second from and to disks, before and after; `None` where they may not be read.
    Disk(Option<(f64, f64)>),
    /// Percent of a core, before and after, and why nothing changed, if nothing did.
    Cpu(f64, f64, Option<Why>),
}

/// Why a lowering shows no effect.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Why {
    /// It used hardly any before.
    HardlyAny,
    /// Nobody but those lowered uses the CPU.
    Alone,
    /// Nobody else wants the CPU at present.
    NobodyWants,
    /// It is in a control group of its own.
    OfGroup(String),
    /// The kernel groups CPU by session.
    OfSession,
    /// Those who want the CPU are no milder, or there is room for all.
    NoMilder,
}

impl Effect {
    /// Of a lowering; `meant` says who else was lowered.
    pub fn of(look: &Look<'_>, meant: impl Fn(&Process) -> bool) -> Effect {
        Effect { over: look.over, measured: measured(look, meant) }
    }

    /// Whether somebody wants what it has, and it gave nothing of it up.
    pub fn is_without(&self) -> bool {
        match &self.measured {
            Measured::Cpu(.., why) => matches!(why, Some(Why::OfGroup(_) | Why::OfSession | Why::NoMilder)),
            Measured::Disk(Some((was, is))) => *was >= HARDLY_A_BYTE && *is >= *was * NO_CHANGE,
            Measured::Disk(None) | Measured::Ended | Measured::Unknown => false,
        }
    }

    /// `cpu 98% → 31% of a core (each over 2 s)`, with a reason where nothing changed.
    pub fn words(&self) -> String {
        let (first, second) = (scaled_duration(self.over.0), scaled_duration(self.over.1));
        let over = if first == second { format!("each over {first}") } else { format!("over {first} and {second}") };
        match &self.measured {
            Measured::Ended => "it ended meanwhile".to_owned(),
            Measured::Unknown => "its effect could not be measured".to_owned(),
            Measured::Disk(None) => "its disk rates may not be read".to_owned(),
            Measured::Disk(Some((was, is))) => {
                let figures = format!("disk {} → {} ({over})", Value::Rate(*was).scaled(), Value::Rate(*is).scaled());
                match () {
                    () if *is < *was * NO_CHANGE => figures,
                    () if *was < HARDLY_A_BYTE => format!("{figures}: it read and wrote hardly anything before"),
                    () => format!(
                        "{figures}: no effect, since nobody else wants the disk, or the disk's scheduler heeds no priorities"
                    ),
                }
            }
            Measured::Cpu(was, is, why) => {
                let figures = format!("cpu {} → {} of a core ({over})", scaled_percent(*was), scaled_percent(*is));
                match why {
                    None => figures,
                    Some(Why::HardlyAny) => format!("{figures}: it used hardly any before"),
                    Some(why) => format!("{figures}: no effect, since {}", why.words()),
                }
            }
        }
    }
}

fn measured(look: &Look<'_>, meant: impl Fn(&Process) -> bool) -> Measured {
    let Look { before: was, after, .. } = look;
    let Some(is) = after.find(&was.id) else { return Measured::Ended };
    if look.only == Only::Disk {
        let rate =
            |process: &Process| process.disk_read.zip(process.disk_write).map(|(read, write)| f64::from(read + write));
        return Measured::Disk(rate(was).zip(rate(is)));
    }
    let Some((before, now)) = was.cpu.zip(look.cpu.or(is.cpu)) else { return Measured::Unknown };
    let others = after.processes.iter().filter(|process| !meant(process)).filter_map(|process| process.cpu);
    let why = || {
        // All cores busy, or one of them while this process gets less than one.
        let core = after.machine.core_fullest.is_some_and(|core| core >= CONTENDED) && now < CONTENDED;
        let contended = core || after.machine.cpu.is_some_and(|cpu| cpu >= CONTENDED);
        match look.lever {
            _ if others.sum::<f64>() < NOBODY => Why::Alone,
            _ if !contended => Why::NobodyWants,
            Lever::Weight { group, .. } => Why::OfGroup(group.clone()),
            Lever::SessionGroup { .. } if !look.whole_session => Why::OfSession,
            _ => Why::NoMilder,
        }
    };
    let why = match () {
        () if before < HARDLY_ANY => Some(Why::HardlyAny),
        () if now < before * NO_CHANGE => None,
        () => Some(why()),
    };
    Measured::Cpu(before, now, why)
}

impl Why {
    fn words(&self) -> String {
        match self {
            Why::HardlyAny => "it used hardly any before".to_owned(),
            Why::Alone => "nobody but those lowered uses the CPU".to_owned(),
            Why::NobodyWants => "nobody else wants the CPU: it gives way as soon as somebody does".to_owned(),
            Why::OfGroup(group) => format!(
                "it is in the control group {group}: niceness acts only against that group's own processes, against the others its CPU weight"
            ),
            Why::OfSession => "the kernel groups CPU by session: niceness acts only inside its own; lowering the whole session acts against the others".to_owned(),
            Why::NoMilder => "those who want the CPU are no milder than it, or there is room for all".to_owned(),
        }
    }
}
