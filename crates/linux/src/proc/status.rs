//! `/proc/PID/status` (proc_pid_status(5)) and `/proc/PID/statm` (proc_pid_statm(5)): memory.

use super::{kilobytes, number};

/// Memory by `status`, bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Memory {
    /// RssAnon + RssShmem + VmSwap.
    pub held: u64,
    /// VmSwap.
    pub swapped: u64,
}

/// Memory of a process; `None` when the file has none, as for kernel threads and zombies.
pub fn parse_memory(status: &[u8]) -> Option<Memory> {
    let swapped = kilobytes(status, b"VmSwap")?;
    let held = kilobytes(status, b"RssAnon")? + kilobytes(status, b"RssShmem")? + swapped;
    Some(Memory { held, swapped })
}

/// Resident pages: `statm` field 2.
pub fn parse_resident_pages(statm: &[u8]) -> Option<u64> {
    number(statm.split(|byte| *byte == b' ').nth(1)?)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn held_is_what_a_leak_keeps() {
        let status = b"Name:\tlabelpress\nVmRSS:\t  900 kB\nRssAnon:\t     700 kB\nRssFile:\t     150 kB\nRssShmem:\t      50 kB\nVmSwap:\t     200 kB\n";
        assert_eq!(parse_memory(status), Some(Memory { held: 950 * 1024, swapped: 200 * 1024 }));
        assert_eq!(parse_memory(b"Name:\tkthreadd\nThreads:\t1\n"), None);
        assert_eq!(parse_resident_pages(b"9000 512 100 1 0 400 0\n"), Some(512));
    }
}
