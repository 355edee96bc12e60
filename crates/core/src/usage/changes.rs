//! Since when something is otherwise: the day on which the level of a figure changed, by its daily values.
//!
//! The largest standardised rank sum over all splits says whether, and the two medians that leave the least absolute deviation say
//! when. Neither is moved by a few days that are far off.

use jiff::civil::{Date, Weekday};

use crate::order::InOrder;

/// Days that there must be, and on each side of a change.
pub const LEAST_DAYS: usize = 12;
const LEAST_A_SIDE: usize = 4;

/// Beyond that standardised rank sum it is no chance: below one false alarm in a hundred series of noise.
const BEYOND: f64 = 3.4;

/// A smaller ratio is not worth a word.
const LEAST_RATIO: f64 = 1.4;

/// A weekday that is there so often has its own usual level.
const WEEKDAYS: usize = 4;

/// What is compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Measure {
    /// CPU time in an hour of presence.
    Cpu,
    /// What it held, typically.
    Held,
    /// Read from disks in an hour of presence.
    Read,
    /// Written to disks in an hour of presence.
    Written,
}

impl Measure {
    /// All of them.
    pub const ALL: [Measure; 4] = [Measure::Cpu, Measure::Held, Measure::Read, Measure::Written];

    /// Its word, as `--by` takes it.
    pub fn word(self) -> &'static str {
        match self {
            Measure::Cpu => "cpu.time",
            Measure::Held => "memory.held",
            Measure::Read => "disk.read",
            Measure::Written => "disk.write",
        }
    }

    /// A difference below that is not worth a word: seconds of CPU time in an hour, bytes held, bytes in an hour.
    fn floor(self) -> f64 {
        const MIB: f64 = 1024.0 * 1024.0;
        match self {
            Measure::Cpu => 60.0,
            Measure::Held => 32.0 * MIB,
            Measure::Read | Measure::Written => 256.0 * MIB,
        }
    }
}

/// A figure of one day.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Day {
    /// Which day.
    pub day: Date,
    /// The figure, in its base unit.
    pub value: f64,
}

/// A figure's days, in the order of time.
pub type Course = [Day];

/// A level that changed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Change {
    /// The first day of the new level.
    pub since: Date,
    /// The median before.
    pub before: f64,
    /// The median since.
    pub after: f64,
    /// How many days there are before, and since.
    pub days: (usize, usize),
    /// How surely: the standardised rank sum.
    pub score: f64,
}

/// Whether the level changed, and when; none where that is not sure, or not worth a word.
pub fn changed(measure: Measure, course: &Course) -> Option<Change> {
    let days: Vec<Day> = course.iter().copied().filter(|day| day.value.is_finite() && day.value >= 0.0).collect();
    if days.len() < LEAST_DAYS {
        return None;
    }
    let logs = levelled(&days, measure.floor() / 16.0);
    let score = highest_rank_sum(&logs)?;
    if score < BEYOND {
        return None;
    }
    let split = least_deviation(&logs)?;
    let of = |part: &[Day]| median(part.iter().map(|day| day.value).collect());
    let (before, after) = (of(&days[..split])?, of(&days[split..])?);
    let ratio = after.max(before) / after.min(before).max(f64::MIN_POSITIVE);
    let told = ratio >= LEAST_RATIO && (after - before).abs() >= measure.floor();
    told.then_some(Change { since: days[split].day, before, after, days: (split, days.len() - split), score })
}

/// Logarithms, less the usual one of the weekday where that is known.
fn levelled(days: &[Day], least: f64) -> Vec<f64> {
    let logs: Vec<f64> = days.iter().map(|day| (day.value + least).ln()).collect();
    let usual = |weekday: Weekday| {
        let of = days.iter().zip(&logs).filter(|(day, _)| day.day.weekday() == weekday).map(|(_, log)| *log);
        let of: Vec<f64> = of.collect();
        if of.len() >= WEEKDAYS { median(of) } else { None }
    };
    let all = median(logs.clone()).unwrap_or_default();
    days.iter().zip(&logs).map(|(day, log)| log - usual(day.day.weekday()).unwrap_or(all)).collect()
}

/// Over all splits, the greatest distance of the rank sum of the first part from what chance gives, in standard deviations.
fn highest_rank_sum(values: &[f64]) -> Option<f64> {
    let ranks = ranks(values);
    let all = values.len() as f64;
    let mut sum: f64 = ranks[..LEAST_A_SIDE - 1].iter().sum();
    let mut highest: Option<f64> = None;
    for split in LEAST_A_SIDE..=values.len() - LEAST_A_SIDE {
        sum += ranks[split - 1];
        let (first, second) = (split as f64, all - split as f64);
        let expected = first * (all + 1.0) / 2.0;
        let deviation = (first * second * (all + 1.0) / 12.0).sqrt();
        let score = (sum - expected).abs() / deviation;
        highest = Some(highest.map_or(score, |known| known.max(score)));
    }
    highest
}

/// Ranks from 1 on; equals share theirs.
fn ranks(values: &[f64]) -> Vec<f64> {
    let mut order: Vec<usize> = (0..values.len()).collect();
    order.order_by(|a, b| values[*a].total_cmp(&values[*b]));
    let mut ranks = vec![0.0; values.len()];
    let mut at = 0;
    while at < order.len() {
        let equal = order[at..].iter().take_while(|place| values[**place] == values[order[at]]).count();
        let rank = at as f64 + (equal as f64 + 1.0) / 2.0;
        order[at..at + equal].iter().for_each(|place| ranks[*place] = rank);
        at += equal;
    }
    ranks
}

/// The split after which two medians leave the least absolute deviation.
fn least_deviation(values: &[f64]) -> Option<usize> {
    let deviation = |part: &[f64]| {
        let middle = median(part.to_vec()).unwrap_or_default();
        part.iter().map(|value| (value - middle).abs()).sum::<f64>()
    };
    let splits = LEAST_A_SIDE..=values.len().checked_sub(LEAST_A_SIDE)?;
    splits.min_by(|a, b| {
        let of = |split: usize| deviation(&values[..split]) + deviation(&values[split..]);
        of(*a).total_cmp(&of(*b))
    })
}

/// The middle one; of an even number the mean of the two.
pub(super) fn median(mut of: Vec<f64>) -> Option<f64> {
    of.sort_by(f64::total_cmp);
    let half = of.len() / 2;
    if of.len() % 2 == 1 { of.get(half).copied() } else { Some((of.get(half)? + of.get(half.checked_sub(1)?)?) / 2.0) }
}
