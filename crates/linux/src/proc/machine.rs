//! The machine: `/proc/stat`, `meminfo`, `loadavg`, `vmstat`, `pressure/*`, `diskstats` (man pages proc_stat(5) and so on).

use sophron_core::model::{CpuSplit, Stall};

use super::{kilobytes, number};

/// CPU times of one core or of all together, clock ticks since boot.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct CpuTimes {
    /// All time.
    pub total: u64,
    /// Time in which a core worked: all but idle and waiting for a disk.
    pub busy: u64,
    /// Idle with a disk request outstanding.
    pub waiting: u64,
    /// What the busy time went to: programs, mild programs, the kernel, interrupts, other machines.
    pub parts: [u64; 5],
}

impl CpuTimes {
    /// Busy and waiting share since `earlier`, percent.
    pub fn since(&self, earlier: &CpuTimes) -> Option<(f64, f64)> {
        let total = self.total.checked_sub(earlier.total).filter(|total| *total > 0)?;
        let share = |now: u64, then: u64| 100.0 * now.saturating_sub(then).min(total) as f64 / total as f64;
        Some((share(self.busy, earlier.busy), share(self.waiting, earlier.waiting)))
    }

    /// What the busy time since `earlier` went to, percent of all time.
    pub(crate) fn split_since(&self, earlier: &CpuTimes) -> Option<CpuSplit> {
        let total = self.total.checked_sub(earlier.total).filter(|total| *total > 0)?;
        let mut shares = self
            .parts
            .iter()
            .zip(&earlier.parts)
            .map(|(now, then)| 100.0 * now.saturating_sub(*then).min(total) as f64 / total as f64);
        let mut next = || shares.next().unwrap_or_default();
        Some(CpuSplit { user: next(), nice: next(), kernel: next(), interrupts: next(), stolen: next() })
    }
}

/// The line `cpu` of `/proc/stat`, and the lines `cpuN`.
pub fn parse_cpu(stat: &[u8]) -> Option<(CpuTimes, Vec<CpuTimes>)> {
    let mut lines = stat.split(|byte| *byte == b'\n');
    let all = parse_times(lines.next()?.strip_prefix(b"cpu ")?)?;
    let cores = lines.map_while(|line| line.strip_prefix(b"cpu")).filter_map(|line| {
        let digits = line.iter().position(|byte| *byte == b' ')?;
        parse_times(&line[digits..])
    });
    Some((all, cores.collect()))
}

fn parse_times(times: &[u8]) -> Option<CpuTimes> {
    // user nice system idle iowait irq softirq steal; guest time is already in user time.
    let ticks: Vec<u64> = times.split(|byte| *byte == b' ').filter_map(number).take(8).collect();
    let total = ticks.iter().copied().fold(0, u64::saturating_add);
    let at = |place: usize| ticks.get(place).copied().unwrap_or(0);
    let waiting = at(4);
    let parts = [at(0), at(1), at(2), at(5).saturating_add(at(6)), at(7)];
    Some(CpuTimes { total, busy: total.saturating_sub(*ticks.get(3)?).saturating_sub(waiting), waiting, parts })
}

/// `/proc/stat`: threads on a core or ready for one, and threads waiting for a disk, at this moment.
pub fn parse_queues(stat: &[u8]) -> (Option<u32>, Option<u32>) {
    let line = |name: &[u8]| stat.split(|byte| *byte == b'\n').find_map(|line| number(line.strip_prefix(name)?));
    (line(b"procs_running "), line(b"procs_blocked "))
}

/// Memory, bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Memory {
    /// MemTotal.
    pub total: u64,
    /// MemAvailable.
    pub available: Option<u64>,
    /// SwapTotal - SwapFree.
    pub swap_used: Option<u64>,
}

/// `/proc/meminfo`.
pub fn parse_memory(meminfo: &[u8]) -> Option<Memory> {
    let read = |name| kilobytes(meminfo, name);
    let swap_used = read(b"SwapTotal").zip(read(b"SwapFree")).map(|(total, free)| total.saturating_sub(free));
    Some(Memory { total: read(b"MemTotal")?, available: read(b"MemAvailable"), swap_used })
}

/// `/proc/loadavg`: the three loads, and the PID that was handed out last.
pub fn parse_load(loadavg: &[u8]) -> Option<([f64; 3], u32)> {
    let mut fields = loadavg.split(|byte| *byte == b' ');
    let loads = [number(fields.next()?)?, number(fields.next()?)?, number(fields.next()?)?];
    Some((loads, number(fields.nth(1)?)?))
}

/// `/proc/vmstat`: pages swapped in and out since boot.
pub fn parse_swapped(vmstat: &[u8]) -> Option<u64> {
    let line = |name: &[u8]| vmstat.split(|byte| *byte == b'\n').find_map(|line| line.strip_prefix(name));
    Some(number::<u64>(line(b"pswpin ")?)?.saturating_add(number(line(b"pswpout ")?)?))
}

