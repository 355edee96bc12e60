//! A case: one number for one story.

use std::collections::VecDeque;
use std::time::Duration;

use jiff::Timestamp;

use super::event::{Event, Stays};
use super::ladder::{Allowance, Choice, Ladder};
use crate::condition::Measure;
use crate::facts::Facts;
use crate::model::{Boot, Moment, Process, ProcessId};
use crate::open::OpenCase;
use crate::rules::{Action, Pick, Revision, Rule, RuleName, Step};
use crate::subject::SubjectKey;
use crate::units::Value;

/// Most readings that a case keeps as evidence.
pub const MOST_POINTS: usize = 32;

/// Why a case is over.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Closing {
    /// It was calm for long enough.
    Calm,
    /// The process ended, or the last of the group.
    Ended,
    /// The rule's `where` no longer covers it.
    Left,
    /// The rule is no longer watched with, or means something else now.
    RuleGone,
}

impl Closing {
    /// Why nothing is done in it any more.
    pub(crate) fn in_words(self) -> &'static str {
        match self {
            Closing::Calm => "it is calm",
            Closing::Ended => "it has ended",
            Closing::Left => "the rule no longer covers it",
            Closing::RuleGone => "its rule is no longer watched with, or means something else now",
        }
    }
}

/// The readings that lead to a breach, the newest last.
pub type Points = VecDeque<(Timestamp, Option<Value>)>;

/// An open case.
#[derive(Debug, Clone, PartialEq)]
pub struct Case {
    /// Its number.
    pub number: u64,
    /// Its rule.
    pub rule: RuleName,
    /// Which subject.
    pub key: SubjectKey,
    /// The process, as last seen; of a group the one that stands for it: a tree's root, else its heaviest. None for a
    /// machine that no process stands for.
    pub lead: Option<Process>,
    /// All its processes, as last seen.
    pub members: Vec<ProcessId>,
    /// Whether it was closed before, and its subject came back under another PID.
    pub returned: bool,
    /// When it opened.
    pub opened: Moment,
    /// Where it stands on its ladder.
    pub ladder: Ladder,
    /// The reading that tells the story, beside its limit, as last judged.
    pub measure: Option<Measure>,
    /// By which quantity its story is told: that of its opening.
    pub told_by: Option<Measure>,
    /// The highest reading of that since the case opened (the lowest, where the limit is a floor).
    pub worst: Option<Value>,
    /// The readings of that field, at most 32.
    pub points: Points,
    /// Whether the breach was true at the last judged tick.
    pub breached: bool,
    /// Whether the breach was true in the last sample itself, also where a suspension of ours touches it.
    pub holds: bool,
    /// How long calm must hold before the case closes.
    pub wait: Duration,
    pub(super) easing: Option<Easing>,
    pub(super) told: Told,
    /// When its subject was last seen, on the boot clock.
    pub(super) last_seen: Duration,
}

/// When people were last told, and of which reading.
#[derive(Debug, Clone, PartialEq, Default)]
pub(super) struct Told {
    pub at: Duration,
    pub reading: Option<Value>,
}

/// Calm so far.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Easing {
    pub held: Duration,
    pub ticks: u32,
}

/// No clock of a case that is gone on with is further than that.
const LONGEST_CLOCK: Duration = Duration::from_secs(400 * 86_400);

impl Case {
    /// A case of the run before, by a rule that judges the same. What was in force has been taken back since: it goes on with
    /// the step that had the effect, where that was the last.
    pub(super) fn restored(kept: &OpenCase, rule: &Rule, revision: Revision, boot: Boot, now: Moment) -> Box<Case> {
        let picked = kept.picked.map(|(pid, start)| ProcessId { pid, start, boot });
        let acted = rule.ladder.iter().take(kept.next).any(|step| step.action.is_act());
        // On whom of several it acted is not known: whoever is picked now has had none of its steps.
        let (next, clock) = match rule.pick != Pick::All && acted && picked.is_none() {
            true => (0, Duration::ZERO),
            false => (kept.next.min(rule.ladder.len()), kept.clock.min(LONGEST_CLOCK)),
        };
        let mut ladder = Ladder::at(next, clock);
        ladder.choice = match picked {
            _ if revision.picks_otherwise => Choice::Withdrawn,
            Some(picked) if rule.pick != Pick::All => Choice::Made(picked),
            _ => Choice::Open,
        };
        ladder.budget = match kept.within_budget {
            None => Allowance::Unasked,
            Some(true) => Allowance::Granted,
            Some(false) => Allowance::Spent,
        };
        let places = |is: fn(Action) -> bool| {
            rule.ladder.iter().enumerate().filter(move |(_, step)| is(step.action)).map(|(place, _)| place)
        };
        let lasts = |action: Action| matches!(action, Action::Lower { .. } | Action::Suspend { .. });
        let again = places(lasts).take_while(|place| *place < next).last().filter(|_| kept.has_effect);
        let first_act = places(Action::is_act).next().filter(|_| revision.arms);
        let first = again.into_iter().chain(first_act).fold(revision.kept.min(next), usize::min);
        ladder.revise(first, rule.ladder.get(first).map(|step| step.at));
        // What may have been done already and is no undoing to repeat is not repeated.
        let repeats = |step: &usize| {
            let action = rule.ladder.get(*step).map(|step| step.action);
            action.is_some_and(|action| action.is_act() && !matches!(action, Action::Restart))
        };
        let under_way = kept.under_way.filter(repeats);
        kept.owed.iter().copied().chain(under_way).for_each(|step| ladder.owes(step, &now));
        ladder.stand_anew();
        let opened = Moment { wall: kept.opened, ..now };
        Box::new(Case {
            number: kept.number,
            rule: rule.name.clone(),
            key: kept.key.subject(boot),
            lead: kept.lead.as_ref().map(|lead| lead.process(boot)),
            members: kept.members.iter().map(|(pid, start)| ProcessId { pid: *pid, start: *start, boot }).collect(),
            returned: kept.returned,
            opened,
            ladder,
            measure: None,
            told_by: None,
            worst: None,
            points: Points::new(),
            breached: false,
            holds: false,
            wait: rule.lasting,
            easing: None,
            told: Told { at: now.monotonic, reading: None },
            // Whoever is found at the next sample was there; of whom is not, nobody knows since when.
            last_seen: Duration::ZERO,
        })
    }

