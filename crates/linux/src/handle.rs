//! A process fixed by a handle from the kernel: whoever gets the PID later is never touched.

use std::fs;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::LazyLock;
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fs::{Mode, OFlags};
use rustix::process::{Pid, PidfdFlags, Signal, pidfd_open, pidfd_send_signal};
use sophron_core::act::Outcome;
use sophron_core::model::{Boot, ProcessId};
use sophron_core::state::State;
use sophron_core::text::with_causes;

use crate::proc::stat;
use crate::sys;
use crate::{exec, here};

/// Why a process could not be fixed.
#[derive(Debug, thiserror::Error)]
pub enum HandleError {
    /// No process has that PID.
    #[error("process {0} is gone")]
    Gone(u32),
    /// Another process has that PID now.
    #[error(
        "PID {pid} belongs to another process now: that one started at tick {found}, the one meant at tick {meant}"
    )]
    Another {
        /// The PID.
        pid: u32,
        /// The start time of the process meant, clock ticks since boot.
        meant: u64,
        /// The start time of the process found.
        found: u64,
    },
    /// The numbers of processes in /proc are not those of our system calls.
    #[error("/proc shows the processes of another PID namespace, where {0} is another process's number")]
    Foreign(u32),
    /// The kernel gave no handle.
    #[error("no handle for process {pid}")]
    Denied {
        /// The PID.
        pid: u32,
        /// Why.
        #[source]
        source: io::Error,
    },
}

impl HandleError {
    /// Whether the process is gone: anything else says nothing about it.
    pub fn is_gone(&self) -> bool {
        matches!(self, HandleError::Gone(_) | HandleError::Another { .. })
    }
}

impl From<&HandleError> for Outcome {
    fn from(error: &HandleError) -> Outcome {
        if error.is_gone() { Outcome::Gone } else { Outcome::Refused(with_causes(error)) }
    }
}

/// A process fixed by its pidfd (pidfd_open(2)), its start time compared.
#[derive(Debug)]
pub struct Handle {
    fd: OwnedFd,
    id: ProcessId,
}

impl Handle {
    /// Fixes the process: the handle first, then the start time is read again and compared. If the PID was reused
    /// before the handle was taken, the start time differs; if it is reused later, the handle refers to nobody.
    ///
    /// # Errors
    /// It is gone, it is another one, or the kernel refuses.
    pub fn open(id: &ProcessId) -> Result<Handle, HandleError> {
        if !here::proc_is_ours() {
            return Err(HandleError::Foreign(id.pid));
        }
        let pid = Pid::from_raw(id.pid.cast_signed()).ok_or(HandleError::Gone(id.pid))?;
        let fd = pidfd_open(pid, PidfdFlags::empty()).map_err(|error| match error {
            rustix::io::Errno::SRCH => HandleError::Gone(id.pid),
            // A thread's ID is no process.
            rustix::io::Errno::INVAL | rustix::io::Errno::NOENT => HandleError::Gone(id.pid),
            other => HandleError::Denied { pid: id.pid, source: other.into() },
        })?;
        let line = exec::read(id.pid, "stat").map_err(|error| match error.raw_os_error() {
            Some(libc::ENOENT | libc::ESRCH) => HandleError::Gone(id.pid),
            _ => HandleError::Denied { pid: id.pid, source: error },
        })?;
        let found = stat::parse(&line).map(|stat| stat.start).ok_or(HandleError::Gone(id.pid))?;
        if found != id.start {
            return Err(HandleError::Another { pid: id.pid, meant: id.start, found });
        }
        Ok(Handle { fd, id: *id })
    }

    /// Fixes whoever has that number now, while nobody can say when he started, since he is in the middle of an exec: who he is has to be
    /// told by something that holds after this. His start is given as 0.
    ///
    /// # Errors
    /// He is gone, or the kernel refuses.
    pub(crate) fn of_number(pid: u32, boot: Boot) -> io::Result<Handle> {
        let number = Pid::from_raw(pid.cast_signed()).ok_or(io::ErrorKind::NotFound)?;
        Ok(Handle { fd: pidfd_open(number, PidfdFlags::empty())?, id: ProcessId { pid, start: 0, boot } })
    }

    /// Whom it fixes.
    pub fn id(&self) -> ProcessId {
        self.id
    }

    /// Sends a signal through the handle (pidfd_send_signal(2)).
    ///
    /// # Errors
    /// `ESRCH` when it has ended, `EPERM` when it is not ours to signal.
    pub fn signal(&self, signal: Signal) -> io::Result<()> {
        pidfd_send_signal(&self.fd, signal).map_err(io::Error::from)
    }

