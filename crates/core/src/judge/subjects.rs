//! From a sample to the subjects of a rule, with their windows, and each to its state machine.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::time::Duration;

use super::track::{Hand, Seen, Track};
use super::{Case, Closing, Event, Memory, Pace, RuleStatus, Tick};
use crate::condition::{Condition, InWords, Truth};
use crate::facts::Facts;
use crate::groups::{Group, Grouping, groups};
use crate::model::{Field, Machine, Process, ProcessId, Snapshot, slice_of};
use crate::rules::{Rule, RuleName};
use crate::subject::{Judged, SubjectKey, Totals};
use crate::units::Value;
use crate::window::History;

/// Windows of subjects that are gone are dropped every so many ticks.
const CLEAN: u64 = 32;

/// Exact memory is read again when the resident sum has moved by this share.
const MOVED: f64 = 0.02;

/// And after so many ticks.
const STALE: u64 = 10;

/// A group whose exact memory would decide: the proportional memory of its processes, summed.
#[derive(Debug, Clone, PartialEq)]
pub struct MemoryWish {
    /// The rule.
    pub rule: RuleName,
    /// The group.
    pub key: SubjectKey,
    /// Its processes.
    pub members: Vec<ProcessId>,
    resident: u64,
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

/// What is kept of a process between samples: there are many.
#[derive(Debug)]
struct OfProcess {
    history: History,
    seen: u64,
}

/// What is kept of a group between samples.
#[derive(Debug)]
struct Kept {
    history: History,
    /// CPU time that a group used since it was first seen.
    used: Duration,
    exact: Option<Exact>,
    /// The sums of a group at its last tick.
    totals: Option<Totals>,
    seen: u64,
}

#[derive(Debug, Clone, Copy)]
struct Exact {
    bytes: u64,
    /// The resident sum at that time.
    resident: u64,
    tick: u64,
}

/// One rule at one tick.
pub(super) struct Round<'r, 't> {
    pub rule: &'r Rule,
    pub tick: &'r Tick<'t>,
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
}

/// One rule, all its subjects.
#[derive(Debug, Default)]
pub(super) struct State {
    tracks: BTreeMap<SubjectKey, Track>,
    processes: HashMap<ProcessId, OfProcess>,
    groups: BTreeMap<SubjectKey, Kept>,
}

impl State {
    pub fn cases(&self) -> impl Iterator<Item = &Case> {
        self.tracks.values().filter_map(Track::case)
    }

    pub(crate) fn cases_mut(&mut self) -> impl Iterator<Item = &mut Case> {
        self.tracks.values_mut().filter_map(Track::case_mut)
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
        self.processes.values_mut().for_each(|kept| kept.history.fed_every(every));
        self.groups.values_mut().for_each(|kept| kept.history.fed_every(every));
    }

    /// After a gap what was before it says nothing.
    pub(crate) fn empty_windows(&mut self) {
        self.processes.values_mut().for_each(|kept| kept.history.clear());
        self.groups.values_mut().for_each(|kept| kept.history.clear());
    }

    pub fn memory_read(&mut self, wish: &MemoryWish, bytes: u64, tick: u64) {
        if let Some(kept) = self.groups.get_mut(&wish.key) {
            kept.exact = Some(Exact { bytes, resident: wish.resident, tick });
        }
    }

    /// Everything that is open, given up.
    pub fn give_up(&mut self, rule: &RuleName, why: Closing) -> Vec<Event> {
        std::mem::take(&mut self.tracks).into_values().filter_map(|track| track.over(rule, why)).collect()
    }

    pub fn judge(&mut self, round: &mut Round<'_, '_>) {
        match round.rule.judge {
            Judged::Process => self.judge_processes(round),
            Judged::Machine => self.judge_machine(round),
            _ => self.judge_groups(round),
        }
        if round.number.is_multiple_of(CLEAN) {
            self.processes.retain(|_, kept| kept.seen + CLEAN > round.number);
            self.groups.retain(|_, kept| kept.seen + CLEAN > round.number);
        }
    }

