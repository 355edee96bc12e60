//! Rules that judge several processes as one: their sums, read as far as the outcome hangs on them.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use super::sight::Sight;
use super::subjects::{Exact, Kept, MemoryWish, Round, State};
use super::{RuleStatus, Watched, With};
use crate::condition::{Condition, Truth};
use crate::facts::Facts;
use crate::groups::{Group, Grouping, groups};
use crate::model::{Cost, Needs, Process, ProcessId, Snapshot, slice_of};
use crate::rules::Rule;
use crate::subject::{Judged, SubjectKey, Totals};
use crate::window::History;

/// What is kept of groups that are gone is dropped every so many ticks.
const CLEAN: u64 = 32;

/// Exact memory is read again when the resident sum has moved by this share.
const MOVED: f64 = 0.02;

/// And after so many ticks.
const STALE: u64 = 10;

/// Whom rules that judge groups cover: those with the same `where` share it.
pub(super) struct Covered {
    /// Their places in the sample, which is in the order of PIDs.
    places: Vec<usize>,
    status: RuleStatus,
}

/// Whom the rule's `where` covers.
pub(super) fn covered(watched: &Watched, sight: &mut Sight<'_>, with: &With<'_>) -> Covered {
    let rule = &*watched.rule;
    let (mut places, mut status) = (Vec::new(), RuleStatus::default());
    for at in 0..sight.snapshot().processes.len() {
        let process = sight.process(at);
        if process.has_ended() || with.leaves_out(&process.id) {
            continue;
        }
        match rule.covers.as_ref().map_or(Truth::True, |covers| sight.settle(covers, at, None)) {
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
    Covered { places, status }
}

impl Covered {
    pub fn status(&self) -> RuleStatus {
        self.status.clone()
    }
}

/// One group at one tick.
struct OfGroup<'k> {
    key: &'k SubjectKey,
    members: Vec<usize>,
    rule: &'k Rule,
    by_cpu: bool,
}

impl OfGroup<'_> {
    fn group<'s>(&self, sight: &'s Sight<'_>) -> Group<'s> {
        let members: Vec<&Process> = self.members.iter().map(|at| sight.process(*at)).collect();
        Group { name: String::new(), owner: String::new(), members }
    }

    fn ids(&self, sight: &Sight<'_>) -> Vec<ProcessId> {
        self.members.iter().map(|at| sight.process(*at).id).collect()
    }

    fn lead<'s>(&self, group: &Group<'s>) -> &'s Process {
        // A group has a member.
        if self.rule.judge == Judged::Tree { group.members[0] } else { group.heaviest(!self.by_cpu) }
    }

    fn totals(&self, sight: &Sight<'_>, exact: Option<u64>, unseen: f64, used: Duration) -> Totals {
        let mut totals = Totals::of(&self.group(sight), self.rule.judge, exact);
        totals.at_least(unseen);
        totals.used = used;
        totals
    }

    /// Reads of some members what is stale; of memory first of those who can have grown most. Whether there was any.
    fn read(&self, sight: &mut Sight<'_>, needs: Needs, most: usize) -> bool {
        let slack = |process: &Process| match needs.has(Cost::Status) {
            true => process.at_most(true).map(|most| most.saturating_sub(process.memory_held.unwrap_or(0))),
            false => process.at_most(false).map(|most| most.saturating_sub(process.memory.unwrap_or(0))),
        };
        let stale = |at: &&usize| !sight.process(**at).stale.only(needs).is_none();
        let mut stale: Vec<usize> = self.members.iter().filter(stale).copied().collect();
        let found = !stale.is_empty();
        stale.sort_by_key(|at| std::cmp::Reverse(slack(sight.process(*at)).unwrap_or(u64::MAX)));
        for at in stale.into_iter().take(most) {
            sight.read(at, needs);
        }
        found
    }

    /// Whether all of them are still of it: what was read of them may say otherwise.
    fn stands(&self, sight: &Sight<'_>) -> bool {
        let judge = self.rule.judge;
        judge == Judged::Tree
            || self.members.iter().all(|at| judge.key_of(sight.process(*at)).as_ref() == Some(self.key))
    }

    /// The sums as far as the outcome hangs on them: what is false by a bound is false, what is true is read.
    fn settled(&self, sight: &mut Sight<'_>, kept: &Kept, unseen: f64, exact: Option<u64>) -> (Totals, Truth) {
        let mut most = 1;
        loop {
            let totals = self.totals(sight, exact, unseen, kept.used);
            let (truth, needed) = {
                let facts = self.facts(sight, &totals).with_history(Some(&kept.history));
                let truth = self.rule.breach.evaluate(&facts);
                let needed = match truth {
                    _ if totals.stale().is_none() => Needs::NONE,
                    Truth::False => Needs::NONE,
                    Truth::True => totals.stale().without(Needs::COSTLY),
                    Truth::Unknown => self.rule.breach.lacking(&facts).only(totals.stale()).cheapest(),
                };
                (truth, needed)
            };
            if needed.is_none() || !sight.is_lazy() {
                let stands = truth != Truth::True || !sight.is_lazy() || self.stands(sight);
                return (totals, if stands { truth } else { Truth::Unknown });
            }
            if !self.read(sight, needed, if truth == Truth::True { usize::MAX } else { most }) {
                return (totals, Truth::Unknown);
            }
            most *= 2;
        }
    }

    fn facts<'s>(&self, sight: &'s Sight<'_>, totals: &'s Totals) -> Facts<'s> {
        Facts::of_group(self.lead(&self.group(sight)), &sight.snapshot().machine, totals)
    }
}

