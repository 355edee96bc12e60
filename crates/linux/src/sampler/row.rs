//! One process in the sampler: what is kept of it from one tick to the next, and how it is read.

use std::borrow::Cow;
use std::io;
use std::os::fd::OwnedFd;
use std::path::PathBuf;
use std::time::Duration;

use sophron_core::model::{Cost, Counts, Moment, Needs, Process, ProcessId, Promise};
use sophron_core::state::State;
use sophron_core::text;

use super::demand::Reading;
use super::identity::{self, Identity};
use super::risky::Read;
use super::voice::Voice;
use super::{Context, Pass, SLICES, names};
use crate::handle::is_in_need;
use crate::proc::{stat, status};
use crate::{exec, here, living, sys, terminal};

/// No clock shows that.
pub(super) const NEVER: u64 = u64::MAX;

/// What the figures of a process are compared with at the next tick. Times are nanoseconds on the monotonic clock; 0 is
/// never.
#[derive(Debug)]
pub(super) struct Row {
    pub pid: u32,
    /// A thread that tells of it, where its main thread has exited; 0 where that lives.
    pub speaker: u32,
    /// Ticks since its clock last moved.
    pub idle: u8,
    /// The ticks, modulo 256, at which `statm` and `status` were last read: what is read again and again is kept open.
    pub read_at: [u8; 2],
    /// Start time, clock ticks since boot.
    pub start: u64,
    /// CPU time used, and when that was read.
    pub cpu_ns: u64,
    pub cpu_at: u64,
    /// Waited-for CPU time of ended children, clock ticks.
    children_ticks: u64,
    /// When `stat` was read: its rates count from there.
    stat_at: u64,
    /// The CPU time that it had used when it was last seen not to be in the middle of an exec: until it runs again it is in none.
    pub whole_at: u64,
    /// Rise of the waited-for time in this tick.
    rise_ns: u64,
    /// That of all ticks before, less what had been seen of it, nanoseconds.
    children_ns: u64,
    /// CPU time of children that are gone: seen when they used it, and still to come out of the rise.
    owed_ns: u64,
    /// When `stat` was read in the tick before: what the rise is spread over.
    base_at: u64,
    faults: u64,
    /// Bytes read and written; `io_at` says whether they are known.
    pub io: (u64, u64),
    pub io_at: u64,
    /// Pages of address space and resident pages, as `statm` had them when `status` was last read of it at rest; none once it
    /// has run.
    pages: [u32; 2],
    /// The short name, hashed, and the place of the code: what an exec changes.
    name: u32,
    code: u32,
    /// What it is called is to be read again: in its turn, or because it was not to be had.
    pub rename: bool,
    /// `stat`, `statm` and `status`, where they are kept open.
    pub kept: [Option<OwnedFd>; 3],
    pub known: bool,
    /// The place of its code may not be read: an exec may show in nothing but its file and command line.
    opaque: bool,
}

impl Row {
    fn new(pid: u32, start: u64) -> Row {
        Row {
            pid,
            speaker: 0,
            idle: 0,
            read_at: [0; 2],
            start,
            cpu_ns: 0,
            cpu_at: 0,
            children_ticks: 0,
            stat_at: 0,
            whole_at: NEVER,
            rise_ns: 0,
            children_ns: 0,
            owed_ns: 0,
            base_at: 0,
            faults: 0,
            io: (0, 0),
            io_at: 0,
            pages: [0; 2],
            name: 0,
            code: 0,
            rename: false,
            kept: [None, None, None],
            known: false,
            opaque: false,
        }
    }

