//! The only unsafe code of the workspace: calls for which no safe wrapper exists. Each is one call on plain values.

#![allow(unsafe_code, reason = "rustix has no clock of another process by PID, and no signal masks")]

use std::io;
use std::ops::Range;
use std::os::fd::{AsRawFd, BorrowedFd};
use std::os::unix::process::CommandExt;
use std::process::Command;
use std::time::Duration;

use crate::own_life::Before;

/// CPU time used by a process, all threads, ended ones included: clock_gettime(2) on the clock that
/// clock_getcpuclockid(3) names for the PID. Any user's process can be read.
///
/// # Errors
/// The process is gone (`EINVAL`).
pub fn process_cpu_time(pid: u32) -> io::Result<Duration> {
    let clock = ((!pid << 3) | 2) as libc::clockid_t;
    let mut time = libc::timespec { tv_sec: 0, tv_nsec: 0 };
    // SAFETY: `time` is a valid place for the kernel to write one timespec to; the call keeps no pointer.
    let status = unsafe { libc::clock_gettime(clock, &raw mut time) };
    if status == 0 {
        let (seconds, nanos) = (u64::try_from(time.tv_sec), u32::try_from(time.tv_nsec));
        Ok(Duration::new(seconds.unwrap_or_default(), nanos.unwrap_or_default()))
    } else {
        Err(io::Error::last_os_error())
    }
}

/// Blocks the terminal's stop signals (SIGTSTP, SIGTTIN, SIGTTOU) for this thread and those it starts from now on, so
/// that nobody is stopped while he holds the trail's lock (signal(7), pthread_sigmask(3)).
///
/// # Errors
/// As pthread_sigmask(3).
pub fn block_stop_signals() -> io::Result<()> {
    mask_stop_signals(libc::SIG_BLOCK)
}

/// Lets the terminal's stop signals through to this thread again, while nothing is held that others wait for.
///
/// # Errors
/// As pthread_sigmask(3).
pub fn allow_stop_signals() -> io::Result<()> {
    mask_stop_signals(libc::SIG_UNBLOCK)
}

fn mask_stop_signals(how: libc::c_int) -> io::Result<()> {
    // SAFETY: the set is initialised by sigemptyset before it is used, and the calls keep no pointer.
    let status = unsafe {
        let mut set: libc::sigset_t = std::mem::zeroed();
        libc::sigemptyset(&raw mut set);
        for signal in [libc::SIGTSTP, libc::SIGTTIN, libc::SIGTTOU] {
            libc::sigaddset(&raw mut set, signal);
        }
        libc::pthread_sigmask(how, &raw const set, std::ptr::null_mut())
    };
    if status == 0 { Ok(()) } else { Err(io::Error::from_raw_os_error(status)) }
}

/// Has a program that is started begin with the niceness, the descriptors and the score for want of memory that we were started
/// with ourselves.
pub fn as_we_were(command: &mut Command) {
    let Before { nice, spared, files } = crate::own_life::before();
    let score = spared.to_string();
    let begin = move || {
        // SAFETY: plain numbers, a path that is a constant and a text that was made before; all calls are allowed between fork and exec.
        unsafe {
            libc::setpriority(libc::PRIO_PROCESS, 0, nice);
            let file = libc::open(c"/proc/self/oom_score_adj".as_ptr(), libc::O_WRONLY | libc::O_CLOEXEC);
            if file >= 0 {
                libc::write(file, score.as_ptr().cast(), score.len());
                libc::close(file);
            }
            let mut limit: libc::rlimit = std::mem::zeroed();
            if let Some(files) = files
                && libc::getrlimit(libc::RLIMIT_NOFILE, &raw mut limit) == 0
            {
                limit.rlim_cur = files;
                libc::setrlimit(libc::RLIMIT_NOFILE, &raw const limit);
            }
        }
        Ok(())
    };
    // SAFETY: the closure makes system calls only: it neither allocates nor takes a lock.
    unsafe { command.pre_exec(begin) };
}

