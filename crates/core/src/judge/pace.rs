//! How much time an interval counts for.

use std::time::Duration;

use crate::model::Moment;

/// One interval between two samples.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Pace {
    /// What it counts for towards `lasting`, `calm` and the ladder's clock.
    pub counts: Duration,
    /// How long it really was, naps included.
    pub passed: Duration,
}

impl Pace {
    /// An interval counts as it is up to three times `every`; up to ten times it counts as one `every`, so that a
    /// thrashing machine does not make us blind; beyond that, or after a nap, it counts as nothing.
    pub fn between(earlier: Option<&Moment>, now: &Moment, every: Duration) -> Pace {
        let Some(earlier) = earlier else { return Pace { counts: Duration::ZERO, passed: Duration::ZERO } };
        let awake = now.monotonic.saturating_sub(earlier.monotonic);
        let napped = now.napped_since(earlier);
        let counts = if awake > every * 10 || napped > Duration::from_secs(1) {
            Duration::ZERO
        } else if awake > every * 3 {
            every
        } else {
            awake
        };
        Pace { counts, passed: awake + napped }
    }

    /// Whether it counts as nothing.
    pub(crate) fn is_gap(&self) -> bool {
        self.counts.is_zero()
    }
}
