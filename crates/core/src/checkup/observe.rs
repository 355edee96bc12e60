//! Several looks at one machine as one observation: rates over the whole time, and how often a process was found in a state.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::time::Duration;

use jiff::Timestamp;

use super::grows::Grown;
use super::limits::{LIMITS, Limits, Watched};
use crate::model::{CpuSplit, DiskUse, Machine, Moment, Passing, Process, ProcessId, Snapshot, Stall};
use crate::order::InOrder;
use crate::state::State;

/// What was seen of each: asked for every process at every look.
pub type Tallies = HashMap<ProcessId, Tally, foldhash::fast::RandomState>;

/// What was seen of one process.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Tally {
    /// Looks at which it was there.
    pub looks: u32,
    /// Looks at which it waited uninterruptibly.
    pub waiting: u32,
    /// Looks at which it was on a core or ready for one.
    pub running: u32,
    /// Looks at which it had ended and was not collected.
    pub zombie: u32,
    cpu: Mean,
    waited: Mean,
    read: Mean,
    written: Mean,
    faults: Mean,
    held_at_first: Option<u64>,
}

/// A mean over time.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
struct Mean {
    sum: f64,
    seconds: f64,
}

impl Mean {
    fn add(&mut self, rate: Option<f64>, seconds: f64) {
        if let Some(rate) = rate {
            self.sum += rate * seconds;
            self.seconds += seconds;
        }
    }

    fn value(self) -> Option<f64> {
        (self.seconds > 0.0).then(|| self.sum / self.seconds)
    }
}

/// Figures of the machine over the whole time, in the order in which [`Observation::add`] names them.
#[derive(Debug, Clone, Default)]
struct MachineMeans {
    figures: [Mean; 8],
    split: [Mean; 5],
    queues: [Mean; 2],
    disks: HashMap<String, (Mean, Mean)>,
    /// How many, and what they used: percent of a core times seconds. By owner and name.
    passing: BTreeMap<(u32, String), (Passing, f64)>,
}

/// Looks at one machine, one after the other.
#[derive(Debug, Clone, Default)]
pub struct Observation {
    first: Option<Moment>,
    length: Duration,
    looks: u32,
    tallies: Tallies,
    machine: MachineMeans,
    last: Snapshot,
}

/// One machine over some time: the last look, its rates those of the whole time.
#[derive(Debug, Clone, Default)]
pub struct Scene {
    /// The last look, with rates over the whole time.
    pub snapshot: Snapshot,
    /// Over how long.
    pub length: Duration,
    /// How many looks.
    pub looks: u32,
    /// What was seen of each process.
    pub tallies: Tallies,
    /// CPU of processes that have ended meanwhile, percent of one core over the whole time.
    pub ended: f64,
    /// Threads on a core or ready for one, and threads waiting for a disk, on average.
    pub queues: [Option<f64>; 2],
}

impl Observation {
    /// One more look. A first look without rates only begins the time.
    pub fn add(&mut self, snapshot: &Snapshot) {
        let first = self.first.is_none();
        self.first.get_or_insert(snapshot.moment);
        self.last.clone_from(snapshot);
        if first && snapshot.interval.is_none() {
            for process in &snapshot.processes {
                self.tallies.insert(process.id, Tally { held_at_first: process.memory_held, ..Tally::default() });
            }
            return;
        }
        self.looks += 1;
        let interval = snapshot.interval.unwrap_or_default();
        self.length += interval;
        let seconds = interval.as_secs_f64();
        for process in &snapshot.processes {
            let tally = self
                .tallies
                .entry(process.id)
                .or_insert_with(|| Tally { held_at_first: process.memory_held, ..Tally::default() });
            tally.looks += 1;
            tally.waiting += u32::from(process.state == State::Waiting);
            tally.running += u32::from(process.state == State::Running);
            tally.zombie += u32::from(process.has_ended());
            tally.cpu.add(process.cpu, seconds);
            tally.waited.add(process.waited.map(f64::from), seconds);
            tally.read.add(process.disk_read.map(f64::from), seconds);
            tally.written.add(process.disk_write.map(f64::from), seconds);
            tally.faults.add(process.faults.map(f64::from), seconds);
        }
        self.machine.add(&snapshot.machine, seconds);
    }

    /// At the last look another thread than the main one was found waiting uninterruptibly.
    pub fn also_waiting(&mut self, process: &Process) {
        if let Some(tally) = self.tallies.get_mut(&process.id).filter(|_| process.state != State::Waiting) {
            tally.waiting += 1;
        }
    }

    /// All looks as one.
    pub fn finish(self) -> Scene {
        let mut snapshot = self.last;
        snapshot.interval = Some(self.length);
        for process in &mut snapshot.processes {
            let Some(tally) = self.tallies.get(&process.id) else { continue };
            process.cpu = tally.cpu.value();
            process.waited = tally.waited.value().map(|rate| rate as f32);
            process.disk_read = tally.read.value().map(|rate| rate as f32);
            process.disk_write = tally.written.value().map(|rate| rate as f32);
            process.faults = tally.faults.value().map(|rate| rate as f32);
        }
        let queues = self.machine.queues.map(Mean::value);
        let whole = self.length.as_secs_f64();
        self.machine.fill(&mut snapshot.machine, whole);
        let there: HashSet<ProcessId> = snapshot.processes.iter().map(|process| process.id).collect();
        let gone = self.tallies.iter().filter(|(id, _)| !there.contains(id));
        let ended = gone.map(|(_, tally)| tally.cpu.sum).sum::<f64>() / whole.max(f64::MIN_POSITIVE);
        Scene { snapshot, length: self.length, looks: self.looks, tallies: self.tallies, ended, queues }
    }
}

