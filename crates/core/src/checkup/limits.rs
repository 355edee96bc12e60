//! From where on a figure is a finding: one table, which a rules file's `[checkup]` may change.

use crate::model::{Field, Machine};
use crate::severity::Severity;
use crate::units::{Kind, Value, scaled_size};

/// A figure of the machine that has limits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Watched {
    /// Time in which some process waited for a core.
    StallCpu,
    /// The same for memory.
    StallMemory,
    /// The same for disks.
    StallIo,
    /// Busy share of all cores.
    Cpu,
    /// Busy share of the fullest core, with one program on it.
    CoreFullest,
    /// Load over 1 minute for each core.
    LoadCore,
    /// Memory that programs can still get, percent of RAM.
    MemoryAvailable,
    /// Swapped in and out.
    SwapTraffic,
    /// Idle time with a disk request outstanding.
    Iowait,
    /// Busy share of a disk.
    DiskBusy,
    /// Used share of a file system.
    FilesFull,
    /// Free space of a file system.
    FilesFree,
}

/// One row of the table.
#[derive(Debug, Clone, Copy)]
pub struct Limit {
    /// The figure.
    pub watched: Watched,
    /// Its field; a limit on available memory is percent of RAM all the same.
    pub field: Field,
    /// How the limits are written.
    pub kind: Kind,
    /// Whether more is worse; else less is.
    pub over: bool,
    /// Worth knowing from here on.
    pub notice: f64,
    /// Worth getting up for from here on; infinite for never.
    pub critical: f64,
    /// Why it starts out there.
    pub reason: &'static str,
}

const MIB: f64 = 1024.0 * 1024.0;
const GIB: f64 = 1024.0 * MIB;

const fn row(watched: Watched, field: Field, kind: Kind, levels: [f64; 2], reason: &'static str) -> Limit {
    Limit { watched, field, kind, over: true, notice: levels[0], critical: levels[1], reason }
}

const fn low(limit: Limit) -> Limit {
    Limit { over: false, ..limit }
}

/// The limits that checkup starts out with.
#[rustfmt::skip]
pub const LIMITS: [Limit; 12] = [
    row(Watched::StallCpu, Field::MachineStallCpu, Kind::Percent, [25.0, 60.0],
        "a short queue for a core is normal on a busy desktop; from a quarter of the time on people feel it, and beyond 60% everything is late"),
    row(Watched::StallMemory, Field::MachineStallMemory, Kind::Percent, [5.0, 20.0],
        "waiting for memory is never normal: 5% is felt as stutter, and at 20% the machine is busy with moving pages"),
    row(Watched::StallIo, Field::MachineStallIo, Kind::Percent, [15.0, 40.0],
        "starting a program waits for the disk for a moment; 15% over seconds is felt, and at 40% programs seem to hang"),
    row(Watched::Cpu, Field::MachineCpu, Kind::Percent, [85.0, 95.0],
        "below 85% there is a free core for whoever clicks; at 95% there is none"),
    row(Watched::CoreFullest, Field::MachineCoreFullest, Kind::Percent, [90.0, f64::INFINITY],
        "a program that fills a core for the whole time either works hard or spins; the other cores are free, so it is never critical"),
    row(Watched::LoadCore, Field::MachineLoadCore, Kind::Count, [1.2, 2.5],
        "more than one waiting thread for each core is a queue; at 2.5 each waits longer than it runs"),
    low(row(Watched::MemoryAvailable, Field::MachineMemoryAvailable, Kind::Percent, [15.0, 6.0],
        "below 15% of RAM the next large program pushes others out; below 6% the kernel may soon end one")),
    row(Watched::SwapTraffic, Field::MachineSwapTraffic, Kind::Rate, [MIB, 10.0 * MIB],
        "swap in use is harmless, traffic is not: from 1 MiB/s on somebody waits for pages, and 10 MiB/s is a squeeze"),
    row(Watched::Iowait, Field::MachineIowait, Kind::Percent, [15.0, 35.0],
        "idle cores that wait for a disk: 15% is one core in seven with nothing else to do"),
    row(Watched::DiskBusy, Field::MachineDiskBusy, Kind::Percent, [85.0, 97.0],
        "a disk that is always busy makes every request queue; modern disks work on several at once, so the stall share decides"),
    row(Watched::FilesFull, Field::MachineFilesFull, Kind::Percent, [88.0, 96.0],
        "beyond 88% files scatter and logs may not fit; beyond 96% programs fail to save"),
    low(row(Watched::FilesFree, Field::MachineFilesFree, Kind::Size, [5.0 * GIB, GIB],
        "one large download or update takes 5 GiB; counted only for file systems at least four times that size, since a small one would always be under it")),
];