    /// One of its files: those of a process whose main thread has exited are empty.
    pub fn file(&self, name: &'static str) -> Cow<'static, str> {
        match self.speaker {
            0 => Cow::Borrowed(name),
            thread => Cow::Owned(format!("task/{thread}/{name}")),
        }
    }

    /// Who is asked for the files that can hang their reader.
    fn asked(&self, id: ProcessId) -> ProcessId {
        match self.speaker {
            0 => id,
            thread => ProcessId { pid: thread, ..id },
        }
    }

    pub(crate) fn is_of(&self, process: &Process) -> bool {
        self.pid == process.id.pid && self.start == process.id.start && self.known
    }

    /// The process's texts are gone: the next tick reads everything again.
    pub(crate) fn forget_process(&mut self) {
        self.known = false;
    }

    /// CPU used since the tick before, percent of one core, by a clock read at that time.
    pub fn rate(&self, cpu_ns: u64, now: u64) -> Option<f64> {
        let passed = now.checked_sub(self.cpu_at).filter(|passed| *passed > 0 && self.cpu_at > 0)?;
        Some(cpu_ns.saturating_sub(self.cpu_ns) as f64 / 1e7 / (passed as f64 / 1e9))
    }

    /// Takes that for this tick's.
    pub fn take_cpu(&mut self, process: &mut Process, cpu_ns: u64, now: u64) {
        process.cpu = self.rate(cpu_ns, now);
        process.cpu_time = Duration::from_nanos(cpu_ns);
        (self.cpu_ns, self.cpu_at) = (cpu_ns, now);
    }

    /// All that is known to have been used by it and by children it waited for, nanoseconds.
    pub(crate) fn total_ns(&self) -> u64 {
        // Clock ticks are 10 ms on every machine that Linux runs Sophron on; the exact length does not matter here.
        self.cpu_ns + self.children_ticks * 10_000_000
    }

    pub(crate) fn owe(&mut self, nanoseconds: u64) {
        self.owed_ns += nanoseconds;
    }

    /// A new tick: what did not come out of this rise may come out of the next. What a clock tick rounds off, or a
    /// parent that ignores its children's end, never comes.
    fn begin_tick(&mut self) {
        self.children_ns += self.rise_ns.saturating_sub(self.owed_ns);
        self.owed_ns = if self.rise_ns > 0 { 0 } else { self.owed_ns };
        self.rise_ns = 0;
        self.base_at = self.stat_at;
    }
}

impl Context {
    /// One known process at a new tick; `false` when it is gone.
    pub(super) fn refresh(&mut self, row: &mut Row, process: &mut Process, moment: &Moment) -> bool {
        row.begin_tick();
        // What is costly is read on demand, and holds for one tick.
        (process.memory_private, process.memory_proportional, process.files) = (None, None, None);
        process.quiet = false;
        let clock = if self.live { sys::process_cpu_time(row.pid).ok() } else { None };
        let now = now_ns();
        if self.live && clock.is_none() {
            return false;
        }
        let clock_ns = clock.map(|clock| clock.as_nanos() as u64);
        let moved = clock_ns.is_none_or(|clock| clock != row.cpu_ns);
        row.idle = if moved { 0 } else { row.idle.saturating_add(1) };
        // Whoever has run may have as much as before, and hold more of it.
        row.pages = if moved { [0; 2] } else { row.pages };
        let started = self.started(row.start);
        let age = if row.start == 0 { Duration::ZERO } else { moment.boottime.saturating_sub(started) };
        let in_turn = self.turn_of(row.pid) == self.tick % SLICES;
        // A young process is often moved to its own group a moment after its start.
        let settling = [1, 2, 5, 10].iter().any(|at| process.age.as_secs() < *at && age.as_secs() >= *at);
        process.age = age;
        if in_turn && row.opaque && self.base.has(Cost::Command) {
            row.rename = true;
        }
        if self.pass == Pass::Glancing
            && row.start == 0
            && !moved
            && let Some(lives) = self.glance_at(row, process)
        {
            row.cpu_at = now;
            return lives;
        }
        let in_full = in_turn || settling || !row.known || self.anew;
        if let (Some(clock), Reading::OnDemand(demand), false) = (clock_ns, self.reading, in_full || row.rename) {
            return self.refresh_on_demand(row, process, (clock, moved), now, (demand, moment.monotonic));
        }
        if moved || in_full || row.rename {
            let mut needs = if moved || in_full { self.base } else { Needs::NONE };
            // Who has not run since has moved no byte.
            if !moved && !self.anew && row.io_at != 0 && !process.outrun.has(Cost::Io) {
                needs = needs.without(Needs::NONE.with(Cost::Io));
                self.stood_still(row, process);
            }
            let for_acts = if settling { Needs::NONE } else { self.for_acts(row, process) };
            needs = needs.without(for_acts);
            // Nor has it filled memory; what others do to that shows in its size.
            let held = process.memory_held.is_some() && !process.kernel;
            if self.rests(row) && held && needs.has(Cost::Status) && self.has_its_size(row) {
                needs = needs.without(Needs::NONE.with(Cost::Status).with(Cost::Statm));
            }
            let lives = self.read_stat(row, process, clock_ns, now, needs);
            if let Reading::OnDemand(_) = self.reading {
                // What was not read because it did not run is carried over as what it still has.
                let read = if in_full { self.base.without(for_acts) } else { needs };
                let unread = self.base.only(Needs::FILES).without(read.with(Cost::Stat));
                process.stale = unread.and(self.base.only(Needs::COSTLY));
                process.outrun = if moved { unread } else { process.outrun.only(unread) };
            }
            return lives;
        }
        row.cpu_at = now;
        process.cpu = Some(0.0);
        self.stood_still(row, process);
        true
    }

