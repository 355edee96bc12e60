//! What a tick brings to the judge, and what it finds.

use jiff::tz::TimeZone;

use super::{Case, Closing};
use crate::model::ProcessId;
use crate::rules::RuleName;
use crate::sorted::SortedSet;
use crate::stand_back::StandsBack;

/// What one tick brings to the judge beside the sample.
#[derive(Debug, Clone, Copy)]
pub struct Tick<'a> {
    /// Processes on which a suspension of ours was in force at any time since the tick before.
    pub suspended: &'a SortedSet<ProcessId>,
    /// Processes on which an act of ours is under way: no step falls due on them.
    pub busy: &'a SortedSet<ProcessId>,
    /// PIDs of Sophron's own helpers: they are not judged, or each would bring forth the next.
    pub helpers: &'a SortedSet<u32>,
    /// If given, only these processes are judged.
    pub only: Option<&'a SortedSet<ProcessId>>,
    /// From whom rules stand back by somebody's word: their clocks stand still.
    pub back: &'a StandsBack,
    /// The zone that hours are meant in: the machine's, or a recording's own.
    pub zone: &'a TimeZone,
}

/// What stays in force in a case whose rule does something else now.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stays {
    /// The lowering, up to that niceness.
    pub nice: Option<i32>,
    /// Suspensions by steps before that one.
    pub before: usize,
    /// Whether steps that were taken are gone.
    pub less: bool,
}

/// What the judge found at a tick.
#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// A breach has begun to hold: its processes should be fixed by handles from now on.
    Building {
        /// Which rule.
        rule: RuleName,
        /// Its processes.
        members: Vec<ProcessId>,
    },
    /// The breach went away before a case opened.
    Abandoned {
        /// Which rule.
        rule: RuleName,
        /// Its processes, when it began.
        members: Vec<ProcessId>,
    },
    /// The breach held as long as `lasting`: a case is open.
    Opened {
        /// Its number.
        case: u64,
    },
    /// A step of the ladder is due, and the breach is true at this very tick.
    Due {
        /// The case.
        case: u64,
        /// The step, by its place in the ladder.
        step: usize,
    },
    /// The subject has begun to be calm.
    Easing {
        /// The case.
        case: u64,
    },
    /// It was easing, and breaches again: the ladder goes on at the same step.
    BreachedAgain {
        /// The case.
        case: u64,
    },
    /// The breach goes on, and it is time to tell people again.
    Remind {
        /// The case.
        case: u64,
    },
    /// The hours of the rule, or of a step taken, are over: whatever the case holds is to be undone. It stays open.
    HoursEnded {
        /// The case.
        case: u64,
    },
    /// The rule does something else from now on, and the case goes on: what steps have done that it has no more is to be
    /// undone.
    Revised {
        /// The case.
        case: u64,
        /// What stays in force.
        stays: Stays,
    },
    /// The case is over; whatever it holds is to be undone.
    Closed {
        /// The case as it was.
        case: Box<Case>,
        /// Why.
        why: Closing,
    },
}