impl State {
    /// Every group of a rule.
    pub fn judge_groups(
        &mut self,
        round: &mut Round<'_, '_>,
        sight: &mut Sight<'_>,
        covered: &Covered,
        status: &mut RuleStatus,
    ) {
        let rule = round.rule;
        for (key, members) in of_rule(rule.judge, &sight.snapshot().processes, &covered.places) {
            let of = OfGroup { key: &key, members, rule, by_cpu: round.by_cpu };
            let ids = of.ids(sight);
            let suspended = ids.iter().any(|id| round.with.suspended.contains(id));
            let kept = self.groups.entry(key.clone()).or_insert_with(|| new(rule, round.every));
            kept.seen = round.number;
            if sight.is_lazy() {
                of.read_what_is_followed(sight, self.tracks.contains_key(&key), round.of_windows);
            }
            let seen = of.group(sight).cpu(rule.judge.grouping().unwrap_or(Grouping::App));
            let unseen = with_unseen(rule, &key, &ids, seen, sight.snapshot());
            if let Some((seen, interval)) = seen.zip(sight.snapshot().interval) {
                // A recording may claim anything: no machine has a million cores.
                let cpu = seen.max(unseen).clamp(0.0, 1e8);
                kept.used = kept.used.saturating_add(interval.mul_f64(cpu / 100.0));
            }
            let exact = if round.by_memory { exactly(&of, kept, round, sight, unseen) } else { None };
            if !suspended && !rule.windows.is_empty() {
                let totals = of.totals(sight, exact, unseen, kept.used);
                kept.history.feed(&rule.windows, round.since_begun, &of.facts(sight, &totals));
            }
            let (totals, truth) = of.settled(sight, kept, unseen, exact);
            let facts = of.facts(sight, &totals).with_history(Some(&kept.history));
            if truth == Truth::Unknown {
                status.not_judged(rule, &facts);
            }
            round.see(&mut self.tracks, &key, &ids, &facts, Truth::True, truth);
            kept.totals = Some(totals);
        }
        self.clean(round.number);
    }

    /// The machine, with those whom the rule covers.
    pub fn judge_machine(
        &mut self,
        round: &mut Round<'_, '_>,
        sight: &mut Sight<'_>,
        covered: &Covered,
        status: &mut RuleStatus,
    ) {
        let rule = round.rule;
        let members = if rule.covers.is_some() { covered.places.clone() } else { Vec::new() };
        let of = OfGroup { key: &SubjectKey::Machine, members, rule, by_cpu: false };
        let ids = of.ids(sight);
        let kept = self.groups.entry(SubjectKey::Machine).or_insert_with(|| new(rule, round.every));
        kept.seen = round.number;
        if self.tracks.contains_key(&SubjectKey::Machine) {
            of.read(sight, Needs::FILES, usize::MAX);
        }
        if !ids.iter().any(|id| round.with.suspended.contains(id)) {
            kept.history.feed(&rule.windows, round.since_begun, &of.facts_of_machine(sight));
        }
        if rule.breach.evaluate(&of.facts_of_machine(sight).with_history(Some(&kept.history))) == Truth::True {
            of.read(sight, Needs::FILES, usize::MAX);
        }
        let facts = of.facts_of_machine(sight).with_history(Some(&kept.history));
        let truth = rule.breach.evaluate(&facts);
        if truth == Truth::Unknown {
            status.not_judged(rule, &facts);
        }
        round.see(&mut self.tracks, &SubjectKey::Machine, &ids, &facts, Truth::True, truth);
        self.clean(round.number);
    }

