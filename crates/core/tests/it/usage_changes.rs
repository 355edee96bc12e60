//! Since when: planted changes are found on their day, and noise is left alone.

use jiff::ToSpan;
use jiff::civil::{Date, Weekday};
use sophron_core::usage::{Day, Measure, changed};

/// Numbers that look random and are the same every time (SplitMix64).
struct Random(u64);

impl Random {
    fn unit(&mut self) -> f64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        ((z ^ (z >> 31)) >> 11) as f64 / (1u64 << 53) as f64
    }

    /// About normally distributed, with a standard deviation of 1.
    fn normal(&mut self) -> f64 {
        (0..12).map(|_| self.unit()).sum::<f64>() - 6.0
    }
}

const MIB: f64 = 1_048_576.0;

/// How a program's days differ: hardly, as usual, wildly. Spread of the logarithm, how much less there is on a Saturday, and how
/// often a day is far off.
const KINDS: [(f64, f64, f64); 3] = [(0.08, 0.9, 0.01), (0.3, 0.5, 0.03), (0.7, 0.3, 0.08)];

/// Sixty days without Sundays, with another level from that day on.
fn course(random: &mut Random, (spread, saturday, odd): (f64, f64, f64), step: Option<(usize, f64)>) -> Vec<Day> {
    let begin = Date::constant(2026, 8, 13);
    let mut days = Vec::new();
    for number in 0..60 {
        let day = begin.checked_add(i64::from(number).days()).unwrap();
        if day.weekday() == Weekday::Sunday {
            continue;
        }
        let mut value = 400.0 * MIB * (spread * random.normal()).exp();
        if day.weekday() == Weekday::Saturday {
            value *= saturday;
        }
        if random.unit() < odd {
            value *= 4.0;
        }
        if let Some((_, times)) = step.filter(|(from, _)| usize::try_from(number).unwrap() >= *from) {
            value *= times;
        }
        days.push(Day { day, value });
    }
    days
}

#[test]
fn noise_is_left_alone() {
    let mut random = Random(7);
    let false_ones = KINDS
        .map(|kind| (0..500).filter(|_| changed(Measure::Held, &course(&mut random, kind, None)).is_some()).count());
    assert!(false_ones.iter().sum::<usize>() < 15, "of 500 each: {false_ones:?}");
}

#[test]
fn a_planted_change_is_found_on_its_day() {
    let mut random = Random(11);
    let begin = Date::constant(2026, 8, 13);
    // Days since it doubled, kind, least share found, most days off.
    for (since, kind, least, off) in [(14, 0, 95, 1), (14, 1, 60, 4), (25, 0, 99, 1), (25, 1, 90, 3)] {
        let from = 60 - since;
        let day = begin.checked_add(i64::try_from(from).unwrap().days()).unwrap();
        let found: Vec<Date> = (0..100)
            .filter_map(|_| changed(Measure::Held, &course(&mut random, KINDS[kind], Some((from, 2.0)))))
            .map(|change| change.since)
            .collect();
        assert!(found.len() >= least, "{since} days, kind {kind}: {} of 100", found.len());
        let near = found.iter().filter(|at| (day.until(**at).unwrap().get_days()).abs() <= off + 1).count();
        assert!(near * 10 >= found.len() * 8, "{since} days, kind {kind}: {near} of {} near {day}", found.len());
    }
    // Half as much is a change as well; a fifth more is none that is told.
    let change = changed(Measure::Held, &course(&mut random, KINDS[0], Some((30, 0.5)))).unwrap();
    assert!(change.after < change.before * 0.6 && change.days.0 + change.days.1 == 51, "{change:?}");
    assert_eq!(changed(Measure::Held, &course(&mut random, KINDS[0], Some((30, 1.2)))), None);
    // Nor is what hardly matters, nor what is too short to tell.
    let small: Vec<Day> = course(&mut random, KINDS[0], Some((30, 2.0)))
        .iter()
        .map(|day| Day { value: day.value / 100.0, ..*day })
        .collect();
    assert_eq!(changed(Measure::Held, &small), None);
    assert_eq!(changed(Measure::Held, &small[..11]), None);
}
