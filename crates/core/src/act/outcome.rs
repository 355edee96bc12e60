//! What came of an act: one value, one word and one wording for it, whoever ordered it.

use std::time::Duration;

use jiff::Timestamp;

use super::levers::milliseconds;
use super::{Came, Lowering, Restoring};
use crate::sorted::SortedMap;
use crate::units::scaled_duration;

/// What came of an act.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outcome {
    /// It is milder than before.
    Lowered(Box<Lowering>),
    /// A lowering that another case holds already: this one holds it as well.
    Joined {
        /// The niceness in force.
        nice: i32,
    },
    /// It stands still.
    Suspended(Standstill),
    /// It goes on; `None` where some threads still stand.
    Resumed(Option<Duration>),
    /// It has ended.
    Ended(Ending),
    /// It did not answer the polite signal, and no force was asked for. Of a tree: how many are left.
    StillThere(Option<Ending>),
    /// It was asked to end, and the force that was to follow was called off: why. Of a tree: how many are left.
    CalledOff(String, Option<Ending>),
    /// The signal is pending: it waits in the kernel. Of a tree: how many are left.
    PendingInTheKernel(Option<Ending>),
    /// The signal is pending: its control group is frozen.
    PendingFrozen,
    /// Its unit is active again.
    Restarted {
        /// The unit.
        unit: String,
        /// Its main process now.
        main: Option<u32>,
        /// How long it took.
        took: Duration,
    },
    /// A lowering was taken back.
    Restored(Restoring),
    /// Nothing of it was taken back: somebody else has changed it since.
    ChangedSince,
    /// There was nothing to resume.
    NotSuspended,
    /// A program was run, and ended well: what it said.
    Ran(String),
    /// It had ended before.
    Gone,
    /// Nothing was done: it was not possible.
    Refused(String),
    /// Nothing was done: it was no longer right.
    Dropped(String),
    /// Nothing was done: it could not be recorded.
    Unrecorded(String),
    /// It was begun and did not succeed, or what was done is not known.
    Failed(String),
    /// The same program is there again after it was ended: as what.
    CameBack(String),
    /// Whoever announced it, in that record, ended before he could tell; what is found now.
    Untold {
        /// The number of the record.
        record: u64,
        /// What has become of the process.
        found: String,
    },
}

/// A process, or several, that stand still.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Standstill {
    /// How long it took; `None` where some threads wait in the kernel and stand still when they come back.
    pub took: Option<Duration>,
    /// Until when, on the monotonic clock.
    pub until: Duration,
    /// The same on the wall clock.
    pub over: Timestamp,
    /// Whether others may come to wait for a file lock that it holds.
    pub holds_locks: bool,
    /// How many more they had started meanwhile, which stand still with them.
    pub more: usize,
}

/// How it ended.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Ending {
    /// How long it took.
    pub took: Duration,
    /// Whether it took force.
    pub forced: bool,
    /// With how many others of its tree, itself included; 0 where no tree was meant.
    pub tree: usize,
    /// How many of them are left.
    pub left: usize,
    /// Whom of the tree it has left alone, by PID, and why.
    pub spared: SortedMap<u32, String>,
}

impl Outcome {
    /// Whoever was at it ended midway.
    pub fn unfinished() -> Outcome {
        Outcome::Failed("whoever was at it ended midway: what was done is not known".to_owned())
    }

    /// Its word, in the record and in every line.
    pub fn came(&self) -> Came {
        match self {
            Outcome::Lowered(_) | Outcome::Joined { .. } => Came::Lowered,
            Outcome::Suspended(_) => Came::Suspended,
            Outcome::Resumed(_) => Came::Resumed,
            Outcome::Ended(ending) if ending.forced => Came::EndedByForce,
            Outcome::Ended(_) => Came::Ended,
            Outcome::StillThere(_) | Outcome::CalledOff(..) => Came::StillThere,
            Outcome::PendingInTheKernel(_) => Came::PendingInTheKernel,
            Outcome::PendingFrozen => Came::PendingFrozen,
            Outcome::Restarted { .. } => Came::Restarted,
            Outcome::Restored(_) => Came::Restored,
            Outcome::ChangedSince | Outcome::NotSuspended => Came::Kept,
            Outcome::Ran(_) => Came::Ran,
            Outcome::Gone => Came::AlreadyGone,
            Outcome::Refused(_) => Came::Refused,
            Outcome::Dropped(_) | Outcome::Unrecorded(_) => Came::Dropped,
            Outcome::Failed(_) => Came::Failed,
            Outcome::Untold { .. } => Came::Unknown,
            Outcome::CameBack(_) => Came::CameBack,
        }
    }

