//! One sample of one machine.

use std::time::Duration;

use jiff::Timestamp;

use super::{Boot, Process};

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
    pub fn napped_since(&self, earlier: &Moment) -> Duration {
        let slept = |moment: &Moment| moment.boottime.saturating_sub(moment.monotonic);
        slept(self).saturating_sub(slept(earlier))
    }
}

/// Figures of the whole machine.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Machine {
    /// The host's name.
    pub host: String,
    /// The boot this sample belongs to.
    pub boot: Boot,
    /// Cores online (`/proc/stat`, lines `cpuN`).
    pub cores: u32,
    /// Busy share of all cores together since the last sample, percent (`/proc/stat`, line `cpu`).
    pub cpu: Option<f64>,
    /// Busy share of the busiest single core, percent.
    pub core_fullest: Option<f64>,
    /// Share of all cores' time that was idle with a disk request outstanding, percent.
    pub iowait: Option<f64>,
    /// Mean load over 1, 5 and 15 minutes (`/proc/loadavg`).
    pub load: Option<[f64; 3]>,
    /// RAM, bytes (`/proc/meminfo` MemTotal).
    pub memory_total: u64,
    /// RAM that programs can still get, bytes (`/proc/meminfo` MemAvailable).
    pub memory_available: Option<u64>,
    /// Swap in use, bytes (`/proc/meminfo` SwapTotal - SwapFree).
    pub swap_used: Option<u64>,
    /// Swapped in and out since the last sample, bytes a second (`/proc/vmstat`).
    pub swap_traffic: Option<f64>,
    /// Share of the last 10 s in which some process waited for a core, percent (`/proc/pressure/cpu`).
    pub stall_cpu: Option<f64>,
    /// The same for memory.
    pub stall_memory: Option<f64>,
    /// The same for disks.
    pub stall_io: Option<f64>,
    /// Share of the interval in which the busiest disk had a request outstanding, percent (`/proc/diskstats`).
    pub disk_busy: Option<f64>,
    /// Mean time that a request to that disk took.
    pub disk_answer: Option<Duration>,
    /// Used share of the fullest mounted disk, percent (statvfs(3)).
    pub files_full: Option<f64>,
    /// Processes, kernel threads included.
    pub processes: u32,
    /// Whether processes of other users are hidden from us (mount option `hidepid`, proc(5)).
    pub hidden: bool,
    /// Time since the start of the machine, naps included.
    pub uptime: Duration,
}

impl Machine {
    /// RAM minus what is available, bytes.
    pub fn memory_used(&self) -> Option<u64> {
        self.memory_available.map(|available| self.memory_total.saturating_sub(available))
    }

    /// That many bytes as percent of RAM.
    pub fn share_of_memory(&self, bytes: u64) -> f64 {
        100.0 * bytes as f64 / self.memory_total.max(1) as f64
    }
}

/// One sample: what every later stage works on, whether it comes from a live machine or from a recording.
#[derive(Debug, Clone, PartialEq, Default)]
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

impl Snapshot {
    /// The process of that PID.
    pub fn process(&self, pid: u32) -> Option<&Process> {
        self.processes.binary_search_by_key(&pid, |process| process.id.pid).ok().map(|found| &self.processes[found])
    }
}
