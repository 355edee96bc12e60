//! One rule on one process: the state machine.

use std::time::Duration;

use super::case::{Case, Closing, Easing, Points, note_point};
use super::{Event, LONGEST_WAIT, Pace, RELAPSE};
use crate::condition::Truth;
use crate::model::{Facts, Moment, ProcessId};
use crate::rules::Rule;

/// What one tick shows of one process to one rule.
pub(super) struct Seen<'a> {
    pub rule: usize,
    pub facts: &'a Facts<'a>,
    pub covered: Truth,
    pub truth: Truth,
    pub suspended: bool,
    pub busy: bool,
    pub moment: Moment,
    pub pace: Pace,
}

#[derive(Debug, Default)]
enum Phase {
    #[default]
    Within,
    Building(Building),
    Open(Box<Case>),
}

#[derive(Debug, Default)]
struct Building {
    held: Duration,
    /// Time without a judgement: unknown, or a gap.
    blind: Duration,
    points: Points,
}

/// An undo that is still remembered.
#[derive(Debug, Clone, Copy)]
struct Undone {
    at: Moment,
    wait: Duration,
}

#[derive(Debug)]
pub(super) struct Track {
    phase: Phase,
    before: Truth,
    undone: Option<Undone>,
}

impl Default for Track {
    fn default() -> Self {
        Track { phase: Phase::Within, before: Truth::False, undone: None }
    }
}

impl Track {
    pub fn case(&self) -> Option<&Case> {
        match &self.phase {
            Phase::Open(case) => Some(case),
            _ => None,
        }
    }

    pub fn case_mut(&mut self) -> Option<&mut Case> {
        match &mut self.phase {
            Phase::Open(case) => Some(case),
            _ => None,
        }
    }

    pub fn is_forgettable(&self, now: &Moment) -> bool {
        matches!(self.phase, Phase::Within) && !self.undone.is_some_and(|undone| is_recent(&undone, now))
    }

    /// What is said when the process has ended.
    pub fn ended(self, (rule, subject): (usize, ProcessId)) -> Option<Event> {
        match self.phase {
            Phase::Within => None,
            Phase::Building(_) => Some(Event::Abandoned { rule, subject }),
            Phase::Open(case) => Some(Event::Closed { case, why: Closing::Ended }),
        }
    }

    /// One tick. While a suspension of ours touches the interval nothing is judged: only the ladder's clock runs on.
    pub fn see(&mut self, rule: &Rule, seen: &Seen<'_>, next_case: &mut u64, events: &mut Vec<Event>) {
        if seen.suspended {
            if let Phase::Open(case) = &mut self.phase {
                case.subject = seen.facts.process.clone();
                case.clock += seen.pace.counts;
                case.resumed = true;
            }
            return;
        }
        if matches!(self.phase, Phase::Within) && seen.truth == Truth::True {
            self.phase = Phase::Building(Building::default());
            self.before = Truth::False;
            events.push(Event::Building { rule: seen.rule, subject: seen.facts.process.id });
        }
        if let Phase::Building(building) = &mut self.phase {
            match building.see(rule, seen, self.before) {
                Progress::On => {}
                Progress::Dropped => {
                    self.phase = Phase::Within;
                    events.push(Event::Abandoned { rule: seen.rule, subject: seen.facts.process.id });
                }
                Progress::Confirmed => {
                    let points = std::mem::take(&mut building.points);
                    let case = self.open(rule, seen, *next_case, points);
                    *next_case += 1;
                    events.push(Event::Opened { case: case.number });
                    due(rule, &mut self.phase, case, seen, events);
                }
            }
        } else if let Phase::Open(case) = &mut self.phase
            && let Some(why) = go_on(rule, case, seen, self.before, events)
        {
            self.close(why, seen, events);
        }
        self.before = seen.truth;
    }

    fn open(&self, rule: &Rule, seen: &Seen<'_>, number: u64, points: Points) -> Box<Case> {
        let relapse = self.undone.filter(|undone| is_recent(undone, &seen.moment));
        let wait = relapse.map_or(rule.lasting, |undone| (undone.wait * 2).min(LONGEST_WAIT).max(rule.lasting));
        let mut case = Box::new(Case {
            number,
            rule: seen.rule,
            subject: seen.facts.process.clone(),
            opened: seen.moment,
            clock: Duration::ZERO,
            next: 0,
            measure: None,
            worst: None,
            points,
            breached: true,
            has_effect: false,
            pending: false,
            wait,
            still: Duration::ZERO,
            regain: None,
            easing: None,
            resumed: false,
        });
        // The newest point is this tick's: reading adds it again.
        case.points.pop_back();
        case.read(rule, seen.facts, seen.moment.wall);
        case
    }