    /// Whether it is who it was, and has not run since the tick before.
    fn rests(&self, row: &Row) -> bool {
        row.idle > 0 && row.known && self.bounded && !self.anew
    }

    /// What only an act would have to know of who rests, and is known as it was when it last ran.
    fn for_acts(&self, row: &Row, process: &Process) -> Needs {
        match self.reading {
            Reading::OnDemand(demand) if !demand.whole && self.rests(row) => demand.for_acts.without(process.outrun),
            _ => Needs::NONE,
        }
    }

    /// Whether its memory is as large as when `status` was last read of it at rest: `statm` costs less than half of that.
    fn has_its_size(&mut self, row: &mut Row) -> bool {
        let pages = self.reader.of(row.pid, &row.file("statm")).ok().and_then(status::parse_pages);
        // 16 TiB more or less are no doubt.
        let pages = pages.map_or([0; 2], |(space, resident)| [space as u32, resident as u32]);
        let before = std::mem::replace(&mut row.pages, pages);
        pages != [0; 2] && pages == before
    }

    /// Rates of one that has not run.
    pub(super) fn stood_still(&mut self, row: &mut Row, process: &mut Process) {
        process.waited = process.waited.map(|_| 0.0);
        process.faults = process.faults.map(|_| 0.0);
        // What did not run has read and written nothing, if it is known what it had before.
        let still = (row.io_at != 0 && self.base.has(Cost::Io)).then_some(0.0);
        (process.disk_read, process.disk_write) = (still, still);
        // And what it does next it does from now on, but for what it did before and nobody has read yet.
        let read = |cost: Cost, at: &mut u64| *at = if process.outrun.has(cost) || *at == 0 { *at } else { row.cpu_at };
        read(Cost::Io, &mut row.io_at);
        read(Cost::Stat, &mut row.stat_at);
        if row.idle > 3 && self.kept > self.most_kept / 2 {
            self.close(row);
        }
    }

