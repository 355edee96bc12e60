//! At most so many records of breaches and calms a rule and hour: a rule that flaps must not fill the trail. What is left
//! out is counted, and the count recorded.

use std::collections::BTreeMap;
use std::time::Duration;

use sophron_core::audit::{Draft, Kind};

use super::Watcher;
use super::drafts::DraftExt;

const MOST: u32 = 60;
const HOUR: Duration = Duration::from_secs(3600);

/// One rule's hour.
#[derive(Debug, Clone, Copy)]
struct Hour {
    began: Duration,
    written: u32,
    left_out: u32,
}

/// Every rule's.
#[derive(Debug, Default)]
pub struct Throttle(BTreeMap<usize, Hour>);

impl Throttle {
    /// Whether one more record of a rule is written.
    fn takes(&mut self, rule: usize, now: Duration) -> bool {
        let hour = self.0.entry(rule).or_insert(Hour { began: now, written: 0, left_out: 0 });
        if hour.written < MOST {
            hour.written += 1;
            true
        } else {
            hour.left_out += 1;
            false
        }
    }

    /// The rules whose hour is over, with what was left out of it.
    fn over(&mut self, now: Duration) -> Vec<(usize, u32)> {
        let over = |hour: &Hour| now.saturating_sub(hour.began) >= HOUR;
        let ended: Vec<(usize, u32)> =
            self.0.iter().filter(|(_, hour)| over(hour)).map(|(rule, hour)| (*rule, hour.left_out)).collect();
        self.0.retain(|_, hour| !over(hour));
        ended.into_iter().filter(|(_, left_out)| *left_out > 0).collect()
    }
}

impl Watcher<'_> {
    /// Notes a breach or a calm, unless the rule has had its share of this hour.
    pub(super) fn note_of_rule(&mut self, rule: usize, draft: Draft) {
        let now = self.snapshot_time();
        if self.throttle.takes(rule, now) {
            self.recorder.note(draft);
        }
    }

    pub(super) fn sum_up(&mut self) {
        let now = self.snapshot_time();
        for (rule, left_out) in self.throttle.over(now) {
            let seen = format!("{left_out} more breaches and calms in an hour, beyond the {MOST} that are recorded");
            let mut draft = self.drafter.plain(Kind::Summary).came_of_it("summed up", seen);
            draft.rule = self.rules.rules.get(rule).map(|rule| rule.name.clone());
            self.recorder.note(draft);
        }
    }

    fn snapshot_time(&self) -> Duration {
        self.last.map_or(Duration::ZERO, |moment| moment.monotonic)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_rule_that_flaps_is_summed_up_after_an_hour() {
        let mut throttle = Throttle::default();
        let at = |minutes: u64| Duration::from_secs(60 * minutes);
        let written = (0..100).filter(|minute| throttle.takes(0, at(minute % 59))).count();
        assert_eq!(written, 60);
        assert!(throttle.takes(1, at(59)), "each rule has its own share");
        assert_eq!(throttle.over(at(60)), [(0, 40)]);
        assert!(throttle.takes(0, at(61)));
        assert_eq!(throttle.over(at(200)), [], "nothing was left out");
    }
}
