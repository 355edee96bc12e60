//! Rules that judge several processes as one: their sums, read as far as the outcome hangs on them.

use std::collections::BTreeMap;
use std::time::Duration;

use super::counted::Counted;
use super::covers::Covers;
use super::processes::seed;
use super::sight::{Sight, needed};
use super::subjects::{Exact, Kept, MemoryWish, Round, State};
use super::{RuleStatus, Tick};
use crate::condition::{Condition, Truth};
use crate::facts::Facts;
use crate::groups::{Group, Grouping, groups};
use crate::model::{Cost, Needs, Process, ProcessId, Snapshot, slice_of};
use crate::order::InOrder;
use crate::rules::Rule;
use crate::sorted::SortedSet;
use crate::subject::{Judged, SubjectKey, Totals};
use crate::window::History;

/// Exact memory is read again when the resident sum has moved by this share.
const MOVED: f64 = 0.02;

/// And after so many ticks.
const STALE: u64 = 10;

/// Whom rules that judge groups cover: those with the same `where` share it.
#[derive(Debug)]
pub(super) struct Covered {
    /// Their places in the sample, which is in the order of PIDs.
    places: Vec<usize>,
    status: RuleStatus,
    /// In their groups.
    groups: Vec<Members>,
}

/// The members of a group.
#[derive(Debug)]
struct Members {
    key: SubjectKey,
    places: Vec<usize>,
    ids: Vec<ProcessId>,
    summed: Option<Summed>,
}

/// What they come to, after so many readings.
#[derive(Debug, Clone, Copy)]
struct Summed {
    totals: Totals,
    /// Who stands for them: who uses most CPU, and who has most memory.
    leads: [usize; 2],
    reads: u64,
}

/// Whom a rule covers by the `where` of that place.
pub(super) fn covered(
    rule: &Rule,
    place: Option<usize>,
    covers: &mut Covers,
    sight: &mut Sight<'_>,
    tick: &Tick<'_>,
) -> Covered {
    let (mut places, mut status) = (Vec::new(), RuleStatus::default());
    for at in 0..sight.snapshot().processes.len() {
        let process = sight.process(at);
        if process.has_ended() || tick.leaves_out(&process.id) {
            continue;
        }
        match place.map_or(Truth::True, |place| covers.settle(place, sight, at)) {
            // Whose program is not known yet is of no app.
            Truth::True if rule.judge == Judged::App && sight.process(at).app_unread() => {
                status.undecided += 1;
                status.late += 1;
            }
            Truth::True => {
                status.covered += 1;
                places.push(at);
            }
            Truth::Unknown => status.not_decided(rule, &sight.facts(at)),
            Truth::False => {}
        }
    }
    let groups = match rule.judge {
        Judged::Machine => Vec::new(),
        judge => of_rule(judge, sight.snapshot(), &places),
    };
    Covered { places, status, groups }
}

impl Covered {
    pub fn status(&self) -> RuleStatus {
        self.status.clone()
    }

    /// Whether there was no doubt about anybody.
    pub fn is_decided(&self) -> bool {
        self.status.undecided == 0
    }

    /// Of the next sample, where they are the same.
    pub fn go_on(&mut self) {
        self.groups.iter_mut().for_each(|members| members.summed = None);
    }
}

/// One group under one rule at one tick.
struct OfGroup<'k> {
    of: &'k mut Members,
    rule: &'k Rule,
    leads_by_cpu: bool,
    /// CPU of it that nobody saw, and what it has used since it was first seen.
    unseen: f64,
    used: Duration,
}

