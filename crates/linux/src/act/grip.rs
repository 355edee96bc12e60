//! What the actuator holds a process by: its handle, or in tests a stand-in whose kernel does as it is told.

use std::io;
use std::time::Duration;

use rustix::process::{Pid, Signal, getpriority_process, setpriority_process};
use sophron_core::model::ProcessId;

use crate::handle::{Handle, Thread};
use crate::{here, sys};

/// Everything that is asked of the kernel, and done to a process, in an act.
pub trait Grip {
    /// Whom it holds.
    fn id(&self) -> ProcessId;
    /// Sends a signal (pidfd_send_signal(2)).
    ///
    /// # Errors
    /// `ESRCH` when it has ended, `EPERM` when it is not ours to signal.
    fn signal(&self, signal: Signal) -> io::Result<()>;
    /// Waits until it has ended, at most that long.
    ///
    /// # Errors
    /// As poll(2).
    fn wait_for_end(&self, at_most: Duration) -> io::Result<bool>;
    /// Whether it has ended.
    fn has_ended(&self) -> bool;
    /// Its threads.
    ///
    /// # Errors
    /// It is gone.
    fn threads(&self) -> io::Result<Vec<Thread>>;
    /// Sets a thread's niceness (setpriority(2)), which takes no handle.
    ///
    /// # Errors
    /// `ESRCH` when it has ended, `EPERM` and `EACCES` when it is not ours to set.
    fn set_nice(&self, thread: u32, nice: i32) -> io::Result<()>;
    /// A thread's I/O priority.
    ///
    /// # Errors
    /// `ESRCH` when it has ended.
    fn io_priority(&self, thread: u32) -> io::Result<u32>;
    /// Sets it.
    ///
    /// # Errors
    /// `ESRCH` when it has ended, `EPERM` when it is not ours to set.
    fn set_io_priority(&self, thread: u32, value: u32) -> io::Result<()>;
    /// Time that only runs on.
    fn clock(&self) -> Duration;
    /// Lets time pass between two looks.
    fn pause(&self, time: Duration);
}

impl Grip for Handle {
    fn id(&self) -> ProcessId {
        Handle::id(self)
    }

    fn signal(&self, signal: Signal) -> io::Result<()> {
        Handle::signal(self, signal)
    }

    fn wait_for_end(&self, at_most: Duration) -> io::Result<bool> {
        Handle::wait_for_end(self, at_most)
    }

    fn has_ended(&self) -> bool {
        Handle::has_ended(self)
    }

    fn threads(&self) -> io::Result<Vec<Thread>> {
        Handle::threads(self)
    }

    fn set_nice(&self, thread: u32, nice: i32) -> io::Result<()> {
        let number = Pid::from_raw(thread.cast_signed()).ok_or(io::ErrorKind::NotFound)?;
        let get = || Ok(getpriority_process(Some(number))?);
        self.on_thread(thread, get, |nice| Ok(setpriority_process(Some(number), nice)?), nice)
    }

    fn io_priority(&self, thread: u32) -> io::Result<u32> {
        sys::io_priority(thread)
    }

    fn set_io_priority(&self, thread: u32, value: u32) -> io::Result<()> {
        self.on_thread(thread, || sys::io_priority(thread), |value| sys::set_io_priority(thread, value), value)
    }

    fn clock(&self) -> Duration {
        here::monotonic()
    }

    fn pause(&self, time: Duration) {
        std::thread::sleep(time);
    }
}
