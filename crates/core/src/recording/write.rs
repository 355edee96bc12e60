//! Snapshots to lines: what is as it was before is not written again.

use std::collections::BTreeMap;

use super::row::Row;
use super::table::{MACHINE, PROCESS, goes_without_saying, row};
use super::{Header, Line, Ours};
use crate::model::{Moment, Process, Snapshot};

/// Writes the lines of one recording.
#[derive(Debug)]
pub struct Writer {
    header: Header,
    begun: Option<Moment>,
    machine: Row<'static>,
    processes: BTreeMap<u32, Process>,
}

impl Writer {
    /// A recording with that header.
    pub fn new(header: Header) -> Writer {
        Writer { header, begun: None, machine: Row::default(), processes: BTreeMap::new() }
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
    ) -> Result<String, serde_json::Error> {
        let mut out = String::new();
        let begun = match self.begun {
            Some(begun) => begun,
            None => {
                self.header.begun = snapshot.moment.wall;
                out = serde_json::to_string(&self.header)? + "\n";
                *self.begun.insert(snapshot.moment)
            }
        };
        let moment = snapshot.moment;
        let t = moment.monotonic.saturating_sub(begun.monotonic).as_micros() as f64 / 1000.0;
        let b = moment.boottime.saturating_sub(begun.boottime).as_millis() as u64;
        let w = moment.wall.as_millisecond() - begun.wall.as_millisecond();
        let machine = row(&MACHINE, &snapshot.machine);
        let mut line = Line {
            t,
            b: ((b as f64 - t).abs() >= 1.0).then_some(b),
            w: (w.abs_diff(b.cast_signed()) > 2).then_some(w),
            o: ours,
            m: machine.since(&self.machine),
            ..Line::default()
        };
        self.machine = machine;
        let mut seen = BTreeMap::new();
        for process in snapshot.processes.iter().filter(|process| keep(process)) {
            match self.processes.remove(&process.id.pid) {
                Some(before) if before.id == process.id => {
                    if !reads_the_same(&before, process) {
                        let changes = row(&PROCESS, process).since(&row(&PROCESS, &before));
                        if !changes.is_empty() {
                            line.c.push((process.id.pid, changes));
                        }
                    }
                }
                other => {
                    line.g.extend(other.map(|other| other.id.pid));
                    line.n.push(whole(process));
                }
            }
            // Names are shared with the sampler: a process costs its figures only.
            seen.insert(process.id.pid, process.clone());
        }
        line.g.extend(self.processes.keys());
        self.processes = seen;
        out.push_str(&serde_json::to_string(&line)?);
        out.push('\n');
        Ok(out)
    }
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
    let before =
        Process { age, cpu, children, instances, files, memory_private, memory_proportional, ..before.clone() };
    before == *now
}
