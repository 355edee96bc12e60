//! The numbers of a window's slots. Most processes rest most of the time, and as long as all their numbers are the same they take the
//! room of one.

use std::collections::VecDeque;

use super::slots::SLOTS;

/// Bits of a packed number that say when in its slot it was read.
const OFFSET_BITS: u32 = 16;

/// Bits that are left for a count.
const COUNT_BITS: u32 = 63 - OFFSET_BITS;

/// The number of a slot.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Number {
    /// What was read, or counted.
    pub value: i64,
    /// When in the slot a count was read, in parts of the slot; of all else nobody asks.
    pub offset: u16,
}

/// No more than there are slots, the oldest first.
#[derive(Debug, Clone)]
pub struct Numbers {
    /// Whether they are counts: then it is kept when each was read.
    counted: bool,
    kept: Kept,
}

#[derive(Debug, Clone)]
#[allow(
    clippy::box_collection,
    reason = "only counts have offsets, and all windows would have room for a list of them"
)]
enum Kept {
    /// So many times the same; of counts with their offsets.
    Same(i64, usize, Option<Box<VecDeque<u16>>>),
    /// Each by itself, counts with their offsets in the lowest bits.
    Each(VecDeque<i64>),
}

impl Numbers {
    /// None yet; of counts it is kept when each was read.
    pub fn none(counted: bool) -> Numbers {
        Numbers { counted, kept: Kept::Same(0, 0, None) }
    }

    /// How many there are.
    pub fn count(&self) -> usize {
        match &self.kept {
            Kept::Same(_, count, _) => *count,
            Kept::Each(all) => all.len(),
        }
    }

    /// The one at that place, the oldest at 0.
    fn at(&self, place: usize) -> Option<Number> {
        match &self.kept {
            Kept::Same(value, count, offsets) => {
                let offset = offsets.as_ref().and_then(|offsets| offsets.get(place).copied()).unwrap_or(0);
                (place < *count).then_some(Number { value: *value, offset })
            }
            Kept::Each(all) => all.get(place).map(|number| unpacked(*number, self.counted)),
        }
    }

    /// The newest, where there is one.
    pub fn newest(&self) -> Option<Number> {
        self.at(self.count().checked_sub(1)?)
    }

    /// One more.
    pub fn push(&mut self, number: Number) {
        match &mut self.kept {
            Kept::Same(value, count, offsets) if *count == 0 || *value == number.value => {
                (*value, *count) = (number.value, *count + 1);
                if self.counted {
                    put(offsets.get_or_insert_default(), number.offset);
                }
            }
            Kept::Same(..) => {
                let counted = self.counted;
                let mut all: VecDeque<i64> = self.iter().map(|number| packed(number, counted)).collect();
                put(&mut all, packed(number, counted));
                self.kept = Kept::Each(all);
            }
            Kept::Each(all) => put(all, packed(number, self.counted)),
        }
    }

    /// Takes the newest back.
    pub fn pop_newest(&mut self) -> Option<Number> {
        let newest = self.newest();
        match &mut self.kept {
            Kept::Same(_, count, offsets) => {
                *count = count.saturating_sub(1);
                offsets.as_mut().and_then(|offsets| offsets.pop_back());
            }
            Kept::Each(all) => drop(all.pop_back()),
        }
        newest
    }

    /// Lets so many of the oldest go; no more than there are.
    pub fn drop_oldest(&mut self, gone: usize) {
        match &mut self.kept {
            Kept::Same(_, count, offsets) => {
                *count = count.saturating_sub(gone);
                offsets.iter_mut().for_each(|offsets| drop(offsets.drain(..gone.min(offsets.len()))));
            }
            Kept::Each(all) => drop(all.drain(..gone.min(all.len()))),
        }
        let newest = self.newest().map(|number| number.value);
        if matches!(self.kept, Kept::Each(_)) && self.iter().all(|number| Some(number.value) == newest) {
            let offsets = self.counted.then(|| Box::new(self.iter().map(|number| number.offset).collect()));
            self.kept = Kept::Same(newest.unwrap_or(0), self.count(), offsets);
        }
    }

    /// All, the oldest first.
    pub fn iter(&self) -> impl Iterator<Item = Number> + '_ {
        (0..).map_while(|place| self.at(place))
    }
}

/// Of counts the lowest bits: what is between two of them is less than all there is room for.
fn packed(Number { value, offset }: Number, counted: bool) -> i64 {
    let count = value & ((1 << COUNT_BITS) - 1);
    if counted { count << OFFSET_BITS | i64::from(offset) } else { value }
}

fn unpacked(number: i64, counted: bool) -> Number {
    match counted {
        true => Number { value: number >> OFFSET_BITS, offset: (number & 0xffff) as u16 },
        false => Number { value: number, offset: 0 },
    }
}

/// With no more room than all slots take.
fn put<T>(all: &mut VecDeque<T>, value: T) {
    let count = all.len();
    if count == all.capacity() && count * 2 > SLOTS {
        all.reserve_exact(SLOTS + 1 - count);
    }
    all.push_back(value);
}

/// What was counted since.
pub(super) fn counted_since(now: i64, then: i64) -> Option<i64> {
    let since = (now - then) & ((1 << COUNT_BITS) - 1);
    // So much is less than nothing: what is counted has begun anew.
    (since < 1 << (COUNT_BITS - 1)).then_some(since)
}
