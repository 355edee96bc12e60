//! The machine's figures, with what is kept of them from one sample to the next.

use std::time::Duration;

use sophron_core::model::{Cost, Machine, Needs};

use super::reader::Reader;
use super::{SLICES, SampleError};
use crate::proc::machine::{self, CpuTimes, Disk};

/// Counters of the last sample.
#[derive(Debug, Default)]
pub(super) struct Earlier {
    reads: u32,
    times: Option<(CpuTimes, Vec<CpuTimes>)>,
    swapped: Option<u64>,
    disks: Vec<Disk>,
}

/// Reads the machine into `into`; gives the PID that was handed out last.
pub(super) fn read(
    into: &mut Machine,
    earlier: &mut Earlier,
    reader: &mut Reader,
    needs: Needs,
    interval: Option<Duration>,
    page: u64,
) -> Result<Option<u32>, SampleError> {
    let load = reader.optional("loadavg", machine::parse_load);
    into.load = load.map(|(load, _)| load);
    let last_pid = load.map(|(_, last)| last);
    // What nobody has asked for is read now and then only: RAM and cores do not change.
    if !needs.has(Cost::Machine) && !earlier.reads.is_multiple_of(SLICES) {
        earlier.reads += 1;
        return Ok(last_pid);
    }
    earlier.reads = 1;
    let (all, cores) = reader.parsed("stat", machine::parse_cpu)?;
    let memory = reader.parsed("meminfo", machine::parse_memory)?;
    into.cores = u32::try_from(cores.len()).unwrap_or(u32::MAX).max(1);
    into.memory_total = memory.total;
    into.memory_available = memory.available;
    into.swap_used = memory.swap_used;
    let since = earlier.times.as_ref().and_then(|(times, _)| all.since(times));
    (into.cpu, into.iowait) = since.map_or((None, None), |(busy, waiting)| (Some(busy), Some(waiting)));
    into.core_fullest =
        earlier.times.as_ref().filter(|(_, before)| before.len() == cores.len()).and_then(|(_, before)| {
            cores
                .iter()
                .zip(before)
                .filter_map(|(now, then)| now.since(then))
                .map(|(busy, _)| busy)
                .max_by(f64::total_cmp)
        });
    earlier.times = Some((all, cores));
    if needs.has(Cost::Machine) {
        let swapped = reader.optional("vmstat", machine::parse_swapped);
        let pages = swapped.zip(earlier.swapped).map(|(now, then)| now.saturating_sub(then));
        into.swap_traffic = pages.zip(interval).map(|(pages, interval)| (pages * page) as f64 / interval.as_secs_f64());
        earlier.swapped = swapped;
        into.stall_cpu = reader.optional("pressure/cpu", machine::parse_stall);
        into.stall_memory = reader.optional("pressure/memory", machine::parse_stall);
        into.stall_io = reader.optional("pressure/io", machine::parse_stall);
        let disks = reader.optional("diskstats", |text| Some(machine::parse_disks(text))).unwrap_or_default();
        (into.disk_busy, into.disk_answer) = busiest(&disks, &earlier.disks, interval);
        earlier.disks = disks;
    }
    if needs.has(Cost::Disks) {
        into.files_full = fullest_disk(reader);
    }
    Ok(last_pid)
}

/// Busy share of the busiest disk, and the mean time its requests took.
fn busiest(now: &[Disk], before: &[Disk], interval: Option<Duration>) -> (Option<f64>, Option<Duration>) {
    let Some(interval) = interval.filter(|interval| !interval.is_zero()) else { return (None, None) };
    let pairs = now.iter().filter_map(|disk| Some((disk, before.iter().find(|old| old.name == disk.name)?)));
    let busiest = pairs.max_by_key(|(disk, old)| disk.busy_ms.saturating_sub(old.busy_ms));
    let Some((disk, old)) = busiest else { return (None, None) };
    let busy = disk.busy_ms.saturating_sub(old.busy_ms) as f64 / interval.as_secs_f64() / 10.0;
    let requests = disk.requests.saturating_sub(old.requests);
    let took = disk.took_ms.saturating_sub(old.took_ms);
    let answer = (requests > 0).then(|| Duration::from_secs_f64(took as f64 / 1000.0 / requests as f64));
    (Some(busy.min(100.0)), answer)
}

/// Used share of the fullest file system that stands on a disk of this machine (proc_pid_mountinfo(5), statvfs(3)).
fn fullest_disk(reader: &mut Reader) -> Option<f64> {
    let mounts = reader.optional("self/mountinfo", |text| Some(String::from_utf8_lossy(text).into_owned()))?;
    let full = |line: &str| {
        let point = line.split(' ').nth(4)?;
        let (_, after) = line.split_once(" - ")?;
        let device = after.split(' ').nth(1)?;
        // Network file systems can hang, and images that are full by nature say nothing.
        if !device.starts_with("/dev/") || ["squashfs", "iso9660"].iter().any(|kind| after.starts_with(kind)) {
            return None;
        }
        let stat = rustix::fs::statvfs(point.replace("\\040", " ").as_str()).ok()?;
        let usable = stat.f_blocks.saturating_sub(stat.f_bfree) + stat.f_bavail;
        (usable > 0).then(|| 100.0 * (usable - stat.f_bavail) as f64 / usable as f64)
    };
    mounts.lines().filter_map(full).max_by(f64::total_cmp)
}
