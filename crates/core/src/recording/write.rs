//! Snapshots to lines: what is as it was before is not written again.

use std::collections::BTreeMap;

use serde_json::{Map, Value};

use super::table::{MACHINE, PROCESS, goes_without_saying, row};
use super::{Header, Line, Ours};
use crate::model::{Moment, Process, Snapshot};

/// Writes the lines of one recording.
#[derive(Debug)]
pub struct Writer {
    header: Header,
    begun: Option<Moment>,
    machine: Map<String, Value>,
    processes: BTreeMap<u32, Process>,
}

impl Writer {
    /// A recording with that header.
    pub fn new(header: Header) -> Writer {
        Writer { header, begun: None, machine: Map::new(), processes: BTreeMap::new() }
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
        let mut line = Line {
            t,
            b: ((b as f64 - t).abs() >= 1.0).then_some(b),
            w: (w.abs_diff(b.cast_signed()) > 2).then_some(w),
            o: ours,
            m: changed(&mut self.machine, row(&MACHINE, &snapshot.machine)),
            ..Line::default()
        };
        let mut seen = BTreeMap::new();
        for process in snapshot.processes.iter().filter(|process| keep(process)) {
            match self.processes.remove(&process.id.pid) {
                Some(before) if before.id == process.id => {
                    if !reads_the_same(&before, process) {
                        let changes = changed(&mut row(&PROCESS, &before), row(&PROCESS, process));
                        if !changes.is_empty() {
                            line.c.push((process.id.pid, changes));
                        }
                    }
                }
                other => {
                    line.g.extend(other.map(|other| other.id.pid));
                    let mut whole = row(&PROCESS, process);
                    whole.retain(|key, value| !goes_without_saying(key, value));
                    whole.insert("pid".to_owned(), process.id.pid.into());
                    whole.insert("start".to_owned(), process.id.start.into());
                    whole.insert("age".to_owned(), (process.age.as_millis() as f64 / 1000.0).into());
                    if process.cpu.is_some() {
                        whole.insert("born".to_owned(), true.into());
                    }
                    line.n.push(whole);
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

/// Most processes are as they were, apart from what is not recorded.
fn reads_the_same(before: &Process, now: &Process) -> bool {
    let Process { age, cpu, children, instances, files, memory_private, memory_proportional, .. } = *now;
    let before =
        Process { age, cpu, children, instances, files, memory_private, memory_proportional, ..before.clone() };
    before == *now
}

/// What differs; `before` becomes `now`. What is unknown and never was known is no change.
fn changed(before: &mut Map<String, Value>, now: Map<String, Value>) -> Map<String, Value> {
    let changes = now.iter().filter(|(key, value)| before.get(*key).unwrap_or(&Value::Null) != *value);
    let changes: Map<String, Value> = changes.map(|(key, value)| (key.clone(), value.clone())).collect();
    *before = now;
    changes
}