    /// Waits until the process has ended, at most that long.
    ///
    /// # Errors
    /// As poll(2).
    pub fn wait_for_end(&self, at_most: Duration) -> io::Result<bool> {
        let timeout = Timespec { tv_sec: at_most.as_secs().cast_signed(), tv_nsec: at_most.subsec_nanos().into() };
        let mut fds = [PollFd::new(&self.fd, PollFlags::IN)];
        loop {
            match poll(&mut fds, Some(&timeout)) {
                Ok(ready) => return Ok(ready > 0),
                Err(rustix::io::Errno::INTR) => {}
                Err(error) => return Err(error.into()),
            }
        }
    }

    /// Whether the process has ended.
    pub fn has_ended(&self) -> bool {
        // What cannot be asked has not ended.
        self.wait_for_end(Duration::ZERO).unwrap_or(false)
    }

    /// Its threads, as they are now.
    ///
    /// # Errors
    /// It is gone, or one of its threads cannot be read now: then nothing is known of all of them.
    pub fn threads(&self) -> io::Result<Vec<Thread>> {
        exec::gate(self.id.pid)?;
        let folder = format!("/proc/{}/task", self.id.pid);
        let mut threads = Vec::new();
        for entry in fs::read_dir(folder)? {
            let entry = entry?;
            let Some(id) = entry.file_name().to_str().and_then(|name| name.parse().ok()) else { continue };
            let line = match fs::read(entry.path().join("stat")) {
                Ok(line) => line,
                // A thread that ends midway is no thread to report.
                Err(error) if is_gone(&error) => continue,
                Err(error) => return Err(error),
            };
            if let Some(stat) = stat::parse(&line) {
                threads.push(Thread { id, nice: stat.nice, state: State::from_letter(stat.state) });
            }
        }
        if self.has_ended() { Err(io::Error::from(io::ErrorKind::NotFound)) } else { Ok(threads) }
    }

    /// Sets something of a thread by its number, which may be another's by the time it is set: the thread is held by its folder
    /// in /proc, which tells nothing of anybody else, and asked after the act whether it was there. If it was not, what was
    /// changed is put back.
    ///
    /// # Errors
    /// `ESRCH` when the thread has ended; else as setting it.
    pub(crate) fn on_thread<T: PartialEq + Copy>(
        &self,
        thread: u32,
        get: impl FnOnce() -> io::Result<T>,
        set: impl Fn(T) -> io::Result<()>,
        value: T,
    ) -> io::Result<()> {
        let ended = || io::Error::from_raw_os_error(libc::ESRCH);
        let path = format!("/proc/{}/task/{thread}", self.id.pid);
        let folder = fs::File::open(path).map_err(|error| if is_gone(&error) { ended() } else { error })?;
        let lives = || {
            let stat = rustix::fs::openat(&folder, "stat", OFlags::RDONLY | OFlags::CLOEXEC, Mode::empty());
            stat.is_ok_and(|stat| rustix::io::read(stat, &mut [0; 16]).is_ok())
        };
        let before = get()?;
        set(value)?;
        if lives() {
            return Ok(());
        }
        if before != value {
            // Whoever it was: it has what it had. Who may not put it back could not have set it for another.
            let _ = set(before);
        }
        Err(ended())
    }
}

impl AsFd for Handle {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.fd.as_fd()
    }
}

/// One thread.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Thread {
    /// The thread ID.
    pub id: u32,
    /// Its niceness.
    pub nice: i32,
    /// What it is doing.
    pub state: State,
}

/// Whether a file of /proc could not be read because whom it tells of is gone: anything else says nothing about him.
pub(crate) fn is_gone(error: &io::Error) -> bool {
    error.kind() == io::ErrorKind::NotFound || error.raw_os_error() == Some(libc::ESRCH)
}

/// Whether an error is for want of descriptors or memory, or since the process is starting another program, and so says nothing about whom it was asked of.
pub(crate) fn is_in_need(error: &io::Error) -> bool {
    let number = error.raw_os_error();
    exec::is_busy(error)
        || matches!(number, Some(libc::EMFILE | libc::ENFILE | libc::ENOMEM | libc::EAGAIN | libc::EINTR))
}

/// The user who started a process, whom `status` names first at `Uid`; `None` where the kernel does not tell that by a handle (before
/// Linux 6.13), and of whom is gone.
pub(crate) fn started_by(pid: u32) -> Option<u32> {
    static TELLS: LazyLock<bool> = LazyLock::new(|| by_handle(std::process::id()).is_some());
    fn by_handle(pid: u32) -> Option<u32> {
        let handle = pidfd_open(Pid::from_raw(pid.cast_signed())?, PidfdFlags::empty()).ok()?;
        sys::started_by(handle.as_fd()).ok()
    }
    if *TELLS { by_handle(pid) } else { None }
}

/// When the process of that PID was started, clock ticks since boot; `None` when there is none.
pub(crate) fn start_time(pid: u32) -> Option<u64> {
    started(pid).ok()
}

/// The same, and why it is not known.
pub(crate) fn started(pid: u32) -> io::Result<u64> {
    let line = exec::read(pid, "stat")?;
    stat::parse(&line).map(|stat| stat.start).ok_or_else(|| io::ErrorKind::InvalidData.into())
}
