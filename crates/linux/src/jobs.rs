//! What a process has to do with its terminal: what suspending it would upset.

use crate::exec;

/// A process's place among the jobs of its terminal (`/proc/PID/stat` fields 5 to 8).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Job {
    /// Its process group.
    pub group: u32,
    /// Whether that group has the terminal.
    pub in_front: bool,
}

/// The job that a process is of; `None` when it is gone, or has no terminal.
pub fn job(pid: u32) -> Option<Job> {
    let line = String::from_utf8(exec::read(pid, "stat").ok()?).ok()?;
    let mut fields = line.rsplit_once(") ")?.1.split(' ');
    let group: u32 = fields.nth(2)?.parse().ok()?;
    let terminal: i64 = fields.nth(1)?.parse().ok()?;
    let front: i64 = fields.next()?.parse().ok()?;
    (terminal != 0).then_some(Job { group, in_front: i64::from(group) == front })
}

/// The process group of a process, with a terminal or without.
pub fn group(pid: u32) -> Option<u32> {
    let line = String::from_utf8(exec::read(pid, "stat").ok()?).ok()?;
    line.rsplit_once(") ")?.1.split(' ').nth(2)?.parse().ok()
}