    /// Name, owner and memory of a process that did not run, without its `stat`; `None` where that does not tell who it
    /// is: a kernel thread, a zombie, a script, another user's.
    fn glance_at(&mut self, row: &mut Row, process: &mut Process) -> Option<bool> {
        let pid = row.pid;
        process.cpu = Some(0.0);
        if !self.base.has(Cost::Statm) {
            row.known = true;
            return Some(true);
        }
        let statm = self.reader.of(pid, "statm");
        let starting = statm.as_ref().is_ok_and(|statm| exec::is_under_way(statm));
        let Ok(pages) = statm.map(status::parse_pages) else { return Some(false) };
        let path = if starting { None } else { self.reader.link(pid, "exe") }?;
        if identity::is_named_elsewhere(Some(&path)) {
            return None;
        }
        let Ok(uid) = self.reader.uid(pid) else { return Some(false) };
        process.memory_virtual = pages.map(|(all, _)| all * self.page);
        process.memory = pages.map(|(_, resident)| resident * self.page);
        self.belongs_to(process, uid);
        process.names_mut().app = identity::app_of(&path);
        row.known = true;
        Some(true)
    }

    /// A second reading within one tick, because something around the process has changed. Its own rates stay.
    pub(super) fn read_again(&mut self, row: &mut Row, process: &mut Process) {
        let (rates, at) = ((process.cpu, process.faults), row.cpu_at);
        row.whole_at = NEVER;
        if self.read_stat(row, process, Some(row.cpu_ns), now_ns(), Needs::NONE.with(Cost::Stat)) {
            (process.cpu, process.faults) = rates;
            row.cpu_at = at;
            // What it was promised by may go by whose child it is.
            process.quiet = false;
            process.promise = Promise::NONE;
        }
    }

    /// A process that was not known before.
    pub(super) fn first_sight(&mut self, pid: u32, moment: &Moment) -> Option<(Row, Process)> {
        if self.pass == Pass::Priming
            && let Some(clock) = self.live.then(|| sys::process_cpu_time(pid).ok()).flatten()
        {
            // Who it is, is read with the next sample; of its figures only the clock has to have a base.
            let id = ProcessId { pid, start: 0, boot: self.boot };
            let row = Row { cpu_ns: clock.as_nanos() as u64, cpu_at: now_ns(), ..Row::new(pid, 0) };
            return Some((row, Process::unread(id)));
        }
        let (line, uid) = match self.reader.first(pid, "stat") {
            Ok(found) => found,
            Err(error) => {
                let of = if exec::is_busy(&error) { &mut self.starting } else { &mut self.unread };
                of.extend(is_in_need(&error).then_some(pid));
                return None;
            }
        };
        let start = stat::parse(line)?.start;
        let id = ProcessId { pid, start, boot: self.boot };
        let clock = if self.live { sys::process_cpu_time(pid).ok() } else { None };
        let now = now_ns();
        let mut process = Process::unread(id);
        process.age = moment.boottime.saturating_sub(self.started(start));
        self.belongs_to(&mut process, uid);
        let mut row = Row::new(pid, start);
        // One that was born since the last sample has used all it has used since then; of any other there is no rate yet.
        if let Some((before, before_boot)) = self.before
            && self.started(start) >= before_boot
        {
            let before = before.as_nanos() as u64;
            (row.cpu_at, row.stat_at, row.base_at, row.io_at) = (before, before, before, before);
        }
        let clock_ns = clock.map(|clock| clock.as_nanos() as u64);
        let lives = self.read_stat(&mut row, &mut process, clock_ns, now, self.base);
        if let Reading::OnDemand(_) = self.reading {
            process.stale = self.base.only(Needs::COSTLY);
        }
        lives.then_some((row, process))
    }

    fn belongs_to(&mut self, process: &mut Process, uid: u32) {
        process.uid = uid;
        let (owner, person) = self.users.whose(uid);
        let names = process.names_mut();
        (names.owner, names.person) = (owner, person);
    }

    fn age_of(&self, start: u64) -> Duration {
        here::now().boottime.saturating_sub(self.started(start))
    }

    /// When a process started, on the boot-time clock.
    fn started(&self, start: u64) -> Duration {
        Duration::from_nanos(start.saturating_mul(self.tick_ns))
    }

    /// Whoever seems to have become root: `status` has to say the same.
    fn believed(&mut self, pid: u32, uid: u32, kernel: bool) -> u32 {
        if uid != 0 || kernel {
            return uid;
        }
        self.reader.of(pid, "status").ok().and_then(status::parse_uid).unwrap_or(uid)
    }