impl OfGroup<'_> {
    fn ids(&self) -> &[ProcessId] {
        &self.of.ids
    }

    fn summed(&mut self, sight: &Sight<'_>) -> Summed {
        let reads = sight.reads();
        if let Some(known) = self.of.summed.filter(|known| known.reads == reads) {
            return known;
        }
        let members: Vec<&Process> = self.of.places.iter().map(|at| sight.process(*at)).collect();
        let group = Group { name: String::new(), owner: String::new(), members };
        let place = |lead: &Process| group.members.iter().position(|one| std::ptr::eq(*one, lead)).unwrap_or(0);
        let leads = [false, true].map(|by_memory| self.of.places[place(group.heaviest(by_memory))]);
        *self.of.summed.insert(Summed { totals: Totals::of(&group, self.rule.judge), leads, reads })
    }

    fn totals(&mut self, sight: &Sight<'_>, counted: &[Counted], exact: Option<u64>) -> Totals {
        let mut totals = self.summed(sight).totals.with_exact(exact);
        totals.at_least(self.unseen);
        totals.used = self.used;
        if !counted.is_empty() {
            let members = self.in_order(sight);
            counted.iter().for_each(|counted| totals.counted(counted.field(), counted.now(&members)));
        }
        totals
    }

    /// The members in the order of PIDs.
    fn in_order<'s>(&self, sight: &'s Sight<'_>) -> Vec<&'s Process> {
        let mut members: Vec<&Process> = self.of.places.iter().map(|at| sight.process(*at)).collect();
        if self.rule.judge == Judged::Tree {
            members.sort_unstable_by_key(|process| process.id.pid);
        }
        members
    }

    fn facts<'s>(&mut self, sight: &'s Sight<'_>, totals: &'s Totals) -> Facts<'s> {
        // A group has a member.
        let lead = match self.rule.judge {
            Judged::Tree => self.of.places[0],
            _ => self.summed(sight).leads[usize::from(!self.leads_by_cpu)],
        };
        Facts::of_group(sight.process(lead), &sight.snapshot().machine, totals).carrying()
    }

    /// Reads of some members what was read before they last ran; of memory first of those who can have grown most. Whether there
    /// was any.
    fn read(&self, sight: &mut Sight<'_>, needs: Needs, most: usize) -> bool {
        let slack = |process: &Process| match needs.has(Cost::Status) {
            true => process.at_most(true).map(|most| most.saturating_sub(process.memory_held.unwrap_or(0))),
            false => process.at_most(false).map(|most| most.saturating_sub(process.memory.unwrap_or(0))),
        };
        // What is costly is of one sample only.
        let outrun = |at: &&usize| {
            let process = sight.process(**at);
            !process.outrun.and(process.stale.only(Needs::COSTLY)).only(needs).is_none()
        };
        let mut outrun: Vec<usize> = self.of.places.iter().filter(outrun).copied().collect();
        let found = !outrun.is_empty();
        if most < outrun.len() {
            outrun.order_by_key(|at| std::cmp::Reverse(slack(sight.process(*at)).unwrap_or(u64::MAX)));
        }
        for at in outrun.into_iter().take(most) {
            sight.read(at, needs);
        }
        found
    }

    /// Reads of all members what is carried over, whoever has run. Whether there was any.
    fn read_all(&self, sight: &mut Sight<'_>) -> bool {
        let reads = sight.reads();
        self.of.places.iter().for_each(|at| sight.read(*at, Needs::FILES));
        sight.reads() != reads
    }

    /// Whether all of them are still of it: what was read of them may say otherwise.
    fn stands(&self, sight: &mut Sight<'_>, (covers, place): (&mut Covers, Option<usize>)) -> bool {
        let judge = self.rule.judge;
        self.of.places.iter().all(|at| {
            judge == Judged::Tree
                || (judge.key_of(sight.process(*at)).as_ref() == Some(&self.of.key)
                    && place.is_none_or(|place| covers.settle(place, sight, *at) == Truth::True))
        })
    }

    /// The sums as far as the outcome hangs on them: what is false by a bound is false, what is true is read.
    fn settled(
        &mut self,
        sight: &mut Sight<'_>,
        kept: &Kept,
        exact: Option<u64>,
        (covers, place): (&mut Covers, Option<usize>),
    ) -> (Totals, Truth) {
        let mut most = 1;
        loop {
            let totals = self.totals(sight, &kept.counted, exact);
            let facts = self.facts(sight, &totals).with_history(Some(&kept.history));
            let truth = self.rule.breach.evaluate(&facts);
            // Of who rests it is known already what he has.
            let unread = match truth {
                Truth::True => totals.stale(),
                _ => totals.outrun().and(totals.stale().only(Needs::COSTLY)),
            };
            let needed = needed(truth, &self.rule.breach, &facts, unread, Needs::FILES);
            if needed.is_none() || !sight.is_lazy() {
                let stands = truth != Truth::True || !sight.is_lazy() || self.stands(sight, (covers, place));
                return (totals, if stands { truth } else { Truth::Unknown });
            }
            let read = if truth == Truth::True { self.read_all(sight) } else { self.read(sight, needed, most) };
            if !read {
                return (totals, Truth::Unknown);
            }
            most *= 2;
        }
    }

    /// What a rule keeps its eye on is read: all of whom it has a story with, and of those who ran what its windows take at this tick.
    fn read_what_is_followed(&self, sight: &mut Sight<'_>, followed: bool, kept: &Kept, since_begun: Duration) {
        if followed {
            self.read_all(sight);
            return;
        }
        let takes = kept.history.takes(&self.rule.windows, since_begun);
        if takes.is_none() && kept.counted.is_empty() {
            return;
        }
        for at in &self.of.places {
            let process = sight.process(*at);
            let young = kept.counted.iter().filter(|counted| counted.is_young(&process.id));
            let counts = young.fold(Needs::NONE, |all, counted| all.with(counted.field().info().cost));
            sight.read(*at, takes.and(counts).only(process.outrun));
        }
    }

    /// What was counted goes on.
    fn count(&self, sight: &Sight<'_>, kept: &mut Kept, since_begun: Duration) {
        if kept.counted.is_empty() {
            return;
        }
        let members = self.in_order(sight);
        let interval = sight.snapshot().interval.unwrap_or_default();
        for counted in &mut kept.counted {
            let at_border = kept.history.takes_count(&self.rule.windows, counted.field(), since_begun);
            counted.go_on(&members, at_border, interval);
        }
    }

    /// The exact memory of the group as last read, where the outcome hangs on it. Only where the bound decides nothing is the exact
    /// figure worth its price.
    fn exactly(&mut self, kept: &mut Kept, round: &mut Round<'_, '_>, sight: &mut Sight<'_>) -> Option<u64> {
        let conditions = [Some(&round.rule.breach), round.rule.calm.as_ref()];
        let mut most = 1;
        let resident = loop {
            let totals = self.totals(sight, &kept.counted, None);
            let resident = totals.upper_bound()?;
            let facts = self.facts(sight, &totals).with_history(Some(&kept.history));
            let undecided = |condition: &&Condition| condition.evaluate(&facts) == Truth::Unknown;
            let mut undecided = conditions.into_iter().flatten().filter(undecided).peekable();
            if undecided.peek().is_none() {
                kept.exact = None;
                return None;
            }
            let lacking = match round.named.over_memory {
                // What its windows are filled with hangs on it.
                true => undecided.fold(Needs::NONE, |all, condition| all.and(Needs::of(&condition.fields()))),
                false => undecided.fold(Needs::NONE, |all, condition| all.and(condition.lacking(&facts))),
            };
            if lacking.is_none() {
                // Nothing hangs on its memory until something else is known.
                kept.exact = None;
                return None;
            }
            let needed = match lacking.only(totals.outrun()).cheapest() {
                none if none.is_none() => totals.outrun().only(Needs::NONE.with(Cost::Statm)),
                cheapest => cheapest,
            };
            if needed.is_none() || !sight.is_lazy() || !self.read(sight, needed, most) {
                break resident;
            }
            most *= 2;
        };
        let moved = |exact: &Exact| exact.resident.abs_diff(resident) as f64 > exact.resident as f64 * MOVED;
        if kept.exact.as_ref().is_none_or(|exact| moved(exact) || exact.tick + STALE <= round.number) {
            let (rule, key, members) = (round.rule.name.clone(), self.of.key.clone(), self.of.ids.clone());
            round.wishes.push(MemoryWish { rule, key, members, resident });
        }
        kept.exact.map(|exact| exact.bytes)
    }

    /// The machine's readings; without processes of its own nobody stands for it.
    fn facts_of_machine<'s>(&mut self, sight: &'s Sight<'_>) -> Facts<'s> {
        let machine = &sight.snapshot().machine;
        if self.of.places.is_empty() {
            return Facts::of_machine(machine);
        }
        Facts::new(sight.process(self.summed(sight).leads[1]), machine)
    }
}