/// The levels in force.
#[derive(Debug, Clone, PartialEq)]
pub struct Limits {
    levels: [(f64, f64); LIMITS.len()],
}

impl Default for Limits {
    fn default() -> Limits {
        Limits { levels: LIMITS.map(|limit| (limit.notice, limit.critical)) }
    }
}

impl Watched {
    /// Its row.
    pub fn limit(self) -> &'static Limit {
        // The table has a row for each, in this order: a test sees to it.
        &LIMITS[self as usize]
    }

    /// The figure of a machine, as far as it is one of the machine as a whole.
    pub fn of(self, machine: &Machine) -> Option<f64> {
        let stall = |stall: Option<crate::model::Stall>| stall.map(|stall| stall.interval.unwrap_or(stall.ten_seconds));
        match self {
            Watched::StallCpu => stall(machine.stall_cpu),
            Watched::StallMemory => stall(machine.stall_memory),
            Watched::StallIo => stall(machine.stall_io),
            Watched::Cpu => machine.cpu,
            Watched::CoreFullest => machine.core_fullest,
            Watched::LoadCore => machine.load_per_core(),
            Watched::MemoryAvailable => machine
                .memory_available
                .filter(|_| machine.memory_total > 0)
                .map(|bytes| machine.share_of_memory(bytes)),
            Watched::SwapTraffic => machine.swap_traffic,
            Watched::Iowait => machine.iowait,
            Watched::DiskBusy => machine.disk_busy,
            Watched::FilesFull => machine.files_full,
            Watched::FilesFree => None,
        }
    }
}

impl Limit {
    /// A figure of that kind for people.
    pub fn shown(&self, figure: f64) -> String {
        match self.kind {
            Kind::Percent => crate::units::scaled_percent(figure),
            Kind::Rate => Value::Rate(figure).scaled(),
            Kind::Size => scaled_size(figure),
            _ => format!("{figure:.1}"),
        }
    }
}

impl Limits {
    /// Changes the levels of one figure; what is `None` stays.
    pub fn set(&mut self, watched: Watched, notice: Option<f64>, critical: Option<f64>) {
        let levels = &mut self.levels[watched as usize];
        levels.0 = notice.unwrap_or(levels.0);
        levels.1 = critical.unwrap_or(levels.1);
    }

    /// The notice and the critical level.
    pub(crate) fn levels(&self, watched: Watched) -> (f64, f64) {
        self.levels[watched as usize]
    }

    /// How serious a figure is, if it is at all.
    pub fn weigh(&self, watched: Watched, figure: f64) -> Option<Severity> {
        let (notice, critical) = self.levels(watched);
        let beyond = |level: f64| if watched.limit().over { figure >= level } else { figure < level };
        match () {
            () if beyond(critical) => Some(Severity::Critical),
            () if beyond(notice) => Some(Severity::Notice),
            () => None,
        }
    }

    /// `limit 25%`: the level that was passed, or the nearest one that was not.
    pub fn passed(&self, watched: Watched, severity: Option<Severity>) -> String {
        let (notice, critical) = self.levels(watched);
        let level = if severity == Some(Severity::Critical) { critical } else { notice };
        watched.limit().shown(level)
    }
}
