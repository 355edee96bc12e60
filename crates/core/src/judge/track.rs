//! One rule on one subject: the state machine.

use std::time::Duration;

use jiff::tz::TimeZone;

use super::case::{Case, Closing, Easing, Points, Told, note_point};
use super::ladder::{Allowance, Interval, Ladder};
use super::returns::{Gone, Memory, Unripe};
use super::{Event, LONGEST_WAIT, Pace, RELAPSE};
use crate::condition::Truth;
use crate::facts::Facts;
use crate::model::{Moment, ProcessId};
use crate::rules::{Action, Pick, Rule, RuleName};
use crate::subject::{Likeness, SubjectKey};

/// What one tick shows of one subject to one rule.
pub(super) struct Seen<'a> {
    pub key: &'a SubjectKey,
    pub members: &'a [ProcessId],
    pub facts: &'a Facts<'a>,
    pub covered: Truth,
    pub truth: Truth,
    pub hand: Hand,
    pub moment: Moment,
    pub pace: Pace,
    /// Whether these are hours of the rule.
    pub in_hours: bool,
    /// Whether its rule stands back from it.
    pub held_back: bool,
    /// Whether acts may begin: not right after a start or a nap.
    pub settled: bool,
    pub zone: &'a TimeZone,
    /// The number of the tick.
    pub tick: u64,
}

impl Seen<'_> {
    /// How long ago its process began, where it is one: groups have no beginning.
    fn age(&self) -> Option<Duration> {
        match self.key {
            SubjectKey::Process(_) | SubjectKey::Tree(_) => self.facts.process.map(|process| process.age),
            _ => None,
        }
    }
}

