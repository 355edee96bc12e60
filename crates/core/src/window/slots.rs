//! The slots of one window: 61 numbers at most, whatever its length.

use std::collections::VecDeque;

use super::Keep;

/// Slots of a window; one more is being filled.
pub const SLOTS: usize = 60;

/// The bits of a window's slots, the one being filled included.
const WINDOW: u64 = (1 << (SLOTS + 1)) - 1;

/// Bits of a packed slot that hold the milliseconds into it.
const OFFSET_BITS: u32 = 24;

/// One window. Numbers are integers: sums of them are exact.
#[derive(Debug, Clone)]
pub struct Slots {
    /// A slot's length, ms.
    width: u64,
    /// By how much its slots begin earlier than those of others, ms: not everybody is read at the same tick.
    ahead: u64,
    /// The number of the slot being filled: time over width.
    newest: u64,
    /// When the first reading since the window was last empty came, ms.
    since: u64,
    /// Of the slot being filled, for a mean.
    sum: i128,
    count: u32,
    keep: Keep,
    /// Which slots have a number: bit 0 is the one being filled, bit 1 the one before.
    filled: u64,
    /// The numbers of those, the oldest first: a window shorter than its slots are apart in readings has few.
    numbers: VecDeque<i64>,
}

impl Slots {
    /// An empty window of that length, ms. Where a slot takes one reading only, `seed` says when its slots begin.
    pub fn new(window: u64, keep: Keep, seed: u64) -> Slots {
        let width = (window / SLOTS as u64).max(1);
        let ahead = if keep.takes_one() { seed % width } else { 0 };
        Slots { width, ahead, newest: 0, since: u64::MAX, sum: 0, count: 0, keep, filled: 0, numbers: VecDeque::new() }
    }

    /// Forgets everything.
    pub fn clear(&mut self) {
        self.since = u64::MAX;
        (self.sum, self.count) = (0, 0);
        self.filled = 0;
        self.numbers.clear();
    }

    /// The number of the slot of that time.
    fn number(&self, now: u64) -> u64 {
        (now + self.ahead) / self.width
    }

    /// Whether a reading would change anything now.
    pub(crate) fn takes(&self, now: u64) -> bool {
        !(self.keep.takes_one() && self.has_begun(now))
    }

    /// When the next slot begins, ms.
    pub(crate) fn next_border(&self, now: u64) -> u64 {
        (self.number(now) + 1) * self.width - self.ahead
    }

    /// Whether the slot being filled has a number.
    pub(crate) fn has_begun(&self, now: u64) -> bool {
        self.filled & 1 == 1 && self.number(now) == self.newest
    }

    /// Takes a reading in. Times never fall.
    pub fn add(&mut self, now: u64, value: i64) {
        let at = now + self.ahead;
        let number = at / self.width;
        if self.since == u64::MAX {
            (self.since, self.newest) = (at, number);
        }
        let passed = number.saturating_sub(self.newest);
        if passed > 0 {
            self.newest = number;
            (self.sum, self.count) = (0, 0);
            let filled = u32::try_from(passed).ok().and_then(|passed| self.filled.checked_shl(passed)).unwrap_or(0);
            self.filled = filled & WINDOW;
            let gone = self.numbers.len() - self.filled.count_ones() as usize;
            self.numbers.drain(..gone);
        }
        let last = if self.filled & 1 == 1 { self.numbers.pop_back() } else { None };
        self.filled |= 1;
        // No more than there are slots.
        let count = self.numbers.len();
        if count == self.numbers.capacity() && count * 2 > SLOTS {
            self.numbers.reserve_exact(SLOTS + 1 - count);
        }
        self.numbers.push_back(match (self.keep, last) {
            (Keep::Mean, _) => {
                self.sum += i128::from(value);
                self.count = self.count.saturating_add(1);
                i64::try_from(self.sum / i128::from(self.count)).unwrap_or(value)
            }
            (Keep::Highest, Some(last)) => value.max(last),
            (Keep::Lowest, Some(last)) => value.min(last),
            (Keep::First | Keep::CpuTime | Keep::Count, Some(last)) => last,
            (Keep::CpuTime | Keep::Count, None) => pack(value, at - number * self.width),
            _ => value,
        });
    }

