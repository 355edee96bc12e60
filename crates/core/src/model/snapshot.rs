//! One sample of one machine.

use std::time::Duration;

use jiff::Timestamp;

use super::{Machine, Process, ProcessId};

/// When a sample was taken, on the three clocks that matter.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Moment {
    /// Wall-clock time, which people may set.
    pub wall: Timestamp,
    /// CLOCK_MONOTONIC: stands still while the machine naps. Intervals and rates use it.
    pub monotonic: Duration,
    /// CLOCK_BOOTTIME: runs on through naps. Ages use it.
    pub boottime: Duration,
}

impl Moment {
    /// How long the machine napped between `earlier` and this moment.
    pub(crate) fn napped_since(&self, earlier: &Moment) -> Duration {
        let slept = |moment: &Moment| moment.boottime.saturating_sub(moment.monotonic);
        slept(self).saturating_sub(slept(earlier))
    }
}

/// One sample: what every later stage works on, whether it comes from a live machine or from a recording.
#[derive(Debug, PartialEq, Default)]
pub struct Snapshot {
    /// When it was taken.
    pub moment: Moment,
    /// Time since the sample before; `None` at the first, which has no rates.
    pub interval: Option<Duration>,
    /// The machine's figures.
    pub machine: Machine,
    /// All processes, by PID.
    pub processes: Vec<Process>,
}

impl Clone for Snapshot {
    fn clone(&self) -> Snapshot {
        let mut copy = Snapshot::default();
        copy.clone_from(self);
        copy
    }

    /// By parts, for the room of the processes to be used again: whoever goes through a recording keeps the last sample.
    fn clone_from(&mut self, other: &Snapshot) {
        let Snapshot { moment, interval, machine, processes } = other;
        (self.moment, self.interval) = (*moment, *interval);
        self.machine.clone_from(machine);
        self.processes.clone_from(processes);
    }
}

impl Snapshot {
    /// That very process, and not who may have its PID by now.
    pub fn find(&self, id: &ProcessId) -> Option<&Process> {
        self.process(id.pid).filter(|process| process.id == *id)
    }

    /// The process of that PID.
    pub fn process(&self, pid: u32) -> Option<&Process> {
        self.place(pid).map(|place| &self.processes[place])
    }

    /// Where the process of that PID stands.
    pub(crate) fn place(&self, pid: u32) -> Option<usize> {
        self.processes.binary_search_by_key(&pid, |process| process.id.pid).ok()
    }
}