/// The hand that we have in a subject at a tick.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Hand {
    /// None.
    Off,
    /// An act of ours is under way: no step falls due.
    Acting,
    /// A suspension of ours was in force: nothing is judged.
    Suspending,
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
    /// What it is like, and when it was last seen in breach: whoever comes after it goes on with it.
    likeness: Option<Likeness>,
    seen: Duration,
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
    /// A case of the run before: what passed since then nobody judged.
    pub fn of(case: Box<Case>) -> Track {
        Track { phase: Phase::Open(case), before: Truth::Unknown, ..Track::default() }
    }

    pub fn case(&self) -> Option<&Case> {
        match &self.phase {
            Phase::Open(case) => Some(case),
            _ => None,
        }
    }

    pub(crate) fn case_mut(&mut self) -> Option<&mut Case> {
        match &mut self.phase {
            Phase::Open(case) => Some(case),
            _ => None,
        }
    }

    /// The processes of what is told.
    pub(crate) fn members(&self) -> &[ProcessId] {
        match &self.phase {
            Phase::Within => &[],
            Phase::Building(building) => &building.members,
            Phase::Open(case) => &case.members,
        }
    }

    pub(crate) fn is_forgettable(&self, now: &Moment) -> bool {
        matches!(self.phase, Phase::Within) && !self.undone.is_some_and(|undone| is_recent(&undone, now))
    }

    /// Its rule acts from now on: a breach has to hold for `lasting` from here.
    pub(super) fn arm(&mut self) {
        if let Phase::Building(building) = &mut self.phase {
            building.held = Duration::ZERO;
        }
    }

    /// How long the breach has held so far, while no case is open.
    pub fn building(&self) -> Option<Duration> {
        match &self.phase {
            Phase::Building(building) => Some(building.held),
            _ => None,
        }
    }

    /// A breach that was building up when its subject ended, for whoever comes after it.
    pub fn unripe(&self, rule: &RuleName, every: Duration) -> Option<Unripe> {
        let Phase::Building(building) = &self.phase else { return None };
        let (likeness, seen) = (building.likeness.clone()?, building.seen);
        let (held, points) = (building.held, building.points.clone());
        Some(Unripe { rule: rule.clone(), likeness, held, points, seen, until: seen + every * 3 })
    }

    /// What is said when the subject has ended, or its rule is no longer watched with.
    pub fn over(self, rule: &RuleName, why: Closing) -> Option<Event> {
        match self.phase {
            Phase::Within => None,
            Phase::Building(building) => Some(Event::Abandoned { rule: rule.clone(), members: building.members }),
            Phase::Open(case) => Some(Event::Closed { case, why }),
        }
    }

    /// One tick. While a suspension of ours touches the interval nothing is judged: only the ladder's clock runs on.
    pub fn see(&mut self, rule: &Rule, seen: &Seen<'_>, memory: &mut Memory, events: &mut Vec<Event>) {
        self.last_seen = seen.tick;
        if let Phase::Open(case) = &mut self.phase {
            case.last_seen = seen.moment.boottime;
            case.holds = seen.truth == Truth::True;
        }
        if seen.hand == Hand::Suspending {
            if let Phase::Open(case) = &mut self.phase {
                case.seen(seen.facts.process, seen.members);
                end_of_hours(rule, case, seen, events);
                case.ladder.suspended(seen.pace.counts);
            }
            return;
        }
        if matches!(self.phase, Phase::Within) && seen.truth == Truth::True {
            if !seen.in_hours {
                return;
            }
            let likeness = || seen.key.likeness(seen.facts.process);
            let before = memory.take_over(&rule.name, likeness, seen.age(), &seen.moment);
            self.before = if before.is_some() { Truth::True } else { Truth::False };
            let (held, points) = before.map_or_else(Default::default, |before| (before.held, before.points));
            let likeness = Some(likeness());
            let members = seen.members.to_vec();
            self.phase = Phase::Building(Building { held, points, members, likeness, ..Building::default() });
            events.push(Event::Building { rule: rule.name.clone(), members: seen.members.to_vec() });
        }
        if let Phase::Building(building) = &mut self.phase {
            match building.see(rule, seen, self.before) {
                Progress::On => {}
                Progress::Dropped => {
                    let members = std::mem::take(&mut building.members);
                    self.phase = Phase::Within;
                    events.push(Event::Abandoned { rule: rule.name.clone(), members });
                }
                Progress::Confirmed => {
                    let points = std::mem::take(&mut building.points);
                    let held = building.held;
                    let likeness = seen.key.likeness(seen.facts.process);
                    let gone = memory.come_back(&rule.name, &likeness, seen.age(), &seen.moment);
                    let number = gone.as_ref().map_or_else(|| memory.next_number(), |gone| gone.number);
                    let case = self.open(rule, seen, number, gone.map(|gone| (gone, held)), points);
                    events.push(Event::Opened { case: case.number });
                    due(rule, &mut self.phase, case, seen, memory, events);
                }
            }
        } else if let Phase::Open(case) = &mut self.phase
            && let Some(why) = go_on(rule, case, seen, self.before, memory, events)
        {
            self.close(why, seen, events);
        }
        // The interval in which rules cease to stand back counts as little as those before it.
        let still = seen.held_back && matches!(self.phase, Phase::Open(_));
        self.before = if still { Truth::Unknown } else { seen.truth };
    }

    /// `gone` is the case that it goes on with, and how long the breach has held since.
    fn open(
        &self,
        rule: &Rule,
        seen: &Seen<'_>,
        number: u64,
        gone: Option<(Gone, Duration)>,
        points: Points,
    ) -> Box<Case> {
        let relapse = self.undone.filter(|undone| is_recent(undone, &seen.moment));
        let wait = relapse.map_or(rule.lasting, |undone| (undone.wait * 2).min(LONGEST_WAIT).max(rule.lasting));
        // Back under another PID it goes on at the step it had reached, whose effect ended with it, and where its clock stood:
        // else whoever forks and exits in time would never come to the next.
        let next = gone.as_ref().map_or(0, |(gone, _)| gone.next.saturating_sub(1));
        let clock = gone.as_ref().map_or(Duration::ZERO, |(gone, held)| gone.clock + *held);
        let mut case = Box::new(Case {
            number,
            rule: rule.name.clone(),
            key: seen.key.clone(),
            lead: None,
            members: seen.members.to_vec(),
            returned: gone.is_some(),
            opened: seen.moment,
            ladder: Ladder::at(next, clock),
            measure: None,
            told_by: None,
            worst: None,
            points,
            breached: true,
            holds: true,
            wait,
            easing: None,
            told: Told::default(),
            last_seen: seen.moment.boottime,
        });
        // The newest point is this tick's: reading adds it again.
        case.points.pop_back();
        case.read(rule, seen.facts, seen.members, seen.moment.wall);
        case.now_told(seen.moment.monotonic);
        case
    }

    fn close(&mut self, why: Closing, seen: &Seen<'_>, events: &mut Vec<Event>) {
        if let Phase::Open(case) = std::mem::take(&mut self.phase) {
            if case.ladder.has_effect {
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
        if seen.truth == Truth::True {
            self.seen = seen.moment.boottime;
        }
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
    end_of_hours(rule, case, seen, events);
    case.breached = seen.truth == Truth::True;
    if seen.covered == Truth::False && !case.ladder.is_awaiting() {
        return Some(Closing::Left);
    }
    let runs = seen.in_hours && !seen.held_back;
    let advances = seen.truth == Truth::True && before == Truth::True && !seen.pace.is_gap() && runs;
    let (counts, passed) = (seen.pace.counts, seen.pace.passed);
    case.ladder.run(&Interval { truth: seen.truth, advances, counts, passed }, rule.lasting);
    case.ladder.keep_the_choice(seen.members);
    if seen.truth == Truth::True {
        if case.easing.take().is_some() {
            events.push(Event::BreachedAgain { case: case.number });
        }
        let steps = events.len();
        go_on_with_the_new(rule, case, seen);
        next_step(rule, case, seen, memory, events);
        if events.len() == steps && advances {
            try_again(rule, case, seen, memory, events);
        }
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
            let over = easing.held >= case.wait && easing.ticks >= 2 && !case.ladder.is_awaiting();
            over.then_some(Closing::Calm)
        }
    }
}

/// One step a tick; none while an outcome is awaited, and after a suspension of ours none before one whole interval
/// in breach.
fn next_step(rule: &Rule, case: &mut Case, seen: &Seen<'_>, memory: &mut Memory, events: &mut Vec<Event>) {
    let Some(step) = rule.ladder.get(case.ladder.next) else { return };
    if !step.hours.covers(seen.moment.wall, seen.zone) {
        case.ladder.bar();
        return;
    }
    if step.action.is_act() && case.ladder.holds_back(seen.moment.monotonic) {
        return;
    }
    let held_up = !case.ladder.is_firm() || seen.hand == Hand::Acting || !seen.in_hours;
    if held_up || case.ladder.clock < step.at || (step.action.is_act() && !seen.settled) {
        return;
    }
    take(rule, case, case.ladder.next, seen, memory, events);
    case.ladder.next += 1;
    case.now_told(seen.moment.monotonic);
}

/// A group's ladder is not used up by those of it who were there first. What starts a unit anew is done once, and whoever was lowered has
/// children that are.
fn go_on_with_the_new(rule: &Rule, case: &mut Case, seen: &Seen<'_>) {
    let Some(last) = rule.ladder.len().checked_sub(1) else { return };
    let ends = matches!(rule.ladder[last].action, Action::Terminate { .. } | Action::Suspend { .. });
    if ends && rule.pick == Pick::All && !matches!(seen.key, SubjectKey::Process(_)) {
        // A tree is ended at its root.
        let root = match (seen.key, rule.ladder[last].action) {
            (SubjectKey::Tree(root), Action::Terminate { .. }) => Some(*root),
            _ => None,
        };
        let members = root.as_ref().map_or(seen.members, std::slice::from_ref);
        case.ladder.goes_on_with(last, members, &seen.moment);
    }
}

/// A step that could not be taken is due again after its pause, while the breach holds; of several the furthest.
fn try_again(rule: &Rule, case: &mut Case, seen: &Seen<'_>, memory: &mut Memory, events: &mut Vec<Event>) {
    if !case.ladder.is_steady(rule.lasting) || seen.hand == Hand::Acting || !seen.in_hours {
        return;
    }
    let acts = seen.settled && !case.ladder.holds_back(seen.moment.monotonic);
    let may = |step: usize| {
        let step = rule.ladder.get(step);
        step.is_some_and(|step| step.hours.covers(seen.moment.wall, seen.zone) && (!step.action.is_act() || acts))
    };
    if let Some(step) = case.ladder.tried_again(seen.moment.monotonic, may) {
        take(rule, case, step, seen, memory, events);
    }
}

fn take(rule: &Rule, case: &mut Case, place: usize, seen: &Seen<'_>, memory: &mut Memory, events: &mut Vec<Event>) {
    let acts = rule.ladder.get(place).is_some_and(|step| step.action.is_act());
    if acts && case.ladder.budget == Allowance::Unasked {
        let likeness = seen.key.likeness(seen.facts.process);
        let spent = rule.budget.is_some_and(|budget| !memory.spend(&rule.name, likeness, budget, &seen.moment));
        case.ladder.budget = if spent { Allowance::Spent } else { Allowance::Granted };
    }
    events.push(Event::Due { case: case.number, step: place });
    case.ladder.trying = Some(place);
    case.ladder.awaits(1);
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
        case.now_told(seen.moment.monotonic);
    }
}

/// When the hours of the rule, or of a step taken, are over, what is in force is undone.
fn end_of_hours(rule: &Rule, case: &mut Case, seen: &Seen<'_>, events: &mut Vec<Event>) {
    if !case.ladder.has_effect || case.ladder.is_awaiting() {
        return;
    }
    let taken = rule.ladder.iter().take(case.ladder.next).filter(|step| step.action.is_act());
    let over = |step: &crate::rules::Step| !step.hours.covers(seen.moment.wall, seen.zone);
    if !seen.in_hours || taken.into_iter().any(over) {
        case.ladder.has_effect = false;
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
