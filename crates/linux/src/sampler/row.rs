//! One process in the sampler: what is kept of it from one tick to the next, and how it is read.

use std::os::fd::OwnedFd;
use std::time::Duration;

use sophron_core::model::{Cost, Moment, Needs, Origin, Process, ProcessId, State};
use sophron_core::text;

use super::identity::Identity;
use super::risky::Read;
use super::{Context, SLICES};
use crate::here;
use crate::proc::{cgroup, stat, status};
use crate::sys;

/// What the figures of a process are compared with at the next tick.
#[derive(Debug)]
pub(super) struct Row {
    pub id: ProcessId,
    /// CPU time used, nanoseconds, and when that was read.
    cpu_ns: u64,
    cpu_at: Duration,
    /// Waited-for CPU time of ended children, clock ticks.
    children_ticks: u64,
    /// When `stat` was read: its rates count from there.
    stat_at: Duration,
    /// Rise of the waited-for time in this tick, nanoseconds.
    rise_ns: u64,
    /// CPU time of children that are gone, nanoseconds: seen when they used it, and still to come out of the rise.
    owed_ns: u64,
    /// When `stat` was read in the tick before: what the rise is spread over.
    base_at: Duration,
    faults: u64,
    io: Option<(u64, u64)>,
    io_at: Duration,
    /// Name and place of the code: what an exec changes.
    name: u64,
    code: u64,
    named: Needs,
    file: Option<OwnedFd>,
    /// Ticks since its clock last moved.
    idle: u16,
    known: bool,
}

impl Row {
    pub fn is_of(&self, process: &Process) -> bool {
        self.id == process.id && self.known
    }

    /// The process's texts are gone: the next tick reads everything again.
    pub fn forget_process(&mut self) {
        self.known = false;
    }

    pub fn keeps_a_file(&self) -> bool {
        self.file.is_some()
    }

    /// All that is known to have been used by it and by children it waited for, nanoseconds.
    pub fn total_ns(&self) -> u64 {
        // Clock ticks are 10 ms on every machine that Linux runs Sophron on; the exact length does not matter here.
        self.cpu_ns + self.children_ticks * 10_000_000
    }

    pub fn owe(&mut self, nanoseconds: u64) {
        self.owed_ns += nanoseconds;
    }

    /// A new tick: what did not come out of this rise may come out of the next. What a clock tick rounds off, or a
    /// parent that ignores its children's end, never comes.
    fn begin_tick(&mut self) {
        self.owed_ns = if self.rise_ns > 0 { 0 } else { self.owed_ns };
        self.rise_ns = 0;
        self.base_at = self.stat_at;
    }
}

/// A process of which nothing is known but who it is.
pub(super) fn empty(id: ProcessId) -> Process {
    Process {
        id,
        parent: 0,
        name: String::new(),
        app: String::new(),
        app_proven: false,
        path: None,
        path_proven: false,
        replaced: false,
        command: None,
        uid: u32::MAX,
        owner: String::new(),
        session: 0,
        tty: String::new(),
        group: None,
        unit: None,
        origin: None,
        state: State::Sleeping,
        kernel: false,
        cpu: None,
        waited: None,
        cpu_time: Duration::ZERO,
        memory: None,
        memory_held: None,
        memory_swapped: None,
        memory_virtual: None,
        memory_private: None,
        memory_proportional: None,
        disk_read: None,
        disk_write: None,
        faults: None,
        files: None,
        children: 0,
        instances: 1,
        threads: 0,
        nice: 0,
        age: Duration::ZERO,
    }
}

impl Context {
    /// One known process at a new tick; `false` when it is gone.
    pub(super) fn refresh(
        &mut self,
        row: &mut Row,
        process: &mut Process,
        moment: &Moment,
        named: &impl Fn(&Process) -> Needs,
    ) -> bool {
        row.begin_tick();
        // What is costly is read on demand, and holds for one tick.
        (process.memory_private, process.memory_proportional, process.files) = (None, None, None);
        let clock = if self.live { sys::process_cpu_time(row.id.pid).ok() } else { None };
        let now = here::monotonic();
        if self.live && clock.is_none() {
            return false;
        }
        let clock_ns = clock.map(|clock| clock.as_nanos() as u64);
        let moved = clock_ns.is_none_or(|clock| clock != row.cpu_ns);
        row.idle = if moved { 0 } else { row.idle.saturating_add(1) };
        let age = moment.boottime.saturating_sub(self.started(row.id.start));
        let in_turn = row.id.pid % SLICES == self.tick % SLICES;
        // A young process is often moved to its own group a moment after its start.
        let settling = [1, 2, 5, 10].iter().any(|at| process.age.as_secs() < *at && age.as_secs() >= *at);
        process.age = age;
        let needs = if moved || in_turn || settling || !row.known { self.base.and(row.named) } else { row.named };
        if moved || in_turn || settling || needs.of_process() || !row.known {
            return self.read_stat(row, process, clock_ns, now, needs, named);
        }
        row.cpu_at = now;
        process.cpu = Some(0.0);
        process.waited = process.waited.map(|_| 0.0);
        process.faults = process.faults.map(|_| 0.0);
        process.disk_read = process.disk_read.map(|_| 0.0);
        process.disk_write = process.disk_write.map(|_| 0.0);
        if row.idle > 3 && row.file.take().is_some() {
            self.kept -= 1;
        }
        true
    }