/// `/proc/pressure/*`, the line `some`: the averages, and the microseconds since boot.
pub fn parse_stall(pressure: &[u8]) -> Option<(Stall, u64)> {
    let line = pressure.split(|byte| *byte == b'\n').find_map(|line| line.strip_prefix(b"some "))?;
    let mut values = line.split(|byte| *byte == b' ').map(|pair| pair.splitn(2, |byte| *byte == b'=').nth(1));
    let mut average = || values.next().flatten().and_then(number::<f64>);
    let stall = Stall { ten_seconds: average()?, minute: average(), five_minutes: average(), interval: None };
    Some((stall, values.next().flatten().and_then(number)?))
}

/// One whole disk of `/proc/diskstats`, counted since boot.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Disk {
    /// Its name.
    pub name: String,
    /// Requests done (fields 4 and 8).
    pub requests: u64,
    /// Milliseconds that they took, added up (fields 7 and 11).
    pub took_ms: u64,
    /// Milliseconds with a request outstanding (field 13).
    pub busy_ms: u64,
}

/// The disks of `/proc/diskstats` that have done anything; partitions, loops and memory disks are left out.
pub fn parse_disks(diskstats: &[u8]) -> Vec<Disk> {
    let mut disks: Vec<Disk> = Vec::new();
    for line in diskstats.split(|byte| *byte == b'\n') {
        let fields: Vec<&[u8]> = line.split(|byte| *byte == b' ').filter(|field| !field.is_empty()).collect();
        let get = |field: usize| fields.get(field - 1).and_then(|field| number::<u64>(field));
        let name = fields.get(2).map(|name| sophron_core::text::clean(name)).unwrap_or_default();
        let of_a_disk_before = disks.iter().any(|disk| name.starts_with(&disk.name) && name.len() > disk.name.len());
        if ["loop", "ram", "zram"].iter().any(|kind| name.starts_with(kind)) || of_a_disk_before {
            continue;
        }
        let counts = || Some((get(4)?.saturating_add(get(8)?), get(7)?.saturating_add(get(11)?), get(13)?));
        if let Some((requests, took_ms, busy_ms)) = counts().filter(|counts| counts.0 > 0) {
            disks.push(Disk { name, requests, took_ms, busy_ms });
        }
    }
    disks
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn busy_is_all_but_idle_and_waiting() {
        let (before, cores) =
            parse_cpu(b"cpu  100 0 50 800 50 0 0 0 0 0\ncpu0 100 0 0 0 0 0 0 0\ncpu1 0 0 0 9 0 0 0 0\nintr 5\n")
                .unwrap();
        let (after, _) = parse_cpu(b"cpu  150 0 50 830 70 0 0 0 0 0\ncpu0 1\n").unwrap();
        assert_eq!((cores.len(), cores[0].busy, cores[1].busy), (2, 100, 0));
        assert_eq!(after.since(&before), Some((50.0, 20.0)));
        assert_eq!(before.since(&before), None);
        let split = after.split_since(&before).unwrap();
        assert_eq!((split.user, split.kernel, split.interrupts), (50.0, 0.0, 0.0));
    }

    #[test]
    fn the_other_machine_files() {
        let memory =
            parse_memory(b"MemTotal: 8 kB\nMemFree: 1 kB\nMemAvailable:   4 kB\nSwapTotal: 9 kB\nSwapFree: 8 kB\n");
        assert_eq!(memory, Some(Memory { total: 8192, available: Some(4096), swap_used: Some(1024) }));
        assert_eq!(parse_load(b"0.20 0.18 0.12 1/80 11206\n"), Some(([0.2, 0.18, 0.12], 11206)));
        assert_eq!(parse_swapped(b"nr_free 1\npswpin 3\npswpout 4\n"), Some(7));
        let stall = Stall { ten_seconds: 12.5, minute: Some(3.0), five_minutes: Some(1.0), interval: None };
        let pressure = b"some avg10=12.50 avg60=3.00 avg300=1.00 total=77\nfull avg10=0.00 total=5\n";
        assert_eq!(parse_stall(pressure), Some((stall, 77)));
        assert_eq!(parse_queues(b"cpu 1\nprocs_running 3\nprocs_blocked 2\nsoftirq 1\n"), (Some(3), Some(2)));
        let disks = parse_disks(b"   7 0 loop0 1 0 0 5 0 0 0 0 0 1 1\n 253 0 vda 10 0 0 40 5 0 0 20 0 30 60\n 253 1 vda1 9 0 0 9 0 0 0 0 0 9 9\n");
        assert_eq!(disks, [Disk { name: "vda".to_owned(), requests: 15, took_ms: 60, busy_ms: 30 }]);
    }
}
