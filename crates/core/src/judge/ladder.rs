//! Where a case stands on the ladder of its rule.

use std::time::Duration;

use jiff::Timestamp;

use crate::condition::Truth;
use crate::model::{Moment, ProcessId};
use crate::sorted::SortedSet;

/// A step that could not be taken is tried again after that long, and then after twice as long each time.
const FIRST_PAUSE: Duration = Duration::from_secs(5);

/// At most that long.
const LONGEST_PAUSE: Duration = Duration::from_secs(300);

/// The ladder of a case.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Ladder {
    /// Breached time since the case opened.
    pub clock: Duration,
    /// The next step, by its place.
    pub next: usize,
    /// Whether something is in force that closing has to undo.
    pub has_effect: bool,
    /// What may be done to the subject, once an act was due.
    pub budget: Allowance,
    /// Steps that could not be taken: they stay due.
    pub owed: Vec<Owed>,
    /// What the steps that act wait for, the breach going on.
    pub wait: Wait,
    /// On whom of several its steps act.
    pub choice: Choice,
    /// The step that outcomes are awaited of, while the rule has it, and on whom it was taken so far.
    pub(super) trying: Option<usize>,
    taken_on: SortedSet<ProcessId>,
    /// The step that was taken last, and on whom in this case.
    reached: (usize, SortedSet<ProcessId>),
    pub(super) awaited: Awaited,
    /// How many acts are under way for somebody who has answered.
    pub(super) answering: u32,
    pub(super) footing: Footing,
    /// For how long the clock has stood still.
    pub(super) still: Duration,
    /// Breached time since it had last stood still for longer than `lasting`; `None` where it never has.
    since_still: Option<Duration>,
}

/// On whom of several the steps of a ladder act.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Choice {
    /// On all, or nobody is chosen yet.
    #[default]
    Open,
    /// On that one.
    Made(ProcessId),
    /// On nobody: once all outcomes are in, another is chosen.
    Withdrawn,
}

/// What the steps of a ladder that act wait for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Wait {
    /// Nothing.
    #[default]
    Nothing,
    /// For what somebody answers who is asked.
    Answer,
    /// Until then, on the monotonic clock and in wall-clock time.
    Until {
        /// When it is over.
        over: (Duration, Timestamp),
        /// Whether the breach has to hold for `lasting` once more then.
        anew: bool,
    },
}

/// A step that could not be taken on everybody, and is tried again as long as the breach holds.
#[derive(Debug, Clone, PartialEq)]
pub struct Owed {
    /// The step, by its place.
    pub step: usize,
    /// When it is tried again, on the monotonic clock, and in wall-clock time.
    pub from: (Duration, Timestamp),
    /// Of several, those on whom it was taken.
    pub taken_on: SortedSet<ProcessId>,
    /// Whether it was taken on everybody, and is due for those who have come since: that counts as another act.
    pub anew: bool,
    pause: Duration,
}

impl Owed {
    /// Waits for twice as long as the last time.
    fn rest(&mut self, now: &Moment) {
        self.pause = (self.pause * 2).clamp(FIRST_PAUSE, LONGEST_PAUSE);
        self.from = (now.monotonic + self.pause, now.wall.checked_add(self.pause).unwrap_or(now.wall));
    }
}

