//! Lines to snapshots, one at a time and in place.

use std::sync::Arc;
use std::time::Duration;

use jiff::SignedDuration;

use super::row::Row;
use super::table::{MACHINE, PROCESS, set};
use super::{FORMAT, Header, LONGEST_LINE, Line, MOST_PROCESSES, MOST_TEXT, MOST_VALUES, Ours};
use crate::model::{Boot, Moment, Process, ProcessId, Snapshot};
use crate::sorted::SortedSet;
use crate::text;
use crate::usage::Usual;

/// Why a recording cannot be read, or not any further.
#[derive(Debug, thiserror::Error)]
pub enum ReadError {
    /// The first line is none of ours.
    #[error("this is not a recording of Sophron")]
    Foreign,
    /// A newer version wrote it.
    #[error("this recording has format {0}, written by a newer version of Sophron; this version reads format {FORMAT}")]
    Newer(u32),
    /// A line does not make sense.
    #[error("line {line} is damaged: {what}")]
    Damaged {
        /// Which, from 1.
        line: usize,
        /// What is wrong.
        what: String,
    },
}

/// Plays a recording.
#[derive(Debug)]
pub struct Replay {
    header: Header,
    boot: Boot,
    line: usize,
    snapshot: Snapshot,
    ours: Ours,
    /// Where its clocks begin.
    clock: Duration,
}

/// A line of so many bytes brings much.
const MUCH: usize = 1 << 18;

/// Clocks of a recording begin at an hour, so that an interval can be taken from them.
const EARLIEST: Duration = Duration::from_secs(3600);

/// Latest time of a line, milliseconds: ten years.
const LATEST: f64 = 10.0 * 366.0 * 86_400_000.0;

impl Replay {
    /// Begins with the first line.
    ///
    /// # Errors
    /// It is no recording, or a newer one.
    pub fn begin(line: &[u8]) -> Result<Replay, ReadError> {
        let value: serde_json::Value = serde_json::from_slice(line).map_err(|_| ReadError::Foreign)?;
        if value["sophron"] != "recording" {
            return Err(ReadError::Foreign);
        }
        match value["format"].as_u64() {
            Some(format) if format == u64::from(FORMAT) => {}
            Some(newer) if newer > u64::from(FORMAT) => {
                return Err(ReadError::Newer(u32::try_from(newer).unwrap_or(u32::MAX)));
            }
            _ => return Err(ReadError::Foreign),
        }
        let mut header: Header =
            serde_json::from_value(value).map_err(|error| ReadError::Damaged { line: 1, what: error.to_string() })?;
        let boot: Boot =
            header.boot.parse().map_err(|_| ReadError::Damaged { line: 1, what: "no boot ID".to_owned() })?;
        // Whoever asks the header has nothing of it raw either.
        header.host = text::clean(header.host.as_bytes());
        header.zone = header.zone.map(|zone| text::clean(zone.as_bytes()));
        let mut snapshot = Snapshot::default();
        snapshot.machine.host.clone_from(&header.host);
        snapshot.machine.boot = boot;
        let clock = EARLIEST;
        snapshot.moment = Moment { wall: header.begun, monotonic: clock, boottime: clock };
        Ok(Replay { header, boot, line: 1, snapshot, ours: Ours::default(), clock })
    }

    /// Before the first sample: lets its clocks go on from the last moment of another recording, by as much as the wall
    /// clocks are apart.
    pub fn follow(&mut self, last: &Moment) {
        let apart = self.header.begun.duration_since(last.wall);
        self.clock = last.monotonic.max(last.boottime) + Duration::try_from(apart).unwrap_or_default();
        (self.snapshot.moment.monotonic, self.snapshot.moment.boottime) = (self.clock, self.clock);
    }

    /// What the first line says.
    pub fn header(&self) -> &Header {
        &self.header
    }

    /// What the watcher that recorded was doing at the latest sample.
    pub fn ours(&self) -> &Ours {
        &self.ours
    }

    /// The latest sample.
    pub fn snapshot(&self) -> &Snapshot {
        &self.snapshot
    }

    /// What is usual of apps on the machine that recorded, by its history: a recording does not hold that.
    pub fn know(&mut self, usual: Arc<Usual>) {
        self.snapshot.machine.usual = Some(usual);
    }

