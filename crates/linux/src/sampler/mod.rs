//! The sampler: one pass over the processes a tick, reading only what may have changed.
//!
//! Of every process the CPU clock is read, which costs a tenth of its `stat` file. Files are read again only of a process
//! whose clock has moved, and of a tenth of the others in turn: what did not run cannot have changed much by itself, and
//! nothing is older than ten ticks, but for what only acts ask for ([`Demand::for_acts`]). On demand ([`Demand`]) less is read,
//! and the rest when it is asked for.

mod demand;
mod descent;
mod files;
mod group_clocks;
mod identity;
mod kept;
mod machine;
mod names;
mod others;
mod passing;
mod pids;
mod risky;
mod row;
mod voice;

use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use sophron_core::model::{Boot, Cost, Machine, Moment, Needs, Process, ProcessId, Snapshot};
use sophron_core::sorted::SortedSet;

use crate::exec;
use crate::here::{self, Users};
use crate::living;
use crate::volumes::RemotePoints;
pub use demand::Demand;
use demand::Reading;
use descent::Descent;
pub(crate) use files::Files;
use pids::Pids;
pub use risky::RiskyFiles;
use risky::{ProcFiles, Risky};
use row::Row;

/// In so many ticks every process is read at least once.
pub const SLICES: u32 = 10;

/// Most `stat` files kept open, and never more than half of what this process may open.
const MOST_KEPT: usize = 4096;

/// How long a costly file is waited for; what takes longer is unknown.
const COSTLY_WAIT: Duration = Duration::from_millis(200);

/// Why no sample could be taken.
#[derive(Debug, thiserror::Error)]
#[error("{path} cannot be read")]
pub struct SampleError {
    /// Which file.
    pub path: PathBuf,
    /// Why.
    #[source]
    pub source: io::Error,
}

/// Takes samples of one machine.
#[derive(Debug)]
pub struct Sampler {
    context: Context,
    pids: Pids,
    rows: Vec<Row>,
    descent: Option<Descent>,
    machine: machine::Earlier,
    groups: group_clocks::GroupClocks,
    /// Who comes and goes, where that is asked for and to be had.
    passing: Option<passing::Listener>,
    host: String,
}

/// How much a sample reads.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Pass {
    /// All that is needed.
    Whole,
    /// Only clocks, and what identity takes waits for the next sample.
    Priming,
    /// Of what did not run since it was primed, only its memory and its name.
    Glancing,
}

/// What reading a process takes.
#[derive(Debug)]
struct Context {
    reader: Files,
    risky: Risky,
    users: Users,
    /// Where a program's file may not be asked whether it is the one: the disk may not answer.
    remote: RemotePoints,
    guarded: identity::Guarded,
    /// Whether the root is the machine's own /proc: only then do the process clocks belong to it.
    live: bool,
    /// What is read of a process whenever it is read.
    base: Needs,
    boot: Boot,
    page: u64,
    /// Nanoseconds of a clock tick.
    tick_ns: u64,
    /// `stat` files kept open, and how many may be.
    kept: usize,
    most_kept: usize,
    tick: u32,
    /// In which tick of ten somebody is read in turn is nobody's business: he could be at his best in it.
    turn: u32,
    reading: Reading,
    /// Whether nothing that was promised counts at this tick.
    anew: bool,
    /// Whether a process's clock bounds what it can have filled: not where a core keeps no clock ticks.
    bounded: bool,
    /// Whether command lines are kept with their secrets as well.
    unmasked: bool,
    pass: Pass,
    /// Who is new and in the middle of an exec: looked at again at the next sample.
    starting: Vec<u32>,
    /// Of whom nothing could be read for want of descriptors or memory: whoever is new among them is tried again at the next sample.
    unread: Vec<u32>,
    /// When the sample before began, on the monotonic and the boot-time clock.
    before: Option<(Duration, Duration)>,
}

impl Sampler {
    /// A sampler over a /proc root that reads `base` of every process that it reads.
    ///
    /// # Errors
    /// The root is no /proc: it cannot be opened, or has no boot ID.
    pub fn new(root: &Path, base: Needs) -> Result<Sampler, SampleError> {
        Sampler::with_files(root, base, Arc::new(ProcFiles(root.to_owned())))
    }

