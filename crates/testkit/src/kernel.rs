//! What the kernel says of a process, read without any of Sophron's own code.

use std::fs;

/// One thread as `/proc/PID/task/TID/stat` shows it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ThreadSeen {
    /// What it is called.
    pub name: String,
    /// The state's letter.
    pub state: char,
    /// Niceness.
    pub nice: i32,
}

/// Every thread of a process; empty when it is gone.
pub fn threads(pid: u32) -> Vec<ThreadSeen> {
    let tasks = fs::read_dir(format!("/proc/{pid}/task")).into_iter().flatten().flatten();
    tasks.filter_map(|task| parse(&fs::read_to_string(task.path().join("stat")).ok()?)).collect()
}

/// Its children, whichever of its threads has started them.
pub fn children(pid: u32) -> Vec<u32> {
    let tasks = fs::read_dir(format!("/proc/{pid}/task")).into_iter().flatten().flatten();
    let texts: String = tasks.filter_map(|task| fs::read_to_string(task.path().join("children")).ok()).collect();
    texts.split_whitespace().filter_map(|pid| pid.parse().ok()).collect()
}

/// Anonymous memory that it holds, bytes.
pub fn held(pid: u32) -> u64 {
    let status = fs::read_to_string(format!("/proc/{pid}/status")).unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("RssAnon:"));
    line.and_then(|rest| rest.split_whitespace().next()?.parse::<u64>().ok()).unwrap_or(0) * 1024
}

fn parse(stat: &str) -> Option<ThreadSeen> {
    let (before, after) = stat.rsplit_once(") ")?;
    let name = before.split_once(" (")?.1.to_owned();
    let mut fields = after.split(' ');
    let state = fields.next()?.chars().next()?;
    // Field 19; `fields` has taken field 3.
    let nice = fields.nth(15)?.parse().ok()?;
    Some(ThreadSeen { name, state, nice })
}

/// Whether every thread is suspended.
pub fn is_suspended(pid: u32) -> bool {
    let threads = threads(pid);
    !threads.is_empty() && threads.iter().all(|thread| thread.state == 'T')
}

/// The niceness of every thread.
pub fn nices(pid: u32) -> Vec<i32> {
    threads(pid).iter().map(|thread| thread.nice).collect()
}

/// Whether it has ended: gone, or only waiting to be collected.
pub fn is_gone(pid: u32) -> bool {
    threads(pid).iter().all(|thread| matches!(thread.state, 'Z' | 'X'))
}

/// The user that a process runs as.
pub fn uid_of(pid: u32) -> Option<u32> {
    use std::os::unix::fs::MetadataExt;
    fs::metadata(format!("/proc/{pid}")).ok().map(|found| found.uid())
}