    pub(super) fn read_stat(
        &mut self,
        row: &mut Row,
        process: &mut Process,
        clock_ns: Option<u64>,
        now: u64,
        needs: Needs,
    ) -> bool {
        let pid = row.pid;
        let may_keep = row.known && self.kept < self.may_keep(row);
        // Nobody becomes another's without running. Of others that is asked anew, since a kept file shows the owner that it had when it
        // was opened; and first: if the number becomes another's in between, the start time shows it.
        let uid = if self.rests(row) { Ok(process.uid) } else { self.reader.uid(pid) };
        let uid = uid.and_then(|uid| self.gate(row, clock_ns).map(|()| uid));
        let line = uid.and_then(|uid| match &mut row.kept[0] {
            Some(file) => Ok((self.reader.again(file)?, uid)),
            none if may_keep => {
                let file = self.reader.open(pid, "stat")?;
                self.kept += 1;
                Ok((self.reader.again(&*none.insert(file))?, uid))
            }
            None => Ok((self.reader.of(pid, "stat")?, uid)),
        });
        let (line, uid) = match line {
            Ok(found) => found,
            // For want of descriptors or memory nothing can be read of it: that says nothing about it.
            Err(error) if is_in_need(&error) => {
                self.unread.extend((!exec::is_busy(&error)).then_some(pid));
                return self.cannot_be_read(row, process, clock_ns, now);
            }
            Err(_) => return false,
        };
        let Some(stat) = stat::parse(line) else { return false };
        if row.start == 0 {
            // Primed only: the clock has not gone back, so this is the process whose clock was read then.
            row.start = stat.start;
            process.id.start = stat.start;
            if clock_ns.is_some_and(|clock| clock < row.cpu_ns) {
                row.cpu_at = 0;
            }
        } else if stat.start != row.start {
            return false;
        }
        take_rates(row, process, &stat, clock_ns, now, self.tick_ns);
        process.parent = stat.parent;
        process.kernel = stat.is_kernel();
        process.threads = stat.threads;
        process.nice = stat.nice;
        process.session = stat.session;
        let (device, kernel) = (stat.terminal, stat.is_kernel());
        let voice = match living::has_exited(stat.state) && stat.threads > 1 {
            false => Voice::of(&stat, 0, |hash, code| row.rename || !row.known || (row.name, row.code) != (hash, code)),
            true => match self.spoken_for(pid, row.speaker) {
                Some(voice) => voice,
                // Between two threads, or at its end: the next tick tells, and until then it is what it was.
                None => return row.known,
            },
        };
        row.speaker = voice.thread;
        process.state = State::from_letter(voice.state);
        let Voice { hash: name, code, .. } = voice;
        row.opaque = !voice.readable && !kernel;
        // Another place of the code is another program; where that may not be read, another name may be.
        let another = !row.known || (row.name, row.code) != (name, code);
        let same = row.known && row.code == code && (voice.readable || row.name == name);
        let changed = another || row.rename;
        if changed {
            process.promise = Promise::NONE;
            process.names_mut().name = text::clean(&voice.name);
            process.names_mut().tty = terminal::name(device);
            row.rename = !self.identify(row, process, &voice.name, same);
            (row.name, row.code, row.known) = (name, code, true);
        }
        if uid != process.uid {
            let uid = self.believed(pid, uid, kernel);
            if uid != process.uid {
                process.promise = Promise::NONE;
                self.belongs_to(process, uid);
            }
        }
        if process.age.is_zero() {
            process.age = self.age_of(row.start);
        }
        self.read_others(row, process, needs, changed);
        if changed {
            names::shared(&mut process.names);
        }
        true
    }