    /// The same with another layer below the files that can hang their reader.
    ///
    /// # Errors
    /// As [`Sampler::new`].
    pub fn with_files(root: &Path, base: Needs, files: Arc<dyn RiskyFiles>) -> Result<Sampler, SampleError> {
        let reader = Files::new(root)?;
        let boot =
            here::boot(root).map_err(|source| SampleError { path: root.join("sys/kernel/random/boot_id"), source })?;
        let ticks = rustix::param::clock_ticks_per_second().max(1);
        Ok(Sampler {
            context: Context {
                reader,
                risky: Risky::new(files),
                users: Users::default(),
                remote: RemotePoints::new(root),
                guarded: identity::Guarded::new(root),
                live: root == Path::new("/proc") && here::proc_is_ours(),
                base,
                boot,
                page: rustix::param::page_size() as u64,
                tick_ns: 1_000_000_000 / ticks,
                kept: 0,
                most_kept: (crate::own_life::to_keep() / 2).min(MOST_KEPT),
                tick: 0,
                turn: chance(),
                reading: Reading::Whole,
                anew: false,
                bounded: here::clocks_tick(),
                unmasked: false,
                pass: Pass::Whole,
                starting: Vec::new(),
                unread: Vec::new(),
                before: None,
            },
            pids: Pids::default(),
            rows: Vec::new(),
            descent: None,
            machine: machine::Earlier::default(),
            groups: group_clocks::GroupClocks::new(root),
            passing: None,
            host: here::host(),
        })
    }

    /// From now on command lines are kept with their secrets as well, for the audit trail alone.
    #[must_use]
    pub fn with_unmasked(mut self, unmasked: bool) -> Sampler {
        self.context.unmasked = unmasked;
        self
    }

    /// From now on samples tell what a process descends from, also where its parent has ended.
    #[must_use]
    pub fn with_descent(mut self) -> Sampler {
        self.descent = Some(Descent::begin());
        self
    }

    /// From now on samples tell who came and went between them, with what they used, where the kernel tells us.
    #[must_use]
    pub fn with_passing(mut self) -> Sampler {
        self.passing = if self.context.live { passing::Listener::begin() } else { None };
        self
    }

    /// One sample in which everything is read of everybody, for a command that looks once or twice.
    ///
    /// # Errors
    /// As [`Sampler::sample`].
    pub fn look(&mut self) -> Result<Snapshot, SampleError> {
        let mut snapshot = Snapshot::default();
        self.sample(&mut snapshot)?;
        Ok(snapshot)
    }

    /// One sample after [`Sampler::prime`] that reads of the idle only what ranking takes: name and owner, and memory if
    /// that is in the base. Those shown have to be [completed](Sampler::complete): until then an idle process's start
    /// time is 0.
    ///
    /// # Errors
    /// As [`Sampler::sample`].
    pub fn glance(&mut self) -> Result<Snapshot, SampleError> {
        self.context.pass = Pass::Glancing;
        let seen = self.look();
        self.context.pass = Pass::Whole;
        seen
    }

    /// Reads the rest of a process that a sample has read in part: everything the periodic pass can read. Its rates stay.
    pub fn complete(&mut self, process: &mut Process) {
        if let Some(whole) = self.again(process.id.pid).filter(|whole| whole.id == process.id || process.id.start == 0)
        {
            let partial = std::mem::replace(process, whole);
            (process.cpu, process.waited, process.faults) = (partial.cpu, partial.waited, partial.faults);
            (process.disk_read, process.disk_write) = (partial.disk_read, partial.disk_write);
            (process.children, process.instances) = (partial.children, partial.instances);
        }
    }

    /// Primes: the clocks of everybody, and no file.
    ///
    /// # Errors
    /// As [`Sampler::sample`].
    pub fn prime(&mut self) -> Result<(), SampleError> {
        let base = std::mem::replace(&mut self.context.base, Needs::NONE);
        self.context.pass = Pass::Priming;
        let primed = self.look();
        self.context.pass = Pass::Whole;
        self.context.base = base;
        primed.map(|_| ())
    }

    /// From now on figures of known processes are read on demand: what a sample has not read is [stale](Process::stale), until it is
    /// [read](sophron_core::model::Reader::read), and whoever is promised to need no look gets none.
    #[must_use]
    pub fn on_demand(mut self, demand: Demand) -> Sampler {
        self.context.reading = Reading::OnDemand(demand);
        self
    }

    /// From now on `base` is read of every process that is read, on demand as said, and what trees and those who come and go
    /// take. What is known of processes stays known: only what is new is primed.
    pub fn read_from_now_on(&mut self, base: Needs, demand: Demand, trees: bool, passing: bool) {
        self.context.base = base;
        self.context.reading = Reading::OnDemand(demand);
        self.context.anew = true;
        match (trees, self.descent.is_some()) {
            (true, false) => self.descent = Some(Descent::begin()),
            (false, true) => self.descent = None,
            _ => {}
        }
        match (passing && self.context.live, self.passing.is_some()) {
            (true, false) => self.passing = passing::Listener::begin(),
            (false, true) => self.passing = None,
            _ => {}
        }
    }

