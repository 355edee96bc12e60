//! `/proc/PID/status` (proc_pid_status(5)) and `/proc/PID/statm` (proc_pid_statm(5)): memory.

use super::{kilobytes, number, value_of};

/// Memory by `status`, bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Memory {
    /// VmSize.
    pub space: u64,
    /// VmRSS.
    pub resident: u64,
    /// RssAnon + RssShmem + VmSwap.
    pub held: u64,
    /// RssShmem.
    pub shared: u64,
    /// VmSwap.
    pub swapped: u64,
}

/// Memory of a process; `None` when the file has none, as for kernel threads and zombies.
pub fn parse_memory(status: &[u8]) -> Option<Memory> {
    // One look at its sixty lines: it is read of many, often.
    let lines = status.split(|byte| *byte == b'\n').filter(|line| line.starts_with(b"Vm") || line.starts_with(b"Rss"));
    let (mut memory, mut found) = (Memory::default(), 0);
    for line in lines {
        let part = match line.split(|byte| *byte == b':').next()? {
            b"VmSize" => &mut memory.space,
            b"VmRSS" => &mut memory.resident,
            b"VmSwap" => &mut memory.swapped,
            b"RssAnon" => &mut memory.held,
            b"RssShmem" => &mut memory.shared,
            _ => continue,
        };
        *part = part.saturating_add(value_of(line)?);
        found += 1;
    }
    memory.held = memory.held.saturating_add(memory.shared).saturating_add(memory.swapped);
    (found == 5).then_some(memory)
}

/// The user whose rights it has: `Uid`, the second number.
pub fn parse_uid(status: &[u8]) -> Option<u32> {
    uid(status, 1)
}

/// The user who started it, whose rights it may have left for others': `Uid`, the first number.
pub fn parse_person(status: &[u8]) -> Option<u32> {
    uid(status, 0)
}

/// Whose child it is: `PPid`.
pub fn parse_parent(status: &[u8]) -> Option<u32> {
    number(status.split(|byte| *byte == b'\n').find_map(|line| line.strip_prefix(b"PPid:\t"))?)
}

/// All of them: real, effective, saved and for files.
pub fn parse_uids(status: &[u8]) -> Option<[u32; 4]> {
    Some([uid(status, 0)?, uid(status, 1)?, uid(status, 2)?, uid(status, 3)?])
}

fn uid(status: &[u8], which: usize) -> Option<u32> {
    let line = status.split(|byte| *byte == b'\n').find_map(|line| line.strip_prefix(b"Uid:\t"))?;
    number(line.split(|byte| *byte == b'\t').nth(which)?)
}

/// Pages of address space and resident pages: `statm` fields 1 and 2.
pub fn parse_pages(statm: &[u8]) -> Option<(u64, u64)> {
    let mut fields = statm.split(|byte| *byte == b' ');
    Some((number(fields.next()?)?, number(fields.next()?)?))
}

/// Proportional and private memory, bytes: `smaps_rollup` Pss, and Private_Clean + Private_Dirty.
pub fn parse_rollup(rollup: &[u8]) -> Option<(u64, u64)> {
    let private = kilobytes(rollup, b"Private_Clean")?.saturating_add(kilobytes(rollup, b"Private_Dirty")?);
    Some((kilobytes(rollup, b"Pss")?, private))
}

/// Bytes read from and written to disks: `io` read_bytes and write_bytes (proc_pid_io(5)).
pub fn parse_io(io: &[u8]) -> Option<(u64, u64)> {
    let line = |name: &[u8]| io.split(|byte| *byte == b'\n').find_map(|line| line.strip_prefix(name));
    Some((number(line(b"read_bytes: ")?)?, number(line(b"write_bytes: ")?)?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn held_is_what_a_leak_keeps() {
        let status = b"Name:\tlabelpress\nVmPeak:\t 9900 kB\nVmSize:\t 9000 kB\nVmRSS:\t  900 kB\nRssAnon:\t     700 kB\nRssFile:\t     150 kB\nRssShmem:\t      50 kB\nVmSwap:\t     200 kB\n";
        let memory =
            Memory { space: 9000 << 10, resident: 900 << 10, held: 950 << 10, shared: 50 << 10, swapped: 200 << 10 };
        assert_eq!(parse_memory(status), Some(memory));
        assert_eq!(parse_uid(b"Name:\tx\nUid:\t1001\t0\t1001\t1001\n"), Some(0));
        assert_eq!(parse_person(b"Name:\tx\nUid:\t1001\t0\t1001\t1001\n"), Some(1001));
        assert_eq!(parse_memory(b"Name:\tkthreadd\nThreads:\t1\n"), None);
        assert_eq!(parse_pages(b"9000 512 100 1 0 400 0\n"), Some((9000, 512)));
        assert_eq!(
            parse_io(b"rchar: 9\nread_bytes: 4096\nwrite_bytes: 0\ncancelled_write_bytes: 7\n"),
            Some((4096, 0))
        );
        let rollup = b"0-0 ---p [rollup]\nRss: 900 kB\nPss: 500 kB\nPss_Dirty: 1 kB\nPrivate_Clean: 100 kB\nPrivate_Dirty: 300 kB\n";
        assert_eq!(parse_rollup(rollup), Some((500 << 10, 400 << 10)));
    }
}