impl MachineMeans {
    fn add(&mut self, machine: &Machine, seconds: f64) {
        let stall = |stall: &Option<Stall>| stall.map(|stall| stall.interval.unwrap_or(stall.ten_seconds));
        let figures = [
            machine.cpu,
            machine.core_fullest,
            machine.iowait,
            machine.swap_traffic,
            stall(&machine.stall_cpu),
            stall(&machine.stall_memory),
            stall(&machine.stall_io),
            machine.disk_busy,
        ];
        for (mean, figure) in self.figures.iter_mut().zip(figures) {
            mean.add(figure, seconds);
        }
        if let Some(split) = machine.split {
            let parts = [split.user, split.nice, split.kernel, split.interrupts, split.stolen];
            self.split.iter_mut().zip(parts).for_each(|(mean, part)| mean.add(Some(part), seconds));
        }
        for (mean, queue) in self.queues.iter_mut().zip([machine.running, machine.blocked]) {
            mean.add(queue.map(f64::from), seconds);
        }
        for passing in &machine.passing {
            let key = (passing.uid, passing.name.clone());
            let (all, used) = self.passing.entry(key).or_insert_with(|| (Passing { count: 0, ..passing.clone() }, 0.0));
            all.count = all.count.saturating_add(passing.count);
            *used += passing.cpu * seconds;
        }
        for disk in &machine.disks {
            let (busy, answer) = self.disks.entry(disk.name.clone()).or_default();
            busy.add(Some(disk.busy), seconds);
            answer.add(disk.answer.map(|answer| answer.as_secs_f64()), seconds);
        }
    }

    fn fill(&self, machine: &mut Machine, whole: f64) {
        let [cpu, fullest, iowait, swap, stall_cpu, stall_memory, stall_io, busy] = self.figures.map(Mean::value);
        (machine.cpu, machine.core_fullest, machine.iowait, machine.swap_traffic) = (cpu, fullest, iowait, swap);
        machine.disk_busy = busy;
        let stalls = [&mut machine.stall_cpu, &mut machine.stall_memory, &mut machine.stall_io];
        for (stall, interval) in stalls.into_iter().zip([stall_cpu, stall_memory, stall_io]) {
            *stall = stall.map(|stall| Stall { interval, ..stall });
        }
        let [user, nice, kernel, interrupts, stolen] = self.split.map(|mean| mean.value().unwrap_or_default());
        machine.split = self.split[0].value().map(|_| CpuSplit { user, nice, kernel, interrupts, stolen });
        let disk = |(name, (busy, answer)): (&String, &(Mean, Mean))| DiskUse {
            name: name.clone(),
            busy: busy.value().unwrap_or_default(),
            answer: answer.value().and_then(|seconds| Duration::try_from_secs_f64(seconds).ok()),
        };
        let mean = |(all, used): &(Passing, f64)| Passing { cpu: used / whole.max(f64::MIN_POSITIVE), ..all.clone() };
        machine.passing = self.passing.values().map(mean).collect();
        machine.passing.order_by(|a, b| b.cpu.total_cmp(&a.cpu));
        machine.disks = self.disks.iter().map(disk).collect();
        machine.disks.order_by(|a, b| b.busy.total_cmp(&a.busy).then_with(|| a.name.cmp(&b.name)));
        if let Some(busiest) = machine.disks.first() {
            (machine.disk_busy, machine.disk_answer) = (Some(busiest.busy), busiest.answer);
        }
    }
}

impl Scene {
    /// What was seen of a process.
    pub fn tally(&self, process: &Process) -> Tally {
        self.tallies.get(&process.id).copied().unwrap_or_default()
    }

    /// How fast what a process holds has grown, bytes a second; `None` where that was not seen.
    pub fn growth(&self, process: &Process) -> Option<f64> {
        let (first, now) = (self.tally(process).held_at_first?, process.memory_held?);
        let seconds = self.length.as_secs_f64();
        (seconds > 0.0).then(|| (now as f64 - first as f64) / seconds)
    }

    /// The same as what it held, from the first look to the last.
    pub(crate) fn grown(&self, process: &Process) -> Option<Grown> {
        let (from, to) = (self.tally(process).held_at_first?, process.memory_held?);
        (!self.length.is_zero()).then_some(Grown { id: process.id, from, to, over: self.length })
    }
}

/// Since when the machine's figures have been beyond their limits, over samples of a recording. A dip of up to a minute
/// does not end it.
#[derive(Debug, Clone, Default)]
pub struct Past {
    runs: [Option<(Timestamp, Timestamp)>; LIMITS.len()],
}

const DIP: jiff::SignedDuration = jiff::SignedDuration::from_secs(60);

impl Past {
    /// One sample, in the order of time.
    pub fn note(&mut self, snapshot: &Snapshot, limits: &Limits) {
        let now = snapshot.moment.wall;
        for (limit, run) in LIMITS.iter().zip(&mut self.runs) {
            let figure = limit.watched.of(&snapshot.machine);
            let beyond = figure.and_then(|figure| limits.weigh(limit.watched, figure)).is_some();
            match run {
                Some((_, last)) if beyond => *last = now,
                Some((_, last)) if now.duration_since(*last) > DIP => *run = None,
                None if beyond => *run = Some((now, now)),
                _ => {}
            }
        }
    }

    /// Since when that figure has been beyond its limit.
    pub fn since(&self, watched: Watched) -> Option<Timestamp> {
        self.runs[watched as usize].map(|(began, _)| began)
    }
}