    fn clean(&mut self, tick: u64) {
        if tick.is_multiple_of(CLEAN) {
            self.groups.retain(|_, kept| kept.seen + CLEAN > tick);
        }
    }
}

impl OfGroup<'_> {
    /// What a rule keeps its eye on is read: all of whom it has a story with, and what its windows are filled with of those who ran.
    fn read_what_is_followed(&self, sight: &mut Sight<'_>, followed: bool, of_windows: Needs) {
        if followed {
            self.read(sight, Needs::FILES, usize::MAX);
        } else if !of_windows.is_none() {
            for at in &self.members {
                sight.read(*at, of_windows.only(sight.process(*at).outrun));
            }
        }
    }

    /// The machine's readings; without processes of its own nobody stands for it.
    fn facts_of_machine<'s>(&self, sight: &'s Sight<'_>) -> Facts<'s> {
        let machine = &sight.snapshot().machine;
        if self.members.is_empty() {
            return Facts::of_machine(machine);
        }
        Facts::new(self.group(sight).heaviest(true), machine)
    }
}

/// The exact memory of a group as last read, where the outcome hangs on it. Only where the bound decides nothing is the exact
/// figure worth its price.
fn exactly(
    of: &OfGroup<'_>,
    kept: &mut Kept,
    round: &mut Round<'_, '_>,
    sight: &mut Sight<'_>,
    unseen: f64,
) -> Option<u64> {
    let conditions = [Some(&round.rule.breach), round.rule.calm.as_ref()];
    let mut most = 1;
    let resident = loop {
        let totals = of.totals(sight, None, unseen, kept.used);
        let resident = totals.upper_bound()?;
        let facts = of.facts(sight, &totals).with_history(Some(&kept.history));
        let undecided = |condition: &&Condition| condition.evaluate(&facts) == Truth::Unknown;
        let mut undecided = conditions.into_iter().flatten().filter(undecided).peekable();
        if undecided.peek().is_none() {
            kept.exact = None;
            return None;
        }
        let lacking = undecided.fold(Needs::NONE, |all, condition| all.and(condition.lacking(&facts)));
        let needed = match lacking.only(totals.stale()).cheapest() {
            none if none.is_none() => totals.stale().only(Needs::NONE.with(Cost::Statm)),
            cheapest => cheapest,
        };
        if needed.is_none() || !sight.is_lazy() || !of.read(sight, needed, most) {
            break resident;
        }
        most *= 2;
    };
    let moved = |exact: &Exact| exact.resident.abs_diff(resident) as f64 > exact.resident as f64 * MOVED;
    if kept.exact.as_ref().is_none_or(|exact| moved(exact) || exact.tick + STALE <= round.number) {
        let (rule, key, members) = (round.rule.name.clone(), of.key.clone(), of.ids(sight));
        round.wishes.push(MemoryWish { rule, key, members, resident });
    }
    kept.exact.map(|exact| exact.bytes)
}

/// CPU that the kernel counts for a unit, or for the slice of an owner, percent of one core: also of processes that ended before
/// they were seen, or what they used as it told of them. What is seen of others in there is not theirs; and where the rule goes by
/// more than whose it is, who was not seen may be somebody else.
fn with_unseen(rule: &Rule, key: &SubjectKey, members: &[ProcessId], seen: Option<f64>, snapshot: &Snapshot) -> f64 {
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
    let seen = seen.unwrap_or(0.0);
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

/// The groups of a rule, each with the places of its members: of those it covers; a tree of all that descend from one it covers.
fn of_rule(judge: Judged, processes: &[Process], covered: &[usize]) -> Vec<(SubjectKey, Vec<usize>)> {
    if covered.is_empty() {
        return Vec::new();
    }
    if judge == Judged::Tree {
        let covered: BTreeSet<u32> = covered.iter().map(|at| processes[*at].id.pid).collect();
        let place = |process: &&Process| processes.binary_search_by_key(&process.id.pid, |other| other.id.pid).ok();
        let trees = groups(processes, Grouping::Tree, |process| covered.contains(&process.id.pid));
        let of = |group: Group<'_>| {
            (SubjectKey::Tree(group.members[0].id), group.members.iter().filter_map(place).collect())
        };
        return trees.into_iter().map(of).collect();
    }
    let mut found: BTreeMap<SubjectKey, Vec<usize>> = BTreeMap::new();
    for at in covered {
        if let Some(key) = judge.key_of(&processes[*at]) {
            found.entry(key).or_default().push(*at);
        }
    }
    found.into_iter().collect()
}
