//! A process whose figures are read on demand: at a sample only that which shows who it is, and not even that of whom nothing can
//! hang on it. All else is stale until it is asked for.

use std::time::Duration;

use sophron_core::model::{Cost, Needs, Process, Reader, Snapshot};

use super::row::{NEVER, Row, now_ns};
use super::{COSTLY_WAIT, Context, SLICES, Sampler};

/// What is read of a known process at a sample.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Reading {
    /// Of whoever ran, all that is in the base.
    Whole,
    /// Who it is, and all else when it is asked for.
    OnDemand(Demand),
}

/// How samples are read of which figures are read on demand.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Demand {
    /// Whether it may stay unknown for some ticks what somebody runs who is promised to need no look, whoever it is.
    pub unnamed: bool,
    /// Whether all that is in the base is read of whoever ran, as for a recording.
    pub whole: bool,
    /// What nothing rests on but acts, which have it read: of whoever rests it is not read in turn.
    pub for_acts: Needs,
}

impl Context {
    /// The same where only that is read which shows who it is; all else is read when something hangs on it.
    pub(super) fn refresh_on_demand(
        &mut self,
        row: &mut Row,
        process: &mut Process,
        (clock, moved): (u64, bool),
        now: u64,
        (demand, monotonic): (Demand, Duration),
    ) -> bool {
        let in_time = process.promise.is_in_time(monotonic);
        let unread = self.base.only(Needs::FILES.and(Needs::COSTLY));
        if !moved {
            row.cpu_at = now;
            process.cpu = Some(0.0);
            self.stood_still(row, process);
            process.stale = unread;
            process.outrun = process.outrun.only(unread);
            process.quiet = in_time && process.promise.being().holds(process.cpu_time, process.cpu);
            return true;
        }
        let (used, rate) = (Duration::from_nanos(clock), row.rate(clock, now));
        if in_time && clock >= row.cpu_ns && demand.unnamed && process.promise.whoever().holds(used, rate) {
            row.take_cpu(process, clock, now);
            (process.faults, process.waited) = (None, None);
            (process.disk_read, process.disk_write) = (None, None);
            (process.stale, process.outrun) = (unread, unread);
            process.quiet = true;
            return true;
        }
        let needs = if demand.whole { self.base } else { Needs::NONE };
        if !self.read_stat(row, process, Some(clock), now, needs) {
            return false;
        }
        process.stale = unread.without(needs.only(Needs::FILES).with(Cost::Stat));
        process.outrun = process.stale;
        process.quiet = in_time && !demand.whole && process.promise.being().holds(process.cpu_time, process.cpu);
        true
    }

    /// In which tick of ten a process is read in any case: as many in each, and of those with neighbouring numbers not the same.
    pub(super) fn turn_of(&self, pid: u32) -> u32 {
        (pid ^ self.turn).wrapping_mul(0x9e37_79b1) / (u32::MAX / SLICES + 1)
    }

    /// Reads of a process what is stale at this tick, as far as it is asked for.
    pub(super) fn read_stale(&mut self, row: &mut Row, process: &mut Process, needs: Needs) {
        let wanted = process.stale.only(needs);
        process.stale = process.stale.without(needs);
        process.outrun = process.outrun.without(needs);
        let files = wanted.only(Needs::FILES).without(Needs::NONE.with(Cost::Stat));
        if wanted.has(Cost::Stat) {
            // It may have run since this tick's look at its clock.
            row.whole_at = NEVER;
            let (rates, at) = (process.cpu, row.cpu_at);
            if !self.read_stat(row, process, Some(row.cpu_ns), now_ns(), files) {
                // It is another one's number by now, or nobody's: the next tick shows it.
                row.forget_process();
                (process.memory, process.memory_held, process.memory_shared, process.memory_swapped) =
                    (None, None, None, None);
            }
            (process.cpu, row.cpu_at) = (rates, at);
        } else {
            let held_up = files.has(Cost::Io) && self.reader.gate(row.pid).is_err();
            let files = if held_up { files.without(Needs::NONE.with(Cost::Io)) } else { files };
            self.read_others(row, process, files, false);
        }
    }
}

impl Sampler {
    /// Reads of everybody what a sample has left stale, but for what is costly.
    pub fn read_all(&mut self, snapshot: &mut Snapshot) {
        for process in &mut snapshot.processes {
            self.read(process, Needs::FILES);
        }
    }

    fn row_of(&mut self, process: &Process) -> Option<usize> {
        let at = self.rows.binary_search_by_key(&process.id.pid, |row| row.pid).ok()?;
        self.rows[at].is_of(process).then_some(at)
    }
}

impl Reader for Sampler {
    fn read(&mut self, process: &mut Process, needs: Needs) {
        let costly = process.stale.only(needs).only(Needs::COSTLY);
        match self.row_of(process) {
            Some(at) => self.context.read_stale(&mut self.rows[at], process, needs),
            None => {
                process.stale = process.stale.without(needs);
                process.outrun = process.outrun.without(needs);
            }
        }
        if !costly.is_none() {
            self.read_costly(process, costly, COSTLY_WAIT);
        }
    }
}
