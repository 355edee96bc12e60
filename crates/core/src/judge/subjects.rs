//! From a sample to the subjects of a rule, with their windows, and each to its state machine.

use std::collections::BTreeMap;
use std::time::Duration;

use super::counted::Counted;
use super::track::{Hand, Seen, Track};
use super::{CLEAN, Case, Closing, Event, Memory, Named, Pace, RuleStatus, Tick};
use crate::condition::{Condition, InWords, Truth};
use crate::facts::Facts;
use crate::model::{Machine, Moment, Process, ProcessId, Snapshot};
use crate::rules::{Rule, RuleName};
use crate::sorted::SortedSet;
use crate::subject::{SubjectKey, Totals};
use crate::units::Value;
use crate::window::History;

/// A group whose exact memory would decide: the proportional memory of its processes, summed.
#[derive(Debug, Clone, PartialEq)]
pub struct MemoryWish {
    /// The rule.
    pub rule: RuleName,
    /// The group.
    pub key: SubjectKey,
    /// Its processes.
    pub members: Vec<ProcessId>,
    pub(super) resident: u64,
}

/// A part of a condition, as it stands for a subject.
#[derive(Debug, Clone, PartialEq)]
pub struct Part {
    /// In words.
    pub words: String,
    /// Whether it holds.
    pub truth: Truth,
    /// The reading it compares, if it is known.
    pub reading: Option<Value>,
}

/// What is kept of a group between samples.
#[derive(Debug)]
pub(super) struct Kept {
    pub history: History,
    /// What it has counted of each field of which windows keep counts.
    pub counted: Vec<Counted>,
    /// CPU time that a group used since it was first seen.
    pub used: Duration,
    pub exact: Option<Exact>,
    /// The sums of a group at its last tick.
    pub totals: Option<Totals>,
    pub seen: u64,
}

#[derive(Debug, Clone, Copy)]
pub(super) struct Exact {
    pub bytes: u64,
    /// The resident sum at that time.
    pub resident: u64,
    pub tick: u64,
}

/// One rule at one tick.
pub(super) struct Round<'r, 'w> {
    pub rule: &'r Rule,
    pub tick: &'r Tick<'w>,
    pub moment: Moment,
    pub named: Named,
    pub pace: Pace,
    pub number: u64,
    /// Time since the first tick: what windows count.
    pub since_begun: Duration,
    pub every: Duration,
    pub in_hours: bool,
    pub settled: bool,
    pub status: RuleStatus,
    pub memory: &'r mut Memory,
    pub wishes: &'r mut Vec<MemoryWish>,
    pub events: &'r mut Vec<Event>,
    /// Whose CPU rate is not 0, by their places, where rules go by what control groups used.
    pub ran: &'r [usize],
}

/// One rule, all its subjects.
#[derive(Debug, Default)]
pub(super) struct State {
    pub tracks: BTreeMap<SubjectKey, Track>,
    pub groups: BTreeMap<SubjectKey, Kept>,
}

impl State {
    pub fn cases(&self) -> impl Iterator<Item = &Case> {
        self.tracks.values().filter_map(Track::case)
    }

    pub(crate) fn cases_mut(&mut self) -> impl Iterator<Item = &mut Case> {
        self.tracks.values_mut().filter_map(Track::case_mut)
    }

    /// The processes that it has a story with.
    pub fn followed(&self) -> impl Iterator<Item = ProcessId> {
        self.tracks.iter().flat_map(|(key, track)| {
            let own = if let SubjectKey::Process(id) = key { Some(*id) } else { None };
            own.into_iter().chain(track.members().iter().copied())
        })
    }

    /// How many processes a group had at the last sample.
    pub fn members(&self, key: &SubjectKey) -> Option<usize> {
        Some(self.groups.get(key)?.totals.as_ref()?.members())
    }

    pub fn building(&self, key: &SubjectKey) -> Option<Duration> {
        self.tracks.get(key)?.building()
    }

    /// Samples come that far apart from now on.
    pub(crate) fn sampled_every(&mut self, every: Duration) {
        self.groups.values_mut().for_each(|kept| kept.history.fed_every(every));
    }

    /// After a gap what was before it says nothing.
    pub(crate) fn empty_windows(&mut self) {
        self.groups.values_mut().for_each(|kept| kept.history.clear());
    }

    pub fn memory_read(&mut self, wish: &MemoryWish, bytes: u64, tick: u64) {
        if let Some(kept) = self.groups.get_mut(&wish.key) {
            kept.exact = Some(Exact { bytes, resident: wish.resident, tick });
        }
    }