    /// What was seen afterwards, for people.
    pub fn seen(&self) -> String {
        match self {
            Outcome::Lowered(lowering) => lowering.seen(),
            Outcome::Joined { nice } => format!("nice {nice} already, for another case"),
            Outcome::Suspended(Standstill { took: Some(took), .. }) => {
                format!("every thread, in {}", milliseconds(*took))
            }
            Outcome::Suspended(_) => "some threads wait in the kernel and stand still when they come back".to_owned(),
            Outcome::Resumed(Some(took)) => format!("every thread, in {}", milliseconds(*took)),
            Outcome::Resumed(None) => "some threads still stand: they wait in the kernel, or are traced".to_owned(),
            Outcome::Ended(ending) => ending.seen(),
            Outcome::StillThere(of_tree) => {
                format!("it does not answer the polite signal, and no force was asked for{}", rest(of_tree.as_ref()))
            }
            Outcome::CalledOff(why, of_tree) => {
                format!("it was asked to end, and the force to follow was called off: {why}{}", rest(of_tree.as_ref()))
            }
            Outcome::PendingInTheKernel(of_tree) => {
                format!("it waits in the kernel, and ends when it comes back{}", rest(of_tree.as_ref()))
            }
            Outcome::PendingFrozen => "its control group is frozen: it goes on when that is thawed".to_owned(),
            Outcome::Restarted { unit, main, took } => {
                let main = main.map(|pid| format!(" as process {pid}")).unwrap_or_default();
                format!("the unit {unit} is active again{main}, in {}", scaled_duration(*took))
            }
            Outcome::Restored(restoring) => restoring.seen(),
            Outcome::ChangedSince => "left as it is: somebody else has changed it since".to_owned(),
            Outcome::NotSuspended => "it was not suspended".to_owned(),
            Outcome::Gone => "it had ended already".to_owned(),
            Outcome::Unrecorded(why) => format!("no record, no action: {why}"),
            Outcome::Untold { record, found } => {
                format!("its writer ended before it could tell (record {record}); found: {found}")
            }
            Outcome::Ran(seen) | Outcome::CameBack(seen) => seen.clone(),
            Outcome::Refused(why) | Outcome::Dropped(why) | Outcome::Failed(why) => why.clone(),
        }
    }

    /// Whether something was in the way, and nothing was done: the step stays due.
    pub fn is_hindered(&self) -> bool {
        matches!(self, Outcome::Refused(_) | Outcome::Dropped(_))
    }

    /// Whether it is what was wanted.
    pub fn is_success(&self) -> bool {
        match self {
            Outcome::Lowered(lowering) => lowering.complete,
            Outcome::Resumed(took) => took.is_some(),
            Outcome::Joined { .. }
            | Outcome::Suspended(_)
            | Outcome::Ended(_)
            | Outcome::Restarted { .. }
            | Outcome::Restored(_)
            | Outcome::ChangedSince
            | Outcome::NotSuspended
            | Outcome::Ran(_)
            | Outcome::Gone => true,
            Outcome::StillThere(_)
            | Outcome::CalledOff(..)
            | Outcome::PendingInTheKernel(_)
            | Outcome::PendingFrozen
            | Outcome::Refused(_)
            | Outcome::Dropped(_)
            | Outcome::Unrecorded(_)
            | Outcome::Failed(_)
            | Outcome::Untold { .. }
            | Outcome::CameBack(_) => false,
        }
    }

    /// Whether something was done that closing the case has to undo.
    pub fn has_effect(&self) -> bool {
        matches!(self, Outcome::Lowered(_) | Outcome::Joined { .. } | Outcome::Suspended(_))
    }
}

impl Ending {
    fn seen(&self) -> String {
        let took = scaled_duration(self.took);
        let how = match self.forced {
            true => format!("after {took}: it did not answer the polite signal"),
            false => format!("in {took}"),
        };
        let with = if self.tree > 0 { format!(", with its tree of {}", self.tree) } else { String::new() };
        format!("{how}{with}{}", rest(Some(self)))
    }
}

/// Who is left of a tree, and whom it has left alone.
fn rest(of_tree: Option<&Ending>) -> String {
    let Some(ending) = of_tree else { return String::new() };
    let left = if ending.left > 0 { format!("; {} of its tree are left", ending.left) } else { String::new() };
    let one = |(pid, why): (&u32, &String)| format!("; process {pid} of it is left alone: {why}");
    let spared: String = ending.spared.iter().take(3).map(one).collect();
    format!("{left}{spared}")
}
