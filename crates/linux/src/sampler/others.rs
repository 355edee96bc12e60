//! What is read of a process beside its `stat`: memory, bytes read and written, its control group.

use sophron_core::model::{Cost, NO_BOUND, Needs, Origin, Process};
use sophron_core::state::State;

use super::Context;
use super::row::{Row, now_ns};
use crate::proc::{cgroup, status};

impl Context {
    pub(super) fn read_others(&mut self, row: &mut Row, process: &mut Process, needs: Needs, first: bool) {
        let pid = row.pid;
        let read_at = if self.bounded { row.cpu_ns } else { NO_BOUND };
        let mut resident_by_status = false;
        if needs.has(Cost::Status) {
            let memory = match process.kernel {
                // A kernel thread has no memory of its own, and its `status` no lines about it.
                true => Some(status::Memory::default()),
                false => self.kept_or_of(row, 2).ok().and_then(status::parse_memory),
            };
            process.read_at[1] = read_at;
            process.memory_held = memory.map(|memory| memory.held);
            process.memory_shared = memory.map(|memory| memory.shared);
            process.memory_swapped = memory.map(|memory| memory.swapped);
            if let Some(memory) = memory.filter(|_| needs.has(Cost::Statm)) {
                // It has what `statm` has.
                (process.memory, process.memory_virtual) = (Some(memory.resident), Some(memory.space));
                process.read_at[0] = read_at;
                resident_by_status = true;
            }
        }
        if needs.has(Cost::Statm) && !resident_by_status {
            let pages = self.kept_or_of(row, 1).ok().and_then(status::parse_pages);
            process.memory_virtual = pages.map(|(all, _)| all * self.page);
            process.memory = pages.map(|(_, resident)| resident * self.page);
            process.read_at[0] = read_at;
        }
        if needs.has(Cost::Io) {
            let io = self.reader.of(pid, "io").ok().and_then(status::parse_io);
            let now = now_ns();
            let passed =
                (row.io_at != 0).then(|| now.saturating_sub(row.io_at) as f64 / 1e9).filter(|passed| *passed > 0.0);
            let rate = |now: u64, then: u64| passed.map(|passed| (now.saturating_sub(then) as f64 / passed) as f32);
            (process.disk_read, process.disk_write) =
                io.map_or((None, None), |io| (rate(io.0, row.io.0), rate(io.1, row.io.1)));
            (row.io, row.io_at) = io.map_or(((0, 0), 0), |io| (io, now));
            process.counts.set_disk(io);
        }
        if needs.has(Cost::Cgroup) {
            let group = self.reader.of(pid, &row.file("cgroup")).ok().and_then(cgroup::parse_path);
            if first || group != process.group {
                let kernel = process.kernel;
                let names = process.names_mut();
                names.unit = group.as_deref().map(|group| cgroup::unit(group).to_owned());
                names.origin = if kernel { Some(Origin::Kernel) } else { group.as_deref().map(cgroup::origin) };
                names.group = group;
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
