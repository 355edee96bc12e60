//! The system call that a thread stands in, and which open files it is about (`/proc/PID/task/TID/syscall`, proc_pid_syscall(5)).
//! For whoever may trace it: root, and on most machines its owner.

use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::time::Duration;

use crate::patience::within;

/// How long a process's memory is waited for.
const PATIENCE: Duration = Duration::from_millis(40);

/// Most open files of one call that are looked at.
const MOST_FILES: usize = 64;

/// A system call with its arguments.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Call {
    number: libc::c_long,
    arguments: [u64; 6],
}

/// What a thread stands on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Stands {
    /// Reads from that open file.
    Reads(u32),
    /// Writes to it.
    Writes(u32),
    /// Waits for somebody to connect to it.
    Accepts(u32),
    /// Connects it to somebody.
    Connects(u32),
    /// Wants a lock on it.
    Locks(u32),
    /// Waits for one of several.
    Watches(Vec<u32>),
    /// A word of its memory.
    Word(u64),
    /// Something else.
    Else,
}

impl Call {
    /// Of a thread that waits; `None` where it may not be read, or runs.
    pub fn of(pid: u32, tid: u32) -> Option<Call> {
        parse(&fs::read_to_string(format!("/proc/{pid}/task/{tid}/syscall")).ok()?)
    }

    /// Whether only another of its own threads can end the wait: on a word of memory that it shares with nobody, or on one of
    /// those threads itself, without a time (futex(2)).
    pub fn waits_for_own(&self, pid: u32, threads: &[u32]) -> bool {
        let [address, operation, _, timeout, ..] = self.arguments;
        let operation = operation as libc::c_int & !libc::FUTEX_CLOCK_REALTIME;
        let waits = [libc::FUTEX_WAIT, libc::FUTEX_WAIT_BITSET, libc::FUTEX_LOCK_PI];
        if self.number != libc::SYS_futex || timeout != 0 || !waits.contains(&(operation & !libc::FUTEX_PRIVATE_FLAG)) {
            return false;
        }
        let word = || memory(pid, address, 4).and_then(|word| Some(u32::from_ne_bytes(word.try_into().ok()?)));
        operation & libc::FUTEX_PRIVATE_FLAG != 0 || word().is_some_and(|word| threads.contains(&word))
    }

    /// What it stands on. What only its memory tells is read from there.
    pub fn stands_on(&self, pid: u32) -> Stands {
        let [first, second, third, fourth, ..] = self.arguments;
        let file = first as u32;
        match self.number {
            libc::SYS_read | libc::SYS_readv | libc::SYS_pread64 | libc::SYS_recvfrom | libc::SYS_recvmsg => {
                Stands::Reads(file)
            }
            libc::SYS_write | libc::SYS_writev | libc::SYS_pwrite64 | libc::SYS_sendto | libc::SYS_sendmsg => {
                Stands::Writes(file)
            }
            libc::SYS_accept | libc::SYS_accept4 => Stands::Accepts(file),
            libc::SYS_connect => Stands::Connects(file),
            libc::SYS_flock | libc::SYS_fcntl => Stands::Locks(file),
            libc::SYS_futex => Stands::Word(first),
            libc::SYS_ppoll => Stands::Watches(polled(pid, first, second)),
            libc::SYS_pselect6 => Stands::Watches(selected(pid, first, [second, third, fourth])),
            libc::SYS_epoll_pwait | libc::SYS_epoll_pwait2 => Stands::Watches(watched(pid, file)),
            #[cfg(target_arch = "x86_64")]
            libc::SYS_poll => Stands::Watches(polled(pid, first, second)),
            #[cfg(target_arch = "x86_64")]
            libc::SYS_select => Stands::Watches(selected(pid, first, [second, third, fourth])),
            #[cfg(target_arch = "x86_64")]
            libc::SYS_epoll_wait => Stands::Watches(watched(pid, file)),
            _ => Stands::Else,
        }
    }
}

fn parse(line: &str) -> Option<Call> {
    let mut fields = line.split_whitespace();
    let number: libc::c_long = fields.next()?.parse().ok().filter(|number| *number >= 0)?;
    let mut arguments = [0; 6];
    for argument in &mut arguments {
        *argument = u64::from_str_radix(fields.next()?.strip_prefix("0x")?, 16).ok()?;
    }
    Some(Call { number, arguments })
}

/// Bytes of a process's memory (`/proc/PID/mem`, proc_pid_mem(5)): one that is stuck with its memory locked hangs its reader.
pub(super) fn memory(pid: u32, address: u64, length: usize) -> Option<Vec<u8>> {
    let read = move || {
        let mut bytes = vec![0; length];
        File::open(format!("/proc/{pid}/mem")).ok()?.read_exact_at(&mut bytes, address).ok()?;
        Some(bytes)
    };
    within(PATIENCE, read).flatten()
}

/// The files of a `struct pollfd[]` (poll(2)).
fn polled(pid: u32, address: u64, count: u64) -> Vec<u32> {
    let count = usize::try_from(count).unwrap_or(0).min(MOST_FILES);
    let bytes = memory(pid, address, count * 8).unwrap_or_default();
    let of = |entry: &[u8]| Some(i32::from_ne_bytes(entry.get(..4)?.try_into().ok()?));
    bytes.chunks(8).filter_map(of).filter_map(|file| u32::try_from(file).ok()).collect()
}

/// The files of up to three sets of `count` bits (select(2)).
fn selected(pid: u32, count: u64, sets: [u64; 3]) -> Vec<u32> {
    let count = u32::try_from(count).unwrap_or(0).min(1024);
    let mut files: Vec<u32> = Vec::new();
    for set in sets.into_iter().filter(|set| *set != 0) {
        let bytes = memory(pid, set, count.div_ceil(64) as usize * 8).unwrap_or_default();
        let is_in = |file: &u32| bytes.get(*file as usize / 8).is_some_and(|byte| byte & 1 << (file % 8) != 0);
        files.extend((0..count).filter(is_in));
    }
    files.sort_unstable();
    files.dedup();
    files.truncate(MOST_FILES);
    files
}

/// The files that an epoll watches (`fdinfo`, lines `tfd:`; proc_pid_fdinfo(5)).
fn watched(pid: u32, file: u32) -> Vec<u32> {
    let info = fs::read_to_string(format!("/proc/{pid}/fdinfo/{file}")).unwrap_or_default();
    let of = |line: &str| line.strip_prefix("tfd:")?.split_whitespace().next()?.parse().ok();
    info.lines().filter_map(of).take(MOST_FILES).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_is_a_call_or_nothing() {
        let line = "0 0x3 0x7f4d7f719f10 0x1 0x0 0x0 0x0 0x7ffd5ac39388 0x7f4d7f8";
        assert_eq!(parse(line).map(|call| call.arguments[0]), Some(3));
        for nothing in ["running", "-1 0x7ffd5ac39388 0x7f4d7f8", "", "0 3", "0 0xzz 0x0 0x0 0x0 0x0 0x0"] {
            assert_eq!(parse(nothing), None, "{nothing}");
        }
    }
}