impl State {
    /// Every group of a rule.
    pub fn judge_groups(
        &mut self,
        round: &mut Round<'_, '_>,
        sight: &mut Sight<'_>,
        covered: &mut Covered,
        (covers, place): (&mut Covers, Option<usize>),
    ) {
        let rule = round.rule;
        for members in &mut covered.groups {
            let key = members.key.clone();
            let kept = match self.groups.get_mut(&key) {
                Some(kept) => kept,
                None => self.groups.entry(key.clone()).or_insert_with(|| new(rule, round.every, &key)),
            };
            kept.seen = round.number;
            let leads_by_cpu = round.named.leads_by_cpu;
            let mut of = OfGroup { of: members, rule, leads_by_cpu, unseen: 0.0, used: Duration::ZERO };
            if sight.is_lazy() {
                of.read_what_is_followed(sight, self.tracks.contains_key(&key), kept, round.since_begun);
            }
            let seen = of.summed(sight).totals.cpu();
            if round.named.by_the_unseen {
                of.unseen = with_unseen(&key, of.ids(), seen, sight.snapshot(), round.ran);
            }
            of.count(sight, kept, round.since_begun);
            if let Some((seen, interval)) = seen.zip(sight.snapshot().interval) {
                // A recording may claim anything: no machine has a million cores.
                let cpu = seen.max(of.unseen).clamp(0.0, 1e8);
                kept.used = kept.used.saturating_add(interval.mul_f64(cpu / 100.0));
            }
            of.used = kept.used;
            let exact = if round.named.by_memory { of.exactly(kept, round, sight) } else { None };
            let suspended = of.ids().iter().any(|id| round.tick.suspended.contains(id));
            if !suspended && !rule.windows.is_empty() {
                let totals = of.totals(sight, &kept.counted, exact);
                kept.history.feed(&rule.windows, round.since_begun, &of.facts(sight, &totals));
            }
            let (totals, truth) = of.settled(sight, kept, exact, (covers, place));
            let facts = of.facts(sight, &totals).with_history(Some(&kept.history));
            if truth == Truth::Unknown {
                round.status.not_judged(rule, &facts);
            }
            round.see(&mut self.tracks, &key, of.ids(), &facts, Truth::True, truth);
            kept.totals = Some(totals);
        }
    }