    /// A second reading within one tick, because something around the process has changed. Its own rates stay.
    pub(super) fn read_again(&mut self, row: &mut Row, process: &mut Process, named: &impl Fn(&Process) -> Needs) {
        let (rates, at) = ((process.cpu, process.faults), row.cpu_at);
        if self.read_stat(row, process, Some(row.cpu_ns), here::monotonic(), Needs::NONE.with(Cost::Stat), named) {
            (process.cpu, process.faults) = rates;
            row.cpu_at = at;
        }
    }

    /// A process that was not known before.
    pub(super) fn first_sight(
        &mut self,
        pid: u32,
        moment: &Moment,
        named: &impl Fn(&Process) -> Needs,
    ) -> Option<(Row, Process)> {
        let line = self.reader.of(pid, "stat").ok()?;
        let start = stat::parse(line)?.start;
        let id = ProcessId { pid, start, boot: self.boot };
        let clock = if self.live { sys::process_cpu_time(pid).ok() } else { None };
        let now = here::monotonic();
        let mut process = empty(id);
        process.age = moment.boottime.saturating_sub(self.started(start));
        let mut row = Row {
            id,
            cpu_ns: 0,
            cpu_at: Duration::ZERO,
            children_ticks: 0,
            stat_at: Duration::ZERO,
            rise_ns: 0,
            owed_ns: 0,
            base_at: Duration::ZERO,
            faults: 0,
            io: None,
            io_at: Duration::ZERO,
            name: 0,
            code: 0,
            named: Needs::NONE,
            file: None,
            idle: 0,
            known: false,
        };
        // One that was born since the last sample has used all it has used since then; of any other there is no rate yet.
        if let Some((before, before_boot)) = self.before
            && self.started(start) >= before_boot
        {
            (row.cpu_at, row.stat_at, row.base_at, row.io_at) = (before, before, before, before);
            row.io = Some((0, 0));
        }
        let clock_ns = clock.map(|clock| clock.as_nanos() as u64);
        self.read_stat(&mut row, &mut process, clock_ns, now, self.base, named).then_some((row, process))
    }

    /// When a process started, on the boot-time clock.
    fn started(&self, start: u64) -> Duration {
        Duration::from_nanos(start.saturating_mul(self.tick_ns))
    }

    fn read_stat(
        &mut self,
        row: &mut Row,
        process: &mut Process,
        clock_ns: Option<u64>,
        now: Duration,
        needs: Needs,
        named: &impl Fn(&Process) -> Needs,
    ) -> bool {
        let pid = row.id.pid;
        let line = match &row.file {
            Some(file) => self.reader.again(file),
            None if row.known && row.idle == 0 && self.kept < self.most_kept => match self.reader.open(pid, "stat") {
                Ok(file) => {
                    self.kept += 1;
                    let file = row.file.insert(file);
                    self.reader.again(&*file)
                }
                Err(error) => Err(error),
            },
            None => self.reader.of(pid, "stat"),
        };
        let Some(stat) = line.ok().and_then(stat::parse) else { return false };
        if stat.start != row.id.start {
            return false;
        }
        take_rates(row, process, &stat, clock_ns, now, self.tick_ns);
        process.parent = stat.parent;
        process.state = State::from_letter(stat.state);
        process.kernel = stat.is_kernel();
        process.threads = stat.threads;
        process.nice = stat.nice;
        process.session = stat.session;
        let (name, code, terminal) = (hash(stat.name), stat.code, stat.terminal);
        let changed = !row.known || row.name != name || row.code != code;
        if changed {
            let stat_name = stat.name.to_vec();
            process.name = text::clean(&stat_name);
            process.tty = tty(terminal);
            self.identify(row, process, &stat_name);
            (row.name, row.code, row.known) = (name, code, true);
        }
        let Ok(uid) = self.reader.uid(pid) else { return false };
        if uid != process.uid {
            process.uid = uid;
            process.owner = self.users.name(uid);
        }
        self.read_others(row, process, needs, changed);
        row.named = named(process);
        let missing = row.named.only(Needs::PERIODIC);
        if missing.of_process() && !covers(needs, missing) {
            self.read_others(row, process, missing, false);
        }
        true
    }

    fn identify(&mut self, row: &Row, process: &mut Process, name: &[u8]) {
        let pid = row.id.pid;
        let command = match self.risky.read(row.id, "cmdline", None) {
            Read::Done(command) => command.unwrap_or_default(),
            Read::Stuck => Vec::new(),
        };
        let path = self.reader.link(pid, "exe");
        let identity = Identity::new(row.id, name, self.reader.root(), path, &command);
        process.app = identity.app;
        process.app_proven = identity.app_proven;
        process.path = identity.path;
        process.path_proven = identity.path_proven;
        process.replaced = identity.replaced;
        process.command = identity.command;
    }

