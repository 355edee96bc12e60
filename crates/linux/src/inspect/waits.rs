//! What a thread waits for, by the kernel function that it waits in (`/proc/PID/task/TID/wchan`, proc_pid_wchan(5)).
//! The owner's and root's to read.

use std::fs;
use std::path::Path;

use sophron_core::inspect::Wait;
use sophron_core::state::State;
use sophron_core::text;

use super::call::{Call, Stands};

/// How a kernel function is recognised: names differ between kernels, and a part that stays is enough, unless others have it too.
enum Name {
    /// The whole name, but for what a compiler adds to it.
    Is(&'static str),
    /// A part of it.
    Has(&'static str),
}

use Name::{Has, Is};

/// The kernel's functions by what is waited for in them; the first that fits counts.
const FUNCTIONS: [(Name, Wait); 62] = [
    (Has("futex"), Wait::Lock),
    (Is("do_wait"), Wait::Child),
    (Is("__do_wait"), Wait::Child),
    (Is("kernel_wait4"), Wait::Child),
    (Is("kernel_waitid"), Wait::Child),
    (Has("wait_for_vfork"), Wait::Start),
    (Has("kernel_clone"), Wait::Start),
    (Has("_do_fork"), Wait::Start),
    (Has("wait_for_partner"), Wait::Opener),
    (Has("fifo_open"), Wait::Opener),
    (Has("pipe_"), Wait::Pipe),
    (Has("nanosleep"), Wait::Time),
    (Has("locks_lock"), Wait::FileLock),
    (Has("posix_lock"), Wait::FileLock),
    (Has("flock_lock"), Wait::FileLock),
    (Has("fcntl_setlk"), Wait::FileLock),
    (Has("do_wait_intr"), Wait::Event),
    (Has("ep_poll"), Wait::Event),
    (Has("do_epoll"), Wait::Event),
    (Has("poll_schedule"), Wait::Event),
    (Has("do_poll"), Wait::Event),
    (Has("do_sys_poll"), Wait::Event),
    (Has("do_select"), Wait::Event),
    (Has("eventfd"), Wait::Event),
    (Has("timerfd"), Wait::Time),
    (Has("signalfd"), Wait::Signal),
    (Has("inotify"), Wait::Event),
    (Has("fanotify"), Wait::Event),
    (Has("io_cqring_wait"), Wait::Event),
    (Has("do_msgrcv"), Wait::Message),
    (Has("do_msgsnd"), Wait::Message),
    (Has("wq_sleep"), Wait::Message),
    (Has("semtimedop"), Wait::Message),
    (Has("n_tty_read"), Wait::Terminal),
    (Has("tty_"), Wait::Terminal),
    (Has("sigsuspend"), Wait::Signal),
    (Has("sigtimedwait"), Wait::Signal),
    (Has("do_sys_pause"), Wait::Signal),
    (Has("nfs"), Wait::NetworkDisk),
    (Has("rpc_"), Wait::NetworkDisk),
    (Has("cifs"), Wait::NetworkDisk),
    (Has("smb"), Wait::NetworkDisk),
    (Has("fuse"), Wait::NetworkDisk),
    (Has("request_wait_answer"), Wait::NetworkDisk),
    (Has("inet_csk_accept"), Wait::Caller),
    (Has("unix_accept"), Wait::Caller),
    (Has("unix_stream"), Wait::Connection),
    (Has("unix_wait"), Wait::Connection),
    (Has("unix_dgram"), Wait::Connection),
    (Has("sk_wait"), Wait::Connection),
    (Has("sk_stream_wait"), Wait::Connection),
    (Has("sock_alloc_send"), Wait::Connection),
    (Has("tcp_"), Wait::Connection),
    (Has("inet_"), Wait::Connection),
    (Has("skb_"), Wait::Connection),
    (Has("mem_cgroup"), Wait::Memory),
    (Has("reclaim"), Wait::Memory),
    (Has("rq_qos"), Wait::Disk),
    (Has("jbd2"), Wait::Disk),
    (Has("folio_wait"), Wait::Disk),
    (Has("balance_dirty"), Wait::Disk),
    (Has("blk_"), Wait::Disk),
];

/// Functions in which several things are waited for: only the system call says which.
const AMBIGUOUS: [&str; 2] = ["wait_woken", "wait_for_more_packets"];

/// What a thread waits for; `None` where that may not be read, or it does not wait.
pub fn wait_of(pid: u32, tid: u32, state: State) -> Option<Wait> {
    let name = fs::read(format!("/proc/{pid}/task/{tid}/wchan")).ok()?;
    let name = text::clean(&name);
    if AMBIGUOUS.iter().any(|part| name.contains(part)) {
        return Some(Call::of(pid, tid).map_or(Wait::Event, |call| by_call(pid, &call.stands_on(pid))));
    }
    by_name(&name, state)
}

/// By what it stands on.
fn by_call(pid: u32, stands: &Stands) -> Wait {
    match stands {
        Stands::Accepts(_) => Wait::Caller,
        Stands::Connects(_) => Wait::Connection,
        Stands::Reads(file) | Stands::Writes(file) => {
            match fs::read_link(format!("/proc/{pid}/fd/{file}")).ok().as_deref().and_then(Path::to_str) {
                Some(name) if name.starts_with("socket:") => Wait::Connection,
                Some(name) if name.starts_with("/dev/pts/") || name.starts_with("/dev/tty") => Wait::Terminal,
                _ => Wait::Event,
            }
        }
        _ => Wait::Event,
    }
}

fn by_name(name: &str, state: State) -> Option<Wait> {
    if name.is_empty() || name == "0" {
        return None;
    }
    let plain = name.split('.').next().unwrap_or(name);
    let fits = |known: &Name| match known {
        Is(whole) => plain == *whole,
        Has(part) => name.contains(part),
    };
    let known = FUNCTIONS.iter().find(|(known, _)| fits(known)).map(|(_, wait)| wait.clone());
    Some(
        known.unwrap_or(match state {
            // Nearly everything that is waited for uninterruptibly is a disk.
            State::Waiting
                if ["io_schedule", "wait_on", "bio", "xfs", "ext4", "btrfs", "get_request"]
                    .iter()
                    .any(|part| name.contains(part)) =>
            {
                Wait::Disk
            }
            _ => Wait::Other(name.to_owned()),
        }),
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn functions_of_several_kernels() {
        for (name, state, wait) in [
            ("pipe_read", State::Sleeping, Wait::Pipe),
            ("anon_pipe_read", State::Sleeping, Wait::Pipe),
            ("hrtimer_nanosleep", State::Sleeping, Wait::Time),
            ("futex_wait_queue", State::Sleeping, Wait::Lock),
            ("futex_do_wait", State::Sleeping, Wait::Lock),
            ("do_wait", State::Sleeping, Wait::Child),
            ("do_wait_intr_irq", State::Sleeping, Wait::Event),
            ("wait_for_partner", State::Sleeping, Wait::Opener),
            ("inet_csk_accept", State::Sleeping, Wait::Caller),
            ("sock_alloc_send_pskb", State::Sleeping, Wait::Connection),
            ("do_sigtimedwait.isra.0", State::Sleeping, Wait::Signal),
            ("__do_semtimedop", State::Sleeping, Wait::Message),
            ("kernel_clone", State::Waiting, Wait::Start),
            ("folio_wait_bit_common", State::Waiting, Wait::Disk),
            ("io_schedule_timeout", State::Waiting, Wait::Disk),
            ("rpc_wait_bit_killable", State::Waiting, Wait::NetworkDisk),
            ("moss_wait", State::Waiting, Wait::Other("moss_wait".to_owned())),
        ] {
            assert_eq!(by_name(name, state), Some(wait), "{name}");
        }
        assert_eq!(by_name("0", State::Sleeping), None);
    }
}
