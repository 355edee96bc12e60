//! Snapshots to lines: what is as it was before is not written again.

use std::io;

use serde::{Serialize, Serializer};

use super::row::Row;
use super::table::{MACHINE, PROCESS, goes_without_saying, row};
use super::{Header, Ours};
use crate::model::{Moment, Process, Snapshot};

/// Writes the lines of one recording.
#[derive(Debug)]
pub struct Writer {
    header: Header,
    begun: Option<Moment>,
    /// What was written last, of those that are kept.
    last: Option<Snapshot>,
}

impl Writer {
    /// A recording with that header.
    pub fn new(header: Header) -> Writer {
        Writer { header, begun: None, last: None }
    }

    /// The line of one sample, newline included; before the first one, that of the header. Processes for which `keep` is
    /// false are left out. `ours` is what a watcher that records was doing.
    ///
    /// # Errors
    /// A value cannot be written as JSON.
    pub fn line(
        &mut self,
        snapshot: &Snapshot,
        keep: impl Fn(&Process) -> bool,
        ours: Ours,
    ) -> Result<String, io::Error> {
        let mut out = Vec::new();
        self.write(&mut out, snapshot, keep, ours)?;
        String::from_utf8(out).map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error))
    }

    /// The same to where it is to stand: no more of it is held than of one process.
    ///
    /// # Errors
    /// It cannot be written there.
    pub fn write(
        &mut self,
        out: &mut impl io::Write,
        snapshot: &Snapshot,
        keep: impl Fn(&Process) -> bool,
        ours: Ours,
    ) -> io::Result<()> {
        self.put(out, snapshot, &keep, ours)?;
        let last = self.last.get_or_insert_default();
        (last.moment, last.interval) = (snapshot.moment, snapshot.interval);
        last.machine.clone_from(&snapshot.machine);
        // Names are shared with the sampler: a process costs its figures only.
        last.processes.retain(|process| snapshot.find(&process.id).is_some_and(&keep));
        let known = last.processes.len();
        for process in snapshot.processes.iter().filter(|process| keep(process)) {
            match last.processes[..known].binary_search_by_key(&process.id.pid, |before| before.id.pid) {
                Ok(at) => last.processes[at].clone_from(process),
                Err(_) => last.processes.push(process.clone()),
            }
        }
        last.processes.sort_unstable_by_key(|process| process.id.pid);
        Ok(())
    }

    /// The first line of a recording that goes on where another ended.
    ///
    /// # Errors
    /// It cannot be written there.
    pub fn go_on(&mut self, out: &mut impl io::Write, last: Snapshot) -> io::Result<()> {
        self.put(out, &last, &|_| true, Ours::default())?;
        self.last = Some(last);
        Ok(())
    }

    /// What was written last.
    pub fn into_last(self) -> Option<Snapshot> {
        self.last
    }

    fn put(
        &mut self,
        out: &mut impl io::Write,
        snapshot: &Snapshot,
        keep: &impl Fn(&Process) -> bool,
        ours: Ours,
    ) -> io::Result<()> {
        let begun = match self.begun {
            Some(begun) => begun,
            None => {
                self.header.begun = snapshot.moment.wall;
                serde_json::to_writer(&mut *out, &self.header)?;
                out.write_all(b"\n")?;
                *self.begun.insert(snapshot.moment)
            }
        };
        let moment = snapshot.moment;
        let t = moment.monotonic.saturating_sub(begun.monotonic).as_micros() as f64 / 1000.0;
        let b = moment.boottime.saturating_sub(begun.boottime).as_millis() as u64;
        let w = moment.wall.as_millisecond() - begun.wall.as_millisecond();
        let machine = row(&MACHINE, &snapshot.machine);
        let before = self.last.as_ref();
        let mut line = Line {
            t,
            b: ((b as f64 - t).abs() >= 1.0).then_some(b),
            w: (w.abs_diff(b.cast_signed()) > 2).then_some(w),
            m: machine.since(&before.map_or_else(Row::default, |before| row(&MACHINE, &before.machine))),
            n: New(Vec::new()),
            c: Vec::new(),
            g: Vec::new(),
            o: ours,
        };
        for process in snapshot.processes.iter().filter(|process| keep(process)) {
            match before.and_then(|before| before.find(&process.id)) {
                Some(before) if reads_the_same(before, process) => {}
                Some(before) => {
                    let changes = row(&PROCESS, process).since(&row(&PROCESS, before));
                    if !changes.is_empty() {
                        line.c.push((process.id.pid, changes));
                    }
                }
                None => line.n.0.push(process),
            }
        }
        let gone = before.iter().flat_map(|before| &before.processes).map(|process| process.id);
        line.g.extend(gone.filter(|id| !snapshot.find(id).is_some_and(keep)).map(|id| id.pid));
        serde_json::to_writer(&mut *out, &line)?;
        out.write_all(b"\n")
    }
}

/// One sample, as it is written: the keys are those of [what is read](super::Line).
#[derive(Serialize)]
struct Line<'l> {
    #[serde(serialize_with = "whole_or_not")]
    t: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    b: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    w: Option<i64>,
    #[serde(skip_serializing_if = "Row::is_empty")]
    m: Row<'static>,
    #[serde(skip_serializing_if = "New::is_empty")]
    n: New<'l>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    c: Vec<(u32, Row<'static>)>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    g: Vec<u32>,
    #[serde(skip_serializing_if = "Ours::is_empty")]
    o: Ours,
}

/// Processes that were not there before: the row of each is put together as it is written.
struct New<'l>(Vec<&'l Process>);

impl New<'_> {
    fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

impl Serialize for New<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_seq(self.0.iter().map(|process| whole(process)))
    }
}

/// A whole number is written as one.
#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde asks for a reference")]
fn whole_or_not<S: Serializer>(number: &f64, serializer: S) -> Result<S::Ok, S::Error> {
    if number.fract() == 0.0 { serializer.serialize_u64(*number as u64) } else { serializer.serialize_f64(*number) }
}

/// One that was not there before.
fn whole(process: &Process) -> Row<'static> {
    let mut whole = row(&PROCESS, process).only(|key, value| !goes_without_saying(key, value));
    whole.push("pid", process.id.pid.into());
    whole.push("start", process.id.start.into());
    whole.push("age", (process.age.as_millis() as f64 / 1000.0).into());
    if process.cpu.is_some() {
        whole.push("born", true.into());
    }
    whole
}

/// Most processes are as they were, apart from what is not recorded.
fn reads_the_same(before: &Process, now: &Process) -> bool {
    let Process { age, cpu, children, instances, files, memory_private, memory_proportional, .. } = *now;
    let Process { stale, outrun, read_at, promise, quiet, .. } = *now;
    let counted =
        Process { age, cpu, children, instances, files, memory_private, memory_proportional, ..before.clone() };
    Process { stale, outrun, read_at, promise, quiet, ..counted } == *now
}
