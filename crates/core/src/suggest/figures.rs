//! What apps and processes did, minute by minute: what suggestions are drawn from.

use std::collections::BTreeMap;
use std::time::Duration;

use super::longer::Longer;
use crate::model::{Process, ProcessId, Snapshot};

/// A minute without a sample is none.
const MINUTE: f64 = 60.0;

/// A process that never held that much, bytes, is no leak worth a rule: nothing is kept of its memory.
const SMALL: u64 = 16 << 20;

/// One minute of an app.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Minute {
    /// CPU of its processes, percent of one core, that of their ended children included.
    pub cpu: f32,
    /// Of that, what ended children had used.
    pub waited: f32,
    /// Read from and written to disks, bytes a second.
    pub disk: f32,
    /// The most that one of its processes held, bytes.
    pub held: f64,
}

/// One owner's processes of one program.
#[derive(Debug, Clone, Default)]
pub struct App {
    /// The owner's name.
    pub owner: String,
    /// The unit that its processes were in, where it was one.
    pub unit: String,
    /// Its minutes, by their number.
    pub minutes: BTreeMap<u32, Minute>,
}

/// What a process held, minute by minute: the least of each, bytes.
#[derive(Debug, Clone, Default)]
pub struct Held {
    /// Its app: owner's uid and name.
    pub app: (u32, String),
    /// From the first minute on; `None` where it was not seen.
    pub least: BTreeMap<u32, u64>,
}

/// Samples, taken in one by one.
#[derive(Debug, Clone, Default)]
pub struct Figures {
    began: Option<Duration>,
    /// By the owner's uid and the app's name.
    pub apps: BTreeMap<(u32, String), App>,
    /// Every process that held something worth a rule.
    pub held: BTreeMap<ProcessId, Held>,
    /// The least memory that could be had, bytes, by minute.
    pub available: BTreeMap<u32, u64>,
    /// RAM of the machine, bytes.
    pub total: u64,
    /// How many samples.
    pub samples: u64,
    /// What a history adds that reaches further back; none where there is none.
    pub longer: Option<Longer>,
}

impl Figures {
    /// Takes the next sample in, of those processes for which `keep` is true.
    pub fn take(&mut self, snapshot: &Snapshot, keep: impl Fn(&Process) -> bool) {
        let now = snapshot.moment.monotonic;
        let began = *self.began.get_or_insert(now);
        let minute = (now.saturating_sub(began).as_secs_f64() / MINUTE) as u32;
        self.samples += 1;
        self.total = snapshot.machine.memory_total;
        if let Some(available) = snapshot.machine.memory_available {
            let least = self.available.entry(minute).or_insert(available);
            *least = available.min(*least);
        }
        let passed = snapshot.interval.unwrap_or_default().as_secs_f64().min(MINUTE) as f32;
        let works = |process: &&Process| !process.kernel && !process.has_ended() && keep(process);
        for process in snapshot.processes.iter().filter(works) {
            self.one(process, minute, passed);
        }
    }

    fn one(&mut self, process: &Process, minute: u32, passed: f32) {
        let key = (process.uid, process.app.clone());
        let held = process.memory_held.unwrap_or(0);
        if held >= SMALL {
            let of = self.held.entry(process.id).or_insert_with(|| Held { app: key.clone(), ..Held::default() });
            let least = of.least.entry(minute).or_insert(held);
            *least = held.min(*least);
        }
        let app = self.apps.entry(key).or_default();
        if app.owner.is_empty() {
            app.owner.clone_from(&process.owner);
            app.unit = process.unit.clone().unwrap_or_default();
        } else if process.unit.as_deref().is_some_and(|unit| unit != app.unit) {
            app.unit.clear();
        }
        let sum = app.minutes.entry(minute).or_default();
        let cpu = process.cpu.unwrap_or(0.0) as f32 + process.waited.unwrap_or(0.0);
        // Sums over the minute; divided when it is read.
        sum.cpu += cpu * passed;
        sum.waited += process.waited.unwrap_or(0.0) * passed;
        sum.disk += (process.disk_read.unwrap_or(0.0) + process.disk_write.unwrap_or(0.0)) * passed;
        sum.held = sum.held.max(held as f64);
    }

    /// How long the samples cover, minutes.
    pub fn minutes(&self) -> usize {
        self.available.len()
    }
}

impl Minute {
    /// Percent of one core over the minute.
    pub fn cpu(&self) -> f64 {
        f64::from(self.cpu) / MINUTE
    }

    /// The part of ended children in that.
    pub fn waited(&self) -> f64 {
        f64::from(self.waited) / MINUTE
    }

    /// Bytes a second over the minute.
    pub fn disk(&self) -> f64 {
        f64::from(self.disk) / MINUTE
    }
}

/// The middle of some figures, and the middle distance from it, scaled so that it is a standard deviation where they are
/// normally distributed. Neither is moved by a few that are far off. `None` without figures.
pub fn middle(figures: &[f64]) -> Option<(f64, f64)> {
    let median = |mut of: Vec<f64>| {
        of.sort_by(f64::total_cmp);
        let half = of.len() / 2;
        if of.len() % 2 == 1 {
            of.get(half).copied()
        } else {
            Some((of.get(half)? + of.get(half.checked_sub(1)?)?) / 2.0)
        }
    };
    let middle = median(figures.to_vec())?;
    let spread = median(figures.iter().map(|figure| (figure - middle).abs()).collect())?;
    Some((middle, 1.4826 * spread))
}