    /// Groups that are gone are forgotten.
    pub fn clean(&mut self, tick: u64) {
        self.groups.retain(|_, kept| kept.seen + CLEAN > tick);
    }

    /// Everything that is open, given up.
    pub fn give_up(&mut self, rule: &RuleName, why: Closing) -> Vec<Event> {
        std::mem::take(&mut self.tracks).into_values().filter_map(|track| track.over(rule, why)).collect()
    }

    /// How each part of the breach stands for a subject, with its windows.
    pub fn parts(
        &self,
        rule: &Rule,
        subject: (&SubjectKey, Option<&Process>),
        windows: Option<&History>,
        machine: &Machine,
    ) -> Vec<Part> {
        let (key, lead) = subject;
        let of_group = self.groups.get(key);
        let history = windows.or(of_group.map(|kept| &kept.history));
        let plain = match (of_group.and_then(|kept| kept.totals.as_ref()), key, lead) {
            (Some(totals), _, Some(lead)) => Facts::of_group(lead, machine, totals),
            (None, SubjectKey::Process(_) | SubjectKey::Machine, Some(lead)) => Facts::new(lead, machine),
            (None, SubjectKey::Machine, None) => Facts::of_machine(machine),
            _ => return Vec::new(),
        };
        let facts = plain.with_history(history);
        let part = |part: &Condition| {
            let reading = part.quantity().and_then(|quantity| facts.quantity(quantity));
            Part { words: InWords(part).to_string(), truth: part.evaluate(&facts), reading }
        };
        rule.breach.parts().into_iter().map(part).collect()
    }

    /// Processes, and roots of trees, that have ended.
    pub(crate) fn drop_the_ended(
        &mut self,
        rule: &RuleName,
        snapshot: &Snapshot,
        memory: &mut Memory,
        every: Duration,
    ) -> Vec<Event> {
        let ended =
            |id: &ProcessId| snapshot.process(id.pid).is_none_or(|process| process.id != *id || process.has_ended());
        let over = |key: &SubjectKey, _: &Track| match key {
            SubjectKey::Process(id) | SubjectKey::Tree(id) => ended(id),
            _ => false,
        };
        self.drop_those(rule, over, memory, every)
    }

    /// Subjects that this tick has not shown any more.
    pub(crate) fn drop_the_gone(
        &mut self,
        rule: &RuleName,
        now: u64,
        memory: &mut Memory,
        every: Duration,
    ) -> Vec<Event> {
        self.drop_those(rule, |_, track| track.last_seen != now, memory, every)
    }

    fn drop_those(
        &mut self,
        rule: &RuleName,
        over: impl Fn(&SubjectKey, &Track) -> bool,
        memory: &mut Memory,
        every: Duration,
    ) -> Vec<Event> {
        let gone: Vec<SubjectKey> =
            self.tracks.iter().filter(|(key, track)| over(key, track)).map(|(key, _)| key.clone()).collect();
        let mut events = Vec::new();
        for track in gone.into_iter().filter_map(|key| self.tracks.remove(&key)) {
            if let Some(unripe) = track.unripe(rule, every) {
                memory.ended_early(unripe);
            }
            events.extend(track.over(rule, Closing::Ended));
        }
        events
    }
}

impl Round<'_, '_> {
    pub fn see(
        &mut self,
        tracks: &mut BTreeMap<SubjectKey, Track>,
        key: &SubjectKey,
        members: &[ProcessId],
        facts: &Facts<'_>,
        covered: Truth,
        truth: Truth,
    ) {
        let among = |ids: &SortedSet<ProcessId>| members.iter().any(|id| ids.contains(id));
        let hand = match among(self.tick.suspended) {
            true => Hand::Suspending,
            false if among(self.tick.busy) => Hand::Acting,
            false => Hand::Off,
        };
        let track = match tracks.get_mut(key) {
            Some(track) => track,
            None if truth == Truth::True && hand != Hand::Suspending => tracks.entry(key.clone()).or_default(),
            None => return,
        };
        let seen = Seen {
            key,
            members,
            facts,
            covered,
            truth,
            hand,
            moment: self.moment,
            pace: self.pace,
            in_hours: self.in_hours,
            held_back: self.tick.back.covers(&self.rule.name, members),
            settled: self.settled,
            zone: self.tick.zone,
            tick: self.number,
        };
        track.see(self.rule, &seen, self.memory, self.events);
        if track.is_forgettable(&seen.moment) {
            tracks.remove(key);
        }
    }
}
