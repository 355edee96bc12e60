//! The machine's figures, with what is kept of them from one sample to the next.

use std::time::Duration;

use sophron_core::model::{Cost, DiskUse, Machine, Needs, Stall, Volume};

use super::files::Files;
use super::{SLICES, SampleError};
use crate::proc::machine::{self, CpuTimes, Disk};
use crate::volumes;

/// Counters of the last sample.
#[derive(Debug, Default)]
pub(super) struct Earlier {
    reads: u32,
    times: Option<(CpuTimes, Vec<CpuTimes>)>,
    swapped: Option<u64>,
    disks: Vec<Disk>,
    stalled: [Option<u64>; 3],
}

/// Reads the machine into `into`; gives the PID that was handed out last.
pub(super) fn read(
    into: &mut Machine,
    earlier: &mut Earlier,
    reader: &mut Files,
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
    let ((all, cores), queues) =
        reader.parsed("stat", |stat| Some((machine::parse_cpu(stat)?, machine::parse_queues(stat))))?;
    (into.running, into.blocked) = queues;
    let memory = reader.parsed("meminfo", machine::parse_memory)?;
    into.cores = u32::try_from(cores.len()).unwrap_or(u32::MAX).max(1);
    into.memory_total = memory.total;
    into.memory_available = memory.available;
    into.swap_used = memory.swap_used;
    let since = earlier.times.as_ref().and_then(|(times, _)| all.since(times));
    (into.cpu, into.iowait) = since.map_or((None, None), |(busy, waiting)| (Some(busy), Some(waiting)));
    into.split = earlier.times.as_ref().and_then(|(times, _)| all.split_since(times));
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
        let stalls = [&mut into.stall_cpu, &mut into.stall_memory, &mut into.stall_io];
        for ((file, stall), before) in ["cpu", "memory", "io"].into_iter().zip(stalls).zip(&mut earlier.stalled) {
            *stall = stalled(reader, &format!("pressure/{file}"), before, interval);
        }
        let disks = reader.optional("diskstats", |text| Some(machine::parse_disks(text))).unwrap_or_default();
        into.disks = used(&disks, &earlier.disks, interval);
        let busiest = into.disks.iter().max_by(|a, b| a.busy.total_cmp(&b.busy));
        (into.disk_busy, into.disk_answer) = busiest.map_or((None, None), |disk| (Some(disk.busy), disk.answer));
        earlier.disks = disks;
    }
    if needs.has(Cost::Disks) {
        into.volumes = volumes::mounted(reader.root()).iter().filter_map(volumes::Mount::look).collect();
        into.files_full = into.volumes.iter().map(Volume::full).max_by(f64::total_cmp);
    }
    Ok(last_pid)
}

/// What each disk did since `before`.
fn used(now: &[Disk], before: &[Disk], interval: Option<Duration>) -> Vec<DiskUse> {
    let Some(interval) = interval.filter(|interval| !interval.is_zero()) else { return Vec::new() };
    let used = |disk: &Disk| {
        let old = before.iter().find(|old| old.name == disk.name)?;
        let busy = disk.busy_ms.saturating_sub(old.busy_ms) as f64 / interval.as_secs_f64() / 10.0;
        let requests = disk.requests.saturating_sub(old.requests);
        let took = disk.took_ms.saturating_sub(old.took_ms);
        let answer = (requests > 0).then(|| Duration::from_secs_f64(took as f64 / 1000.0 / requests as f64));
        Some(DiskUse { name: disk.name.clone(), busy: busy.min(100.0), answer })
    };
    now.iter().filter_map(used).collect()
}

/// The averages, and over the interval the share of it that was added to the total.
fn stalled(reader: &mut Files, file: &str, earlier: &mut Option<u64>, interval: Option<Duration>) -> Option<Stall> {
    let found = reader.optional(file, machine::parse_stall);
    let before = std::mem::replace(earlier, found.map(|(_, total)| total));
    let (stall, total) = found?;
    let share = before.zip(interval.filter(|interval| !interval.is_zero())).map(|(before, interval)| {
        (total.saturating_sub(before) as f64 / interval.as_micros() as f64 * 100.0).min(100.0)
    });
    Some(Stall { interval: share, ..stall })
}
