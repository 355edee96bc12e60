//! The readings of a group, summed over its members.

use std::time::Duration;

use super::{Judged, Summing};
use crate::groups::{Amount, Group, Grouping};
use crate::model::{Cost, Field, Machine, Needs, Process};
use crate::units::Value;

/// A group's sums at one tick.
#[derive(Debug, Clone, Copy)]
pub struct Totals {
    judged: Judged,
    cpu: Option<f64>,
    memory: Option<Amount>,
    cpu_time: Duration,
    /// Sums of sizes, in the order of [`SIZES`].
    sizes: [Option<u64>; 3],
    disk_read: Option<f32>,
    disk_write: Option<f32>,
    faults: Option<f32>,
    children_cpu: Option<f32>,
    threads: u32,
    members: u32,
    age: Duration,
    /// What of a member is only carried over, and what of one that has run since that was read.
    stale: Needs,
    outrun: Needs,
    /// Whether nobody has run since the sample before.
    still: bool,
    /// At most so much memory, and held memory, bytes.
    most: [Option<u64>; 2],
    /// What was counted by the group since it was first seen, as far as it was read, in the order of [`Field::COUNTED`].
    counts: [Option<u64>; Field::COUNTED.len()],
    /// CPU time used by the group since it was first seen.
    pub(crate) used: Duration,
}

type SizeOf = fn(&Process) -> Option<u64>;

const SIZES: [(Field, SizeOf); 3] = [
    (Field::MemoryHeld, |process| process.memory_held),
    (Field::MemoryVirtual, |process| process.memory_virtual),
    (Field::MemorySwapped, |process| process.memory_swapped),
];

impl Totals {
    /// The sums of a group.
    pub fn of(group: &Group<'_>, judged: Judged) -> Totals {
        let members = &group.members;
        fn sum(members: &[&Process], of: impl Fn(&Process) -> Option<f32>) -> Option<f32> {
            members.iter().map(|process| of(process)).sum()
        }
        Totals {
            judged,
            cpu: group.cpu(judged.grouping().unwrap_or(Grouping::App)),
            memory: group.memory(),
            cpu_time: members.iter().map(|process| process.cpu_time).sum(),
            // Address space costs nothing: a few processes can have more than a number holds.
            sizes: SIZES
                .map(|(_, of)| members.iter().try_fold(0_u64, |all, process| Some(all.saturating_add(of(process)?)))),
            disk_read: sum(members, |process| process.disk_read),
            disk_write: sum(members, |process| process.disk_write),
            faults: sum(members, |process| process.faults),
            children_cpu: sum(members, Process::children_cpu),
            threads: members.iter().map(|process| process.threads).fold(0, u32::saturating_add),
            members: members.len() as u32,
            age: members.iter().map(|process| process.age).max().unwrap_or_default(),
            stale: members.iter().fold(Needs::NONE, |all, process| all.and(process.stale)),
            outrun: members.iter().fold(Needs::NONE, |all, process| all.and(process.outrun)),
            still: members.iter().all(|process| process.stood_still()),
            most: [false, true].map(|held| {
                members.iter().try_fold(0_u64, |all, process| Some(all.saturating_add(process.at_most(held)?)))
            }),
            counts: [None; Field::COUNTED.len()],
            used: Duration::ZERO,
        }
    }

    /// So much was counted of what that field is the pace of.
    pub(crate) fn counted(&mut self, field: Field, counted: Option<u64>) {
        if let Some(place) = field.counted() {
            self.counts[place] = counted;
        }
    }

    /// What was counted of it; where it has to be `now`, only if nobody has run since he was read.
    pub(crate) fn count_behind(&self, field: Field, now: bool) -> Option<u64> {
        self.counts[field.counted()?].filter(|_| !(now && self.outrun.has(field.info().cost)))
    }

    /// With its proportional memory as last read, where no more than a bound is known.
    pub(crate) fn with_exact(self, bytes: Option<u64>) -> Totals {
        let exact = bytes.map(|bytes| Amount { bytes, at_most: false });
        let memory = self.memory.map(|known| if known.at_most { exact.unwrap_or(known) } else { known });
        Totals { memory, ..self }
    }

    /// How many there are.
    pub(crate) fn members(&self) -> usize {
        self.members as usize
    }

    /// CPU over the interval, percent of one core.
    pub(crate) fn cpu(&self) -> Option<f64> {
        self.cpu
    }

    /// At least that much CPU was used by the group, whoever of it was seen.
    pub(crate) fn at_least(&mut self, cpu: f64) {
        self.cpu = self.cpu.map(|seen| seen.max(cpu));
    }

    /// What of it is no reading of this sample.
    pub(crate) fn stale(&self) -> Needs {
        self.stale
    }

    /// What of a member was read before it last ran.
    pub(crate) fn outrun(&self) -> Needs {
        self.outrun
    }

    /// Whether nobody has run since the sample before.
    pub(crate) fn stood_still(&self) -> bool {
        self.still
    }

    /// The resident sum, where that is all that is known of its memory.
    pub(crate) fn upper_bound(&self) -> Option<u64> {
        self.memory.filter(|memory| memory.at_most).map(|memory| memory.bytes)
    }

    /// The reading of a field; `None` in the outer place for one that is common to all members, as they have it.
    pub(crate) fn reading(&self, field: Field, machine: &Machine) -> Option<Option<Value>> {
        let exact = self.memory.filter(|memory| !memory.at_most).map(|memory| memory.bytes);
        match self.judged.summing(field)? {
            Summing::Own | Summing::Common | Summing::Machine => return None,
            Summing::Count => return Some(Some(Value::Count(f64::from(self.members)))),
            Summing::Oldest => return Some(Some(Value::Duration(self.age))),
            Summing::Sum | Summing::Cpu | Summing::Memory => {}
        }
        let rate = |rate: Option<f32>| rate.map(|rate| Value::Rate(f64::from(rate)));
        Some(match field {
            Field::Cpu => self.cpu.map(Value::Percent),
            Field::CpuPart => self.cpu.map(|cpu| Value::Percent(cpu / f64::from(machine.cores.max(1)))),
            Field::CpuChildren => self.children_cpu.map(|cpu| Value::Percent(f64::from(cpu))),
            Field::CpuTime => Some(Value::Duration(self.cpu_time)),
            Field::Memory => exact.map(Value::Size),
            Field::MemoryPart => exact.map(|bytes| Value::Percent(machine.share_of_memory(bytes))),
            Field::Disk => rate(self.disk_read.zip(self.disk_write).map(|(read, write)| read + write)),
            Field::DiskRead => rate(self.disk_read),
            Field::DiskWrite => rate(self.disk_write),
            Field::Faults => self.faults.map(|faults| Value::Count(f64::from(faults))),
            Field::Threads => Some(Value::Count(f64::from(self.threads))),
            size => {
                SIZES.iter().position(|(field, _)| *field == size).and_then(|place| self.sizes[place]).map(Value::Size)
            }
        })
    }

    /// An upper bound of a field whose reading is not known.
    pub(crate) fn bound(&self, field: Field, machine: &Machine) -> Option<Value> {
        let resident = || if self.stale.has(Cost::Statm) { self.most[0] } else { self.upper_bound() };
        match field {
            Field::Memory => resident().map(Value::Size),
            Field::MemoryPart => resident().map(|bytes| Value::Percent(machine.share_of_memory(bytes))),
            Field::MemoryHeld if self.stale.has(Cost::Status) => self.most[1].map(Value::Size),
            _ => None,
        }
    }
}