    fn read_others(&mut self, row: &mut Row, process: &mut Process, needs: Needs, first: bool) {
        let pid = row.id.pid;
        if needs.has(Cost::Statm) {
            let pages = self.reader.of(pid, "statm").ok().and_then(status::parse_pages);
            process.memory_virtual = pages.map(|(all, _)| all * self.page);
            process.memory = pages.map(|(_, resident)| resident * self.page);
        }
        if needs.has(Cost::Status) {
            let memory = match process.kernel {
                // A kernel thread has no memory of its own, and its `status` no lines about it.
                true => Some(status::Memory { held: 0, swapped: 0 }),
                false => self.reader.of(pid, "status").ok().and_then(status::parse_memory),
            };
            process.memory_held = memory.map(|memory| memory.held);
            process.memory_swapped = memory.map(|memory| memory.swapped);
        }
        if needs.has(Cost::Io) {
            let io = self.reader.of(pid, "io").ok().and_then(status::parse_io);
            let now = here::monotonic();
            let rates = io.zip(row.io).and_then(|(now_io, then)| {
                let passed = now.checked_sub(row.io_at).filter(|passed| !passed.is_zero())?.as_secs_f64();
                let rate = |now: u64, then: u64| now.saturating_sub(then) as f64 / passed;
                Some((rate(now_io.0, then.0), rate(now_io.1, then.1)))
            });
            (process.disk_read, process.disk_write) =
                rates.map_or((None, None), |(read, write)| (Some(read), Some(write)));
            (row.io, row.io_at) = (io, now);
        }
        if needs.has(Cost::Cgroup) {
            let group = self.reader.of(pid, "cgroup").ok().and_then(cgroup::parse_path);
            if first || group != process.group {
                process.unit = group.as_deref().map(|group| cgroup::unit(group).to_owned());
                process.origin =
                    if process.kernel { Some(Origin::Kernel) } else { group.as_deref().map(cgroup::origin) };
                process.group = group;
            }
            if process.unit.as_deref().is_some_and(|unit| !unit.is_empty()) && self.is_frozen(process) {
                process.state = State::Frozen;
            }
        }
    }

    /// Whether its control group is frozen (cgroup.events of the unified hierarchy, cgroups(7)).
    fn is_frozen(&self, process: &Process) -> bool {
        let group = process.group.as_deref().unwrap_or_default();
        self.live
            && std::fs::read(format!("/sys/fs/cgroup{group}/cgroup.events"))
                .is_ok_and(|events| events.split(|byte| *byte == b'\n').any(|line| line == b"frozen 1"))
    }
}

fn take_rates(
    row: &mut Row,
    process: &mut Process,
    stat: &stat::Stat<'_>,
    clock_ns: Option<u64>,
    now: Duration,
    tick_ns: u64,
) {
    let cpu_ns = clock_ns.unwrap_or(stat.cpu_ticks * tick_ns);
    let per_second = |count: f64, since: Duration| {
        let passed = now.checked_sub(since).filter(|passed| !passed.is_zero() && !since.is_zero())?;
        Some(count / passed.as_secs_f64())
    };
    process.cpu = per_second(cpu_ns.saturating_sub(row.cpu_ns) as f64 / 1e7, row.cpu_at);
    process.cpu_time = Duration::from_nanos(cpu_ns);
    process.faults = per_second(stat.faults.saturating_sub(row.faults) as f64, row.stat_at);
    if !row.stat_at.is_zero() {
        row.rise_ns += stat.children_ticks.saturating_sub(row.children_ticks) * tick_ns;
    }
    process.waited = per_second(row.rise_ns.saturating_sub(row.owed_ns) as f64 / 1e7, row.base_at);
    (row.cpu_ns, row.cpu_at, row.stat_at) = (cpu_ns, now, now);
    (row.children_ticks, row.faults) = (stat.children_ticks, stat.faults);
}

fn covers(needs: Needs, wanted: Needs) -> bool {
    needs.and(wanted) == needs
}

/// FNV-1a: only to see that a name has changed.
fn hash(bytes: &[u8]) -> u64 {
    bytes.iter().fold(0xcbf2_9ce4_8422_2325, |hash, byte| (hash ^ u64::from(*byte)).wrapping_mul(0x100_0000_01b3))
}

/// `pts/3`, `tty2`, or the device number (proc_pid_stat(5) field 7).
fn tty(device: u32) -> String {
    let (major, minor) = ((device >> 8) & 0xfff, (device & 0xff) | ((device >> 12) & 0xf_ff00));
    match major {
        0 => String::new(),
        4 => format!("tty{minor}"),
        136..=143 => format!("pts/{}", (major - 136) * 256 + minor),
        _ => format!("{major}:{minor}"),
    }
}