/// Makes a program that is started begin a session of its own (setsid(2)), without our terminal, with no signal held back, and inherit
/// no descriptor but its standard ones (close_range(2)).
pub fn contain(command: &mut Command) {
    const FIRST: libc::c_uint = 3;
    const CLOSE_ON_EXEC: libc::c_uint = 4;
    // Where the kernel is older than close_range(2) with that flag, descriptors are marked one by one.
    const MOST: libc::c_int = 65_536;
    let begin = || {
        // SAFETY: plain numbers in and out, and all of these calls are allowed between fork and exec.
        unsafe {
            if libc::setsid() < 0 {
                return Err(io::Error::last_os_error());
            }
            // What we hold back of the terminal's signals reaches it.
            let mut none: libc::sigset_t = std::mem::zeroed();
            libc::sigemptyset(&raw mut none);
            libc::sigprocmask(libc::SIG_SETMASK, &raw const none, std::ptr::null_mut());
            if libc::syscall(libc::SYS_close_range, FIRST, libc::c_uint::MAX, CLOSE_ON_EXEC) != 0 {
                for descriptor in 3..MOST {
                    libc::fcntl(descriptor, libc::F_SETFD, libc::FD_CLOEXEC);
                }
            }
        }
        Ok(())
    };
    // SAFETY: the closure makes system calls only: it neither allocates nor takes a lock.
    unsafe { command.pre_exec(begin) };
}

/// The I/O priority of a thread: class in the bits above 13, level below (ioprio_get(2)).
///
/// # Errors
/// The thread is gone (`ESRCH`).
pub fn io_priority(thread: u32) -> io::Result<u32> {
    const ONE: libc::c_long = 1;
    // SAFETY: plain numbers in and out.
    let value = unsafe { libc::syscall(libc::SYS_ioprio_get, ONE, libc::c_long::from(thread)) };
    u32::try_from(value).map_err(|_| io::Error::last_os_error())
}

/// Sets the I/O priority of a thread (ioprio_set(2)).
///
/// # Errors
/// The thread is gone (`ESRCH`) or another user's (`EPERM`).
pub fn set_io_priority(thread: u32, value: u32) -> io::Result<()> {
    const ONE: libc::c_long = 1;
    // SAFETY: plain numbers in and out.
    let status =
        unsafe { libc::syscall(libc::SYS_ioprio_set, ONE, libc::c_long::from(thread), libc::c_long::from(value)) };
    if status == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
}

/// Waits uninterruptibly in the kernel for that time, as a process on a disk that does not answer does: only being
/// killed ends it (clone(2), CLONE_VFORK). For an offender that is to be stuck.
///
/// # Errors
/// No process can be started.
pub fn wait_in_kernel(length: Duration) -> io::Result<()> {
    extern "C" fn child(length: *mut libc::c_void) -> libc::c_int {
        // SAFETY: `length` points to a value of that type in this process's own copy of the memory; the calls are
        // allowed after a fork.
        unsafe {
            let length = &*length.cast::<libc::timespec>();
            libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL);
            libc::nanosleep(length, std::ptr::null_mut());
        }
        0
    }
    const STACK: usize = 64 * 1024;
    let mut stack = vec![0_u128; STACK / 16];
    let mut time = libc::timespec { tv_sec: length.as_secs().cast_signed(), tv_nsec: length.subsec_nanos().into() };
    let flags = libc::CLONE_VFORK | libc::SIGCHLD;
    // SAFETY: the child has memory of its own (no CLONE_VM) and runs on a stack of its own, which grows downwards from
    // its end; that, and what it is given, live until it has ended, since CLONE_VFORK waits for that.
    let pid = unsafe {
        let top = stack.as_mut_ptr().add(stack.len());
        libc::clone(child, top.cast(), flags, (&raw mut time).cast())
    };
    if pid < 0 {
        return Err(io::Error::last_os_error());
    }
    // SAFETY: no memory is handed over; the child is our own and not collected yet.
    unsafe { libc::waitpid(pid, std::ptr::null_mut(), 0) };
    Ok(())
}

/// What the kernel tells of a process by a handle, as far as it is asked: `struct pidfd_info` of linux/pidfd.h.
#[repr(C)]
#[derive(Default)]
struct Told {
    mask: u64,
    group: u64,
    pid: [u32; 3],
    /// Of the user and the group, real, effective, saved and for files.
    ids: [u32; 8],
    exit: i32,
}

