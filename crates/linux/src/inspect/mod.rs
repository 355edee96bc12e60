//! Everything about one process that only its own files tell. No file is read here that can hang its reader: those go
//! through the sampler's expendable thread.

mod call;
mod chain;
mod command;
mod levers;
mod threads;
mod units;
mod waits;

use std::fs;
use std::path::Path;

use sophron_core::text;

pub use chain::{Chain, Followed, follow};
pub use command::command_line;
pub use levers::lever;
pub use threads::{Threads, any_waits};
pub use units::{Restart, restart};
pub use waits::wait_of;

use crate::exec;
use crate::living;
use crate::proc::{kilobytes, number};

/// What `/proc/PID/status`, `io`, `limits` and others of one process say. `None` is what may not be read.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Details {
    /// Memory by `status`, bytes: anonymous, of files, shared; the most it ever had; locked.
    pub anonymous: Option<u64>,
    /// RssFile.
    pub file: Option<u64>,
    /// RssShmem.
    pub shared: Option<u64>,
    /// VmHWM.
    pub peak: Option<u64>,
    /// VmLck.
    pub locked: Option<u64>,
    /// Bytes read and written by system calls, of any kind (`io` rchar + wchar).
    pub moved: Option<u64>,
    /// Bytes read from and written to disks since the start (`io` read_bytes, write_bytes).
    pub disk: Option<(u64, u64)>,
    /// The user that logged in (`loginuid`).
    pub login_uid: Option<u32>,
    /// Scheduling policy (`stat` field 41), in words where it is not the ordinary one.
    pub policy: Option<&'static str>,
    /// How likely the kernel is to end it when memory runs out, 0 to 2000 (`oom_score`).
    pub end_score: Option<u32>,
    /// Who traces it (`status` TracerPid).
    pub tracer: Option<u32>,
    /// Limits by `limits`: what is limited, the soft limit.
    pub open_files_limit: Option<u64>,
    /// Most address space, bytes.
    pub address_limit: Option<u64>,
    /// Most CPU time, seconds.
    pub cpu_limit: Option<u64>,
    /// Its current folder.
    pub folder: Option<String>,
}

/// Reads the details of a process.
pub fn details(pid: u32) -> Details {
    let folder = living::folder(Path::new("/proc"), pid);
    // Of who is in the middle of an exec is read what does not wait for him.
    let starts = exec::gate(pid).is_err();
    let waits = |name: &str| starts && matches!(name, "stat" | "io");
    let file = |name: &str| if waits(name) { None } else { fs::read(folder.join(name)).ok() };
    let status = file("status").unwrap_or_default();
    let io = file("io");
    let of_io = |name: &[u8]| {
        let io = io.as_deref()?;
        number::<u64>(io.split(|byte| *byte == b'\n').find_map(|line| line.strip_prefix(name))?)
    };
    let limits = file("limits").map(|bytes| String::from_utf8_lossy(&bytes).into_owned()).unwrap_or_default();
    let stat = file("stat").unwrap_or_default();
    let small = |name: &str| file(name).as_deref().and_then(number::<u32>);
    Details {
        anonymous: kilobytes(&status, b"RssAnon"),
        file: kilobytes(&status, b"RssFile"),
        shared: kilobytes(&status, b"RssShmem"),
        peak: kilobytes(&status, b"VmHWM"),
        locked: kilobytes(&status, b"VmLck").filter(|locked| *locked > 0),
        moved: of_io(b"rchar: ").zip(of_io(b"wchar: ")).map(|(read, written)| read + written),
        disk: of_io(b"read_bytes: ").zip(of_io(b"write_bytes: ")),
        login_uid: small("loginuid").filter(|uid| *uid != u32::MAX),
        policy: policy(&stat),
        end_score: small("oom_score"),
        tracer: line(&status, b"TracerPid:").filter(|pid| *pid != 0),
        open_files_limit: soft_limit(&limits, "Max open files"),
        address_limit: soft_limit(&limits, "Max address space"),
        cpu_limit: soft_limit(&limits, "Max cpu time"),
        folder: (!starts)
            .then(|| fs::read_link(format!("/proc/{pid}/cwd")).ok())
            .flatten()
            .map(|path| text::clean(path.as_os_str().as_encoded_bytes())),
    }
}

fn line(status: &[u8], name: &[u8]) -> Option<u32> {
    number(status.split(|byte| *byte == b'\n').find_map(|line| line.strip_prefix(name))?)
}

/// `stat` field 41: the scheduling policy (sched(7)).
fn policy(stat: &[u8]) -> Option<&'static str> {
    let close = stat.iter().rposition(|byte| *byte == b')')?;
    let field = stat.get(close + 2..)?.split(|byte| *byte == b' ').nth(38)?;
    match number::<u32>(field)? {
        1 => Some("real-time, first in first out"),
        2 => Some("real-time, in turns"),
        3 => Some("batch"),
        5 => Some("idle: runs only when nobody else wants to"),
        6 => Some("deadline"),
        _ => None,
    }
}

fn soft_limit(limits: &str, name: &str) -> Option<u64> {
    let rest = limits.lines().find_map(|line| line.strip_prefix(name))?;
    rest.split_whitespace().next()?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn limits_and_policies() {
        let limits = "Limit                     Soft Limit           Hard Limit           Units     \n\
            Max cpu time              unlimited            unlimited            seconds   \n\
            Max open files            1024                 524288               files     \n";
        assert_eq!(soft_limit(limits, "Max open files"), Some(1024));
        assert_eq!(soft_limit(limits, "Max cpu time"), None);
        let own = details(std::process::id());
        assert!(own.anonymous.is_some() && own.peak.is_some() && own.moved.is_some() && own.open_files_limit.is_some());
        let zeros = "0 ".repeat(36);
        let stat = format!("9 (x) S 1 {zeros} 3 0");
        assert_eq!(policy(stat.replace("  ", " ").as_bytes()), Some("batch"));
    }
}
