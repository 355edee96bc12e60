//! One process as one sample shows it.

use std::time::Duration;

use super::ProcessId;

/// What a process is doing, in whole words (`/proc/PID/stat` field 3, proc_pid_stat(5)).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum State {
    /// On a core or ready for one (R).
    Running,
    /// Waiting, and can be woken (S).
    Sleeping,
    /// Waiting uninterruptibly, mostly for a disk (D).
    Waiting,
    /// Suspended by a signal (T).
    Suspended,
    /// Held by a debugger (t).
    Traced,
    /// Ended, its parent has not collected it (Z, X).
    Zombie,
    /// An idle kernel thread (I).
    Idle,
}

impl State {
    /// Every state.
    pub const ALL: [State; 7] =
        [State::Running, State::Sleeping, State::Waiting, State::Suspended, State::Traced, State::Zombie, State::Idle];

    /// The state of a letter of `/proc/PID/stat`; a letter this program does not know counts as sleeping.
    pub fn from_letter(letter: u8) -> State {
        match letter {
            b'R' => State::Running,
            b'D' => State::Waiting,
            b'T' => State::Suspended,
            b't' => State::Traced,
            b'Z' | b'X' | b'x' => State::Zombie,
            b'I' => State::Idle,
            _ => State::Sleeping,
        }
    }

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            State::Running => "running",
            State::Sleeping => "sleeping",
            State::Waiting => "waiting",
            State::Suspended => "suspended",
            State::Traced => "traced",
            State::Zombie => "zombie",
            State::Idle => "idle",
        }
    }
}

/// One process. Texts are already made harmless ([`crate::text::clean`]); `None` is a reading that could not be had.
#[derive(Debug, Clone, PartialEq)]
pub struct Process {
    /// PID, start time and boot.
    pub id: ProcessId,
    /// The parent's PID (`stat` field 4); 0 for none.
    pub parent: u32,
    /// The kernel's short name (`stat` field 2), at most 15 bytes, settable by the process itself.
    pub name: String,
    /// The program as a person would call it.
    pub app: String,
    /// Whether `app` is proven: read from a `path` that is itself proven. Otherwise it is the process's own claim.
    pub app_proven: bool,
    /// The file it runs (`/proc/PID/exe`), without ` (deleted)`.
    pub path: Option<String>,
    /// Whether that path in our own view is the very same file.
    pub path_proven: bool,
    /// Whether the file was replaced or removed since the process started.
    pub replaced: bool,
    /// The command line (`/proc/PID/cmdline`), secrets masked.
    pub command: Option<String>,
    /// The user ID it runs as (owner of `/proc/PID`).
    pub uid: u32,
    /// That user's name, or the number where it has none.
    pub owner: String,
    /// What it is doing.
    pub state: State,
    /// Whether it is a kernel thread (`stat` field 9, flag 0x00200000).
    pub kernel: bool,
    /// CPU used since the last sample, percent of one core. `None` at a first sample.
    pub cpu: Option<f64>,
    /// CPU time used since the start, all threads.
    pub cpu_time: Duration,
    /// Resident memory, bytes (`statm` field 2).
    pub memory: Option<u64>,
    /// Anonymous, shared resident and swapped memory, bytes (`status` RssAnon + RssShmem + VmSwap): what a leak holds.
    pub memory_held: Option<u64>,
    /// Swapped-out memory, bytes (`status` VmSwap).
    pub memory_swapped: Option<u64>,
    /// Threads (`stat` field 20).
    pub threads: u32,
    /// Niceness of the main thread (`stat` field 19): higher is milder to others.
    pub nice: i32,
    /// Time since the start, naps of the machine included (CLOCK_BOOTTIME minus `stat` field 22).
    pub age: Duration,
}

impl Process {
    /// Ended, and only waiting to be collected: a zombie whose last thread is gone.
    pub fn has_ended(&self) -> bool {
        self.state == State::Zombie && self.threads <= 1
    }

    /// `labelpress 51907-kqm (ines)`: how a process is named in every line for people.
    pub fn label(&self) -> String {
        format!("{} {} ({})", self.app, self.id.checked(), self.owner)
    }
}
