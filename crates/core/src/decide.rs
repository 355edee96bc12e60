//! Between the judge and the act: what becomes of the steps that are due at one tick.
//!
//! One act per process and tick. The strongest due step wins; the others are overtaken. Protection, shadow, standing
//! back, a spent budget and the cap on acts turn an act into words.

use std::time::Duration;

use jiff::Timestamp;

use crate::act::Verb;
use crate::dispatch::Grants;
use crate::facts::Facts;
use crate::judge::{Case, Event, Judge};
use crate::model::{Machine, Process, ProcessId, Snapshot};
use crate::protect::Protections;
use crate::rules::{Action, Cap, Pick, Rule};
use crate::sorted::{SortedMap, SortedSet};
use crate::stand_back::StandsBack;
use crate::subject::{Judged, SubjectKey};
use crate::units::{scaled_percent, scaled_size};

/// The time that the cap counts in.
const HOUR: Duration = Duration::from_secs(3600);

/// From one act on an owner's processes beyond his share to the next.
const BEYOND_PAUSE: Duration = Duration::from_secs(60);

/// Whoever is picked uses at least that part of the CPU that is used, or that much of a core, percent.
const PART_OF_CPU: f64 = 0.1;
const MUCH_OF_A_CORE: f64 = 50.0;

/// Or holds at least that part of the memory that is used.
const PART_OF_MEMORY: f64 = 0.05;

/// What holds at this tick, for every rule alike.
#[derive(Debug, Clone, Copy)]
pub struct Circumstances<'a> {
    /// The sample that was judged.
    pub snapshot: &'a Snapshot,
    /// Who is protected.
    pub protections: &'a Protections,
    /// From whom rules stand back.
    pub standing_back: &'a StandsBack,
    /// Whether no rule may act.
    pub all_in_shadow: bool,
    /// Whether nothing can be recorded at present, or not where it is safe: steps wait, and use up nothing.
    pub disarmed: bool,
    /// Before which steps everybody has been asked who is to be.
    pub granted: &'a Grants,
}

/// What becomes of a due step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Verdict {
    /// The step is an alert.
    Alert,
    /// It is to be taken.
    Act(Action),
    /// It is to be taken, once the person whose program it is was asked for so long.
    Ask(Action, Duration),
    /// It waits until it can be recorded again.
    Waits(Action),
    /// It would be taken, were the rule armed.
    Shadow(Action),
    /// The process is protected, or none is left: why.
    Spared(String),
    /// Another case's stronger step goes first.
    Overtaken {
        /// That case.
        by: u64,
    },
    /// The budget of the subject is spent.
    OverBudget(Action),
    /// All rules together have acted as often as they may in an hour.
    Capped(Action, Cap),
    /// A hand was at work on the process: rules stand back from it until then.
    StandingBack {
        /// Until when.
        until: Timestamp,
    },
}

impl Verdict {
    /// What is in the way of the step, so that it stays due; nothing where it is taken, or is not to be.
    pub(crate) fn hindrance(&self) -> Option<String> {
        match self {
            Verdict::Spared(why) => Some(why.clone()),
            Verdict::Capped(..) => Some("the cap".to_owned()),
            Verdict::StandingBack { .. } => Some("a hand".to_owned()),
            _ => None,
        }
    }
}

/// The verdict on one due step.
#[derive(Debug, Clone, PartialEq)]
pub struct Decision {
    /// The case.
    pub case: u64,
    /// The step, by its place in the ladder.
    pub step: usize,
    /// What the step says.
    pub action: Action,
    /// The process that it is about; none where it is about the case as a whole.
    pub target: Option<Process>,
    /// Whether that is the one of several that all further steps are about.
    pub picked: bool,
    /// What becomes of it.
    pub verdict: Verdict,
    /// Whether it is beyond its owner's share of the cap, and what it counts with.
    pub beyond_share: Option<Beyond>,
}

/// An act beyond its owner's share of the cap.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Beyond {
    /// The case of the first: all that follow count as one with it.
    pub with: u64,
    /// Whether this is the first.
    pub first: bool,
}

/// Whose process an act is on, and in which case.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Charge {
    /// The owner's user ID.
    pub owner: u32,
    /// Whether anybody may have started processes of this owner's to use the cap up: he has a share of it only.
    pub of_others: bool,
    /// The case, or what an earlier run told that it counts with.
    pub case: u64,
}

/// What was done lately, for the cap on acts.
#[derive(Debug, Clone, Default)]
pub struct Ledger {
    acts: Vec<Spent>,
}

/// One act, or all that one owner's processes made necessary beyond his share.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Spent {
    at: Duration,
    /// A termination or a restart.
    ends: bool,
    owner: u32,
    /// The case that all beyond his share counts with.
    beyond: Option<u64>,
}

