//! By what a process is made milder, and what came of it.

use crate::text::counted;
use std::time::Duration;

use super::{Originals, Outcome};

/// What a lowering is to move.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Only {
    /// CPU and disk.
    #[default]
    Both,
    /// Niceness, and what goes with it.
    Cpu,
    /// The I/O class only.
    Disk,
}

/// By what lowering works: niceness acts only inside a scheduling group.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Lever {
    /// Niceness: it shares its scheduling group with everybody.
    Nice,
    /// The CPU weight of its control group: plain niceness would only act against the group's own.
    Weight {
        /// The group.
        group: String,
        /// Whether it is in the unified hierarchy (`cpu.weight`; else `cpu.shares`).
        unified: bool,
    },
    /// The value of its session's automatic group: plain niceness would only act inside the session (sched(7)).
    SessionGroup {
        /// As `/proc/PID/autogroup` has it.
        group: String,
    },
}

/// One lever, moved or not.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Moved<T> {
    /// What it was.
    pub was: T,
    /// What it was to be.
    pub to: T,
    /// Why it is still what it was.
    pub stays: Option<String>,
}

/// What came of a lowering.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lowering {
    /// The niceness wanted.
    pub nice: i32,
    /// What was to be moved.
    pub only: Only,
    /// What everything had before.
    pub originals: Originals,
    /// Threads that are as mild as wanted.
    pub threads: usize,
    /// Whether new threads were all reached.
    pub complete: bool,
    /// What could not be lowered, though something else was.
    pub hindered: Option<String>,
    /// The value of its session.
    pub session: Option<Moved<i32>>,
    /// The CPU weight of its unit.
    pub weight: Option<Moved<u64>>,
    /// By what lowering works on it.
    pub lever: Lever,
    /// Whether we may take it back.
    pub reversible: bool,
}

impl Lowering {
    /// One that was taken for done: of a single thread, by plain niceness.
    pub fn assumed(nice: i32, only: Only) -> Lowering {
        Lowering {
            nice,
            only,
            originals: Originals::default(),
            threads: 1,
            complete: true,
            hindered: None,
            session: None,
            weight: None,
            lever: Lever::Nice,
            reversible: true,
        }
    }

    /// For people: what was moved.
    pub fn seen(&self) -> String {
        let mut what = Vec::new();
        if self.only != Only::Disk {
            what.push(match self.originals.was < self.nice {
                true => format!("nice {} → {}", self.originals.was, self.nice),
                false => format!("had nice {} already", self.originals.was),
            });
        }
        if self.only != Only::Cpu {
            what.push("disk only when nobody else wants it".to_owned());
        }
        if let Some(why) = &self.hindered {
            what.push(format!("not all of it: {why}"));
        }
        if let Some(Moved { was, to, stays }) = &self.session {
            what.push(match stays {
                None => format!("its session's value {was} → {to}"),
                Some(why) => format!("its session's value stays {was}: {why}"),
            });
        }
        if let Some(Moved { was, to, stays }) = &self.weight {
            what.push(match stays {
                None => format!("CPU weight of its unit {was} → {to}"),
                Some(why) => format!("the CPU weight of its unit stays: {why}"),
            });
        }
        what.push(counted(self.threads, "thread"));
        if !self.complete {
            what.push("it makes new threads faster than they can be lowered".to_owned());
        }
        let undone = if self.reversible { "" } else { "; cannot be undone without root" };
        format!("{}{undone}", what.join(", "))
    }
}

/// What came of taking a lowering back.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Restoring {
    /// Threads whose niceness was brought back: from what, to what, how many.
    pub nice: Option<(i32, i32, usize)>,
    /// Threads whose I/O class was.
    pub disks: usize,
    /// The session's value, from what, to what.
    pub session: Option<(i32, i32)>,
    /// The unit's weight, from what, to what.
    pub weight: Option<(u64, u64)>,
    /// Threads that somebody else has changed since: left as they are.
    pub left: usize,
    /// What could not be put back, and why.
    pub failed: Vec<String>,
    /// Whether the process had ended.
    pub gone: bool,
}

impl Restoring {
    /// As what it is told.
    pub fn outcome(self) -> Outcome {
        let moved = self.nice.is_some() || self.disks > 0 || self.session.is_some() || self.weight.is_some();
        match () {
            () if !self.failed.is_empty() => Outcome::Refused(self.seen()),
            () if !moved && self.gone => Outcome::Gone,
            () if !moved && self.left > 0 => Outcome::ChangedSince,
            () => Outcome::Restored(self),
        }
    }

    /// For people: what was put back.
    pub fn seen(&self) -> String {
        let mut what = Vec::new();
        what.extend(self.nice.map(|(set, to, count)| format!("nice {set} → {to}, {}", counted(count, "thread"))));
        what.extend((self.disks > 0).then(|| format!("disk as before, {}", counted(self.disks, "thread"))));
        what.extend(self.weight.map(|(set, to)| format!("CPU weight of its unit {set} → {to}")));
        what.extend(self.session.map(|(set, to)| format!("its session's value {set} → {to}")));
        what.extend(self.failed.iter().map(|why| format!("niceness not put back: {why}")));
        if what.is_empty() {
            return "it was as before".to_owned();
        }
        what.extend(
            (self.left > 0).then(|| format!("{} left as somebody else has set them", counted(self.left, "thread"))),
        );
        what.join("; ")
    }
}

/// Time a whole suspension of a tree took, and the like, in whole milliseconds.
pub(super) fn milliseconds(took: Duration) -> String {
    format!("{} ms", took.as_millis())
}
