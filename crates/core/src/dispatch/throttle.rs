//! What is told of a case beyond acts is recorded within bounds: a rule that flaps, or a user who floods it, must not fill the
//! trail, nor push out of it what was done to whom. Acts, what came of them, hands and the watcher's own news are always
//! recorded; what is left out of the rest is counted, and the count recorded.

use std::time::Duration;

use super::{Command, Dispatcher};
use crate::happening::{Happening, News, What};
use crate::model::Moment;
use crate::rules::{Audit, RuleName};
use crate::sorted::{SortedMap, SortedSet};

/// Most breaches and calms of a rule on one user's processes that are recorded in an hour, and as many of the rest.
const MOST: u32 = 60;
const HOUR: Duration = Duration::from_secs(3600);

/// What a record takes on disk, roughly.
pub const RECORD: f64 = 1536.0;

/// Whose: of the machine as a whole it is nobody's.
type Owner = Option<u32>;

/// One rule's hour on one user's processes.
#[derive(Debug, Clone, Copy)]
struct Hour {
    began: Duration,
    turns: u32,
    others: u32,
    left_out: u32,
}

impl Hour {
    fn at(began: Duration) -> Hour {
        Hour { began, turns: 0, others: 0, left_out: 0 }
    }
}

/// What is recorded over days: it fills up slowly, and what is in it may be used at once.
#[derive(Debug, Clone, Copy)]
struct Bucket {
    bytes: f64,
    since: Duration,
}

impl Bucket {
    fn take(&mut self, now: Duration, room: f64, a_second: f64) -> bool {
        let passed = now.saturating_sub(self.since).as_secs_f64();
        (self.bytes, self.since) = ((self.bytes + passed * a_second).min(room), now);
        let may = self.bytes >= RECORD;
        if may {
            self.bytes -= RECORD;
        }
        may
    }
}

/// A part of a story.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Part {
    /// A breach or a calm.
    Turn,
    /// What is no act either.
    Other,
    /// An act, what came of it, a hand, or news of the watcher: always recorded.
    Always,
    /// Only told.
    Never,
}

/// Every rule's and user's.
#[derive(Debug, Default)]
pub struct Throttle {
    hours: SortedMap<(RuleName, Owner), Hour>,
    all: Option<Bucket>,
    each: SortedMap<Owner, Bucket>,
    /// Cases of which nothing is recorded, since their opening was not.
    unrecorded: SortedSet<u64>,
}

impl Throttle {
    /// Whether one more record is written. Three quarters of what may be kept is for all of this, half of that for one user:
    /// within the time that it is kept, none of it takes the place of an act.
    pub fn takes(&mut self, rule: &RuleName, owner: Owner, part: Part, now: Duration, audit: &Audit) -> bool {
        let (room, a_second) = (audit.most as f64 / 4.0, audit.most as f64 / 2.0 / audit.keep.as_secs_f64().max(1.0));
        let all = self.all.get_or_insert(Bucket { bytes: room, since: now });
        let his = self.each.entry(owner).or_insert(Bucket { bytes: room / 2.0, since: now });
        let hour = self.hours.entry((rule.clone(), owner)).or_insert(Hour::at(now));
        let used = if part == Part::Turn { &mut hour.turns } else { &mut hour.others };
        let may = *used < MOST && his.take(now, room / 2.0, a_second / 2.0) && all.take(now, room, a_second);
        *(if may { used } else { &mut hour.left_out }) += 1;
        may
    }

    fn left_out(&mut self, rule: &RuleName, owner: Owner, now: Duration) {
        self.hours.entry((rule.clone(), owner)).or_insert(Hour::at(now)).left_out += 1;
    }

    /// The rules whose hour is over, with what was left out of it, of all users.
    pub fn over(&mut self, now: Duration) -> Vec<(RuleName, u32)> {
        let over = |hour: &Hour| now.saturating_sub(hour.began) >= HOUR;
        let mut ended: SortedMap<RuleName, u32> = SortedMap::new();
        for ((rule, _), hour) in self.hours.iter().filter(|(_, hour)| over(hour)) {
            *ended.entry(rule.clone()).or_default() += hour.left_out;
        }
        self.hours.retain(|_, hour| !over(hour));
        ended.into_iter().filter(|(_, left_out)| *left_out > 0).collect()
    }
}

impl Dispatcher {
    /// Tells what happened, and records it: what is no act, only within bounds.
    pub(super) fn tell(&mut self, happening: Happening) {
        let part = part_of(&happening.what);
        self.tell_as(part, happening);
    }

    /// The same of what only was in the way of a step.
    pub(super) fn tell_in_bounds(&mut self, happening: Happening) {
        self.tell_as(Part::Other, happening);
    }

    fn tell_as(&mut self, part: Part, happening: Happening) {
        self.kept.extend(happening.kept());
        self.kept_of_asking.extend(happening.kept_of_asking());
        let recorded = match (part, happening.case) {
            (Part::Turn | Part::Other, Some(case)) => self.is_recorded(&happening, part, case),
            (Part::Always, Some(case)) => {
                self.record_its_opening(case);
                true
            }
            _ => true,
        };
        let happening = Box::new(happening);
        self.out.push(if recorded { Command::Tell(happening) } else { Command::Say(happening) });
    }

    fn is_recorded(&mut self, happening: &Happening, part: Part, case: u64) -> bool {
        let Some(rule) = &happening.rule else { return true };
        let (owner, now) = (happening.subject.lead().map(|lead| lead.person()), self.now.monotonic);
        if matches!(happening.what, What::Closed { .. }) {
            // A story that is recorded has its end.
            let untold = self.throttle.unrecorded.remove(&case);
            if untold {
                self.throttle.left_out(rule, owner, now);
            } else {
                let _ = self.throttle.takes(rule, owner, part, now, &self.rules.audit);
            }
            return !untold;
        }
        if self.throttle.unrecorded.contains(&case) {
            self.throttle.left_out(rule, owner, now);
            return false;
        }
        let may = self.throttle.takes(rule, owner, part, now, &self.rules.audit);
        if !may && matches!(happening.what, What::Opened { .. }) {
            self.throttle.unrecorded.insert(case);
        }
        may
    }

    /// An act has its story: where the opening of its case was left out, it is recorded now.
    pub(super) fn record_its_opening(&mut self, case: u64) {
        if !self.throttle.unrecorded.remove(&case) {
            return;
        }
        let opening = self.judge.case(case).and_then(|case| Some(self.opening(case, self.judge.rule(&case.rule)?)));
        self.out.extend(opening.map(|opening| Command::Tell(Box::new(opening))));
    }

    pub(super) fn sum_up(&mut self, now: Moment) {
        for (rule, left_out) in self.throttle.over(now.monotonic) {
            let news = Happening::news(now.wall, News::SummedUp(left_out, MOST));
            self.tell(Happening { rule: Some(rule), ..news });
        }
    }
}

fn part_of(what: &What) -> Part {
    match what {
        What::Opened { .. } | What::Closed { .. } => Part::Turn,
        What::Reminded(_) | What::Decided { .. } | What::Measured(_) | What::LeftTheGroup { .. } => Part::Other,
        What::Announced(..)
        | What::Calls(_)
        | What::Came(_)
        | What::StoodBack { .. }
        | What::StandsBack(_)
        | What::ActsAgain(..)
        | What::LetLoose { .. }
        | What::Asks(..)
        | What::Turned(..)
        | What::Watcher(_) => Part::Always,
        What::Easing { .. } | What::BreachedAgain(_) | What::HoursEnded | What::WaitedFor { .. } => Part::Never,
    }
}