    /// One sample, in place: `snapshot` is the one that this sampler filled at the tick before (or an empty one). The
    /// first has no rates: it primes. Processes that vanish midway are left out.
    ///
    /// # Errors
    /// The list of processes or the machine's figures cannot be read.
    pub fn sample(&mut self, snapshot: &mut Snapshot) -> Result<(), SampleError> {
        let moment = here::now();
        let context = &mut self.context;
        let interval = context.before.map(|(monotonic, _)| moment.monotonic.saturating_sub(monotonic));
        snapshot.moment = moment;
        snapshot.interval = interval;
        snapshot.machine.host.clone_from(&self.host);
        snapshot.machine.boot = context.boot;
        snapshot.machine.uptime = moment.boottime;
        let last_pid = machine::read(
            &mut snapshot.machine,
            &mut self.machine,
            &mut context.reader,
            context.base,
            interval,
            context.page,
        )?;
        context.risky.tend();
        context.guarded.forget();
        if let Some(descent) = &mut self.descent {
            descent.listen();
        }

        // The rows and the snapshot's processes belong together, place by place; what does not is read anew.
        let mut processes = std::mem::take(&mut snapshot.processes);
        if processes.len() != self.rows.len()
            || !self.rows.iter().zip(&processes).all(|(row, process)| row.is_of(process))
        {
            self.rows.iter_mut().for_each(Row::forget_process);
            let id = |row: &Row| ProcessId { pid: row.pid, start: row.start, boot: context.boot };
            processes = self.rows.iter().map(|row| Process::unread(id(row))).collect();
        }
        let found = self.pids.find(&context.reader, context.live, last_pid, &self.rows);
        let found = found.map_err(|source| SampleError { path: context.reader.root().to_owned(), source })?;

        // Where numbers may have been given out anew, or time has passed that nobody saw, whoever is there is asked who he is.
        let napped = context.before.is_some_and(|(monotonic, boottime)| {
            let asleep = moment.boottime.saturating_sub(moment.monotonic);
            asleep.saturating_sub(boottime.saturating_sub(monotonic)) > Duration::from_secs(1)
        });
        context.anew = napped || found.anew;
        let mut gone = Vec::new();
        let mut new = found.new;
        new.append(&mut context.unread);
        for (at, (row, process)) in self.rows.iter_mut().zip(&mut processes).enumerate() {
            let listed = found.all.as_ref().is_none_or(|all| all.binary_search(&row.pid).is_ok());
            if !listed || !context.refresh(row, process, &moment) {
                gone.push((at, row.pid, process.parent, row.total_ns()));
                // The PID may be another process's already.
                if listed {
                    new.push(row.pid);
                }
            }
        }
        self.bury(&gone, &mut processes);
        self.welcome(new, &mut processes, &moment);
        if let Some(descent) = &mut self.descent {
            gone.iter().for_each(|(_, pid, ..)| descent.ended(*pid));
            descent.tell(&mut processes);
        }
        if self.context.base.has(Cost::Family) {
            sophron_core::model::count_families(&mut processes);
        }
        snapshot.machine.groups = match self.context.live && self.context.base.has(Cost::Groups) {
            true => self.groups.read(&processes),
            false => Vec::new(),
        };
        snapshot.machine.passing = match (&self.passing, interval) {
            (Some(listener), Some(interval)) => {
                let seen = gone.iter().map(|(_, pid, _, total)| (*pid, *total)).collect();
                listener.passed(&processes, &seen, interval, &mut self.context.users)
            }
            _ => Vec::new(),
        };
        let known = self.context.base.has(Cost::Machine);
        snapshot.machine.cpu_unseen = known.then(|| unseen(&snapshot.machine, &processes)).flatten();
        let context = &mut self.context;
        context.before = Some((moment.monotonic, moment.boottime));
        context.tick = context.tick.wrapping_add(1);
        snapshot.machine.processes = u32::try_from(processes.len()).unwrap_or(u32::MAX);
        snapshot.machine.hidden =
            context.live && here::uid() != 0 && processes.first().is_none_or(|first| first.id.pid != 1);
        snapshot.processes = processes;
        Ok(())
    }

    /// Takes out those who are gone. What they had used and was seen of them is owed by whoever collected them: it will
    /// show in that one's waited-for time, and is no news. Their children have another parent now.
    fn bury(&mut self, gone: &[(usize, u32, u32, u64)], processes: &mut Vec<Process>) {
        if gone.is_empty() {
            return;
        }
        for (at, ..) in gone.iter().rev() {
            let row = self.rows.remove(*at);
            self.context.kept -= row.keeps();
            processes.remove(*at);
        }
        let parents: HashMap<u32, u32> = gone.iter().map(|(_, pid, parent, _)| (*pid, *parent)).collect();
        let mut around: SortedSet<usize> = SortedSet::new();
        for (_, _, parent, total) in gone {
            // Where the parent is gone as well, whoever collected that one has both.
            let mut collector = *parent;
            for _ in 0..64 {
                match parents.get(&collector) {
                    Some(next) => collector = *next,
                    None => break,
                }
            }
            if let Ok(at) = self.rows.binary_search_by_key(&collector, |row| row.pid) {
                self.rows[at].owe(*total);
                around.insert(at);
            }
        }
        around.extend((0..processes.len()).filter(|at| parents.contains_key(&processes[*at].parent)));
        for at in around {
            self.context.read_again(&mut self.rows[at], &mut processes[at]);
        }
    }