    /// The machine, with those whom the rule covers.
    pub fn judge_machine(&mut self, round: &mut Round<'_, '_>, sight: &mut Sight<'_>, covered: &Covered) {
        let rule = round.rule;
        let kept =
            self.groups.entry(SubjectKey::Machine).or_insert_with(|| new(rule, round.every, &SubjectKey::Machine));
        kept.seen = round.number;
        let places: &[usize] = if rule.covers.is_some() { &covered.places } else { &[] };
        if !places.iter().any(|at| round.tick.suspended.contains(&sight.process(*at).id)) {
            let machine = Facts::of_machine(&sight.snapshot().machine);
            kept.history.feed(&rule.windows, round.since_begun, &machine);
        }
        let machine = Facts::of_machine(&sight.snapshot().machine).with_history(Some(&kept.history));
        let truth = rule.breach.evaluate(&machine);
        let is_followed = self.tracks.contains_key(&SubjectKey::Machine);
        if truth != Truth::True && !is_followed {
            // No process stands for it, nor is one chosen.
            if truth == Truth::Unknown {
                round.status.not_judged(rule, &machine);
            }
            return;
        }
        let ids: Vec<ProcessId> = places.iter().map(|at| sight.process(*at).id).collect();
        let mut members = Members { key: SubjectKey::Machine, places: places.to_vec(), ids, summed: None };
        let mut of = OfGroup { of: &mut members, rule, leads_by_cpu: false, unseen: 0.0, used: Duration::ZERO };
        of.read_all(sight);
        let facts = of.facts_of_machine(sight).with_history(Some(&kept.history));
        let truth = rule.breach.evaluate(&facts);
        if truth == Truth::Unknown {
            round.status.not_judged(rule, &facts);
        }
        round.see(&mut self.tracks, &SubjectKey::Machine, of.ids(), &facts, Truth::True, truth);
    }
}