    /// The slots that have a number, the oldest first, with their own: `now` is the time of the tick.
    fn kept(&self, now: u64) -> impl Iterator<Item = (u64, i64)> + '_ {
        let first = self.number(now).saturating_sub(SLOTS as u64);
        let mut left = self.filled;
        let numbers = self.numbers.iter().map(move |value| {
            let back = left.checked_ilog2().unwrap_or(0);
            left ^= 1 << back;
            (self.newest.saturating_sub(u64::from(back)), *value)
        });
        numbers.skip_while(move |(number, _)| *number < first)
    }

    /// Whether the oldest kept reading is old enough: the window less one and a half sampling intervals.
    pub(crate) fn is_full(&self, now: u64, every: u64) -> bool {
        // Most of the time until then this is all there is to look at.
        if self.full_from(every).is_none_or(|full| now < full) {
            return false;
        }
        let Some((oldest, _)) = self.kept(now).next() else { return false };
        self.old_enough((oldest * self.width).max(self.since), every) <= now
    }

    /// When the first reading is old enough, ms: it is not full before that. None where there was no reading.
    pub(crate) fn full_from(&self, every: u64) -> Option<u64> {
        (self.since != u64::MAX).then(|| self.old_enough(self.since, every))
    }

    /// When a reading of that time on the clock of its slots is as old as the window is long.
    fn old_enough(&self, at: u64, every: u64) -> u64 {
        (at + self.width * SLOTS as u64).saturating_sub(every * 3 / 2 + self.ahead)
    }

    /// The mean of the slots.
    pub fn mean(&self, now: u64) -> Option<i64> {
        let (sum, count) =
            self.kept(now).fold((0i128, 0i128), |(sum, count), (_, value)| (sum + i128::from(value), count + 1));
        (count > 0).then(|| i64::try_from(sum / count).unwrap_or(i64::MAX))
    }

    /// The highest of the slots.
    pub fn highest(&self, now: u64) -> Option<i64> {
        self.kept(now).map(|(_, value)| value).max()
    }

    /// The lowest of the slots.
    pub fn lowest(&self, now: u64) -> Option<i64> {
        self.kept(now).map(|(_, value)| value).min()
    }

    /// The number of the oldest slot.
    pub fn oldest(&self, now: u64) -> Option<i64> {
        self.kept(now).next().map(|(_, value)| value)
    }

    /// What was counted up to the oldest slot's first reading, and how long ago that was, ms.
    pub(crate) fn oldest_count(&self, now: u64) -> Option<(i64, u64)> {
        self.kept(now).next().map(|slot| self.count_of(slot, now))
    }

    /// The same of the newest slot.
    pub(crate) fn newest_count(&self, now: u64) -> Option<(i64, u64)> {
        let last = self.numbers.back().filter(|_| self.filled != 0)?;
        let number = self.newest.saturating_sub(u64::from(self.filled.trailing_zeros()));
        Some(self.count_of((number, *last), now))
    }

    fn count_of(&self, (number, packed): (u64, i64), now: u64) -> (i64, u64) {
        let (counted, offset) = unpack(packed);
        (counted, (now + self.ahead).saturating_sub(number * self.width + offset))
    }

    /// The lowest of the newest quarter minus the lowest of the oldest.
    pub fn climb(&self, now: u64) -> Option<i64> {
        let last = self.number(now);
        let quarter = (SLOTS / 4) as u64;
        let first = last.saturating_sub(SLOTS as u64);
        let lowest = |from: u64, to: u64| {
            self.kept(now).filter(|(number, _)| (from..to).contains(number)).map(|(_, value)| value).min()
        };
        Some(lowest(last + 1 - quarter, last + 1)? - lowest(first, first + quarter)?)
    }

    /// The slope of the least-squares line through the slots, a second.
    pub fn slope(&self, now: u64) -> Option<f64> {
        let first = self.number(now).saturating_sub(SLOTS as u64);
        // Slot numbers from the window's beginning are small, so every sum is exact.
        let (mut n, mut x, mut xx, mut y, mut xy) = (0i128, 0i128, 0i128, 0i128, 0i128);
        for (number, value) in self.kept(now) {
            let (place, value) = (i128::from(number.saturating_sub(first)), i128::from(value));
            n += 1;
            x += place;
            xx += place * place;
            y += value;
            xy += place * value;
        }
        let under = n * xx - x * x;
        (under > 0).then(|| (n * xy - x * y) as f64 / under as f64 * 1000.0 / self.width as f64)
    }
}

/// A count (modulo 2^39) with the milliseconds into the slot.
fn pack(count: i64, offset: u64) -> i64 {
    ((count & ((1 << (63 - OFFSET_BITS)) - 1)) << OFFSET_BITS) | (offset.min((1 << OFFSET_BITS) - 1)) as i64
}

fn unpack(packed: i64) -> (i64, u64) {
    (packed >> OFFSET_BITS, (packed & ((1 << OFFSET_BITS) - 1)) as u64)
}

/// What was counted since: the packed number has no more bits than that.
pub(crate) fn counted_since(now: i64, then: i64) -> Option<i64> {
    let since = (now - then) & ((1 << (63 - OFFSET_BITS)) - 1);
    // So much is less than nothing: what is counted has begun anew.
    (since < 1 << (62 - OFFSET_BITS)).then_some(since)
}