impl Spent {
    /// Whether it counts for all that this owner makes necessary beyond his share.
    fn stands_for(&self, owner: u32, ends: bool) -> bool {
        self.owner == owner && self.beyond.is_some() && (self.ends || !ends)
    }
}

/// Whether one more step may act.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Room {
    Free,
    /// The owner's share is used up: it is done, with all else of his, as one act.
    Beyond(Beyond),
    None,
}

impl Ledger {
    /// An act of an earlier run on that owner's process, at that time: a restart forgets none.
    pub fn remember(&mut self, at: Duration, verb: &Verb, charge: Charge, cap: Cap) {
        let (Charge { owner, of_others, case }, ends) = (charge, verb.ends());
        let beyond = (of_others && !self.is_within_share(owner, ends, cap)).then_some(case);
        match self.acts.iter_mut().find(|act| beyond.is_some() && act.stands_for(owner, ends)) {
            Some(act) => act.at = act.at.max(at),
            None => self.acts.push(Spent { at, ends, owner, beyond }),
        }
    }

    /// Half of the cap is an owner's share.
    fn is_within_share(&self, owner: u32, ends: bool, cap: Cap) -> bool {
        let share = Cap { acts: cap.acts.div_ceil(2), terminations: cap.terminations.div_ceil(2) };
        self.has_room(share, ends, |act| act.owner == owner && act.beyond.is_none())
    }

    /// Whether those acts leave room for one more.
    fn has_room(&self, cap: Cap, ends: bool, of: impl Fn(&Spent) -> bool) -> bool {
        let those = self.acts.iter().filter(|act| of(act));
        let (all, ending) = those.fold((0, 0), |(all, ending), act| (all + 1, ending + u32::from(act.ends)));
        all < cap.acts && (!ends || ending < cap.terminations)
    }

    /// The latest act of that kind could not be done, and counts for nothing.
    pub(crate) fn give_back(&mut self, verb: &Verb, owner: u32) {
        if let Some(place) = self.acts.iter().rposition(|act| (act.ends, act.owner) == (verb.ends(), owner)) {
            self.acts.remove(place);
        }
    }

    /// Whether one more step may act on that owner's; if so, that is counted. Half of the cap is the share of an owner who has
    /// one. What he makes necessary beyond that, or when others have used it up, is done one at a time, and counts as one.
    fn spend(&mut self, action: Action, cap: Cap, now: Duration, charge: Charge) -> Room {
        let Charge { owner, of_others, case } = charge;
        self.acts.retain(|act| now.saturating_sub(act.at) < HOUR);
        let ends = matches!(action, Action::Terminate { .. } | Action::Restart);
        let room = self.has_room(cap, ends, |_| true);
        if room && (!of_others || self.is_within_share(owner, ends, cap)) {
            self.acts.push(Spent { at: now, ends, owner, beyond: None });
            return Room::Free;
        }
        // Where it is used up by himself alone it is used up.
        let may_begin = self.has_room(cap, ends, |act| act.owner == owner);
        match self.acts.iter_mut().find(|act| act.stands_for(owner, ends)) {
            _ if !of_others => Room::None,
            Some(act) if now.saturating_sub(act.at) < BEYOND_PAUSE => Room::None,
            Some(act) => {
                act.at = now;
                Room::Beyond(Beyond { with: act.beyond.unwrap_or(case), first: false })
            }
            None if may_begin => {
                self.acts.push(Spent { at: now, ends, owner, beyond: Some(case) });
                Room::Beyond(Beyond { with: case, first: true })
            }
            None => Room::None,
        }
    }
}

/// A verdict for every step that is due, on every process that it acts on. Nothing but the ledger is changed: who was picked
/// stands in the decisions, and each of them has one outcome.
pub fn decide(
    events: &[Event],
    judge: &Judge,
    circumstances: &Circumstances<'_>,
    cap: Cap,
    ledger: &mut Ledger,
) -> Vec<Decision> {
    let mut decisions = Vec::new();
    for event in events {
        let Event::Due { case, step } = event else { continue };
        let Some(case) = judge.case(*case) else { continue };
        if let Some(rule) = judge.rule(&case.rule) {
            decide_a_step(case, rule, *step, circumstances, &mut decisions);
        }
    }
    overtake(&mut decisions);
    keep_within(&mut decisions, judge, cap, ledger, circumstances);
    decisions
}