    /// Whether what an exec holds may be asked for, at that clock.
    fn gate(&mut self, row: &mut Row, clock_ns: Option<u64>) -> io::Result<()> {
        if clock_ns != Some(row.whole_at) {
            row.whole_at = NEVER;
            self.reader.gate(row.pid)?;
            row.whole_at = clock_ns.unwrap_or(NEVER);
        }
        Ok(())
    }

    /// It is there, and nothing of it could be read at this tick but its clock.
    fn cannot_be_read(&mut self, row: &mut Row, process: &mut Process, clock_ns: Option<u64>, now: u64) -> bool {
        if row.start == 0 || clock_ns.is_none() {
            return row.start != 0;
        }
        row.take_cpu(process, clock_ns.unwrap_or(row.cpu_ns), now);
        (process.memory, process.memory_held, process.memory_shared, process.memory_swapped) = (None, None, None, None);
        (process.disk_read, process.disk_write, process.faults, process.waited) = (None, None, None, None);
        process.counts = Counts::UNKNOWN;
        (row.io_at, row.stat_at) = (0, 0);
        true
    }

    /// What it is called; `false` where it has to be asked again. Of the `same` program what was known before stays known.
    fn identify(&mut self, row: &Row, process: &mut Process, name: &[u8], same: bool) -> bool {
        let id = process.id;
        let path = self.reader.link(id.pid, &row.file("exe"));
        let needs = self.base;
        let mut command = Some(Vec::new());
        let wanted = needs.has(Cost::Command) || identity::is_named_elsewhere(path.as_deref());
        if wanted {
            command = match self.risky.read((row.asked(id), process.uid), "cmdline", None) {
                Read::Done(command) => command.ok(),
                Read::Unanswered => None,
            };
            if command.is_none() && same && !process.app_unread() {
                return false;
            }
        }
        let may_hang = |path: &PathBuf| needs.has(Cost::Proof) && self.remote.lead_to(path);
        let prove = !path.as_ref().is_some_and(may_hang) && needs.has(Cost::Proof);
        let prove = prove.then_some(&mut self.guarded);
        let folder = self.reader.root().join(id.pid.to_string()).join(&*row.file(""));
        let identity = Identity::new(name, &folder, path, command.as_deref(), prove);
        let names = process.names_mut();
        names.app = identity.app;
        names.app_rests_on = identity.app_rests_on;
        names.command_unread = command.is_none();
        names.path = identity.path;
        names.path_rests_on = identity.path_rests_on;
        names.replaced = identity.replaced;
        // Whoever has cleared his has an empty one.
        names.command = identity.command.or_else(|| (wanted && command.is_some()).then(String::new));
        let bytes = command.as_deref().filter(|bytes| self.unmasked && !bytes.is_empty());
        names.unmasked = bytes.map(text::unmasked_command_line);
        command.is_some()
    }
}

fn take_rates(
    row: &mut Row,
    process: &mut Process,
    stat: &stat::Stat<'_>,
    clock_ns: Option<u64>,
    now: u64,
    tick_ns: u64,
) {
    row.take_cpu(process, clock_ns.unwrap_or(stat.cpu_ticks * tick_ns), now);
    let per_second = |count: f64, since: u64| {
        let passed = now.checked_sub(since).filter(|passed| *passed > 0 && since > 0)?;
        Some(count / (passed as f64 / 1e9))
    };
    process.faults = per_second(stat.faults.saturating_sub(row.faults) as f64, row.stat_at).map(|rate| rate as f32);
    if row.stat_at != 0 {
        row.rise_ns += stat.children_ticks.saturating_sub(row.children_ticks) * tick_ns;
    }
    let news = row.rise_ns.saturating_sub(row.owed_ns);
    process.counts.set_faults(stat.faults);
    process.counts.set_children(row.children_ns + news);
    process.waited = per_second(news as f64 / 1e7, row.base_at).map(|rate| rate as f32);
    row.stat_at = now;
    (row.children_ticks, row.faults) = (stat.children_ticks, stat.faults);
}

pub(super) fn now_ns() -> u64 {
    here::monotonic().as_nanos() as u64
}
