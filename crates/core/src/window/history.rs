//! The windows of one subject under one rule.

use std::time::Duration;

use super::numbers::counted_since;
use super::slots::Slots;
use super::{Function, Keep, Series};
use crate::model::{Field, Needs, Process, Promise, Quiet};
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
    /// The most that a field can be now, where that is known and it itself may not be.
    fn at_most(&self, field: Field) -> Option<Value>;
    /// CPU time used so far.
    fn cpu_time(&self) -> Option<Duration>;
    /// What was counted so far of what a field is the pace of: bytes, faults, nanoseconds.
    fn count(&self, field: Field) -> Option<u64>;
    /// The same up to when it was last read: at least that it is now.
    fn counted_at_least(&self, field: Field) -> Option<u64>;
    /// Cores of the machine.
    fn cores(&self) -> u32;
}

/// Between what a function over time lies, where what it is now has not been read.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Bounds {
    /// At least that.
    pub least: Option<Value>,
    /// At most that.
    pub most: Option<Value>,
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

    /// Empty windows; the seed says in which of the ticks of a slot its one reading is taken.
    pub fn new(specs: &[Spec], every: Duration, seed: u64) -> History {
        let window = |spec: &Spec| match (spec.keep, spec.window) {
            (Keep::Nothing, _) => Window::Nothing,
            (Keep::FirstOfAll, _) | (_, None) => Window::FirstOfAll(None),
            (keep, Some(window)) => Window::Slots(Box::new(Slots::new(window.as_millis() as u64, keep, seed))),
        };
        History { windows: specs.iter().map(window).collect(), now: 0, every: every.as_millis() as u64 }
    }

    /// The same for other specs: what is in both goes on, where it is to.
    pub(crate) fn fitted(
        mut self,
        before: &[Spec],
        after: &[Spec],
        goes_on: impl Fn(&Spec) -> bool,
        (every, seed): (Duration, u64),
    ) -> History {
        let mut fitted = History { now: self.now, ..History::new(after, every, seed) };
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

    /// What has to be read of whoever has run, so that the readings of a tick can be taken in.
    pub(crate) fn takes(&self, specs: &[Spec], now: Duration) -> Needs {
        let now = now.as_millis() as u64;
        let takes = |(spec, window): (&Spec, &Window)| {
            let takes = match window {
                Window::Slots(slots) => spec.keep != Keep::CpuTime && slots.takes(now),
                Window::FirstOfAll(first) => first.is_none(),
                Window::Nothing => false,
            };
            takes.then(|| Needs::NONE.with(spec.field.info().cost).only(Needs::FILES))
        };
        specs.iter().zip(&self.windows).filter_map(takes).fold(Needs::NONE, Needs::and)
    }

    /// Whether a window takes a count of that field at that time.
    pub(crate) fn takes_count(&self, specs: &[Spec], field: Field, now: Duration) -> bool {
        let counts = |spec: &Spec| spec.keep == Keep::Count && spec.field == field;
        let takes = |window: &Window| matches!(window, Window::Slots(slots) if slots.takes(now.as_millis() as u64));
        specs.iter().zip(&self.windows).any(|(spec, window)| counts(spec) && takes(window))
    }

    /// Takes the readings of a tick in. What is unknown leaves its slot empty.
    pub fn feed(&mut self, specs: &[Spec], now: Duration, feed: &impl Feed) {
        self.now = now.as_millis() as u64;
        for (spec, window) in specs.iter().zip(&mut self.windows) {
            if matches!(window, Window::Slots(slots) if !slots.takes(self.now)) {
                continue;
            }
            let value = match spec.keep {
                Keep::Nothing => continue,
                Keep::CpuTime => feed.cpu_time().map(tenths),
                Keep::Count => feed.count(spec.field).map(|count| in_slot(spec.field, count)),
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
                let (then, passed) = slots.oldest_count(self.now)?;
                let used = counted_since(tenths(feed.cpu_time()?), then)?;
                let cores = if series.field == Field::CpuPart { f64::from(feed.cores().max(1)) } else { 1.0 };
                (passed > 0).then(|| Value::Percent(used as f64 * 10.0 / passed as f64 / cores))
            }
            Function::Avg if series.keep() == Keep::Count => {
                let (then, passed) = slots.oldest_count(self.now)?;
                pace(series.field, counted_since(in_slot(series.field, feed.count(series.field)?), then)?, passed)
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

    /// Between what the value of a series lies now, where what it goes by now has not been read. What is counted never falls, and
    /// memory cannot be filled without running.
    pub(crate) fn bounds(&self, series: &Series, feed: &impl Feed) -> Bounds {
        let Some(Window::Slots(slots)) = self.windows.get(series.place) else { return Bounds::default() };
        if !slots.is_full(self.now, self.every) {
            return Bounds::default();
        }
        let field = series.field;
        match series.keep() {
            Keep::Count => self.bounds_of_count(slots, field, feed).unwrap_or_default(),
            Keep::First if series.function == Function::Growth => {
                let most = feed.at_most(field).as_ref().and_then(integer).zip(slots.oldest(self.now));
                Bounds { least: None, most: most.and_then(|(most, then)| value(field.kind(), most - then)) }
            }
            _ => Bounds::default(),
        }
    }

    fn bounds_of_count(&self, slots: &Slots, field: Field, feed: &impl Feed) -> Option<Bounds> {
        let (then, passed) = slots.oldest_count(self.now)?;
        let known = counted_since(in_slot(field, feed.counted_at_least(field)?), then)?;
        let most = (field == Field::CpuChildren).then(|| {
            // Since then all cores can have been used for them, and no more.
            let (newest, ago) = slots.newest_count(self.now)?;
            let counted = counted_since(newest, then)? + i64::from(feed.cores()) * i64::try_from(ago).ok()? * 10;
            pace(field, counted, passed)
        });
        Some(Bounds { least: pace(field, known, passed), most: most.flatten() })
    }

    /// Whether the value of a series would be known if what it goes by now were read.
    pub(crate) fn wants_reading(&self, series: &Series) -> bool {
        let goes_by_now =
            matches!(series.function, Function::Growth | Function::Until) || matches!(series.keep(), Keep::Count);
        goes_by_now
            && match self.windows.get(series.place) {
                Some(Window::Slots(slots)) => slots.is_full(self.now, self.every),
                Some(Window::FirstOfAll(first)) => first.is_some(),
                _ => false,
            }
    }

    /// Until when these windows miss nothing of a process that is not looked at, on the clock that they are fed by.
    pub(crate) fn stays_fed(&self, specs: &[Spec], process: &Process) -> Promise {
        let rests = process.cpu == Some(0.0);
        let each = specs.iter().zip(&self.windows).map(|(spec, window)| match window {
            Window::Nothing | Window::FirstOfAll(Some(_)) => Promise::ALWAYS,
            Window::Slots(slots) if slots.has_begun(self.now) => {
                let quiet = match spec.keep {
                    Keep::CpuTime | Keep::First | Keep::Count => Quiet::ALWAYS,
                    // Whoever rests goes on having what he has.
                    Keep::Highest | Keep::Lowest if rests => Quiet::while_it_rests(process),
                    _ => Quiet::NEVER,
                };
                Promise::of(quiet).before(slots.next_border(self.now))
            }
            _ => Promise::NONE,
        });
        each.fold(Promise::ALWAYS, Promise::both)
    }

    /// Until when a comparison that is false by this series stays so, if its windows miss nothing: where more makes it true, of the
    /// limit.
    pub(crate) fn stays_as_it_is(
        &self,
        series: &Series,
        upward: Option<&Value>,
        process: &Process,
        feed: &impl Feed,
    ) -> Promise {
        let Some(Window::Slots(slots)) = self.windows.get(series.place) else { return Promise::NONE };
        if !slots.is_full(self.now, self.every) {
            return Promise::NONE;
        }
        let limit = upward.and_then(integer);
        let quiet = match (series.function, series.keep()) {
            (Function::Until | Function::Typical, _) => None,
            // Time passes, so what is used no further is ever less on average.
            (_, Keep::CpuTime) => limit.and_then(|limit| self.used_up_to(slots, series.field, limit, process, feed)),
            (_, Keep::Count) | (Function::Peak, _) => limit.map(|_| Quiet::while_it_rests(process)),
            (Function::Growth, _) => match series.field {
                Field::Memory | Field::MemoryHeld => limit.zip(slots.oldest(self.now)).and_then(|(limit, then)| {
                    let most = feed.at_most(series.field).as_ref().and_then(integer)?;
                    let left = u64::try_from(limit.saturating_sub(most - then)).ok()?;
                    Some(Quiet::until_grown(process, left.saturating_sub(1), series.field == Field::MemoryHeld))
                }),
                _ => limit.map(|_| Quiet::while_it_rests(process)),
            },
            // Between two borders nothing of it changes.
            (_, Keep::First) => Some(Quiet::ALWAYS),
            _ => None,
        };
        quiet.map_or(Promise::NONE, |quiet| Promise::of(quiet).before(slots.next_border(self.now)))
    }

    /// Until when the window of a series is not full at the earliest, where it is not.
    pub(crate) fn stays_unfilled(&self, series: &Series) -> Promise {
        let Some(Window::Slots(slots)) = self.windows.get(series.place) else { return Promise::NONE };
        let full = slots.full_from(self.every).filter(|full| *full > self.now);
        full.map_or(Promise::NONE, |full| Promise::ALWAYS.before(full))
    }

    /// Until it has used so much CPU time that its mean comes to the limit, ten-thousandths of a percent.
    fn used_up_to(
        &self,
        slots: &Slots,
        field: Field,
        limit: i64,
        process: &Process,
        feed: &impl Feed,
    ) -> Option<Quiet> {
        let (then, passed) = slots.oldest_count(self.now)?;
        let cores = if field == Field::CpuPart { f64::from(feed.cores().max(1)) } else { 1.0 };
        let most = limit as f64 / 1e6 * cores * passed as f64 * 10.0;
        // Less a tenth of a millisecond for each rounding.
        let left = most - counted_since(tenths(process.cpu_time), then)? as f64 - 2.0;
        (left > 0.0).then(|| Quiet::until(process.cpu_time + Duration::from_micros((left * 100.0) as u64)))
    }
}

/// A count in the unit in which slots keep it: 256 bytes, one fault, a tenth of a millisecond.
fn in_slot(field: Field, count: u64) -> i64 {
    let unit = match field {
        Field::CpuChildren => 100_000,
        Field::Faults => 1,
        _ => 256,
    };
    i64::try_from(count / unit).unwrap_or(i64::MAX)
}

/// So much in that time, ms, as a rate.
fn pace(field: Field, counted: i64, passed: u64) -> Option<Value> {
    let a_second = counted as f64 * 1000.0 / passed as f64;
    (passed > 0).then_some(match field {
        Field::CpuChildren => Value::Percent(a_second / 100.0),
        Field::Faults => Value::Count(a_second),
        _ => Value::Rate(a_second * 256.0),
    })
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
