//! The sample that is judged: whole, or one in which is read only what something hangs on.

use crate::condition::{Condition, Truth};
use crate::facts::Facts;
use crate::model::{Needs, Process, Promise, Reader, Snapshot};
use crate::window::History;

/// What is seen at a tick.
pub enum Sight<'a> {
    /// Everything is read.
    Whole(&'a Snapshot),
    /// What is carried over is read as far as something hangs on it. And how often it was.
    Lazy(&'a mut Snapshot, &'a mut dyn Reader, u64),
}

impl Sight<'_> {
    /// The sample, as far as it is read by now.
    pub fn snapshot(&self) -> &Snapshot {
        match self {
            Sight::Whole(snapshot) => snapshot,
            Sight::Lazy(snapshot, ..) => snapshot,
        }
    }

    pub(crate) fn process(&self, at: usize) -> &Process {
        &self.snapshot().processes[at]
    }

    /// The readings of one process, by its place.
    pub(super) fn facts(&self, at: usize) -> Facts<'_> {
        Facts::new(self.process(at), &self.snapshot().machine)
    }

    /// Reads those of its figures that are stale.
    pub(crate) fn read(&mut self, at: usize, needs: Needs) {
        if let Sight::Lazy(snapshot, reader, reads) = self
            && let Some(process) = snapshot.processes.get_mut(at)
            && !process.stale.only(needs).is_none()
        {
            reader.read(process, needs);
            *reads += 1;
        }
    }

    /// How often something was read: as long as that is the same, everything is.
    pub(super) fn reads(&self) -> u64 {
        if let Sight::Lazy(.., reads) = self { *reads } else { 0 }
    }

    /// Until when that process needs no look.
    pub(super) fn promise(&mut self, at: usize, promise: Promise) {
        if let Sight::Lazy(snapshot, ..) = self
            && let Some(process) = snapshot.processes.get_mut(at)
        {
            process.promise = promise;
        }
    }

    pub(super) fn is_lazy(&self) -> bool {
        matches!(self, Sight::Lazy(..))
    }

    /// Whether a condition holds for a process. What it hangs on is read, the cheapest first; and where it holds, so much of what
    /// is carried over, and it is asked again: nothing is true by that.
    pub(super) fn settle(
        &mut self,
        condition: &Condition,
        at: usize,
        history: Option<&History>,
        to_hold: Needs,
    ) -> Truth {
        loop {
            let facts = self.facts(at).carrying().with_history(history);
            let truth = condition.evaluate(&facts);
            let needed = needed(truth, condition, &facts, self.process(at).stale, to_hold);
            if needed.is_none() || !self.is_lazy() {
                return truth;
            }
            self.read(at, needed);
            if !self.process(at).stale.only(needed).is_none() {
                // A reader that does not read.
                return Truth::Unknown;
            }
        }
    }
}

/// What is to be read next of what is stale, by how a condition stands: what it hangs on, the cheapest first; so much where it
/// holds, and nothing where it does not.
pub(super) fn needed(truth: Truth, condition: &Condition, facts: &Facts<'_>, stale: Needs, to_hold: Needs) -> Needs {
    match truth {
        _ if stale.is_none() => Needs::NONE,
        Truth::False => Needs::NONE,
        Truth::True => stale.only(to_hold),
        Truth::Unknown => condition.lacking(facts).only(stale).cheapest(),
    }
}