/// CPU that the kernel counts for a unit, or for the slice of an owner, percent of one core: also of processes that ended before
/// they were seen, or what they used as it told of them. What is seen of others in there is not theirs. That is only for rules
/// that go by no more than whose it is: by more, who was not seen may be somebody else.
fn with_unseen(key: &SubjectKey, members: &[ProcessId], seen: Option<f64>, snapshot: &Snapshot, ran: &[usize]) -> f64 {
    let machine = &snapshot.machine;
    let (group, passing) = match key {
        SubjectKey::Unit(path) => (path.clone(), 0.0),
        SubjectKey::Owner(uid) => (slice_of(*uid), machine.passing_cpu(*uid)),
        _ => return 0.0,
    };
    let seen = seen.unwrap_or(0.0);
    let Some(all) = machine.group_cpu(&group) else { return seen + passing };
    let is_in = |process: &Process| {
        let below = process.group.as_deref().and_then(|path| path.strip_prefix(&*group));
        below.is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
    };
    // What is his outside of it comes to it, and what is others' in it does not.
    let beside = ran.iter().filter_map(|at| {
        let process = &snapshot.processes[*at];
        let cpu = process.cpu?;
        match (is_in(process), members.binary_search(&process.id).is_ok()) {
            (true, false) => Some(-cpu),
            (false, true) => Some(cpu),
            _ => None,
        }
    });
    all + beside.sum::<f64>()
}

fn new(rule: &Rule, every: Duration, key: &SubjectKey) -> Kept {
    let history = History::new(&rule.windows, every, seed(key));
    Kept { history, counted: Counted::of(&rule.windows), used: Duration::ZERO, exact: None, totals: None, seen: 0 }
}

/// The groups of those whom a rule covers; a tree of all that descend from one of them.
fn of_rule(judge: Judged, snapshot: &Snapshot, covered: &[usize]) -> Vec<Members> {
    let processes = &snapshot.processes;
    let members = |key: SubjectKey, places: Vec<usize>| {
        let ids = places.iter().map(|at| processes[*at].id).collect();
        Members { key, places, ids, summed: None }
    };
    if covered.is_empty() {
        return Vec::new();
    }
    if judge == Judged::Tree {
        let covered: SortedSet<u32> = covered.iter().map(|at| processes[*at].id.pid).collect();
        let place = |process: &&Process| snapshot.place(process.id.pid);
        let trees = groups(processes, Grouping::Tree, |process| covered.contains(&process.id.pid));
        let of = |group: Group<'_>| {
            let key = SubjectKey::Tree(group.members[0].id);
            members(key, group.members.iter().filter_map(place).collect())
        };
        return trees.into_iter().map(of).collect();
    }
    let mut found: BTreeMap<SubjectKey, Vec<usize>> = BTreeMap::new();
    for at in covered {
        if let Some(key) = judge.key_of(&processes[*at]) {
            found.entry(key).or_default().push(*at);
        }
    }
    found.into_iter().map(|(key, places)| members(key, places)).collect()
}
