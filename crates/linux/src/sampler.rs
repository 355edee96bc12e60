//! The sampler: one pass over /proc a tick.

use std::collections::HashMap;
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use rustix::fs::{AtFlags, CWD, Dir, Mode, OFlags};
use sophron_core::model::{Boot, Field, Machine, Moment, Process, ProcessId, Snapshot, State};
use sophron_core::text;

use crate::here::{self, Users};
use crate::proc::{machine, stat, status};
use crate::sys;

mod identity;

use identity::Identity;

/// What to read beyond the figures that cost nothing extra.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Needs {
    /// Resident memory (`statm`).
    pub memory: bool,
    /// Held and swapped memory (`status`).
    pub held: bool,
}

impl Needs {
    /// Everything.
    pub const ALL: Needs = Needs { memory: true, held: true };

    /// What these fields need.
    pub fn of<'f>(fields: impl IntoIterator<Item = &'f Field>) -> Needs {
        fields.into_iter().fold(Needs::default(), |needs, field| Needs {
            memory: needs.memory || matches!(field, Field::Memory | Field::MemoryPart),
            held: needs.held || matches!(field, Field::MemoryHeld | Field::MemorySwapped),
        })
    }
}

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
    root: PathBuf,
    folder: OwnedFd,
    /// Whether the root is the machine's own /proc: only then do the process clocks belong to it.
    live: bool,
    needs: Needs,
    host: String,
    boot: Boot,
    page: u64,
    ticks: u64,
    users: Users,
    known: HashMap<u32, Known>,
    cpu_times: Option<machine::CpuTimes>,
    last: Option<Moment>,
    buffer: Vec<u8>,
}

/// What is kept of a process from one sample to the next.
#[derive(Debug)]
struct Known {
    identity: Identity,
    /// When its CPU time was read, and what it was.
    cpu: Option<(Duration, Duration)>,
    seen: Duration,
}

impl Sampler {
    /// A sampler over a /proc root.
    ///
    /// # Errors
    /// The root is no /proc: it cannot be opened, or has no boot ID.
    pub fn new(root: &Path, needs: Needs) -> Result<Sampler, SampleError> {
        let fail = |path: PathBuf| move |source: io::Error| SampleError { path, source };
        let folder = rustix::fs::openat(CWD, root, OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())
            .map_err(|error| fail(root.to_owned())(error.into()))?;
        let boot = here::boot(root).map_err(fail(root.join("sys/kernel/random/boot_id")))?;
        Ok(Sampler {
            root: root.to_owned(),
            folder,
            live: root == Path::new("/proc"),
            needs,
            host: here::host(),
            boot,
            page: rustix::param::page_size() as u64,
            ticks: rustix::param::clock_ticks_per_second().max(1),
            users: Users::default(),
            known: HashMap::new(),
            cpu_times: None,
            last: None,
            buffer: Vec::with_capacity(4096),
        })
    }

    /// One sample. The first has no rates: it primes. Processes that vanish midway are left out.
    ///
    /// # Errors
    /// The list of processes or the machine's figures cannot be read.
    pub fn sample(&mut self) -> Result<Snapshot, SampleError> {
        let moment = here::now();
        let machine = self.machine()?;
        let pids = self.pids().map_err(|source| SampleError { path: self.root.clone(), source })?;
        let mut processes: Vec<Process> = pids.into_iter().filter_map(|pid| self.process(pid, &moment, true)).collect();
        processes.sort_unstable_by_key(|process| process.id.pid);
        self.known.retain(|_, known| known.seen == moment.monotonic);
        let interval = self.last.map(|last| moment.monotonic.saturating_sub(last.monotonic));
        self.last = Some(moment);
        Ok(Snapshot { moment, interval, machine, processes })
    }

    /// One process, read again between two samples; rates are those since the last one. `None` when it is gone.
    pub fn again(&mut self, pid: u32) -> Option<Process> {
        self.process(pid, &here::now(), false)
    }

    fn machine(&mut self) -> Result<Machine, SampleError> {
        let root = self.root.clone();
        let missing = |file: &str| {
            let path = root.join(file);
            move |source: io::Error| SampleError { path, source }
        };
        let odd = || io::Error::from(io::ErrorKind::InvalidData);
        let stat = self.read("stat").map_err(missing("stat"))?;
        let (times, cores) = machine::parse_cpu(stat).ok_or_else(odd).map_err(missing("stat"))?;
        let meminfo = self.read("meminfo").map_err(missing("meminfo"))?;
        let (memory_total, memory_available) =
            machine::parse_memory(meminfo).ok_or_else(odd).map_err(missing("meminfo"))?;
        let cpu = self.cpu_times.and_then(|earlier| times.busy_since(&earlier));
        self.cpu_times = Some(times);
        Ok(Machine { host: self.host.clone(), boot: self.boot, cores, cpu, memory_total, memory_available })
    }