    fn judge_processes(&mut self, round: &mut Round<'_, '_>) {
        let (rule, tick) = (round.rule, round.tick);
        let windowed = !rule.windows.is_empty();
        let now = round.since_begun;
        for process in &tick.snapshot.processes {
            if process.has_ended() || tick.only.is_some_and(|only| !only.contains(&process.id)) {
                continue;
            }
            let plain = Facts::new(process, &tick.snapshot.machine);
            let covered = rule.covering(&plain);
            if covered == Truth::False && self.tracks.is_empty() {
                continue;
            }
            let suspended = tick.suspended.contains(&process.id);
            let kept = (windowed && covered == Truth::True).then(|| {
                let kept = self
                    .processes
                    .entry(process.id)
                    .or_insert_with(|| OfProcess { history: History::new(&rule.windows, round.every), seen: 0 });
                kept.seen = round.number;
                // While it is suspended by us its readings say nothing about it.
                if !suspended {
                    kept.history.feed(&rule.windows, now, &plain);
                }
                &*kept
            });
            let facts = plain.with_history(kept.map(|kept| &kept.history));
            let truth = if covered == Truth::True { rule.breach.evaluate(&facts) } else { Truth::Unknown };
            round.count(&facts, covered, truth);
            if truth != Truth::True && self.tracks.is_empty() {
                continue;
            }
            let key = SubjectKey::Process(process.id);
            round.see(&mut self.tracks, &key, std::slice::from_ref(&process.id), &facts, covered, truth);
        }
    }

    fn judge_groups(&mut self, round: &mut Round<'_, '_>) {
        let (rule, tick) = (round.rule, round.tick);
        let covered = round.covered();
        let mut found = of_rule(rule.judge, &tick.snapshot.processes, &covered);
        let by_memory = !rule.breach.fields().iter().any(|field| matches!(field, Field::Cpu | Field::CpuPart));
        let wants_memory = rule.fields().iter().any(|field| matches!(field, Field::Memory | Field::MemoryPart));
        for (key, group) in &mut found {
            let lead = if rule.judge == Judged::Tree { group.members[0] } else { group.heaviest(by_memory) };
            let members: Vec<ProcessId> = group.members.iter().map(|process| process.id).collect();
            let suspended = members.iter().any(|id| tick.suspended.contains(id));
            let kept = self.groups.entry(key.clone()).or_insert_with(|| new(rule, round.every));
            kept.seen = round.number;
            let mut totals = Totals::of(group, rule.judge, None);
            let with_unseen = with_unseen(rule, key, &members, &totals, tick.snapshot);
            totals.at_least(with_unseen);
            if let Some((cpu, interval)) = totals.cpu().zip(tick.snapshot.interval) {
                // A recording may claim anything: no machine has a million cores.
                kept.used = kept.used.saturating_add(interval.mul_f64(cpu.clamp(0.0, 1e8) / 100.0));
            }
            totals.used = kept.used;
            let machine = &tick.snapshot.machine;
            if wants_memory && let Some(resident) = totals.upper_bound() {
                let facts = Facts::of_group(lead, machine, &totals).with_history(Some(&kept.history));
                // Only where the bound decides nothing is the exact figure worth its price.
                let undecided = |condition: &Condition| condition.evaluate(&facts) == Truth::Unknown;
                if undecided(&rule.breach) || rule.calm.as_ref().is_some_and(undecided) {
                    let moved =
                        |exact: &Exact| exact.resident.abs_diff(resident) as f64 > exact.resident as f64 * MOVED;
                    if kept.exact.as_ref().is_none_or(|exact| moved(exact) || exact.tick + STALE <= round.number) {
                        let (rule, key, members) = (rule.name.clone(), key.clone(), members.clone());
                        round.wishes.push(MemoryWish { rule, key, members, resident });
                    }
                    if let Some(exact) = kept.exact {
                        totals = Totals::of(group, rule.judge, Some(exact.bytes));
                        totals.at_least(with_unseen);
                        totals.used = kept.used;
                    }
                } else {
                    kept.exact = None;
                }
            }
            let plain = Facts::of_group(lead, machine, &totals);
            if !suspended {
                kept.history.feed(&rule.windows, round.since_begun, &plain);
            }
            let facts = plain.with_history(Some(&kept.history));
            let truth = rule.breach.evaluate(&facts);
            round.count_breach(&facts, truth);
            round.see(&mut self.tracks, key, &members, &facts, Truth::True, truth);
            kept.totals = Some(totals);
        }
    }

