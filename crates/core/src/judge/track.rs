//! One rule on one subject: the state machine.

use std::time::Duration;

use jiff::tz::TimeZone;

use super::case::{Case, Closing, Easing, Points, Told, note_point};
use super::returns::{Gone, Memory};
use super::{Event, LONGEST_WAIT, Pace, RELAPSE};
use crate::condition::Truth;
use crate::model::{Facts, Moment, ProcessId};
use crate::rules::Rule;
use crate::subject::SubjectKey;

/// What one tick shows of one subject to one rule.
pub(super) struct Seen<'a> {
    pub rule: usize,
    pub key: &'a SubjectKey,
    pub members: &'a [ProcessId],
    pub facts: &'a Facts<'a>,
    pub covered: Truth,
    pub truth: Truth,
    pub suspended: bool,
    pub busy: bool,
    pub moment: Moment,
    pub pace: Pace,
    /// Whether these are hours of the rule.
    pub in_hours: bool,
    /// Whether acts may begin: not right after a start or a nap.
    pub settled: bool,
    pub zone: &'a TimeZone,
    /// The number of the tick.
    pub tick: u64,
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
    members: Vec<ProcessId>,
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
    /// The tick at which its subject was last seen.
    pub last_seen: u64,
}

impl Default for Track {
    fn default() -> Self {
        Track { phase: Phase::Within, before: Truth::False, undone: None, last_seen: 0 }
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

    /// How long the breach has held so far, while no case is open.
    pub fn building(&self) -> Option<Duration> {
        match &self.phase {
            Phase::Building(building) => Some(building.held),
            _ => None,
        }
    }

    /// What is said when the subject has ended.
    pub fn ended(self, rule: usize, subject: SubjectKey) -> Option<Event> {
        match self.phase {
            Phase::Within => None,
            Phase::Building(building) => Some(Event::Abandoned { rule, subject, members: building.members }),
            Phase::Open(case) => Some(Event::Closed { case, why: Closing::Ended }),
        }
    }

    /// One tick. While a suspension of ours touches the interval nothing is judged: only the ladder's clock runs on.
    pub fn see(&mut self, rule: &Rule, seen: &Seen<'_>, memory: &mut Memory, events: &mut Vec<Event>) {
        self.last_seen = seen.tick;
        if seen.suspended {
            if let Phase::Open(case) = &mut self.phase {
                case.subject = seen.facts.process.clone();
                case.members = seen.members.to_vec();
                end_of_hours(rule, case, seen, events);
                case.clock += seen.pace.counts;
                case.resumed = true;
            }
            return;
        }
        if matches!(self.phase, Phase::Within) && seen.truth == Truth::True {
            if !seen.in_hours {
                return;
            }
            self.phase = Phase::Building(Building { members: seen.members.to_vec(), ..Building::default() });
            self.before = Truth::False;
            events.push(Event::Building { rule: seen.rule, subject: seen.key.clone(), members: seen.members.to_vec() });
        }
        if let Phase::Building(building) = &mut self.phase {
            match building.see(rule, seen, self.before) {
                Progress::On => {}
                Progress::Dropped => {
                    let members = std::mem::take(&mut building.members);
                    self.phase = Phase::Within;
                    events.push(Event::Abandoned { rule: seen.rule, subject: seen.key.clone(), members });
                }
                Progress::Confirmed => {
                    let points = std::mem::take(&mut building.points);
                    let gone = memory.come_back(seen.rule, &seen.key.likeness(seen.facts.process), &seen.moment);
                    let number = gone.as_ref().map_or_else(|| memory.next_number(), |gone| gone.number);
                    let case = self.open(rule, seen, number, gone, points);
                    events.push(Event::Opened { case: case.number });
                    due(rule, &mut self.phase, case, seen, memory, events);
                }
            }
        } else if let Phase::Open(case) = &mut self.phase
            && let Some(why) = go_on(rule, case, seen, self.before, memory, events)
        {
            self.close(why, seen, events);
        }
        self.before = seen.truth;
    }

    fn open(&self, rule: &Rule, seen: &Seen<'_>, number: u64, gone: Option<Gone>, points: Points) -> Box<Case> {
        let relapse = self.undone.filter(|undone| is_recent(undone, &seen.moment));
        let wait = relapse.map_or(rule.lasting, |undone| (undone.wait * 2).min(LONGEST_WAIT).max(rule.lasting));
        // Back under another PID it goes on at the step it had reached, whose effect ended with it.
        let next = gone.as_ref().map_or(0, |gone| gone.next.saturating_sub(1));
        let clock = rule.ladder.get(next).filter(|_| gone.is_some()).map_or(Duration::ZERO, |step| step.at);
        let mut case = Box::new(Case {
            number,
            rule: seen.rule,
            key: seen.key.clone(),
            members: seen.members.to_vec(),
            returned: gone.is_some(),
            picked: None,
            over_budget: false,
            acted: false,
            postponed: false,
            told: Told::default(),
            subject: seen.facts.process.clone(),
            opened: seen.moment,
            clock,
            next,
            measure: None,
            worst: None,
            points,
            breached: true,
            has_effect: false,
            pending: 0,
            wait,
            still: Duration::ZERO,
            regain: None,
            barred: false,
            easing: None,
            resumed: false,
        });
        // The newest point is this tick's: reading adds it again.
        case.points.pop_back();
        case.read(rule, seen.facts, seen.members, seen.moment.wall);
        told(&mut case, seen);
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
            _ if seen.covered == Truth::False || !seen.in_hours => return Progress::Dropped,
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
    memory: &mut Memory,
    events: &mut Vec<Event>,
) -> Option<Closing> {
    case.read(rule, seen.facts, seen.members, seen.moment.wall);
    if case.picked.is_some_and(|picked| !seen.members.contains(&picked)) && case.pending == 0 {
        // The next choice starts at the first step.
        (case.picked, case.next, case.clock) = (None, 0, Duration::ZERO);
    }
    end_of_hours(rule, case, seen, events);
    case.breached = seen.truth == Truth::True;
    if seen.covered == Truth::False && case.pending == 0 {
        return Some(Closing::Left);
    }
    run_the_clock(rule, case, seen, before);
    if seen.truth == Truth::True {
        if case.easing.take().is_some() {
            events.push(Event::BreachedAgain { case: case.number });
        }
        let steps = events.len();
        next_step(rule, case, seen, memory, events);
        if events.len() == steps {
            remind(rule, case, seen, events);
        }
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
            let over = easing.held >= case.wait && easing.ticks >= 2 && case.pending == 0;
            over.then_some(Closing::Calm)
        }
    }
}

/// The clock advances over intervals with the breach true at both ends. After it has stood still for longer than
/// `lasting`, the breach must hold for `lasting` again before a step is taken.
fn run_the_clock(rule: &Rule, case: &mut Case, seen: &Seen<'_>, before: Truth) {
    let advances = seen.truth == Truth::True && before == Truth::True && !seen.pace.is_gap() && seen.in_hours;
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
        let barred = std::mem::take(&mut case.barred);
        let held = match seen.truth {
            _ if barred => Duration::ZERO,
            Truth::True if advances => held + seen.pace.counts,
            Truth::False => Duration::ZERO,
            _ => held,
        };
        case.regain = (seen.truth != Truth::True || held < rule.lasting).then_some(held);
    }
}

