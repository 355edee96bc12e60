//! The slots of one window: 61 numbers at most, whatever its length.

use super::Keep;
use super::numbers::{Number, Numbers};

/// Slots of a window; one more is being filled.
pub const SLOTS: usize = 60;

/// The bits of a window's slots, the one being filled included.
const WINDOW: u64 = (1 << (SLOTS + 1)) - 1;

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
    /// The numbers of those: a window shorter than its slots are apart in readings has few.
    numbers: Numbers,
}

impl Slots {
    /// An empty window of that length, ms. Where a slot takes one reading only, `seed` says when its slots begin.
    pub fn new(window: u64, keep: Keep, seed: u64) -> Slots {
        let width = (window / SLOTS as u64).max(1);
        let ahead = if keep.takes_one() { seed % width } else { 0 };
        let numbers = Numbers::none(keep.counts());
        Slots { width, ahead, newest: 0, since: u64::MAX, sum: 0, count: 0, keep, filled: 0, numbers }
    }

    /// Forgets everything.
    pub fn clear(&mut self) {
        self.since = u64::MAX;
        (self.sum, self.count) = (0, 0);
        self.filled = 0;
        self.numbers = Numbers::none(self.keep.counts());
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
            let gone = self.numbers.count() - self.filled.count_ones() as usize;
            self.numbers.drop_oldest(gone);
        }
        let last = if self.filled & 1 == 1 { self.numbers.pop_newest() } else { None };
        self.filled |= 1;
        let value = match (self.keep, last.map(|last| last.value)) {
            (Keep::Mean, _) => {
                self.sum += i128::from(value);
                self.count = self.count.saturating_add(1);
                i64::try_from(self.sum / i128::from(self.count)).unwrap_or(value)
            }
            (Keep::Highest, Some(last)) => value.max(last),
            (Keep::Lowest, Some(last)) => value.min(last),
            (Keep::First | Keep::CpuTime | Keep::Count, Some(last)) => last,
            _ => value,
        };
        let offset = (at - number * self.width) / self.offset_unit();
        let offset = last.map_or(u16::try_from(offset).unwrap_or(u16::MAX), |last| last.offset);
        self.numbers.push(Number { value, offset });
    }

    /// The slots that have a number, the oldest first, with their own: `now` is the time of the tick.
    fn kept(&self, now: u64) -> impl Iterator<Item = (u64, i64)> + '_ {
        self.with_offsets(now).map(|(slot, number)| (slot, number.value))
    }

    fn with_offsets(&self, now: u64) -> impl Iterator<Item = (u64, Number)> + '_ {
        let first = self.number(now).saturating_sub(SLOTS as u64);
        let mut left = self.filled;
        let numbers = self.numbers.iter().map(move |value| {
            let back = left.checked_ilog2().unwrap_or(0);
            left ^= 1 << back;
            (self.newest.saturating_sub(u64::from(back)), value)
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
        self.with_offsets(now).next().map(|slot| self.count_of(slot, now))
    }

    /// The same of the newest slot.
    pub(crate) fn newest_count(&self, now: u64) -> Option<(i64, u64)> {
        let last = self.numbers.newest().filter(|_| self.filled != 0)?;
        let number = self.newest.saturating_sub(u64::from(self.filled.trailing_zeros()));
        Some(self.count_of((number, last), now))
    }

    fn count_of(&self, (slot, number): (u64, Number), now: u64) -> (i64, u64) {
        let at = slot * self.width + u64::from(number.offset) * self.offset_unit();
        (number.value, (now + self.ahead).saturating_sub(at))
    }

    /// In how many milliseconds it is kept when in a slot something was read: there are 65,536 of them.
    fn offset_unit(&self) -> u64 {
        (self.width >> 16) + 1
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
