//! One process as one sample shows it.

use std::collections::HashMap;
use std::num::NonZeroU32;
use std::ops::Deref;
use std::sync::Arc;
use std::time::Duration;

use super::quiet::most_after;
use super::{Cost, Counts, Field, Needs, ProcessId, Promise, Unit, unit_of};
use crate::state::State;

/// Who moves that much from or to disks as it computes is at work, bytes a second: a sign of honest work, wherever it is asked.
const AT_WORK: f64 = 100_000.0;

/// Whether moving so many bytes a second from and to disks is a sign of honest work.
pub fn is_at_work(moved: f64) -> bool {
    moved >= AT_WORK
}

/// What a process came from, by its control group.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Origin {
    /// The kernel.
    Kernel,
    /// A service of the machine or of the user's service manager.
    Service,
    /// A login session.
    Login,
    /// A program started on a desktop.
    Desktop,
    /// A container.
    Container,
    /// None of these.
    Other,
}

impl Origin {
    /// Every origin.
    pub const ALL: [Origin; 6] =
        [Origin::Kernel, Origin::Service, Origin::Login, Origin::Desktop, Origin::Container, Origin::Other];

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Origin::Kernel => "kernel",
            Origin::Service => "service",
            Origin::Login => "login",
            Origin::Desktop => "desktop",
            Origin::Container => "container",
            Origin::Other => "other",
        }
    }
}

/// What a process is called and where it belongs: texts that stay from one sample to the next, and are shared between
/// them. All are already made harmless ([`crate::text::clean`]).
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default)]
pub struct Names {
    /// The kernel's short name (`stat` field 2), at most 15 bytes, settable by the process itself.
    pub name: String,
    /// The program as a person would call it.
    pub app: String,
    /// What `app` rests on. Where it could not be read yet it is only the kernel's short name, and no reading of it; it is
    /// proven where it was read from a `path` that is itself proven.
    pub app_rests_on: Basis,
    /// Whether its command line could not be read yet.
    pub command_unread: bool,
    /// The file it runs (`/proc/PID/exe`), without ` (deleted)`.
    pub path: Option<String>,
    /// What that rests on: it is proven where that path in our own view is (or was, before it was replaced) the very same file,
    /// and nobody but root or the watcher's own user can change what stands there.
    pub path_rests_on: Basis,
    /// Whether the file was replaced or removed since the process started.
    pub replaced: bool,
    /// The command line (`/proc/PID/cmdline`), secrets masked.
    pub command: Option<String>,
    /// The same with its secrets, where it was asked for: it goes into the audit trail and nowhere else.
    pub unmasked: Option<String>,
    /// The name of the user it runs as, or the number where it has none; of a subordinate user ID, that of whose it is.
    pub owner: String,
    /// Whose user ID that is, where it is one of his subordinate ones (subuid(5)): his containers run as those.
    pub person: Option<u32>,
    /// Its terminal, as `pts/3`; empty for none (`stat` field 7).
    pub tty: String,
    /// Its control group, as `/proc/PID/cgroup` has it.
    pub group: Option<String>,
    /// The service manager's unit or scope in that path; empty for none.
    pub unit: Option<String>,
    /// What it came from, by that path.
    pub origin: Option<Origin>,
}

/// What a name rests on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub enum Basis {
    /// It could not be read yet.
    Unread,
    /// The process's own word.
    #[default]
    Claim,
    /// It was looked at, and is so.
    Proof,
}

impl Basis {
    /// Proven or claimed.
    pub fn proven(proven: bool) -> Basis {
        if proven { Basis::Proof } else { Basis::Claim }
    }
}

impl Names {
    /// Bytes of all texts.
    pub(crate) fn bytes(&self) -> usize {
        let texts = [&self.path, &self.command, &self.unmasked, &self.group, &self.unit];
        let own = [&self.name, &self.app, &self.owner, &self.tty];
        texts.iter().filter_map(|text| text.as_ref()).map(String::len).sum::<usize>()
            + own.iter().map(|text| text.len()).sum::<usize>()
    }

    /// Whether what it runs could not be read yet.
    pub fn app_unread(&self) -> bool {
        self.app_rests_on == Basis::Unread
    }

    /// Whether what it runs is proven.
    pub fn app_proven(&self) -> bool {
        self.app_rests_on == Basis::Proof
    }

    /// Whether the path is proven.
    pub fn path_proven(&self) -> bool {
        self.path_rests_on == Basis::Proof
    }
}