fn decide_a_step(
    case: &Case,
    rule: &Rule,
    step: usize,
    circumstances: &Circumstances<'_>,
    decisions: &mut Vec<Decision>,
) {
    let Some(action) = rule.ladder.get(step).map(|step| step.action) else { return };
    let decision = |target: Option<&Process>, picked, verdict| Decision {
        case: case.number,
        step,
        action,
        target: target.cloned(),
        picked,
        verdict,
        beyond_share: None,
    };
    if !action.is_act() {
        let verdict = if action == Action::Alert { Verdict::Alert } else { acting(action, rule.armed, circumstances) };
        decisions.push(decision(None, false, verdict));
        return;
    }
    let taken = case.ladder.taken_before(step);
    let Targets { whom: targets, spared, unclear } = targets(case, action, rule.pick, circumstances);
    let before = decisions.len();
    if let Some((process, why)) = spared {
        decisions.push(decision(Some(process), false, Verdict::Spared(format!("it is protected: {why}"))));
    }
    if case.ladder.is_over_budget() {
        decisions.push(decision(None, false, Verdict::OverBudget(action)));
    } else {
        let picks = rule.pick != Pick::All;
        let ask = rule.ladder.get(step).and_then(|step| step.ask);
        let verdict = |process: &Process| match (alone(process, action, rule, circumstances), ask) {
            (Verdict::Act(action), Some(ask)) if !circumstances.granted.covers(case, step, process) => {
                Verdict::Ask(action, ask)
            }
            (verdict, _) => verdict,
        };
        // A step that is tried again is not taken again on those on whom it was.
        let left = targets.iter().filter(|process| taken.is_none_or(|taken| !taken.contains(&process.id)));
        decisions.extend(left.map(|process| decision(Some(process), picks, verdict(process))));
    }
    if decisions.len() == before {
        // Else whoever was to be acted on is gone.
        let gone = || taken.is_none_or(SortedSet::is_empty).then(|| "none of its processes is left".to_owned());
        let nobody = unclear.or_else(gone);
        decisions.extend(nobody.map(|why| decision(None, false, Verdict::Spared(why))));
    }
}

/// Whom a step acts on.
struct Targets<'s> {
    whom: Vec<&'s Process>,
    /// One of those that are protected.
    spared: Option<(&'s Process, String)>,
    /// Why none of several can be told to be the one.
    unclear: Option<String>,
}

/// A tree is ended and restarted at its root.
fn targets<'s>(case: &Case, action: Action, pick: Pick, circumstances: &Circumstances<'s>) -> Targets<'s> {
    let find = |id: &ProcessId| circumstances.snapshot.find(id);
    let machine = &circumstances.snapshot.machine;
    let mut spared = None;
    let mut open: Vec<&Process> = Vec::new();
    for process in case.members.iter().filter_map(find) {
        match circumstances.protections.reason(&Facts::new(process, machine)) {
            Some(why) => spared = spared.or(Some((process, why))),
            None => open.push(process),
        }
    }
    let spared = spared.filter(|_| case.key.judged() == Judged::Process || open.is_empty());
    if pick == Pick::All {
        // A tree is caught whole from its root, a unit started anew as one.
        let whole = match (action, &case.key) {
            (Action::Terminate { .. }, SubjectKey::Tree(root)) => Some(*root),
            (Action::Restart, _) => case.lead.as_ref().map(|lead| lead.id),
            _ => None,
        };
        if let Some(lead) = whole.and_then(|id| open.iter().find(|process| process.id == id)) {
            return Targets { whom: vec![lead], spared, unclear: None };
        }
        return Targets { whom: open, spared, unclear: None };
    }
    if let Some(picked) = case.ladder.picked() {
        let whom = open.iter().find(|process| process.id == picked).copied().into_iter().collect();
        return Targets { whom, spared, unclear: None };
    }
    match pick_one(case, &open, pick, machine) {
        Ok(one) => Targets { whom: one.into_iter().collect(), spared, unclear: None },
        Err(why) => Targets { whom: Vec::new(), spared, unclear: Some(format!("nobody can be told: {why}")) },
    }
}