/// What became of a step on one process.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Fate {
    /// It was taken, or is not to be: it is spent.
    Spent,
    /// It could not be recorded, or somebody is busy: it is due again at once.
    Postponed,
    /// Something was in its way: it is tried again after a pause.
    Hindered,
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
    /// So many are not. `again`: the step could not be taken on somebody, and is due again once all are in; `later`: after a
    /// pause, counted from when that was known, and not from when the others' outcomes were.
    Outcomes { left: u32, again: bool, later: Option<Moment> },
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
        self.awaited != Awaited::Nothing || self.answering > 0
    }

    /// The step whose outcomes are awaited.
    pub(crate) fn under_way(&self) -> Option<usize> {
        self.trying.filter(|_| self.awaited != Awaited::Nothing)
    }

    /// A step that was due in the run before and could not be taken, or nobody knows whether it was: it stays due.
    pub(super) fn owes(&mut self, step: usize, now: &Moment) {
        if step < self.next && self.owed.iter().all(|owed| owed.step != step) {
            let from = (now.monotonic, now.wall);
            self.owed.push(Owed { step, from, taken_on: SortedSet::new(), anew: false, pause: Duration::ZERO });
        }
    }

    /// The one of several that its steps act on, once it is chosen.
    pub(crate) fn picked(&self) -> Option<ProcessId> {
        match self.choice {
            Choice::Made(picked) => Some(picked),
            Choice::Open | Choice::Withdrawn => None,
        }
    }

    /// The next choice starts at the first step, once the breach has held without whoever was chosen: nobody follows by being left.
    pub(super) fn keep_the_choice(&mut self, members: &[ProcessId]) {
        let holds = match self.choice {
            Choice::Open => true,
            Choice::Made(picked) => members.contains(&picked),
            Choice::Withdrawn => false,
        };
        if holds || self.is_awaiting() {
            return;
        }
        (self.choice, self.next, self.clock) = (Choice::Open, 0, Duration::ZERO);
        self.owed.clear();
        self.stand_anew();
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
            left => Awaited::Outcomes { left, again: false, later: None },
        };
        self.taken_on.clear();
    }

    /// One outcome is in. A step that could not be taken on one of several is due again. Whether all are in, and it was
    /// taken on nobody, now or before: then it was no act.
    pub(super) fn one_outcome(&mut self, fate: Fate, on: Option<ProcessId>, now: &Moment) -> bool {
        let Awaited::Outcomes { left, again, later } = self.awaited else { return false };
        let again = again || fate == Fate::Postponed;
        let later = if fate == Fate::Hindered { Some(*now) } else { later };
        if fate == Fate::Spent {
            self.taken_on.extend(on);
            if let Some(trying) = self.trying {
                if self.reached.0 != trying {
                    self.reached = (trying, SortedSet::new());
                }
                self.reached.1.extend(on);
            }
        }
        if left > 1 {
            self.awaited = Awaited::Outcomes { left: left - 1, again, later };
            return false;
        }
        self.awaited = Awaited::Nothing;
        let taken_on = std::mem::take(&mut self.taken_on);
        let nobody = taken_on.is_empty() && !self.trying.is_some_and(|trying| self.is_counted(trying));
        // A step that the rule has no more is not tried again.
        let Some(trying) = self.trying else { return nobody };
        match (self.owed.iter().position(|owed| owed.step == trying), later) {
            (Some(place), _) if again || later.is_some() => {
                let owed = &mut self.owed[place];
                owed.taken_on.extend(taken_on);
                match later {
                    Some(since) => owed.rest(&since),
                    None => owed.from = (now.monotonic, now.wall),
                }
            }
            (Some(place), _) => drop(self.owed.remove(place)),
            (None, Some(since)) => {
                let from = (since.monotonic, since.wall);
                let mut owed = Owed { step: trying, from, taken_on, anew: false, pause: Duration::ZERO };
                owed.rest(&since);
                self.owed.push(owed);
            }
            (None, None) if again => self.next = self.next.saturating_sub(1),
            (None, None) => {}
        }
        nobody
    }

    /// The last step of a group's ladder, which was taken, is due again for members on whom it was not: those who have come since.
    pub(super) fn goes_on_with(&mut self, last: usize, members: &[ProcessId], now: &Moment) {
        if self.next <= last
            || self.is_awaiting()
            || self.is_over_budget()
            || self.owed.iter().any(|owed| owed.step == last)
        {
            return;
        }
        if self.reached.0 != last {
            self.reached = (last, SortedSet::new());
        }
        self.reached.1.retain(|id| members.contains(id));
        if members.iter().all(|id| self.reached.1.contains(id)) {
            return;
        }
        let from = (now.monotonic, now.wall);
        let mut owed = Owed { step: last, from, taken_on: self.reached.1.clone(), anew: true, pause: Duration::ZERO };
        owed.rest(now);
        self.owed.push(owed);
    }

    /// The furthest of the steps that could not be taken and whose pause is over.
    pub(super) fn tried_again(&self, now: Duration, may: impl Fn(usize) -> bool) -> Option<usize> {
        let due = self.owed.iter().filter(|owed| owed.from.0 <= now && may(owed.step));
        due.map(|owed| owed.step).max()
    }

    /// On whom of several that step was taken already, where it is tried again on the others.
    pub(crate) fn taken_before(&self, step: usize) -> Option<&SortedSet<ProcessId>> {
        self.owed.iter().find(|owed| owed.step == step).map(|owed| &owed.taken_on)
    }

    /// Whether a step was taken on somebody already and goes on with the others: all of that is one act.
    pub(crate) fn is_counted(&self, step: usize) -> bool {
        self.owed.iter().any(|owed| owed.step == step && !owed.anew && !owed.taken_on.is_empty())
    }

    /// Whether the breach holds well enough for a step that was due before.
    pub(super) fn is_steady(&self, lasting: Duration) -> bool {
        !self.is_awaiting() && self.since_still.is_none_or(|held| held >= lasting)
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

    /// Whether steps that act wait.
    pub(super) fn holds_back(&mut self, now: Duration) -> bool {
        match self.wait {
            Wait::Nothing => return false,
            Wait::Until { over, .. } if over.0 <= now => {
                self.wait = Wait::Nothing;
                return false;
            }
            Wait::Until { anew: true, .. } => self.bar(),
            Wait::Answer | Wait::Until { .. } => {}
        }
        true
    }

    /// What it waited for is there: that step is due at once, also where it was to be tried again later.
    pub(super) fn go_on(&mut self, step: usize, now: &Moment) {
        self.wait = Wait::Nothing;
        for owed in self.owed.iter_mut().filter(|owed| owed.step == step) {
            owed.from = (now.monotonic, now.wall);
        }
    }

    /// The rule has another ladder from now on, of which that step is the first that is not as it was and was taken. The steps
    /// before it count as taken; the others keep their distance to it, and it needs a fresh `lasting`.
    pub(super) fn revise(&mut self, first: usize, at: Option<Duration>) {
        self.owed.retain(|owed| owed.step < first);
        self.trying = self.trying.filter(|trying| *trying < first);
        if self.next >= first {
            self.next = first;
            self.clock = at.map_or(self.clock, |at| self.clock.min(at));
            self.stand_anew();
        }
    }

    /// What comes next needs a fresh `lasting`.
    pub(super) fn stand_anew(&mut self) {
        let interval = self.needs_an_interval();
        self.footing = Footing::Lasting { held: Duration::ZERO, barred: false, interval };
        self.since_still = Some(Duration::ZERO);
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
            self.since_still = self.since_still.map(|held| held + interval.counts);
            match &mut self.footing {
                Footing::OneInterval => self.footing = Footing::Firm,
                Footing::Lasting { interval, .. } => *interval = false,
                Footing::Firm => {}
            }
        } else {
            self.still += interval.passed;
            if self.still > lasting {
                self.since_still = Some(Duration::ZERO);
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