    /// How each part of the breach stands for a subject, with its windows.
    pub fn parts(&self, rule: &Rule, key: &SubjectKey, lead: Option<&Process>, machine: &Machine) -> Vec<Part> {
        let of_group = self.groups.get(key);
        let history = match key {
            SubjectKey::Process(id) => self.processes.get(id).map(|kept| &kept.history),
            _ => of_group.map(|kept| &kept.history),
        };
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

    fn judge_machine(&mut self, round: &mut Round<'_, '_>) {
        let (rule, tick) = (round.rule, round.tick);
        let machine = &tick.snapshot.machine;
        let covered = if rule.covers.is_some() { round.covered() } else { Vec::new() };
        let members: Vec<&Process> =
            tick.snapshot.processes.iter().filter(|process| covered.binary_search(&process.id.pid).is_ok()).collect();
        let ids: Vec<ProcessId> = members.iter().map(|process| process.id).collect();
        let group = Group { name: String::new(), owner: String::new(), members };
        // Without processes of its own nobody stands for the machine.
        let lead = (!ids.is_empty()).then(|| group.heaviest(true));
        let kept = self.groups.entry(SubjectKey::Machine).or_insert_with(|| new(rule, round.every));
        kept.seen = round.number;
        let plain = lead.map_or_else(|| Facts::of_machine(machine), |lead| Facts::new(lead, machine));
        if !ids.iter().any(|id| tick.suspended.contains(id)) {
            kept.history.feed(&rule.windows, round.since_begun, &plain);
        }
        let facts = plain.with_history(Some(&kept.history));
        let truth = rule.breach.evaluate(&facts);
        round.count_breach(&facts, truth);
        round.see(&mut self.tracks, &SubjectKey::Machine, &ids, &facts, Truth::True, truth);
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

/// CPU that the kernel counts for a unit, or for the slice of an owner, percent of one core: also of processes that ended before
/// they were seen, or what they used as it told of them. What is seen of others in there is not theirs; and where the rule goes by
/// more than whose it is, who was not seen may be somebody else.
fn with_unseen(rule: &Rule, key: &SubjectKey, members: &[ProcessId], totals: &Totals, snapshot: &Snapshot) -> f64 {
    let goes_by_program = |covers: &Condition| covers.fields().iter().any(|field| !field.is_whose());
    if rule.covers.as_ref().is_some_and(goes_by_program) {
        return 0.0;
    }
    let machine = &snapshot.machine;
    let (group, passing) = match key {
        SubjectKey::Unit(path) => (path.clone(), 0.0),
        SubjectKey::Owner(uid) => (slice_of(*uid), machine.passing_cpu(*uid)),
        _ => return 0.0,
    };
    let seen = totals.cpu().unwrap_or(0.0);
    let Some(all) = machine.group_cpu(&group) else { return seen + passing };
    let is_in = |process: &Process| {
        let below = process.group.as_deref().and_then(|path| path.strip_prefix(&*group));
        below.is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
    };
    let members: BTreeSet<&ProcessId> = members.iter().collect();
    // What is his outside of it comes to it, and what is others' in it does not.
    let beside = snapshot.processes.iter().filter_map(|process| {
        let cpu = process.cpu.filter(|cpu| *cpu > 0.0)?;
        match (is_in(process), members.contains(&process.id)) {
            (true, false) => Some(-cpu),
            (false, true) => Some(cpu),
            _ => None,
        }
    });
    all + beside.sum::<f64>()
}

fn new(rule: &Rule, every: Duration) -> Kept {
    Kept { history: History::new(&rule.windows, every), used: Duration::ZERO, exact: None, totals: None, seen: 0 }
}

impl Round<'_, '_> {
    /// Whom the rule's `where` covers: their PIDs, in the order of the snapshot, which is that of PIDs.
    fn covered(&mut self) -> Vec<u32> {
        let mut covered = Vec::new();
        for process in &self.tick.snapshot.processes {
            if process.has_ended() || self.tick.only.is_some_and(|only| !only.contains(&process.id)) {
                continue;
            }
            let facts = Facts::new(process, &self.tick.snapshot.machine);
            match self.rule.covering(&facts) {
                // Whose program is not known yet is of no app.
                Truth::True if self.rule.judge == Judged::App && process.app_unread() => {
                    self.status.undecided += 1;
                    self.status.late += 1;
                }
                Truth::True => {
                    self.status.covered += 1;
                    covered.push(process.id.pid);
                }
                truth => self.count(&facts, truth, Truth::False),
            }
        }
        covered
    }

    fn count(&mut self, facts: &Facts<'_>, covered: Truth, truth: Truth) {
        match covered {
            Truth::False => (),
            Truth::Unknown => {
                self.status.undecided += 1;
                let unreadable = self.rule.covers.iter().flat_map(|condition| condition.unreadable(facts)).collect();
                self.cannot_read(facts, unreadable);
            }
            Truth::True => {
                self.status.covered += 1;
                self.count_breach(facts, truth);
            }
        }
    }

    /// A breach that could not be decided, and for want of what.
    fn count_breach(&mut self, facts: &Facts<'_>, truth: Truth) {
        if truth == Truth::Unknown {
            self.status.unjudged += 1;
            self.cannot_read(facts, self.rule.breach.unreadable(facts));
        }
    }

    /// What was only late is told apart from what cannot be read.
    fn cannot_read(&mut self, facts: &Facts<'_>, mut fields: Vec<Field>) {
        if facts.process.is_some_and(|process| process.command_unread) {
            let all = fields.len();
            fields.retain(|field| !matches!(field, Field::App | Field::Command));
            self.status.late += usize::from(fields.len() < all);
        }
        self.status.unreadable.extend(fields);
    }

    fn see(
        &mut self,
        tracks: &mut BTreeMap<SubjectKey, Track>,
        key: &SubjectKey,
        members: &[ProcessId],
        facts: &Facts<'_>,
        covered: Truth,
        truth: Truth,
    ) {
        let among = |ids: &BTreeSet<ProcessId>| members.iter().any(|id| ids.contains(id));
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
            moment: self.tick.snapshot.moment,
            pace: self.pace,
            in_hours: self.in_hours,
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

/// The groups of a rule: of those it covers; a tree of all that descend from one it covers.
fn of_rule<'s>(judge: Judged, processes: &'s [Process], covered: &[u32]) -> Vec<(SubjectKey, Group<'s>)> {
    if covered.is_empty() {
        return Vec::new();
    }
    if judge == Judged::Tree {
        let trees = groups(processes, Grouping::Tree, |process| covered.binary_search(&process.id.pid).is_ok());
        return trees.into_iter().map(|group| (SubjectKey::Tree(group.members[0].id), group)).collect();
    }
    let mut found: BTreeMap<SubjectKey, Group<'s>> = BTreeMap::new();
    for process in processes.iter().filter(|process| covered.binary_search(&process.id.pid).is_ok()) {
        let Some(key) = judge.key_of(process) else { continue };
        let group = || Group { name: process.app.clone(), owner: process.owner.clone(), members: Vec::new() };
        found.entry(key).or_insert_with(group).members.push(process);
    }
    found.into_iter().collect()
}