/// The user who started a process, by a handle of it (`PIDFD_GET_INFO`, since Linux 6.13).
///
/// # Errors
/// The kernel has no such call (`ENOTTY`), or the process is gone (`ESRCH`).
pub(crate) fn started_by(handle: BorrowedFd<'_>) -> io::Result<u32> {
    const OF_USERS: u64 = 1 << 1;
    const CALL: libc::Ioctl = libc::_IOWR::<Told>(0xff, 11);
    let mut told = Told { mask: OF_USERS, ..Told::default() };
    // SAFETY: `told` is a valid place for the structure of that size that the call names; it keeps no pointer.
    if unsafe { libc::ioctl(handle.as_raw_fd(), CALL, &raw mut told) } != 0 {
        return Err(io::Error::last_os_error());
    }
    if told.mask & OF_USERS != 0 { Ok(told.ids[0]) } else { Err(io::ErrorKind::Unsupported.into()) }
}

/// Has all threads share one heap (mallopt(3), `M_ARENA_MAX`): each that has its own keeps what it ever took.
pub fn share_one_heap() {
    // SAFETY: it is only a setting, and takes no memory of ours.
    #[cfg(target_env = "gnu")]
    unsafe {
        libc::mallopt(libc::M_ARENA_MAX, 1);
    }
}

/// Gives back what the heap has free (malloc_trim(3)): a start takes more than what runs on.
pub fn give_back_heap() {
    // SAFETY: it only gives back what nobody has.
    #[cfg(target_env = "gnu")]
    unsafe {
        libc::malloc_trim(0);
    }
}

/// Lets go of the memory that holds code and constants, the program's own and its libraries': what is run from now on the kernel maps
/// again from the files, and the rest is not needed any more (madvise(2), `MADV_DONTNEED`).
///
/// # Errors
/// It is locked in memory (`EINVAL`), or where it is cannot be read.
pub fn let_go_of_code() -> io::Result<()> {
    let maps = std::fs::read_to_string("/proc/self/maps")?;
    let mut before = "";
    for line in maps.lines() {
        let Some((range, file)) = unwritten(line, before) else { continue };
        before = file;
        // SAFETY: nobody can have written to a mapping of code or of constants, which is not writable: what is mapped again is what
        // was there.
        if unsafe { libc::madvise(range.start as *mut libc::c_void, range.len(), libc::MADV_DONTNEED) } != 0 {
            return Err(io::Error::last_os_error());
        }
    }
    Ok(())
}

/// The addresses of a line of `/proc/self/maps` (proc_pid_maps(5)), and its file, where it is code of it or its constants: those are the
/// first that is mapped of a file. What is read-only behind the code can have been written when the program was loaded.
fn unwritten<'l>(line: &'l str, before: &str) -> Option<(Range<usize>, &'l str)> {
    let (range, rest) = line.split_once(' ')?;
    let (from, to) = range.split_once('-')?;
    let range = usize::from_str_radix(from, 16).ok()?..usize::from_str_radix(to, 16).ok()?;
    let file = &rest[rest.find('/')?..];
    let is_first = rest.starts_with("r--p 00000000 ") && file != before;
    (rest.starts_with("r-xp ") || is_first).then_some((range, file))
}

#[cfg(test)]
mod tests {
    use std::os::fd::AsFd;

    #[test]
    fn our_own_clock_moves() {
        let pid = std::process::id();
        let before = super::process_cpu_time(pid).unwrap();
        let mut sum = 0u64;
        while super::process_cpu_time(pid).unwrap() == before {
            sum = std::hint::black_box(sum + 1);
        }
        assert!(super::process_cpu_time(4_000_000_000 >> 8).is_err());
    }

    #[test]
    fn who_started_us_is_told_as_the_status_tells_it() {
        let own = rustix::process::getpid();
        let handle = rustix::process::pidfd_open(own, rustix::process::PidfdFlags::empty()).unwrap();
        let status = std::fs::read("/proc/self/status").unwrap();
        match super::started_by(handle.as_fd()) {
            Ok(uid) => assert_eq!(Some(uid), crate::proc::status::parse_person(&status)),
            // An older kernel.
            Err(error) => assert_eq!(error.raw_os_error(), Some(libc::ENOTTY)),
        }
    }
}