/// The one of several, by what is measured of them: whoever has no figure is not picked, nor whoever has too little of what there is
/// for his end to matter.
///
/// # Errors
/// Why it is nobody.
fn pick_one<'s>(
    case: &Case,
    open: &[&'s Process],
    pick: Pick,
    machine: &Machine,
) -> Result<Option<&'s Process>, String> {
    if open.is_empty() {
        return Ok(None);
    }
    let of_machine = case.key.judged() == Judged::Machine;
    let most = |figure: fn(&Process) -> Option<f64>| {
        let figures = open.iter().filter_map(|process| Some((*process, figure(process)?)));
        let sum: f64 = figures.clone().map(|(_, figure)| figure).sum();
        Some((figures.max_by(|a, b| a.1.total_cmp(&b.1))?, sum))
    };
    match pick {
        Pick::MostCpu => {
            let Some(((one, cpu), sum)) = most(|process| process.cpu) else {
                return Err("what they use is not known yet".to_owned());
            };
            let cores = f64::from(machine.cores.max(1));
            let used = if of_machine { machine.cpu.map_or(sum, |cpu| cpu * cores) } else { sum };
            let unseen = machine.cpu_unseen.filter(|_| of_machine).unwrap_or(0.0) * cores;
            if unseen > cpu {
                let [unseen, cpu] = [unseen, cpu].map(scaled_percent);
                return Err(format!("{unseen} of a core went to nobody who is seen, and at most {cpu} to one of them"));
            }
            let is_enough = cpu >= (used * PART_OF_CPU).min(MUCH_OF_A_CORE);
            is_enough.then_some(Some(one)).ok_or_else(|| format!("none of them uses more than {}", scaled_percent(cpu)))
        }
        Pick::MostMemory => {
            let freed = |process: &Process| process.would_free().map(|bytes| bytes as f64);
            let Some(((one, bytes), sum)) = most(freed) else {
                return Err("what they hold is not known".to_owned());
            };
            let used = machine.memory_used().filter(|_| of_machine).map_or(sum, |used| used as f64);
            let is_enough = bytes >= used * PART_OF_MEMORY;
            is_enough
                .then_some(Some(one))
                .ok_or_else(|| format!("the end of none of them would free more than {}", scaled_size(bytes)))
        }
        Pick::Newest | Pick::All => Ok(open.iter().copied().max_by(|a, b| b.age.cmp(&a.age))),
    }
}

/// The verdict on a step for one process as if it were the only one.
fn alone(process: &Process, action: Action, rule: &Rule, circumstances: &Circumstances<'_>) -> Verdict {
    let now = circumstances.snapshot.moment;
    let back = circumstances.standing_back.until(&rule.name, &process.id);
    if let Some(until) = back.filter(|until| *until > now.monotonic) {
        let left = until.saturating_sub(now.monotonic);
        return Verdict::StandingBack { until: now.wall.checked_add(left).unwrap_or(now.wall) };
    }
    acting(action, rule.armed, circumstances)
}

fn acting(action: Action, armed: bool, circumstances: &Circumstances<'_>) -> Verdict {
    match armed && !circumstances.all_in_shadow {
        false => Verdict::Shadow(action),
        true if circumstances.disarmed => Verdict::Waits(action),
        true => Verdict::Act(action),
    }
}

fn overtake(decisions: &mut [Decision]) {
    let mut strongest: SortedMap<ProcessId, (Action, u64)> = SortedMap::new();
    let acts = |decision: &Decision| match decision.verdict {
        Verdict::Act(action) if action.is_act() => Some((decision.target.as_ref()?.id, action)),
        _ => None,
    };
    for decision in decisions.iter() {
        if let Some((id, action)) = acts(decision) {
            let best = strongest.entry(id).or_insert((action, decision.case));
            if action > best.0 {
                *best = (action, decision.case);
            }
        }
    }
    for decision in decisions.iter_mut() {
        if let Some((_, by)) = acts(decision).and_then(|(id, _)| strongest.get(&id))
            && *by != decision.case
        {
            decision.verdict = Verdict::Overtaken { by: *by };
        }
    }
}

/// A step of a case counts once, on however many processes it acts, and however often it is tried on the last of them.
fn keep_within(
    decisions: &mut [Decision],
    judge: &Judge,
    cap: Cap,
    ledger: &mut Ledger,
    circumstances: &Circumstances<'_>,
) {
    let now = circumstances.snapshot.moment.monotonic;
    let mut allowed: SortedMap<u64, Room> = SortedMap::new();
    for decision in decisions {
        let (Verdict::Act(action) | Verdict::Ask(action, _), Some(target)) = (&decision.verdict, &decision.target)
        else {
            continue;
        };
        if !action.is_act() {
            continue;
        }
        if judge.case(decision.case).is_some_and(|case| case.ladder.is_counted(decision.step)) {
            continue;
        }
        let owner = target.person();
        let charge = Charge { owner, of_others: owner != circumstances.protections.service, case: decision.case };
        let room = *allowed.entry(decision.case).or_insert_with(|| match decision.verdict {
            // Nobody is asked about what would not be done; asking uses up nothing.
            Verdict::Ask(..) => ledger.clone().spend(*action, cap, now, charge),
            _ => ledger.spend(*action, cap, now, charge),
        });
        match room {
            Room::Free => {}
            Room::Beyond(beyond) if matches!(decision.verdict, Verdict::Act(_)) => decision.beyond_share = Some(beyond),
            Room::Beyond(_) => {}
            Room::None => decision.verdict = Verdict::Capped(*action, cap),
        }
    }
}