    fn close(&mut self, why: Closing, seen: &Seen<'_>, events: &mut Vec<Event>) {
        if let Phase::Open(case) = std::mem::take(&mut self.phase) {
            if case.has_effect {
                let wait = case.wait.max(seen.pace.counts * 2);
                self.undone = Some(Undone { at: seen.moment, wait });
            }
            events.push(Event::Closed { case, why });
        }
    }
}

enum Progress {
    On,
    Dropped,
    Confirmed,
}

impl Building {
    fn see(&mut self, rule: &Rule, seen: &Seen<'_>, before: Truth) -> Progress {
        note_point(&mut self.points, rule.breach.leading(seen.facts).as_ref(), seen.moment.wall);
        match seen.truth {
            _ if seen.covered == Truth::False => return Progress::Dropped,
            Truth::False => return Progress::Dropped,
            Truth::True if before == Truth::True && !seen.pace.is_gap() => {
                self.held += seen.pace.counts;
                self.blind = Duration::ZERO;
            }
            // Unknown, or the first true one after it, or a gap: time that nobody judged.
            _ if before != Truth::False => self.blind += seen.pace.passed,
            _ => {}
        }
        if self.blind > rule.lasting {
            if seen.truth != Truth::True {
                return Progress::Dropped;
            }
            self.held = Duration::ZERO;
            self.blind = Duration::ZERO;
        }
        if seen.truth == Truth::True && self.held >= rule.lasting { Progress::Confirmed } else { Progress::On }
    }
}

/// One judged tick of an open case; why it is over, if it is.
fn go_on(
    rule: &Rule,
    case: &mut Box<Case>,
    seen: &Seen<'_>,
    before: Truth,
    events: &mut Vec<Event>,
) -> Option<Closing> {
    case.read(rule, seen.facts, seen.moment.wall);
    case.breached = seen.truth == Truth::True;
    if seen.covered == Truth::False && !case.pending {
        return Some(Closing::Left);
    }
    run_the_clock(rule, case, seen, before);
    if seen.truth == Truth::True {
        if case.easing.take().is_some() {
            events.push(Event::BreachedAgain { case: case.number });
        }
        next_step(rule, case, seen, events);
        return None;
    }
    let calm = match (&rule.calm, seen.covered) {
        (Some(calm), Truth::True) => calm.evaluate(seen.facts),
        (None, Truth::True) => !seen.truth,
        _ => Truth::Unknown,
    };
    if calm != Truth::True {
        case.easing = None;
        return None;
    }
    match case.easing.as_mut() {
        None => {
            case.easing = Some(Easing { held: Duration::ZERO, ticks: 1 });
            events.push(Event::Easing { case: case.number });
            None
        }
        Some(easing) => {
            easing.held += seen.pace.counts;
            easing.ticks += 1;
            let over = easing.held >= case.wait && easing.ticks >= 2 && !case.pending;
            over.then_some(Closing::Calm)
        }
    }
}

/// The clock advances over intervals with the breach true at both ends. After it has stood still for longer than
/// `lasting`, the breach must hold for `lasting` again before a step is taken.
fn run_the_clock(rule: &Rule, case: &mut Case, seen: &Seen<'_>, before: Truth) {
    let advances = seen.truth == Truth::True && before == Truth::True && !seen.pace.is_gap();
    if advances {
        case.clock += seen.pace.counts;
        case.still = Duration::ZERO;
        case.resumed = false;
    } else {
        case.still += seen.pace.passed;
        if case.still > rule.lasting {
            case.regain = Some(Duration::ZERO);
        }
    }
    if let Some(held) = case.regain {
        let held = match seen.truth {
            Truth::True if advances => held + seen.pace.counts,
            Truth::False => Duration::ZERO,
            _ => held,
        };
        case.regain = (seen.truth != Truth::True || held < rule.lasting).then_some(held);
    }
}

/// One step a tick; none while an outcome is awaited, and after a suspension of ours none before one whole interval
/// in breach.
fn next_step(rule: &Rule, case: &mut Case, seen: &Seen<'_>, events: &mut Vec<Event>) {
    if case.pending || seen.busy || case.regain.is_some() || case.resumed {
        return;
    }
    if rule.ladder.get(case.next).is_some_and(|step| case.clock >= step.at) {
        events.push(Event::Due { case: case.number, step: case.next });
        case.next += 1;
        case.pending = true;
    }
}

fn due(rule: &Rule, phase: &mut Phase, mut case: Box<Case>, seen: &Seen<'_>, events: &mut Vec<Event>) {
    next_step(rule, &mut case, seen, events);
    *phase = Phase::Open(case);
}

fn is_recent(undone: &Undone, now: &Moment) -> bool {
    now.boottime.saturating_sub(undone.at.boottime) <= RELAPSE
}