    /// The next step and how much breached time is left until it is due.
    pub(crate) fn upcoming<'r>(&self, rule: &'r Rule) -> Option<(&'r Step, Duration)> {
        rule.ladder.get(self.ladder.next).map(|step| (step, step.at.saturating_sub(self.ladder.clock)))
    }

    /// How its subject is named in lines for people.
    pub fn label(&self) -> String {
        self.key.label(self.lead.as_ref(), self.members.len())
    }

    /// Whether a process is the one that is judged, or one of several.
    pub(crate) fn concerns(&self, id: &ProcessId) -> bool {
        self.members.contains(id) || self.lead.as_ref().is_some_and(|lead| lead.id == *id)
    }

    pub(super) fn seen(&mut self, lead: Option<&Process>, members: &[ProcessId]) {
        match (&mut self.lead, lead) {
            // Names are shared: only the figures are copied.
            (Some(known), Some(lead)) => known.clone_from(lead),
            (known, lead) => *known = lead.cloned(),
        }
        self.members.clear();
        self.members.extend_from_slice(members);
    }

    /// The reading by which its story is told: none, where another quantity is what breaches at present.
    fn of_story(&self) -> Option<&Measure> {
        let told_by = self.told_by.as_ref()?;
        self.measure.as_ref().filter(|measure| measure.quantity == told_by.quantity)
    }

    pub(super) fn read(&mut self, rule: &Rule, facts: &Facts<'_>, members: &[ProcessId], at: Timestamp) {
        self.seen(facts.process, members);
        self.measure = match &self.told_by {
            Some(told_by) => rule.breach.leading_on(told_by, facts),
            None => rule.breach.leading(facts),
        };
        if self.told_by.is_none() {
            self.told_by.clone_from(&self.measure);
        }
        let Some(measure) = self.of_story().cloned() else { return };
        note_point(&mut self.points, Some(&measure), at);
        let Measure { reading: Some(reading), comparison, .. } = measure else { return };
        let worse = self
            .worst
            .as_ref()
            .and_then(|worst| reading.compare(worst))
            .is_none_or(|order| if comparison.is_upward() { order.is_gt() } else { order.is_lt() });
        if worse {
            self.worst = Some(reading);
        }
    }

    /// Its rule does something else from now on. What it did in shadow it has not done: armed, it begins with its first act.
    pub(super) fn revise(&mut self, rule: &Rule, before: &Rule, revision: Revision) -> Option<Event> {
        let Revision { kept, arms, disarms, picks_otherwise: anew, .. } = revision;
        let first_act = rule.ladder.iter().position(|step| step.action.is_act());
        let first = if arms { kept.min(first_act.unwrap_or(kept)) } else { kept };
        let taken = self.ladder.next;
        if first < rule.ladder.len().max(before.ladder.len()) {
            self.ladder.revise(first, rule.ladder.get(first).map(|step| step.at));
        }
        if arms {
            self.ladder.stand_anew();
        }
        // Whoever is picked by another word begins at the first step.
        if anew {
            self.ladder.choice = Choice::Withdrawn;
        }
        let stay = if disarms || anew { 0 } else { first.min(taken) };
        let nice = rule.ladder.iter().take(stay).filter_map(|step| match step.action {
            Action::Lower { nice } => Some(nice),
            _ => None,
        });
        let stays = Stays { nice: nice.max(), before: stay, less: disarms || anew || first < taken };
        Some(Event::Revised { case: self.number, stays })
    }

    /// Every case and every act is told to people; from then on they are told again only as the rule says.
    pub(super) fn now_told(&mut self, at: Duration) {
        let reading = self.measure.as_ref().and_then(|measure| measure.reading.clone());
        self.told = Told { at, reading };
    }
}

/// Keeps the newest readings.
pub(super) fn note_point(points: &mut Points, measure: Option<&Measure>, at: Timestamp) {
    if let Some(measure) = measure {
        if points.len() == MOST_POINTS {
            points.pop_front();
        }
        points.push_back((at, measure.reading.clone()));
    }
}
