//! What watching costs: who uses too much CPU himself looks less often, and says so.

use std::time::Duration;

/// How long the own cost is looked at before anything follows from it.
const LOOK: Duration = Duration::from_secs(60);

/// Beyond that much CPU, percent of one core, the time from one sample to the next is doubled.
const TOO_MUCH: f64 = 2.0;

/// Where it is no more than that for [`LONG`], it is halved again, down to what the rules ask for.
const LITTLE: f64 = 0.5;
const LONG: Duration = Duration::from_secs(600);

/// Samples are never further apart than this.
const LONGEST: Duration = Duration::from_secs(60);

/// Another time from one sample to the next.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Every {
    /// That time, from now on.
    pub every: Duration,
    /// CPU that watching used, percent of one core.
    pub used: f64,
    /// What the rules ask for.
    pub asked: Duration,
}

/// What watching has cost.
#[derive(Debug, Clone)]
pub struct Cost {
    asked: Duration,
    every: Duration,
    /// CPU time used, at a monotonic time: from where it is counted, and from where little was used.
    from: Option<(Duration, Duration)>,
    little_from: Option<(Duration, Duration)>,
}

impl Cost {
    /// Of a watch that samples as its rules ask for.
    pub fn new(asked: Duration) -> Cost {
        Cost { asked, every: asked, from: None, little_from: None }
    }

    /// CPU time used so far, at that monotonic time; another time from sample to sample, if one follows from it.
    pub fn note(&mut self, used: Duration, now: Duration) -> Option<Every> {
        let share = |from: (Duration, Duration)| {
            let passed = now.saturating_sub(from.1);
            100.0 * used.saturating_sub(from.0).as_secs_f64() / passed.as_secs_f64().max(1e-9)
        };
        let from = *self.from.get_or_insert((used, now));
        if now.saturating_sub(from.1) >= LOOK {
            self.from = Some((used, now));
            let used = share(from);
            if used > LITTLE {
                self.little_from = None;
            }
            if used > TOO_MUCH && self.every < LONGEST {
                return self.change((self.every * 2).min(LONGEST), used);
            }
        }
        let little = *self.little_from.get_or_insert((used, now));
        if self.every > self.asked && now.saturating_sub(little.1) >= LONG {
            return self.change((self.every / 2).max(self.asked), share(little));
        }
        None
    }

    fn change(&mut self, every: Duration, used: f64) -> Option<Every> {
        self.every = every;
        (self.from, self.little_from) = (None, None);
        Some(Every { every, used, asked: self.asked })
    }
}