    fn pids(&self) -> io::Result<Vec<u32>> {
        let mut pids = Vec::with_capacity(self.known.len() + 16);
        for entry in Dir::read_from(&self.folder)? {
            let entry = entry?;
            pids.extend(crate::proc::number::<u32>(entry.file_name().to_bytes()));
        }
        Ok(pids)
    }

    /// The whole of a file under the root, in the kept buffer.
    fn read(&mut self, file: &str) -> io::Result<&[u8]> {
        let fd = rustix::fs::openat(&self.folder, file, OFlags::RDONLY | OFlags::CLOEXEC, Mode::empty())?;
        self.buffer.clear();
        loop {
            self.buffer.reserve(4096);
            let length = self.buffer.len();
            let read = rustix::io::read(&fd, rustix::buffer::spare_capacity(&mut self.buffer))?;
            if read == 0 {
                return Ok(&self.buffer);
            }
            // The /proc files read here fit one read unless the buffer was filled.
            if length + read < self.buffer.capacity() {
                return Ok(&self.buffer);
            }
        }
    }

    fn process(&mut self, pid: u32, moment: &Moment, keep: bool) -> Option<Process> {
        let owner = rustix::fs::statat(&self.folder, pid.to_string(), AtFlags::empty()).ok()?;
        let line = self.read(&format!("{pid}/stat")).ok()?.to_vec();
        let stat = stat::parse(&line)?;
        let id = ProcessId { pid, start: stat.start, boot: self.boot };
        let state = State::from_letter(stat.state);
        let cpu_time = self.cpu_time(pid, &stat);
        let read_at = here::monotonic();

        let known = self.known.get(&pid).filter(|known| known.identity.is_of(&id, &stat));
        let cpu = self.known.get(&pid).filter(|known| known.identity.id == id).and_then(|known| {
            let (earlier, used) = known.cpu?;
            let passed = read_at.checked_sub(earlier).filter(|passed| !passed.is_zero())?;
            Some(100.0 * cpu_time.saturating_sub(used).as_secs_f64() / passed.as_secs_f64())
        });
        let identity = match known {
            Some(known) => known.identity.clone(),
            None => self.identify(id, &stat),
        };
        let memory = if self.needs.memory { self.resident(pid) } else { None };
        let held = match self.needs.held {
            // A kernel thread has no memory of its own, and its `status` no lines about it.
            true if stat.is_kernel() => Some(status::Memory { held: 0, swapped: 0 }),
            true => self.held(pid),
            false => None,
        };
        let process = Process {
            id,
            parent: stat.parent,
            name: text::clean(stat.name),
            app: identity.app.clone(),
            app_proven: identity.app_proven,
            path: identity.path.clone(),
            path_proven: identity.path_proven,
            replaced: identity.replaced,
            command: identity.command.clone(),
            uid: owner.st_uid,
            owner: self.users.name(owner.st_uid),
            state,
            kernel: stat.is_kernel(),
            cpu,
            cpu_time,
            memory,
            memory_held: held.map(|memory| memory.held),
            memory_swapped: held.map(|memory| memory.swapped),
            threads: stat.threads,
            nice: stat.nice,
            age: moment.boottime.saturating_sub(Duration::from_secs_f64(stat.start as f64 / self.ticks as f64)),
        };
        if keep {
            self.known.insert(pid, Known { identity, cpu: Some((read_at, cpu_time)), seen: moment.monotonic });
        }
        Some(process)
    }

    /// The process's CPU clock; where the clock is gone or the root is not the machine's own, the ticks of `stat`.
    fn cpu_time(&self, pid: u32, stat: &stat::Stat<'_>) -> Duration {
        let clock = if self.live { sys::process_cpu_time(pid).ok() } else { None };
        clock.unwrap_or_else(|| Duration::from_secs_f64(stat.cpu_ticks as f64 / self.ticks as f64))
    }

    fn resident(&mut self, pid: u32) -> Option<u64> {
        let page = self.page;
        status::parse_resident_pages(self.read(&format!("{pid}/statm")).ok()?).map(|pages| pages * page)
    }

    fn held(&mut self, pid: u32) -> Option<status::Memory> {
        status::parse_memory(self.read(&format!("{pid}/status")).ok()?)
    }

    fn identify(&mut self, id: ProcessId, stat: &stat::Stat<'_>) -> Identity {
        let pid = id.pid;
        let command = self.read(&format!("{pid}/cmdline")).map(<[u8]>::to_vec).unwrap_or_default();
        let path = rustix::fs::readlinkat(&self.folder, format!("{pid}/exe"), Vec::new()).ok();
        let path = path.map(|path| PathBuf::from(std::ffi::OsStr::from_bytes(path.as_bytes())));
        Identity::new(id, stat, &self.root, path, &command)
    }
}
