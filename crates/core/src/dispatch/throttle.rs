//! At most so many records of breaches and calms a rule and hour: a rule that flaps must not fill the trail. What is left
//! out is counted, and the count recorded.

use std::collections::BTreeMap;
use std::time::Duration;

use super::{Command, Dispatcher};
use crate::happening::{Happening, News};
use crate::model::Moment;
use crate::rules::RuleName;

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
pub(super) struct Throttle(BTreeMap<RuleName, Hour>);

impl Throttle {
    /// Whether one more record of a rule is written.
    fn takes(&mut self, rule: &RuleName, now: Duration) -> bool {
        let hour = self.0.entry(rule.clone()).or_insert(Hour { began: now, written: 0, left_out: 0 });
        if hour.written < MOST {
            hour.written += 1;
            true
        } else {
            hour.left_out += 1;
            false
        }
    }

    /// The rules whose hour is over, with what was left out of it.
    fn over(&mut self, now: Duration) -> Vec<(RuleName, u32)> {
        let over = |hour: &Hour| now.saturating_sub(hour.began) >= HOUR;
        let ended: Vec<(RuleName, u32)> =
            self.0.iter().filter(|(_, hour)| over(hour)).map(|(rule, hour)| (rule.clone(), hour.left_out)).collect();
        self.0.retain(|_, hour| !over(hour));
        ended.into_iter().filter(|(_, left_out)| *left_out > 0).collect()
    }
}

impl Dispatcher {
    /// Tells a breach or a calm, and records it unless the rule has had its share of this hour.
    pub(super) fn tell_throttled(&mut self, now: Moment, rule: &RuleName, happening: Happening) {
        if self.throttle.takes(rule, now.monotonic) {
            self.tell(happening);
        } else {
            self.out.push(Command::Say(Box::new(happening)));
        }
    }

    pub(super) fn sum_up(&mut self, now: Moment) {
        for (rule, left_out) in self.throttle.over(now.monotonic) {
            let news = Happening::news(now.wall, News::SummedUp(left_out, MOST));
            self.tell(Happening { rule: Some(rule), ..news });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_rule_that_flaps_is_summed_up_after_an_hour() {
        let mut throttle = Throttle::default();
        let (flapping, other) = (RuleName::from("flapping"), RuleName::from("other"));
        let at = |minutes: u64| Duration::from_secs(60 * minutes);
        let written = (0..100).filter(|minute| throttle.takes(&flapping, at(minute % 59))).count();
        assert_eq!(written, 60);
        assert!(throttle.takes(&other, at(59)), "each rule has its own share");
        assert_eq!(throttle.over(at(60)), [(flapping.clone(), 40)]);
        assert!(throttle.takes(&flapping, at(61)));
        assert_eq!(throttle.over(at(200)), [], "nothing was left out");
    }
}
