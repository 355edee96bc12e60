//! What a process is doing.

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
    /// Held with its whole control group (cgroup.events).
    Frozen,
    /// Held by a debugger (t).
    Traced,
    /// Ended, its parent has not collected it (Z, X).
    Zombie,
    /// An idle kernel thread (I).
    Idle,
}

impl State {
    /// Every state.
    pub const ALL: [State; 8] = [
        State::Running,
        State::Sleeping,
        State::Waiting,
        State::Suspended,
        State::Frozen,
        State::Traced,
        State::Zombie,
        State::Idle,
    ];

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
            State::Frozen => "frozen",
            State::Traced => "traced",
            State::Zombie => "zombie",
            State::Idle => "idle",
        }
    }
}