/// One process. `None` is a reading that could not be had. Its [`Names`] are read as if they were its own fields: there
/// are many processes, and most differ from one sample to the next in figures only.
#[derive(Debug, Clone, PartialEq)]
pub struct Process {
    /// PID, start time and boot.
    pub id: ProcessId,
    /// What it is called.
    pub names: Arc<Names>,
    /// The parent's PID (`stat` field 4); 0 for none.
    pub parent: u32,
    /// The nearest living process that it descends from, by PID, where that is not its parent: who started it has ended,
    /// and the kernel has given it another parent. `None` also where that was not seen.
    pub ancestor: Option<NonZeroU32>,
    /// The user ID it runs as (owner of `/proc/PID`).
    pub uid: u32,
    /// The PID of its session's leader (`stat` field 6).
    pub session: u32,
    /// What it is doing.
    pub state: State,
    /// Whether it is a kernel thread (`stat` field 9, flag 0x00200000).
    pub kernel: bool,
    /// CPU used since the last sample, percent of one core. `None` at a first sample.
    pub cpu: Option<f64>,
    /// CPU that its ended children had used and nobody had seen, since the last sample, percent of one core
    /// (`stat` fields 16 and 17, less what was known of them).
    pub waited: Option<f32>,
    /// CPU time used since the start, all threads.
    pub cpu_time: Duration,
    /// Resident memory, bytes (`statm` field 2).
    pub memory: Option<u64>,
    /// Anonymous, shared resident and swapped memory, bytes (`status` RssAnon + RssShmem + VmSwap): what a leak holds.
    pub memory_held: Option<u64>,
    /// Of that, what is shared and may be there after its end, bytes (`status` RssShmem).
    pub memory_shared: Option<u64>,
    /// Swapped-out memory, bytes (`status` VmSwap).
    pub memory_swapped: Option<u64>,
    /// Address space, bytes (`statm` field 1).
    pub memory_virtual: Option<u64>,
    /// Memory that nobody shares, bytes (`smaps_rollup` Private_Clean + Private_Dirty).
    pub memory_private: Option<u64>,
    /// Its share of resident memory, bytes (`smaps_rollup` Pss).
    pub memory_proportional: Option<u64>,
    /// Read from disks since the last sample, bytes a second (`io` read_bytes).
    pub disk_read: Option<f32>,
    /// Written to disks since the last sample, bytes a second (`io` write_bytes).
    pub disk_write: Option<f32>,
    /// Page faults that waited for a disk since the last sample, a second (`stat` field 12).
    pub faults: Option<f32>,
    /// What those rates are the pace of, up to when it was last read.
    pub counts: Counts,
    /// Open files (entries of `/proc/PID/fd`).
    pub files: Option<u32>,
    /// Processes whose parent it is.
    pub children: u32,
    /// Processes of the same app and owner, itself included.
    pub instances: u32,
    /// Threads (`stat` field 20).
    pub threads: u32,
    /// Niceness of the main thread (`stat` field 19): higher is milder to others.
    pub nice: i32,
    /// Time since the start, naps of the machine included (CLOCK_BOOTTIME minus `stat` field 22).
    pub age: Duration,
    /// What of it is carried over from an earlier sample, for want of a reason to read it again: such a figure is no reading.
    pub stale: Needs,
    /// What of that was read before it last ran: of all else it has what was carried over, but for what others do to it.
    pub outrun: Needs,
    /// CPU time that it had used when its resident and its held memory was last read, nanoseconds: what it has used since bounds
    /// what it can have filled. [`NO_BOUND`](super::NO_BOUND) where nothing is known of that.
    pub read_at: [u64; 2],
    /// Until when it needs no look.
    pub promise: Promise,
    /// Whether that holds at this sample.
    pub quiet: bool,
}

impl Deref for Process {
    type Target = Names;

    fn deref(&self) -> &Names {
        &self.names
    }
}

impl Process {
    /// A process of which nothing is known but who it is.
    pub fn unread(id: ProcessId) -> Process {
        Process {
            id,
            names: Arc::default(),
            parent: 0,
            ancestor: None,
            uid: u32::MAX,
            session: 0,
            state: State::Sleeping,
            kernel: false,
            cpu: None,
            waited: None,
            cpu_time: Duration::ZERO,
            memory: None,
            memory_held: None,
            memory_shared: None,
            memory_swapped: None,
            memory_virtual: None,
            memory_private: None,
            memory_proportional: None,
            disk_read: None,
            disk_write: None,
            faults: None,
            counts: Counts::UNKNOWN,
            files: None,
            children: 0,
            instances: 1,
            threads: 0,
            nice: 0,
            age: Duration::ZERO,
            stale: Needs::NONE,
            outrun: Needs::NONE,
            read_at: [super::NO_BOUND; 2],
            promise: Promise::NONE,
            quiet: false,
        }
    }

