//! One look over a whole span of samples: who used how much in it, and how what he held went.

use std::collections::BTreeMap;
use std::time::Duration;

use crate::model::{Moment, Process, ProcessId, Snapshot};
use crate::order::IntoMap;

/// Most points of a course; two become one when there would be more.
const MOST_POINTS: usize = 64;

/// How a figure went over a span: evenly spaced, as many points as fit, the highest of each.
#[derive(Debug, Clone, PartialEq)]
pub struct Course {
    /// Seconds from one point to the next.
    width: f64,
    points: Vec<Option<f64>>,
}

impl Course {
    fn new(every: f64) -> Course {
        Course { width: every.max(0.001), points: Vec::new() }
    }

    /// The same with its first point alone, and that far apart from now on.
    fn spaced(&self, every: f64) -> Course {
        Course { points: self.points.iter().take(1).copied().collect(), ..Course::new(every.max(1.0)) }
    }

    fn add(&mut self, at: f64, value: f64) {
        let mut place = (at / self.width) as usize;
        while place >= MOST_POINTS {
            let highest = |pair: &[Option<f64>]| pair.iter().copied().flatten().reduce(f64::max);
            self.points = self.points.chunks(2).map(highest).collect();
            self.width *= 2.0;
            place = (at / self.width) as usize;
        }
        if self.points.len() <= place {
            self.points.resize(place + 1, None);
        }
        let point = &mut self.points[place];
        *point = Some(point.map_or(value, |known| known.max(value)));
    }

    /// The same over so many columns of a span of `length` seconds; `None` where nothing was seen.
    pub fn columns(&self, length: f64, columns: usize) -> Vec<Option<f64>> {
        let mut cells: Vec<Option<f64>> = vec![None; columns];
        let of = |at: f64| ((at / length.max(0.001) * columns as f64) as usize).min(columns.saturating_sub(1));
        for (place, value) in self.points.iter().enumerate().filter_map(|(place, value)| Some((place, (*value)?))) {
            let (from, to) = (of(place as f64 * self.width), of((place + 1) as f64 * self.width));
            for cell in &mut cells[from..=to.max(from)] {
                *cell = Some(cell.map_or(value, |known: f64| known.max(value)));
            }
        }
        cells
    }
}

/// What a span shows of one process that the last sample does not.
#[derive(Debug, Clone, PartialEq)]
pub struct Seen {
    /// What it held at first, bytes.
    held_first: Option<u64>,
    /// How much more it holds at the end, bytes; below zero when less.
    pub growth: Option<f64>,
    /// What it held over the span.
    pub course: Course,
    /// CPU time at the beginning of the span; nothing for one that began in it.
    used_before: Duration,
    read: f64,
    written: f64,
    waited: f64,
}

/// Samples of a span, taken in one by one.
#[derive(Debug, Clone, Default)]
pub struct Over {
    began: Option<Moment>,
    processes: BTreeMap<ProcessId, Seen>,
    last: Snapshot,
    samples: u64,
    machine_cpu: (f64, f64),
}

impl Over {
    /// Takes the next sample in.
    pub fn take(&mut self, snapshot: &Snapshot) {
        let is_first = self.began.is_none();
        let began = *self.began.get_or_insert(snapshot.moment);
        let at = snapshot.moment.monotonic.saturating_sub(began.monotonic).as_secs_f64();
        let passed = if is_first { 0.0 } else { snapshot.interval.unwrap_or_default().as_secs_f64() };
        self.samples += 1;
        if let Some(cpu) = snapshot.machine.cpu {
            self.machine_cpu = (self.machine_cpu.0 + cpu * passed, self.machine_cpu.1 + passed);
        }
        if self.samples == 2 {
            // How far apart samples are is known by now: with a point a second most of them would be empty.
            self.processes.values_mut().for_each(|seen| seen.course = seen.course.spaced(passed));
        }
        for process in &snapshot.processes {
            let seen = self.processes.entry(process.id).or_insert_with(|| Seen {
                held_first: held(process),
                growth: None,
                course: Course::new(passed.max(1.0)),
                used_before: if is_first { process.cpu_time } else { Duration::ZERO },
                read: 0.0,
                written: 0.0,
                waited: 0.0,
            });
            seen.read += f64::from(process.disk_read.unwrap_or(0.0)) * passed;
            seen.written += f64::from(process.disk_write.unwrap_or(0.0)) * passed;
            seen.waited += f64::from(process.waited.unwrap_or(0.0)) * passed;
            if let Some(held) = held(process) {
                seen.course.add(at, held as f64);
            }
        }
        // Who has ended is not listed: what is kept of him would only grow.
        if self.processes.len() > 2 * snapshot.processes.len() + 64 {
            self.processes.retain(|id, _| snapshot.find(id).is_some());
        }
        self.last.clone_from(snapshot);
    }

    /// The last sample with the rates of the whole span, and what else was seen of each of its processes. `None` without
    /// a sample.
    pub fn finish(mut self) -> Option<(Snapshot, BTreeMap<ProcessId, Seen>)> {
        let began = self.began?;
        let length = self.last.moment.monotonic.saturating_sub(began.monotonic);
        let seconds = length.as_secs_f64();
        if self.samples > 1 && seconds > 0.0 {
            self.last.interval = Some(length);
            if self.machine_cpu.1 > 0.0 {
                self.last.machine.cpu = Some(self.machine_cpu.0 / self.machine_cpu.1);
            }
            for process in &mut self.last.processes {
                let Some(seen) = self.processes.get(&process.id) else { continue };
                let used = process.cpu_time.saturating_sub(seen.used_before).as_secs_f64();
                process.cpu = Some(100.0 * used / seconds);
                let mean = |known: Option<f32>, sum: f64| known.map(|_| (sum / seconds) as f32);
                process.disk_read = mean(process.disk_read, seen.read);
                process.disk_write = mean(process.disk_write, seen.written);
                process.waited = mean(process.waited, seen.waited);
            }
        }
        let present: BTreeMap<ProcessId, Option<u64>> =
            self.last.processes.iter().map(|process| (process.id, held(process))).into_map();
        self.processes.retain(|id, _| present.contains_key(id));
        for (id, seen) in &mut self.processes {
            let now = present.get(id).copied().flatten();
            seen.growth = now.zip(seen.held_first).map(|(now, first)| now as f64 - first as f64);
        }
        Some((self.last, self.processes))
    }
}

fn held(process: &Process) -> Option<u64> {
    process.memory_held.or(process.memory)
}
