//! What is in force on which process, and which cases want it: undone when the last lets go.

use std::time::Duration;

use crate::act::{Act, Originals};
use crate::model::ProcessId;
use crate::sorted::{SortedMap, SortedSet};

/// A lowering in force.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lowered {
    /// The niceness that was set.
    pub nice: i32,
    /// What the threads had before the first lowering.
    pub originals: Originals,
    wants: SortedMap<u64, i32>,
}

/// A suspension in force.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Suspended {
    /// When it ends by itself, on the monotonic clock.
    pub until: Duration,
    wants: SortedSet<u64>,
}

#[derive(Debug, Clone, Default)]
struct Held {
    lower: Option<Lowered>,
    suspend: Option<Suspended>,
}

/// Whether there is something to take back though the process is gone: its unit's weight.
fn outlives_the_process(undo: &Act) -> bool {
    matches!(undo, Act::Restore { originals, .. } if originals.weight.is_some())
}

/// Every effect of ours that is in force.
#[derive(Debug, Clone, Default)]
pub struct Effects {
    held: SortedMap<ProcessId, Held>,
}

impl Effects {
    /// The niceness that we set on a process, while that is in force.
    pub fn lowered_to(&self, id: &ProcessId) -> Option<i32> {
        self.held.get(id)?.lower.as_ref().map(|lower| lower.nice)
    }

    /// The suspension of ours in force on a process.
    pub fn suspension(&self, id: &ProcessId) -> Option<&Suspended> {
        self.held.get(id)?.suspend.as_ref()
    }

    /// Every process that we hold suspended, with the end of its suspension.
    pub fn suspended(&self) -> impl Iterator<Item = (&ProcessId, &Suspended)> {
        self.held.iter().filter_map(|(id, held)| held.suspend.as_ref().map(|suspend| (id, suspend)))
    }

    /// The cases that hold something on a process.
    pub fn cases_of(&self, id: &ProcessId) -> SortedSet<u64> {
        let Some(held) = self.held.get(id) else { return SortedSet::new() };
        let lowered = held.lower.iter().flat_map(|lower| lower.wants.keys());
        let suspended = held.suspend.iter().flat_map(|suspend| &suspend.wants);
        lowered.chain(suspended).copied().collect()
    }

    /// The processes on which a case holds something.
    pub(crate) fn of_case(&self, case: u64) -> SortedSet<ProcessId> {
        self.held.keys().filter(|id| self.cases_of(id).contains(&case)).copied().collect()
    }

    /// Every process that something of ours is in force on.
    pub fn processes(&self) -> Vec<ProcessId> {
        self.held.keys().copied().collect()
    }

    /// A case joins a lowering: the greatest niceness wanted is the one in force. The originals are those of the first.
    pub fn lower(&mut self, id: ProcessId, case: u64, nice: i32, originals: Originals) {
        let held = self.held.entry(id).or_default();
        match &mut held.lower {
            Some(lower) => lower.originals.join(&originals),
            none => *none = Some(Lowered { nice, originals, wants: SortedMap::new() }),
        }
        let Some(lower) = &mut held.lower else { return };
        // A later, milder step of a case changes nothing: niceness only goes up.
        let wanted = lower.wants.entry(case).or_insert(nice);
        *wanted = nice.max(*wanted);
        lower.nice = lower.nice.max(nice);
    }

    /// A case joins a suspension: it lasts until the latest end wanted.
    pub fn suspend(&mut self, id: ProcessId, case: u64, until: Duration) {
        let held = self.held.entry(id).or_default();
        let suspend = held.suspend.get_or_insert(Suspended { until, wants: SortedSet::new() });
        suspend.wants.insert(case);
        suspend.until = suspend.until.max(until);
    }

    /// A case wants nothing of a process any more. What has to be done follows from who still wants what.
    #[must_use]
    pub fn let_go(&mut self, id: &ProcessId, case: u64) -> Vec<Act> {
        self.want_less(id, case, None, false)
    }

    /// A case wants no more of a process than a lowering to that niceness, and the suspension only where that `stays`.
    #[must_use]
    pub(crate) fn want_less(&mut self, id: &ProcessId, case: u64, nice: Option<i32>, stays: bool) -> Vec<Act> {
        let mut undo = Vec::new();
        let Some(held) = self.held.get_mut(id) else { return undo };
        if let Some(suspend) = held.suspend.as_mut().filter(|_| !stays)
            && suspend.wants.remove(&case)
            && suspend.wants.is_empty()
        {
            held.suspend = None;
            undo.push(Act::Resume);
        }
        if let Some(lower) = held.lower.as_mut()
            && lower.wants.get(&case).is_some_and(|wanted| nice.is_none_or(|nice| nice < *wanted))
        {
            match nice {
                Some(nice) => drop(lower.wants.insert(case, nice)),
                None => drop(lower.wants.remove(&case)),
            }
            let still = lower.wants.values().copied().max();
            if still != Some(lower.nice) {
                undo.push(Act::Restore { set: lower.nice, originals: lower.originals.clone(), still });
            }
            match still {
                Some(nice) => {
                    lower.nice = nice;
                    lower.originals.step_back(nice);
                }
                None => held.lower = None,
            }
        }
        self.prune(id);
        undo
    }

    /// A suspension is to end at once, as if its time were over.
    pub(crate) fn end_suspension(&mut self, id: &ProcessId) {
        if let Some(suspend) = self.held.get_mut(id).and_then(|held| held.suspend.as_mut()) {
            suspend.until = Duration::ZERO;
        }
    }

    /// The suspension is over: it ended by itself, or someone else resumed the process. The cases that wanted it.
    pub fn resumed(&mut self, id: &ProcessId) -> SortedSet<u64> {
        let wants = self.held.get_mut(id).and_then(|held| held.suspend.take()).map(|suspend| suspend.wants);
        self.prune(id);
        wants.unwrap_or_default()
    }

    /// The process is gone, and with it whatever was in force on it. What outlives it, its unit's weight, has to be
    /// taken back.
    #[must_use]
    pub fn forget(&mut self, id: &ProcessId) -> Option<Act> {
        let lower = self.held.remove(id)?.lower?;
        let undo = Act::Restore { set: lower.nice, originals: lower.originals, still: None };
        outlives_the_process(&undo).then_some(undo)
    }

    /// Everything on a process, taken back: what a watcher that ends has to do.
    #[must_use]
    pub(crate) fn let_go_of_all_on(&mut self, id: &ProcessId) -> Vec<Act> {
        let Some(held) = self.held.remove(id) else { return Vec::new() };
        let resume = held.suspend.map(|_| Act::Resume);
        let restore = held.lower.map(|lower| Act::Restore { set: lower.nice, originals: lower.originals, still: None });
        resume.into_iter().chain(restore).collect()
    }

    /// Whether nothing of ours is in force on anybody.
    pub(crate) fn is_empty(&self) -> bool {
        self.held.is_empty()
    }

    /// Whether anything of ours is in force on it.
    pub fn holds(&self, id: &ProcessId) -> bool {
        self.held.contains_key(id)
    }

    fn prune(&mut self, id: &ProcessId) {
        if self.held.get(id).is_some_and(|held| held.lower.is_none() && held.suspend.is_none()) {
            self.held.remove(id);
        }
    }
}