    /// At most so much memory, or held memory, it has, bytes: what it has where that is known.
    pub(crate) fn at_most(&self, held: bool) -> Option<u64> {
        let (reading, cost) = if held { (self.memory_held, Cost::Status) } else { (self.memory, Cost::Statm) };
        if !self.stale.has(cost) {
            return reading;
        }
        let used = u64::try_from(self.cpu_time.as_nanos()).unwrap_or(u64::MAX);
        most_after(reading?, held, used, self.read_at[usize::from(held)])
    }

    /// So much memory is free for certain once it has ended, bytes.
    pub(crate) fn would_free(&self) -> Option<u64> {
        Some(self.memory_held?.saturating_sub(self.memory_shared.unwrap_or(0)))
    }

    /// Whether it has not run since the sample before: what it did meanwhile is nothing.
    pub(crate) fn stood_still(&self) -> bool {
        self.cpu == Some(0.0)
    }

    /// Counts on by its rates over an interval, where that is all that is known: in a recording.
    pub fn has_counted(&mut self, interval: Duration) {
        let disk = (self.disk_read, self.disk_write);
        self.counts.after(interval.as_secs_f64(), disk, self.faults, self.waited);
    }

    /// What it descends from: its parent, or who stood above the parent that has ended.
    pub(crate) fn comes_from(&self) -> u32 {
        self.ancestor.map_or(self.parent, NonZeroU32::get)
    }

    /// The unit that it belongs to, by its control group.
    pub fn unit_of(&self) -> Option<Unit<'_>> {
        unit_of(self.group.as_deref()?)
    }

    /// The unit in whose own group it is: whoever runs below that may be anybody.
    pub fn own_unit(&self) -> Option<Unit<'_>> {
        self.unit_of().filter(|unit| Some(unit.group) == self.group.as_deref())
    }

    /// Its names, to be changed.
    pub fn names_mut(&mut self) -> &mut Names {
        Arc::make_mut(&mut self.names)
    }

    /// Ended, and only waiting to be collected: a zombie whose last thread is gone.
    pub fn has_ended(&self) -> bool {
        self.state == State::Zombie && self.threads <= 1
    }

    /// Whose it is: the user that it runs as, or to whom that user ID belongs.
    pub fn person(&self) -> u32 {
        self.person.unwrap_or(self.uid)
    }

    /// Whether it collects those whom their parents have left: what they used is not its doing.
    pub(crate) fn collects(&self) -> bool {
        self.id.pid == 1 || self.group.as_deref().is_some_and(|group| group.ends_with("/init.scope"))
    }

    /// CPU of ended children that nobody had seen and it waited for, percent of one core; 0 for a service manager.
    pub(crate) fn children_cpu(&self) -> Option<f32> {
        self.waited.map(|waited| if self.collects() { 0.0 } else { waited })
    }

    /// What it has done in all up to its last reading, of the kind that is behind a rate: bytes, faults, nanoseconds.
    pub(crate) fn count_behind(&self, field: Field) -> Option<u64> {
        let count = self.counts.behind(field)?;
        Some(if field == Field::CpuChildren && self.collects() { 0 } else { count })
    }

    /// CPU that is known to be its doing, percent of one core: its own, and that of ended children it waited for. A service
    /// manager collects whatever others leave behind, which is nobody's that is known.
    pub fn accounted_cpu(&self) -> f64 {
        self.cpu.unwrap_or(0.0) + f64::from(self.children_cpu().unwrap_or(0.0))
    }

    /// `labelpress 51907-kqm (ines)`: how a process is named in every line for people.
    pub fn label(&self) -> String {
        format!("{} {} ({})", self.app, self.id.checked(), self.owner)
    }
}

/// Counts children and instances over all processes.
pub fn count_families(processes: &mut [Process]) {
    let mut children: HashMap<u32, u32> = HashMap::new();
    let mut instances: HashMap<(u32, &str), u32> = HashMap::new();
    for process in processes.iter() {
        *children.entry(process.parent).or_default() += 1;
        *instances.entry((process.person(), process.app.as_str())).or_default() += 1;
    }
    let counts: Vec<(u32, u32)> = processes
        .iter()
        .map(|process| {
            let instances = instances.get(&(process.person(), process.app.as_str())).copied().unwrap_or(1);
            (children.get(&process.id.pid).copied().unwrap_or(0), instances)
        })
        .collect();
    for (process, (children, instances)) in processes.iter_mut().zip(counts) {
        process.children = children;
        process.instances = instances;
    }
}