    /// The sample of one more line.
    ///
    /// # Errors
    /// The line is damaged: nothing after it can be trusted, since every line builds on those before.
    pub fn next(&mut self, line: &[u8]) -> Result<&Snapshot, ReadError> {
        self.line += 1;
        let number = self.line;
        let damaged = |what: String| ReadError::Damaged { line: number, what };
        if line.len() > LONGEST_LINE {
            return Err(damaged(format!("longer than {LONGEST_LINE} bytes")));
        }
        let length = line.len();
        if memchr::memchr3_iter(b',', b'[', b'{', line).count() > MOST_VALUES {
            return Err(damaged(format!("it holds more than {MOST_VALUES} values")));
        }
        let line: Line<'_> = serde_json::from_slice(line).map_err(|error| damaged(error.to_string()))?;
        let is_first = number == 2;
        let clock = self.clock;
        let before = self.snapshot.moment;
        if !(0.0..=LATEST).contains(&line.t) || line.b.is_some_and(|b| b as f64 > LATEST) {
            return Err(damaged("its time is out of range".to_owned()));
        }
        let passed = Duration::from_micros((line.t * 1000.0).round() as u64);
        let monotonic = clock + passed;
        let boottime = clock + line.b.map_or(passed, Duration::from_millis);
        if monotonic < before.monotonic || boottime < before.boottime {
            return Err(damaged("its time goes back".to_owned()));
        }
        let wall_ms = line.w.unwrap_or(boottime.saturating_sub(clock).as_millis() as i64);
        let wall = self.header.begun.checked_add(SignedDuration::from_millis(wall_ms));
        let wall = wall.map_err(|_| damaged("its time is out of range".to_owned()))?;
        self.snapshot.moment = Moment { wall, monotonic, boottime };
        let interval = monotonic - before.monotonic;
        self.snapshot.interval = (!is_first).then_some(interval);
        self.snapshot.machine.uptime += boottime - before.boottime;
        set(&MACHINE, &mut self.snapshot.machine, &line.m);
        self.people(&line, is_first, interval, boottime - before.boottime).map_err(damaged)?;
        self.ours = line.o.checked();
        // Now and then, and where a line brings much.
        let look = number.is_multiple_of(16) || length > MUCH;
        let texts = || self.snapshot.processes.iter().map(|process| process.names.bytes()).sum::<usize>();
        if look && texts() > MOST_TEXT {
            return Err(damaged(format!("its processes have more than {} MiB of names", MOST_TEXT >> 20)));
        }
        self.snapshot.machine.processes = u32::try_from(self.snapshot.processes.len()).unwrap_or(u32::MAX);
        Ok(&self.snapshot)
    }

    fn people(&mut self, line: &Line<'_>, is_first: bool, interval: Duration, passed: Duration) -> Result<(), String> {
        let processes = &mut self.snapshot.processes;
        let gone: SortedSet<u32> = line.g.iter().copied().collect();
        processes.retain(|process| !gone.contains(&process.id.pid));
        for process in processes.iter_mut() {
            process.age += passed;
            process.cpu = (!interval.is_zero()).then_some(0.0);
            // What has a rate and did not change goes on as it was; a clock that stands still uses nothing.
        }
        for (pid, row) in &line.c {
            let at = processes.binary_search_by_key(pid, |process| process.id.pid);
            let at = at.map_err(|_| format!("process {pid} changes before it is there"))?;
            let process = &mut processes[at];
            let used = process.cpu_time;
            set(&PROCESS, process, row);
            process.cpu = rate(process.cpu_time.saturating_sub(used), interval);
        }
        let mut born: Vec<Process> = Vec::new();
        for row in &line.n {
            let number = |key: &str| {
                row.get(key).and_then(serde_json::Value::as_u64).ok_or(format!("a process without `{key}`"))
            };
            let pid = u32::try_from(number("pid")?).map_err(|_| "a PID is out of range".to_owned())?;
            let id = ProcessId { pid, start: number("start")?, boot: self.boot };
            let mut process = Process::unread(id);
            set(&PROCESS, &mut process, row);
            let age = row.get("age").and_then(serde_json::Value::as_f64).unwrap_or(0.0);
            process.age = Duration::try_from_secs_f64(age).unwrap_or_default().min(Duration::from_secs(1 << 33));
            // One that came with this sample has used all it has used in it.
            let is_born = !is_first && row.get("born").is_some_and(|born| born == true);
            process.cpu = if is_born { rate(process.cpu_time, interval) } else { None };
            if processes.binary_search_by_key(&pid, |process| process.id.pid).is_ok() {
                return Err(format!("process {pid} is there already"));
            }
            if processes.len() + born.len() >= MOST_PROCESSES {
                return Err(format!("more than {MOST_PROCESSES} processes"));
            }
            born.push(process);
        }
        // In one go, in whatever order they stand in the line.
        if !born.is_empty() {
            born.sort_by_key(|process| process.id.pid);
            if let Some(twice) = born.windows(2).find(|pair| pair[0].id.pid == pair[1].id.pid) {
                return Err(format!("process {} is there already", twice[0].id.pid));
            }
            processes.append(&mut born);
            processes.sort_by_key(|process| process.id.pid);
        }
        processes.iter_mut().for_each(|process| process.has_counted(interval));
        // Families change with who comes, goes or is taken over.
        let moves = |row: &Row<'_>| row.keys().any(|key| matches!(key, "parent" | "app" | "uid" | "person"));
        if !line.n.is_empty() || !line.g.is_empty() || line.c.iter().any(|(_, row)| moves(row)) {
            crate::model::count_families(processes);
        }
        Ok(())
    }
}

fn rate(used: Duration, interval: Duration) -> Option<f64> {
    (!interval.is_zero()).then(|| 100.0 * used.as_secs_f64() / interval.as_secs_f64())
}
