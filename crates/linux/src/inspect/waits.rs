//! What a thread waits for, by the kernel function that it waits in (`/proc/PID/task/TID/wchan`, proc_pid_wchan(5)).
//! The owner's and root's to read.

use std::fs;

use sophron_core::inspect::Wait;
use sophron_core::state::State;
use sophron_core::text;

/// The kernel's functions by what is waited for in them. Names differ between kernels: a part that stays is enough.
const FUNCTIONS: [(&str, Wait); 44] = [
    ("pipe_", Wait::Pipe),
    ("nanosleep", Wait::Time),
    ("do_wait", Wait::Child),
    ("wait_for_vfork", Wait::Start),
    ("kernel_clone", Wait::Start),
    ("_do_fork", Wait::Start),
    ("locks_lock", Wait::FileLock),
    ("posix_lock", Wait::FileLock),
    ("flock_lock", Wait::FileLock),
    ("fcntl_setlk", Wait::FileLock),
    ("futex", Wait::Lock),
    ("ep_poll", Wait::Event),
    ("do_epoll", Wait::Event),
    ("poll_schedule", Wait::Event),
    ("do_poll", Wait::Event),
    ("do_sys_poll", Wait::Event),
    ("do_select", Wait::Event),
    ("eventfd", Wait::Event),
    ("inotify", Wait::Event),
    ("io_cqring_wait", Wait::Event),
    ("n_tty_read", Wait::Terminal),
    ("tty_", Wait::Terminal),
    ("sigsuspend", Wait::Signal),
    ("sigtimedwait", Wait::Signal),
    ("do_sys_pause", Wait::Signal),
    ("nfs", Wait::NetworkDisk),
    ("rpc_", Wait::NetworkDisk),
    ("cifs", Wait::NetworkDisk),
    ("smb", Wait::NetworkDisk),
    ("fuse", Wait::NetworkDisk),
    ("request_wait_answer", Wait::NetworkDisk),
    ("unix_stream", Wait::Connection),
    ("unix_wait", Wait::Connection),
    ("sk_wait", Wait::Connection),
    ("tcp_", Wait::Connection),
    ("inet_csk", Wait::Connection),
    ("skb_wait", Wait::Connection),
    ("skb_recv", Wait::Connection),
    ("mem_cgroup", Wait::Memory),
    ("reclaim_throttle", Wait::Memory),
    ("rq_qos", Wait::Disk),
    ("jbd2", Wait::Disk),
    ("folio_wait", Wait::Disk),
    ("blk_", Wait::Disk),
];

/// What a thread waits for; `None` where that may not be read, or it does not wait.
pub fn wait_of(pid: u32, tid: u32, state: State) -> Option<Wait> {
    let name = fs::read(format!("/proc/{pid}/task/{tid}/wchan")).ok()?;
    by_name(&text::clean(&name), state)
}

fn by_name(name: &str, state: State) -> Option<Wait> {
    if name.is_empty() || name == "0" {
        return None;
    }
    let known = FUNCTIONS.iter().find(|(part, _)| name.contains(part)).map(|(_, wait)| wait.clone());
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

/// System calls whose first argument is what they read from or write to.
const ON_A_FILE: [libc::c_long; 9] = [
    libc::SYS_read,
    libc::SYS_write,
    libc::SYS_readv,
    libc::SYS_writev,
    libc::SYS_recvfrom,
    libc::SYS_recvmsg,
    libc::SYS_sendto,
    libc::SYS_sendmsg,
    libc::SYS_fcntl,
];

/// The open file that a thread waits on, by its number (`/proc/PID/task/TID/syscall`, proc_pid_syscall(5)).
pub fn waits_on_file(pid: u32, tid: u32) -> Option<u32> {
    let line = fs::read_to_string(format!("/proc/{pid}/task/{tid}/syscall")).ok()?;
    let mut fields = line.split_whitespace();
    let call: libc::c_long = fields.next()?.parse().ok()?;
    let argument = fields.next()?.strip_prefix("0x")?;
    ON_A_FILE.contains(&call).then(|| u32::from_str_radix(argument, 16).ok()).flatten()
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
