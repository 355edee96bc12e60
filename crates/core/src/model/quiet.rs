//! What need not be looked at: until when a reading that was had once still decides.
//!
//! A process cannot fill memory without running. So a reading of its memory, with what it can have filled since by its own CPU
//! clock, is a bound on what it has now; and what is false by a bound is false. Nothing is ever true by one.

use std::time::Duration;

use super::{Needs, Process};

/// Most bytes of resident memory that a process fills in a nanosecond of its own CPU time. Measured fastest: 41, reading one byte in
/// 64 KiB of a file that is in memory already (anonymous memory 4, with huge pages and on four threads as well). Three times that.
const FILLED_A_NANOSECOND: u64 = 128;

/// The same of memory that counts as held. Measured fastest: 12, mapping shared memory that is filled already; five times that.
const HELD_A_NANOSECOND: u64 = 64;

/// Where a reading is no bound on what comes after it: nothing is known of how much the process has run since.
pub const NO_BOUND: u64 = u64::MAX;

/// At most what a process has of memory, or of held memory, that has used so much CPU time, nanoseconds, and had so much of it when
/// it had used that much less.
pub(crate) fn most_after(reading: u64, held: bool, used: u64, used_then: u64) -> Option<u64> {
    let since = if used_then == NO_BOUND { None } else { Some(used.saturating_sub(used_then)) };
    Some(reading.saturating_add(since?.saturating_mul(pace(held))))
}

/// How fast memory grows at most.
fn pace(held: bool) -> u64 {
    if held { HELD_A_NANOSECOND } else { FILLED_A_NANOSECOND }
}

/// Until when, by a process's own figures, something stays false: as long as it has used no more than `until` of CPU time in all,
/// nanoseconds, and no more than `rate` over the interval, percent of one core.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Quiet {
    until: u64,
    rate: f32,
}

impl Quiet {
    /// Not even now.
    pub const NEVER: Quiet = Quiet { until: 0, rate: -1.0 };
    /// Whatever it uses.
    pub const ALWAYS: Quiet = Quiet { until: u64::MAX, rate: f32::INFINITY };

    /// As long as it uses no more than that over an interval.
    pub(crate) fn up_to(rate: f64) -> Quiet {
        let near = rate as f32;
        // Never more than that.
        let rate = if f64::from(near) > rate { near.next_down() } else { near };
        Quiet { rate, ..Quiet::ALWAYS }
    }

    /// Until it has used that much in all.
    pub(crate) fn until(used: Duration) -> Quiet {
        Quiet { until: nanoseconds(used), ..Quiet::ALWAYS }
    }

    /// Until a process has used so much more that it can have grown by that many bytes of memory, or of held memory.
    pub(crate) fn until_grown(process: &Process, by: u64, held: bool) -> Quiet {
        Quiet { until: nanoseconds(process.cpu_time).saturating_add(by / pace(held)), ..Quiet::ALWAYS }
    }

    /// As long as it does not run.
    pub(crate) fn while_it_rests(process: &Process) -> Quiet {
        Quiet::until(process.cpu_time)
    }

    /// Whether it holds at figures of a later time.
    pub fn holds(&self, used: Duration, rate: Option<f64>) -> bool {
        nanoseconds(used) <= self.until && rate.map_or(self.rate == f32::INFINITY, |rate| rate <= f64::from(self.rate))
    }

    fn is_never(&self) -> bool {
        self.rate < 0.0
    }

    /// As long as both hold.
    #[must_use]
    fn both(self, other: Quiet) -> Quiet {
        Quiet { until: self.until.min(other.until), rate: self.rate.min(other.rate) }
    }

    /// Of two of which one is enough, the one that is likely to last longer for a process that uses so much.
    #[must_use]
    fn longer(self, other: Quiet, process: &Process) -> Quiet {
        let now = process.cpu.unwrap_or(0.0);
        let lasts = |quiet: &Quiet| {
            if quiet.is_never() || f64::from(quiet.rate) < now * 2.0 {
                return if quiet.is_never() { -1.0 } else { 0.0 };
            }
            quiet.until.saturating_sub(nanoseconds(process.cpu_time)) as f64
        };
        if lasts(&other) > lasts(&self) { other } else { self }
    }
}

/// What is promised of a process that is known: there are many.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Promise {
    until: [u64; 2],
    rate: [f32; 2],
    /// Not from that time on, monotonic milliseconds: a window takes a reading.
    before: u64,
}

impl Promise {
    /// Nothing.
    pub const NONE: Promise = Promise::new(Quiet::NEVER, Quiet::NEVER);
    /// It matters to nobody.
    pub(crate) const ALWAYS: Promise = Promise::new(Quiet::ALWAYS, Quiet::ALWAYS);

    const fn new(whoever: Quiet, being: Quiet) -> Promise {
        Promise { until: [whoever.until, being.until], rate: [whoever.rate, being.rate], before: u64::MAX }
    }

    /// The same, but not from that time on.
    #[must_use]
    pub(crate) fn before(self, time: u64) -> Promise {
        Promise { before: self.before.min(time), ..self }
    }

    /// The same on a clock that is ahead by so much.
    #[must_use]
    pub(crate) fn ahead(self, by: u64) -> Promise {
        Promise { before: self.before.saturating_add(by), ..self }
    }

    /// Whether its time has not come.
    pub fn is_in_time(&self, monotonic: Duration) -> bool {
        self.before == u64::MAX || monotonic.as_millis() < u128::from(self.before)
    }

    /// Whatever program it runs, and whoever's it is by now.
    pub fn whoever(&self) -> Quiet {
        Quiet { until: self.until[0], rate: self.rate[0] }
    }

    /// As long as it is who it was.
    pub fn being(&self) -> Quiet {
        Quiet { until: self.until[1], rate: self.rate[1] }
    }

    /// The same whoever it is.
    pub(crate) fn of(quiet: Quiet) -> Promise {
        Promise::new(quiet, quiet)
    }

    /// Only as long as it is who it was.
    pub(crate) fn of_being(quiet: Quiet) -> Promise {
        Promise::new(Quiet::NEVER, quiet)
    }

    /// Whether nothing is promised.
    pub(crate) fn is_none(&self) -> bool {
        self.being().is_never() && self.whoever().is_never()
    }

    /// As long as both hold.
    #[must_use]
    pub(crate) fn both(self, other: Promise) -> Promise {
        Promise::new(self.whoever().both(other.whoever()), self.being().both(other.being()))
            .before(self.before.min(other.before))
    }

    /// Of two of which one is enough, the one that is likely to last longer: that no window ends, where there is one.
    #[must_use]
    pub(crate) fn longer(self, other: Promise, process: &Process) -> Promise {
        match (self.before == u64::MAX, other.before == u64::MAX) {
            (true, true) => {}
            (false, false) => return if self.before < other.before { other } else { self },
            (true, false) => return if self.being().is_never() { other } else { self },
            (false, true) => return if other.being().is_never() { self } else { other },
        }
        Promise::new(self.whoever().longer(other.whoever(), process), self.being().longer(other.being(), process))
    }
}

/// Reads more of a process at the time of a sample.
pub trait Reader: std::fmt::Debug {
    /// Reads those of the figures that are stale and in `needs`: none of them is stale afterwards, and what cannot be read is
    /// unknown.
    fn read(&mut self, process: &mut Process, needs: Needs);
}

fn nanoseconds(time: Duration) -> u64 {
    u64::try_from(time.as_nanos()).unwrap_or(u64::MAX)
}
