//! `/proc/stat` (proc_stat(5)) and `/proc/meminfo` (proc_meminfo(5)): the machine.

use super::{kilobytes, number};

/// CPU times of all cores together, clock ticks since boot.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CpuTimes {
    /// All time.
    pub total: u64,
    /// Time in which a core worked: all but idle and waiting for a disk.
    pub busy: u64,
}

impl CpuTimes {
    /// Busy share since `earlier`, percent of all cores together.
    pub fn busy_since(&self, earlier: &CpuTimes) -> Option<f64> {
        let total = self.total.checked_sub(earlier.total).filter(|total| *total > 0)?;
        let busy = self.busy.saturating_sub(earlier.busy).min(total);
        Some(100.0 * busy as f64 / total as f64)
    }
}

/// The line `cpu` of `/proc/stat`, and how many lines `cpuN` there are.
pub fn parse_cpu(stat: &[u8]) -> Option<(CpuTimes, u32)> {
    let mut lines = stat.split(|byte| *byte == b'\n');
    let line = lines.next()?.strip_prefix(b"cpu ")?;
    // user nice system idle iowait irq softirq steal; guest time is already in user time.
    let ticks: Vec<u64> = line.split(|byte| *byte == b' ').filter_map(number).take(8).collect();
    let total: u64 = ticks.iter().sum();
    let at_rest = ticks.get(3)? + ticks.get(4).copied().unwrap_or(0);
    let cores = lines.take_while(|line| line.starts_with(b"cpu")).count();
    Some((CpuTimes { total, busy: total - at_rest }, u32::try_from(cores).unwrap_or(u32::MAX).max(1)))
}

/// MemTotal and MemAvailable, bytes.
pub fn parse_memory(meminfo: &[u8]) -> Option<(u64, Option<u64>)> {
    Some((kilobytes(meminfo, b"MemTotal")?, kilobytes(meminfo, b"MemAvailable")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn busy_is_all_but_idle_and_waiting() {
        let (before, cores) = parse_cpu(b"cpu  100 0 50 800 50 0 0 0 0 0\ncpu0 1\ncpu1 1\nintr 5\n").unwrap();
        let (after, _) = parse_cpu(b"cpu  150 0 50 830 70 0 0 0 0 0\ncpu0 1\n").unwrap();
        assert_eq!(cores, 2);
        assert_eq!(after.busy_since(&before), Some(50.0));
        assert_eq!(before.busy_since(&before), None);
        assert_eq!(parse_memory(b"MemTotal: 8 kB\nMemFree: 1 kB\nMemAvailable:   4 kB\n"), Some((8192, Some(4096))));
    }
}