    /// Those who are new, and those who were in the middle of an exec when they were.
    fn welcome(&mut self, mut new: Vec<u32>, processes: &mut Vec<Process>, moment: &Moment) {
        let before = std::mem::take(&mut self.context.starting);
        new.extend(&before);
        self.take_in(new, processes, moment);
        // An exec takes less than that, but for one that does not end.
        if self.context.starting.iter().any(|pid| !before.contains(pid)) {
            std::thread::sleep(exec::MOMENT);
            let starting = std::mem::take(&mut self.context.starting);
            self.take_in(starting, processes, moment);
        }
    }

    fn take_in(&mut self, mut new: Vec<u32>, processes: &mut Vec<Process>, moment: &Moment) {
        new.sort_unstable();
        new.dedup();
        // At the first sample everybody is new: growing by doubling would keep half of it unused.
        if new.len() > processes.capacity() - processes.len() {
            processes.reserve_exact(new.len() + processes.len() / 8);
            self.rows.reserve_exact(new.len() + self.rows.len() / 8);
        }
        for pid in new {
            let Err(at) = self.rows.binary_search_by_key(&pid, |row| row.pid) else { continue };
            if let Some((row, process)) = self.context.first_sight(pid, moment) {
                self.rows.insert(at, row);
                processes.insert(at, process);
            }
        }
    }

    /// Of how many processes nothing could be read at the last sample for want of descriptors or memory.
    pub fn unread(&self) -> usize {
        self.context.unread.len()
    }

    /// One process, read between two samples and without rates. `None` when it is gone.
    pub fn again(&mut self, pid: u32) -> Option<Process> {
        self.context.risky.tend();
        let base = std::mem::replace(&mut self.context.base, Needs::PERIODIC);
        // Whoever is asked for is given the time that an exec takes; who takes longer is not looked at by the next sample for that.
        let _ = exec::patiently(|| self.context.reader.gate(pid));
        let (starting, unread) = (self.context.starting.len(), self.context.unread.len());
        let found = self.context.first_sight(pid, &here::now());
        self.context.starting.truncate(starting);
        self.context.unread.truncate(unread);
        self.context.base = base;
        let (row, process) = found?;
        self.context.kept -= row.keeps();
        Some(Process { cpu: None, waited: None, ..process })
    }

    /// Fills in what is costly: proportional and private memory and the number of open files, as far as `needs` has
    /// them. What may not be read, or hangs its reader for longer than `at_most`, stays unknown.
    pub fn read_costly(&mut self, process: &mut Process, needs: Needs, at_most: Duration) {
        if needs.has(Cost::Rollup)
            && let Some(rollup) = self.context.rollup(process, at_most)
            && let Some((proportional, private)) = crate::proc::status::parse_rollup(&rollup)
        {
            process.memory_proportional = Some(proportional);
            process.memory_private = Some(private);
        }
        if needs.has(Cost::Files) {
            let folder = living::folder(self.context.reader.root(), process.id.pid);
            process.files =
                std::fs::read_dir(folder.join("fd")).ok().and_then(|files| u32::try_from(files.count()).ok());
        }
    }

    /// The processes that hang whoever reads their memory files, at present.
    pub fn stuck(&self) -> Vec<ProcessId> {
        self.context.risky.stuck().copied().collect()
    }

    /// Bytes that one more process costs, names apart.
    pub const fn bytes_per_process() -> usize {
        size_of::<Row>() + size_of::<Process>()
    }
}

/// A number that nobody knows.
fn chance() -> u32 {
    let mut bytes = [0; 4];
    // Without chance turns are as good, and only known.
    let _ = rustix::rand::getrandom(&mut bytes, rustix::rand::GetRandomFlags::NONBLOCK);
    u32::from_ne_bytes(bytes)
}

/// CPU of the machine that went to nobody who was seen, nor to devices, percent of all cores' time.
fn unseen(machine: &Machine, processes: &[Process]) -> Option<f64> {
    let (cpu, split) = (machine.cpu?, machine.split?);
    let seen = processes.iter().map(Process::accounted_cpu).sum::<f64>() / f64::from(machine.cores.max(1));
    // As a recording keeps it.
    Some(((cpu - split.interrupts - split.stolen - seen).max(0.0) * 10.0).round() / 10.0)
}
