//! What is done to processes: the order, and what came of it. Rules, hands, what is taken back and what is mended at a start
//! speak of acts in these words alone; who carries them out is elsewhere.

mod levers;
mod originals;
mod outcome;
mod reach;
mod words;

use std::fmt;
use std::time::Duration;

pub use levers::{Lever, Lowering, Moved, Only, Restoring};
pub use originals::{Originals, UnitWeight};
pub use outcome::{Ending, Outcome, Standstill};
pub use reach::{Confined, Reach};
pub use words::{Came, Verb};

use crate::model::{Process, ProcessId};
use crate::rules::Action;
use crate::sorted::SortedMap;
use crate::units::exact_duration;

/// What is done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Act {
    /// Make it milder to others.
    Lower {
        /// The niceness to set where it is lower.
        nice: i32,
        /// By which levers.
        only: Only,
    },
    /// Suspend every thread for that long.
    Suspend {
        /// How long.
        length: Duration,
    },
    /// Let it go on.
    Resume,
    /// Have its unit started anew.
    Restart,
    /// Ask it to end; end it by force only after that time, if one is given.
    Terminate {
        /// How long the polite signal is given.
        force_after: Option<Duration>,
    },
    /// Take a lowering back.
    Restore {
        /// What we set; a thread that has another value now was changed by someone else.
        set: i32,
        /// What the threads had.
        originals: Originals,
        /// The niceness that somebody else still wants.
        still: Option<i32>,
    },
}

impl Act {
    /// Its word.
    pub fn verb(&self) -> Verb {
        match self {
            Act::Lower { .. } => Verb::Lower,
            Act::Suspend { .. } => Verb::Suspend,
            Act::Resume => Verb::Resume,
            Act::Restart => Verb::Restart,
            Act::Terminate { .. } => Verb::Terminate,
            Act::Restore { .. } => Verb::Restore,
        }
    }

    /// What a step of a ladder does to a process; none for one that does nothing to it.
    pub(crate) fn of_step(action: Action) -> Option<Act> {
        Some(match action {
            Action::Alert | Action::Run => return None,
            Action::Lower { nice } => Act::Lower { nice, only: Only::Both },
            Action::Suspend { length } => Act::Suspend { length },
            Action::Restart => Act::Restart,
            Action::Terminate { force_after } => Act::Terminate { force_after },
        })
    }

    /// Whether it takes back what was done before.
    pub fn is_undo(&self) -> bool {
        matches!(self, Act::Resume | Act::Restore { .. })
    }

    /// Whether others could be hurt by it who depend on what the process does for them.
    pub fn stands_in_the_way(&self) -> bool {
        matches!(self, Act::Suspend { .. } | Act::Restart | Act::Terminate { .. })
    }
}

impl fmt::Display for Act {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Act::Lower { nice, only: Only::Both | Only::Cpu } => write!(f, "lower to nice {nice}"),
            Act::Lower { only: Only::Disk, .. } => f.write_str("lower the disk"),
            Act::Suspend { length } => write!(f, "suspend for {}", exact_duration(*length)),
            Act::Resume | Act::Restore { .. } => write!(f, "{}", self.verb()),
            Act::Restart => f.write_str("restart the unit"),
            Act::Terminate { force_after: None } => f.write_str("terminate"),
            Act::Terminate { force_after: Some(wait) } => {
                write!(f, "terminate, by force after {}", exact_duration(*wait))
            }
        }
    }
}

/// What is to be done, and to whom.
#[derive(Debug, Clone, PartialEq)]
pub struct Order {
    /// What.
    pub act: Act,
    /// To whom, as they were judged: one, or several as one. Never empty.
    pub targets: Vec<Process>,
    /// Where all that descend from them are meant as well.
    pub whole: Option<Whole>,
    /// How far a lowering may reach beyond niceness.
    pub reach: Reach,
    /// Who else is of the unit that is started anew.
    pub mates: Vec<Process>,
    /// Whether who does something for others is spared: a hand may insist.
    pub heeds_roles: bool,
    /// The user who has asked for it himself: a unit of his own manager's is started anew as him.
    pub on_behalf_of: Option<u32>,
}

/// A tree that is meant whole.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Whole {
    /// Whom that spares, with all below them, by PID, and why.
    pub spared: SortedMap<u32, String>,
    /// Its members as they were judged, each behind the one that it descends from, by PID.
    pub members: Vec<(ProcessId, u32)>,
}

impl Order {
    /// On one process of those, where `meant` says who else is meant: how far a lowering may reach, and who is of its unit.
    pub fn among(processes: &[Process], process: &Process, act: Act, meant: impl Fn(&Process) -> bool) -> Order {
        let (reach, mates) = match act {
            Act::Lower { .. } => (Reach::of(processes, process, meant), Vec::new()),
            Act::Restart => {
                let mates = processes.iter().filter(|other| other.group == process.group);
                (Reach::default(), mates.cloned().collect())
            }
            _ => (Reach::default(), Vec::new()),
        };
        Order { reach, mates, ..Order::on(process.clone(), act) }
    }

    /// On one process, and nobody else.
    pub fn on(process: Process, act: Act) -> Order {
        let (whole, mates) = (None, Vec::new());
        Order {
            act,
            targets: vec![process],
            whole,
            reach: Reach::default(),
            mates,
            heeds_roles: true,
            on_behalf_of: None,
        }
    }
}

/// Whether it is still that very process, and that user's.
///
/// # Errors
/// Why it is not.
pub fn same(meant: &Process, found: &Process) -> Result<(), String> {
    if found.id != meant.id || found.has_ended() {
        return Err("it has ended meanwhile".to_owned());
    }
    if found.uid != meant.uid {
        return Err(format!("its owner is {} now", found.owner));
    }
    Ok(())
}