/// One step a tick; none while an outcome is awaited, and after a suspension of ours none before one whole interval
/// in breach.
fn next_step(rule: &Rule, case: &mut Case, seen: &Seen<'_>, memory: &mut Memory, events: &mut Vec<Event>) {
    let Some(step) = rule.ladder.get(case.next) else { return };
    if !step.hours.covers(seen.moment.wall, seen.zone) {
        // It waits for its hours, and then for a fresh `lasting`.
        (case.regain, case.barred) = (Some(Duration::ZERO), true);
        return;
    }
    let held_up = case.pending > 0 || seen.busy || case.regain.is_some() || case.resumed || !seen.in_hours;
    if held_up || case.clock < step.at || (step.action.is_act() && !seen.settled) {
        return;
    }
    if step.action.is_act() && !case.acted {
        case.acted = true;
        let likeness = seen.key.likeness(seen.facts.process);
        case.over_budget = rule.budget.is_some_and(|budget| !memory.spend(seen.rule, likeness, budget, &seen.moment));
    }
    events.push(Event::Due { case: case.number, step: case.next });
    case.next += 1;
    case.pending = 1;
    told(case, seen);
}

/// Every case and every act is told to people; from then on they are told again only as the rule says.
fn told(case: &mut Case, seen: &Seen<'_>) {
    let reading = case.measure.as_ref().and_then(|measure| measure.reading.clone());
    case.told = Told { at: seen.moment.monotonic, reading };
}

fn remind(rule: &Rule, case: &mut Case, seen: &Seen<'_>, events: &mut Vec<Event>) {
    if !seen.in_hours {
        return;
    }
    let late = rule.again.after.is_some_and(|after| seen.moment.monotonic.saturating_sub(case.told.at) >= after);
    let risen = rule.again.risen.as_ref().is_some_and(|risen| {
        let Some(measure) = &case.measure else { return false };
        let (Some(then), Some(now)) = (&case.told.reading, &measure.reading) else { return false };
        let further = if measure.comparison.is_upward() { now.minus(then) } else { then.minus(now) };
        further.zip(risen.number()).is_some_and(|(further, risen)| further >= risen)
    });
    if late || risen {
        events.push(Event::Remind { case: case.number });
        told(case, seen);
    }
}

/// When the hours of the rule, or of a step taken, are over, what is in force is undone.
fn end_of_hours(rule: &Rule, case: &mut Case, seen: &Seen<'_>, events: &mut Vec<Event>) {
    if !case.has_effect || case.pending > 0 {
        return;
    }
    let taken = rule.ladder.iter().take(case.next).filter(|step| step.action.is_act());
    let over = |step: &crate::rules::Step| !step.hours.covers(seen.moment.wall, seen.zone);
    if !seen.in_hours || taken.into_iter().any(over) {
        case.has_effect = false;
        events.push(Event::HoursEnded { case: case.number });
    }
}

fn due(
    rule: &Rule,
    phase: &mut Phase,
    mut case: Box<Case>,
    seen: &Seen<'_>,
    memory: &mut Memory,
    events: &mut Vec<Event>,
) {
    next_step(rule, &mut case, seen, memory, events);
    *phase = Phase::Open(case);
}

fn is_recent(undone: &Undone, now: &Moment) -> bool {
    now.boottime.saturating_sub(undone.at.boottime) <= RELAPSE
}
