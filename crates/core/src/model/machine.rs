//! The machine's figures in one sample.

use std::sync::Arc;
use std::time::Duration;

use super::Boot;
use crate::usage::Usual;

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
    /// What that time went to.
    pub split: Option<CpuSplit>,
    /// Of that, what went to nobody who was seen, nor to devices: percent of all cores' time.
    pub cpu_unseen: Option<f64>,
    /// CPU of control groups and all below them since the last sample, of those that used any; empty where it was not asked for,
    /// or is not to be had.
    pub groups: Vec<GroupUse>,
    /// Who came and went since the last sample, with the CPU that no sample has of them, the greatest first; empty where it was
    /// not asked for, or is not to be had.
    pub passing: Vec<Passing>,
    /// Busy share of the busiest single core, percent.
    pub core_fullest: Option<f64>,
    /// Share of all cores' time that was idle with a disk request outstanding, percent.
    pub iowait: Option<f64>,
    /// Mean load over 1, 5 and 15 minutes (`/proc/loadavg`).
    pub load: Option<[f64; 3]>,
    /// Threads on a core or ready for one at this moment (`/proc/stat` procs_running).
    pub running: Option<u32>,
    /// Threads waiting for a disk at this moment (`/proc/stat` procs_blocked).
    pub blocked: Option<u32>,
    /// RAM, bytes (`/proc/meminfo` MemTotal).
    pub memory_total: u64,
    /// RAM that programs can still get, bytes (`/proc/meminfo` MemAvailable).
    pub memory_available: Option<u64>,
    /// Swap in use, bytes (`/proc/meminfo` SwapTotal - SwapFree).
    pub swap_used: Option<u64>,
    /// Swapped in and out since the last sample, bytes a second (`/proc/vmstat`).
    pub swap_traffic: Option<f64>,
    /// Time in which some process waited for a core (`/proc/pressure/cpu`).
    pub stall_cpu: Option<Stall>,
    /// The same for memory.
    pub stall_memory: Option<Stall>,
    /// The same for disks.
    pub stall_io: Option<Stall>,
    /// Share of the interval in which the busiest disk had a request outstanding, percent (`/proc/diskstats`).
    pub disk_busy: Option<f64>,
    /// Mean time that a request to that disk took.
    pub disk_answer: Option<Duration>,
    /// Every disk that has done anything since the machine's start.
    pub disks: Vec<DiskUse>,
    /// Used share of the fullest mounted disk, percent (statvfs(3)).
    pub files_full: Option<f64>,
    /// The mounted disks; empty where they were not looked at.
    pub volumes: Vec<Volume>,
    /// Processes, kernel threads included.
    pub processes: u32,
    /// Whether processes of other users are hidden from us (mount option `hidepid`, proc(5)).
    pub hidden: bool,
    /// Time since the start of the machine, naps included.
    pub uptime: Duration,
    /// What is usual of apps here, by the history of usage; none where there is none, or nobody asks.
    pub usual: Option<Arc<Usual>>,
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

    /// CPU of a control group, percent of one core.
    pub(crate) fn group_cpu(&self, path: &str) -> Option<f64> {
        self.groups.iter().find(|of| of.group == path).map(|of| of.cpu)
    }

    /// CPU of an owner's processes that came and went between two samples, percent of one core.
    pub(crate) fn passing_cpu(&self, uid: u32) -> f64 {
        self.passing.iter().filter(|passing| passing.uid == uid).map(|passing| passing.cpu).sum()
    }

    /// Load over 1 minute for each core.
    pub(crate) fn load_per_core(&self) -> Option<f64> {
        self.load.map(|load| load[0] / f64::from(self.cores.max(1)))
    }
}

/// What a control group used, with all that is below it and all that has ended in it.
#[derive(Debug, Clone, PartialEq)]
pub struct GroupUse {
    /// Its path.
    pub group: String,
    /// CPU over the interval, percent of one core (`cpu.stat` usage_usec, or `cpuacct.usage`; cgroups(7)).
    pub cpu: f64,
}

/// Processes of one owner and one short name that ended between two samples (taskstats, linux/taskstats.h).
#[derive(Debug, Clone, PartialEq)]
pub struct Passing {
    /// Whose they were: a subordinate user ID counts to its user.
    pub owner: String,
    /// His user ID.
    pub uid: u32,
    /// What they called themselves (`ac_comm`), a claim; empty for all other names of his.
    pub name: String,
    /// How many.
    pub count: u32,
    /// CPU that they used and no sample has, percent of one core over the interval.
    pub cpu: f64,
}

/// What the cores' time went to, percent of all cores' time (`/proc/stat` line `cpu`, proc_stat(5)).
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct CpuSplit {
    /// Programs.
    pub user: f64,
    /// Programs with a niceness above 0, which give way to the others.
    pub nice: f64,
    /// The kernel, on behalf of programs.
    pub kernel: f64,
    /// Devices that want attention.
    pub interrupts: f64,
    /// Other machines on the same hardware.
    pub stolen: f64,
}

/// Share of time in which some process stood still for want of something (`/proc/pressure/*` line `some`), percent.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Stall {
    /// Over the last 10 s (avg10).
    pub ten_seconds: f64,
    /// Over the last minute (avg60).
    pub minute: Option<f64>,
    /// Over the last five minutes (avg300).
    pub five_minutes: Option<f64>,
    /// Over the sampling interval (from `total`).
    pub interval: Option<f64>,
}

/// One disk over the interval (`/proc/diskstats`).
#[derive(Debug, Clone, PartialEq, Default)]
pub struct DiskUse {
    /// Its name, as `sda`.
    pub name: String,
    /// Share of the interval with a request outstanding, percent.
    pub busy: f64,
    /// Mean time that a request took; `None` where there was none.
    pub answer: Option<Duration>,
}

/// One mounted disk (statvfs(3)).
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Volume {
    /// Where it is mounted.
    pub point: String,
    /// Its device, as `/dev/sda2`.
    pub device: String,
    /// What a user can have of it, used and free, bytes.
    pub size: u64,
    /// What a user can still have of it, bytes.
    pub free: u64,
    /// Its device number, as files on it show it (stat(2) st_dev).
    pub number: u64,
}

impl Volume {
    /// Used share, percent.
    pub fn full(&self) -> f64 {
        100.0 * self.size.saturating_sub(self.free) as f64 / self.size.max(1) as f64
    }
}
