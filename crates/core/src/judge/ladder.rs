//! Where a case stands on the ladder of its rule.

use std::time::Duration;

use crate::condition::Truth;
use crate::model::ProcessId;

/// The ladder of a case.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Ladder {
    /// Breached time since the case opened.
    pub clock: Duration,
    /// The next step, by its place.
    pub next: usize,
    /// The one of several that its steps act on, once it is chosen.
    pub picked: Option<ProcessId>,
    /// Whether something is in force that closing has to undo.
    pub has_effect: bool,
    /// What may be done to the subject, once an act was due.
    pub budget: Allowance,
    pub(super) awaited: Awaited,
    pub(super) footing: Footing,
    /// For how long the clock has stood still.
    pub(super) still: Duration,
}

/// Whether the budget allows acts in this case: asked when the first is due.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Allowance {
    /// No act was due yet.
    #[default]
    Unasked,
    /// It does.
    Granted,
    /// It is spent: people are told, and nothing is done.
    Spent,
}

/// The outcomes of the step that was taken last.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) enum Awaited {
    /// All are in.
    #[default]
    Nothing,
    /// So many are not. `again`: the step could not be taken on somebody, and is due again once all are in.
    Outcomes { left: u32, again: bool },
}

/// What has to pass before the next step, however far the clock is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) enum Footing {
    /// Nothing.
    #[default]
    Firm,
    /// One whole interval in breach: a suspension of ours is just over.
    OneInterval,
    /// `lasting` once more: the clock had stood still for longer than that. `barred`: the interval that ends with the next
    /// tick began outside the hours of the step. `interval`: a suspension of ours is just over as well.
    Lasting { held: Duration, barred: bool, interval: bool },
}

/// What one interval shows of the breach.
pub(super) struct Interval {
    pub truth: Truth,
    /// It was breached at both ends, in the rule's hours, and no gap.
    pub advances: bool,
    pub counts: Duration,
    pub passed: Duration,
}

impl Ladder {
    /// Goes on at a step that was reached before.
    pub(super) fn at(next: usize, clock: Duration) -> Ladder {
        Ladder { next, clock, ..Ladder::default() }
    }

    /// Whether an outcome is awaited.
    pub(crate) fn is_awaiting(&self) -> bool {
        self.awaited != Awaited::Nothing
    }

    /// Whether the budget of its subject is spent.
    pub fn is_over_budget(&self) -> bool {
        self.budget == Allowance::Spent
    }

    pub(super) fn is_firm(&self) -> bool {
        self.footing == Footing::Firm && !self.is_awaiting()
    }

    /// So many outcomes are to come of the step that was just taken.
    pub(super) fn awaits(&mut self, outcomes: u32) {
        self.awaited = match outcomes {
            0 => Awaited::Nothing,
            left => Awaited::Outcomes { left, again: false },
        };
    }

    /// One outcome is in. A step that could not be taken on one of several is due again.
    pub(super) fn one_outcome(&mut self, postponed: bool) {
        let Awaited::Outcomes { left, again } = self.awaited else { return };
        let again = again || postponed;
        if left > 1 {
            self.awaited = Awaited::Outcomes { left: left - 1, again };
            return;
        }
        self.awaited = Awaited::Nothing;
        if again {
            self.next = self.next.saturating_sub(1);
        }
    }

    /// While a suspension of ours is in force only the clock runs on.
    pub(super) fn suspended(&mut self, counts: Duration) {
        self.clock += counts;
        self.footing = match self.footing {
            Footing::Lasting { held, barred, .. } => Footing::Lasting { held, barred, interval: true },
            _ => Footing::OneInterval,
        };
    }

    /// The step waits for its hours, and then for a fresh `lasting`.
    pub(super) fn bar(&mut self) {
        let interval = self.needs_an_interval();
        self.footing = Footing::Lasting { held: Duration::ZERO, barred: true, interval };
    }

    fn needs_an_interval(&self) -> bool {
        matches!(self.footing, Footing::OneInterval | Footing::Lasting { interval: true, .. })
    }

    /// The clock advances over intervals with the breach true at both ends. After it has stood still for longer than
    /// `lasting`, the breach must hold for `lasting` again before a step is taken.
    pub(super) fn run(&mut self, interval: &Interval, lasting: Duration) {
        if interval.advances {
            self.clock += interval.counts;
            self.still = Duration::ZERO;
            match &mut self.footing {
                Footing::OneInterval => self.footing = Footing::Firm,
                Footing::Lasting { interval, .. } => *interval = false,
                Footing::Firm => {}
            }
        } else {
            self.still += interval.passed;
            if self.still > lasting {
                let (barred, needed) = match self.footing {
                    Footing::Lasting { barred, interval, .. } => (barred, interval),
                    Footing::OneInterval => (false, true),
                    Footing::Firm => (false, false),
                };
                self.footing = Footing::Lasting { held: Duration::ZERO, barred, interval: needed };
            }
        }
        if let Footing::Lasting { held, barred, interval: needed } = self.footing {
            let held = match interval.truth {
                _ if barred => Duration::ZERO,
                Truth::True if interval.advances => held + interval.counts,
                Truth::False => Duration::ZERO,
                _ => held,
            };
            self.footing = match interval.truth == Truth::True && held >= lasting {
                false => Footing::Lasting { held, barred: false, interval: needed },
                true if needed => Footing::OneInterval,
                true => Footing::Firm,
            };
        }
    }
}
