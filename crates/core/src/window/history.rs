//! The windows of one subject under one rule.

use std::time::Duration;

use super::slots::{Slots, used_since};
use super::{Function, Keep, Series};
use crate::model::Field;
use crate::units::{Kind, Value};

/// One window of a rule: several functions may read it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Spec {
    /// Of what.
    pub field: Field,
    /// Over how long.
    pub window: Option<Duration>,
    /// What its slots keep.
    pub keep: Keep,
}

impl Spec {
    /// The window that a series reads.
    pub fn of(series: &Series) -> Spec {
        Spec { field: series.field, window: series.window, keep: series.keep() }
    }
}

/// What a tick brings to the windows.
pub trait Feed {
    /// The reading of a field now.
    fn reading(&self, field: Field) -> Option<Value>;
    /// CPU time used so far.
    fn cpu_time(&self) -> Option<Duration>;
    /// Cores of the machine.
    fn cores(&self) -> u32;
}

#[derive(Debug, Clone)]
enum Window {
    Slots(Box<Slots>),
    FirstOfAll(Option<i64>),
    Nothing,
}

/// The windows of one subject under one rule, in the order of the rule's specs.
#[derive(Debug, Clone)]
pub struct History {
    windows: Box<[Window]>,
    /// Time of the latest tick, ms.
    now: u64,
    every: u64,
}

impl History {
    /// Readings come that far apart from now on.
    pub(crate) fn fed_every(&mut self, every: Duration) {
        self.every = every.as_millis() as u64;
    }

    /// Empty windows.
    pub fn new(specs: &[Spec], every: Duration) -> History {
        let window = |spec: &Spec| match (spec.keep, spec.window) {
            (Keep::Nothing, _) => Window::Nothing,
            (Keep::FirstOfAll, _) | (_, None) => Window::FirstOfAll(None),
            (keep, Some(window)) => Window::Slots(Box::new(Slots::new(window.as_millis() as u64, keep))),
        };
        History { windows: specs.iter().map(window).collect(), now: 0, every: every.as_millis() as u64 }
    }

    /// The same for other specs: what is in both goes on, where it is to.
    pub(crate) fn fitted(
        mut self,
        before: &[Spec],
        after: &[Spec],
        goes_on: impl Fn(&Spec) -> bool,
        every: Duration,
    ) -> History {
        let mut fitted = History { now: self.now, ..History::new(after, every) };
        for (window, spec) in fitted.windows.iter_mut().zip(after).filter(|(_, spec)| goes_on(spec)) {
            if let Some(known) = before.iter().position(|known| known == spec).and_then(|at| self.windows.get_mut(at)) {
                std::mem::swap(window, known);
            }
        }
        fitted
    }

    /// A gap: what was before it says nothing about what comes.
    pub fn clear(&mut self) {
        for window in &mut self.windows {
            if let Window::Slots(slots) = window {
                slots.clear();
            }
        }
    }

    /// Takes the readings of a tick in. What is unknown leaves its slot empty.
    pub fn feed(&mut self, specs: &[Spec], now: Duration, feed: &impl Feed) {
        self.now = now.as_millis() as u64;
        for (spec, window) in specs.iter().zip(&mut self.windows) {
            let value = match spec.keep {
                Keep::Nothing => continue,
                Keep::CpuTime => feed.cpu_time().map(tenths),
                _ => feed.reading(spec.field).as_ref().and_then(integer),
            };
            let Some(value) = value else { continue };
            match window {
                Window::Slots(slots) => slots.add(self.now, value),
                Window::FirstOfAll(first) => {
                    first.get_or_insert(value);
                }
                Window::Nothing => {}
            }
        }
    }

    /// The value of a series now; `None` while its window is not full, or something in it is unknown.
    pub fn value(&self, series: &Series, feed: &impl Feed) -> Option<Value> {
        let kind = series.field.kind();
        let slots = match self.windows.get(series.place)? {
            Window::Nothing => return None,
            Window::FirstOfAll(first) => {
                let now = feed.reading(series.field).as_ref().and_then(integer)?;
                return value(kind, now - (*first)?);
            }
            Window::Slots(slots) => slots,
        };
        if !slots.is_full(self.now, self.every) {
            return None;
        }
        match series.function {
            Function::Avg if series.keep() == Keep::CpuTime => {
                let (then, at) = slots.oldest_cpu_time(self.now)?;
                let passed = self.now.saturating_sub(at);
                let used = used_since(tenths(feed.cpu_time()?), then);
                let cores = if series.field == Field::CpuPart { f64::from(feed.cores().max(1)) } else { 1.0 };
                (passed > 0).then(|| Value::Percent(used as f64 * 10.0 / passed as f64 / cores))
            }
            Function::Avg => value(kind, slots.mean(self.now)?),
            Function::Peak => value(kind, slots.highest(self.now)?),
            Function::Low => value(kind, slots.lowest(self.now)?),
            Function::Growth => {
                let now = feed.reading(series.field).as_ref().and_then(integer)?;
                value(kind, now - slots.oldest(self.now)?)
            }
            Function::Climb => value(kind, slots.climb(self.now)?.max(0)),
            Function::Slope => slots.slope(self.now).map(Value::Rate),
            Function::Until => {
                let now = feed.reading(series.field).as_ref().and_then(integer)?;
                let level = series.level.as_ref().and_then(integer)?;
                Some(Value::Duration(until(now, level, slots.slope(self.now)?, series.field.is_floor())))
            }
            Function::Typical => None,
        }
    }
}

/// Time until the level is reached; the longest there is for never.
fn until(now: i64, level: i64, slope: f64, floor: bool) -> Duration {
    let past = if floor { now <= level } else { now >= level };
    if past {
        return Duration::ZERO;
    }
    let seconds = (level - now) as f64 / slope;
    if slope == 0.0 || seconds <= 0.0 {
        Duration::MAX
    } else {
        Duration::try_from_secs_f64(seconds).unwrap_or(Duration::MAX)
    }
}

/// Tenths of a millisecond.
fn tenths(time: Duration) -> i64 {
    i64::try_from(time.as_micros() / 100).unwrap_or(i64::MAX)
}

/// A quantity as an integer: bytes, bytes a second, ten-thousandths of a percent or of one, microseconds.
fn integer(value: &Value) -> Option<i64> {
    let fine = |number: f64| (number.is_finite() && number.abs() < 9e14).then(|| (number * 10_000.0).round() as i64);
    match value {
        Value::Size(bytes) => i64::try_from(*bytes).ok(),
        Value::Rate(rate) => (rate.is_finite() && rate.abs() < 9e18).then(|| rate.round() as i64),
        Value::Percent(number) | Value::Count(number) => fine(*number),
        Value::Duration(time) => i64::try_from(time.as_micros()).ok(),
        Value::Text(_) | Value::State(_) | Value::Flag(_) => None,
    }
}

/// And back. A size or a duration is never below 0.
fn value(kind: Kind, integer: i64) -> Option<Value> {
    let unsigned = u64::try_from(integer).unwrap_or(0);
    match kind {
        Kind::Size => Some(Value::Size(unsigned)),
        Kind::Rate => Some(Value::Rate(integer as f64)),
        Kind::Percent => Some(Value::Percent(integer as f64 / 10_000.0)),
        Kind::Count => Some(Value::Count(integer as f64 / 10_000.0)),
        Kind::Duration => Some(Value::Duration(Duration::from_micros(unsigned))),
        Kind::Text | Kind::State | Kind::Flag => None,
    }
}
