//! What a watcher costs, and how often it looks for that.

use std::time::Duration;

use sophron_core::cost::Cost;

/// Percent of a core used in each stretch of seconds, and what the time between samples is after it, in seconds.
fn course(stretches: &[(u64, f64)]) -> Vec<f64> {
    let mut cost = Cost::new(Duration::from_secs(2));
    let (mut now, mut used, mut every) = (Duration::from_secs(9), Duration::ZERO, Duration::from_secs(2));
    let mut seen = Vec::new();
    for (length, percent) in stretches {
        let end = now + Duration::from_secs(*length);
        while now < end {
            now += every;
            used += every.mul_f64(percent / 100.0);
            every = cost.note(used, now).map_or(every, |changed| changed.every);
        }
        seen.push(every.as_secs_f64());
    }
    seen
}

#[test]
fn who_costs_too_much_looks_less_often_and_more_often_again() {
    assert_eq!(course(&[(600, 1.9)]), [2.0]);
    assert_eq!(course(&[(20, 4.0), (300, 0.1)]), [2.0, 2.0], "not a whole minute");
    assert_eq!(
        course(&[(64, 3.0), (64, 3.0), (100, 1.0), (700, 0.3), (700, 0.3), (5000, 0.3)]),
        [4.0, 8.0, 8.0, 4.0, 2.0, 2.0]
    );
    assert_eq!(course(&[(4000, 90.0)]), [60.0]);
}
