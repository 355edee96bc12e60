//! Between the judge and the act: what becomes of the steps that are due at one tick.
//!
//! One act per process and tick. The strongest due step wins; the others are overtaken. Protection, shadow, standing
//! back, a spent budget and the cap on acts turn an act into words.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::time::Duration;

use jiff::Timestamp;

use crate::act::Verb;
use crate::facts::Facts;
use crate::judge::{Case, Event, Judge};
use crate::model::{Process, ProcessId, Snapshot};
use crate::protect::Protections;
use crate::rules::{Action, Cap, Pick, Rule};
use crate::subject::{Judged, SubjectKey};

/// The time that the cap counts in.
const HOUR: Duration = Duration::from_secs(3600);

/// What holds at this tick, for every rule alike.
#[derive(Debug, Clone, Copy)]
pub struct Circumstances<'a> {
    /// The sample that was judged.
    pub snapshot: &'a Snapshot,
    /// Who is protected.
    pub protections: &'a Protections,
    /// Processes that rules stand back from, until that monotonic time.
    pub standing_back: &'a BTreeMap<ProcessId, Duration>,
    /// Whether no rule may act.
    pub all_in_shadow: bool,
    /// Whether nothing can be recorded at present, or not where it is safe: steps wait, and use up nothing.
    pub disarmed: bool,
}

/// What becomes of a due step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Verdict {
    /// The step is an alert.
    Alert,
    /// It is to be taken.
    Act(Action),
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
}

/// What was done lately, for the cap on acts.
#[derive(Debug, Clone, Default)]
pub struct Ledger {
    /// When, and whether it was a termination or a restart.
    acts: VecDeque<(Duration, bool)>,
}

impl Ledger {
    /// An act of an earlier run, at that time: a restart forgets none.
    pub fn remember(&mut self, at: Duration, verb: &Verb) {
        self.acts.push_back((at, verb.ends()));
    }

    /// The latest act of that kind could not be done, and counts for nothing.
    pub(crate) fn give_back(&mut self, verb: &Verb) {
        if let Some(place) = self.acts.iter().rposition(|(_, ends)| *ends == verb.ends()) {
            self.acts.remove(place);
        }
    }

    /// Whether one more step may act; if so, that is counted.
    fn spend(&mut self, action: Action, cap: Cap, now: Duration) -> bool {
        self.acts.retain(|(at, _)| now.saturating_sub(*at) < HOUR);
        let ends = matches!(action, Action::Terminate { .. } | Action::Restart);
        let ended = self.acts.iter().filter(|(_, ends)| *ends).count();
        let may = self.acts.len() < cap.acts as usize && (!ends || ended < cap.terminations as usize);
        if may {
            self.acts.push_back((now, ends));
        }
        may
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
    keep_within(&mut decisions, cap, ledger, circumstances.snapshot.moment.monotonic);
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
    };
    if !action.is_act() {
        let verdict = if action == Action::Alert { Verdict::Alert } else { acting(action, rule.armed, circumstances) };
        decisions.push(decision(None, false, verdict));
        return;
    }
    let taken = case.ladder.taken_before(step);
    let (targets, spared) = targets(case, action, rule.pick, circumstances);
    let before = decisions.len();
    if let Some((process, why)) = spared {
        decisions.push(decision(Some(process), false, Verdict::Spared(why)));
    }
    if case.ladder.is_over_budget() {
        decisions.push(decision(None, false, Verdict::OverBudget(action)));
    } else {
        let picks = rule.pick != Pick::All;
        let verdict = |process: &Process| alone(process, action, rule.armed, circumstances);
        // A step that is tried again is not taken again on those on whom it was.
        let left = targets.iter().filter(|process| taken.is_none_or(|taken| !taken.contains(&process.id)));
        decisions.extend(left.map(|process| decision(Some(process), picks, verdict(process))));
    }
    if decisions.len() == before && taken.is_none_or(BTreeSet::is_empty) {
        // Whoever was to be acted on is gone.
        decisions.push(decision(None, false, Verdict::Spared("none of its processes is left".to_owned())));
    }
}

type Spared<'s> = Option<(&'s Process, String)>;

/// Whom a step acts on, and one of those that are protected. A tree is ended and restarted at its root.
fn targets<'s>(
    case: &Case,
    action: Action,
    pick: Pick,
    circumstances: &Circumstances<'s>,
) -> (Vec<&'s Process>, Spared<'s>) {
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
            return (vec![lead], spared);
        }
        return (open, spared);
    }
    let chosen = match case.ladder.picked {
        Some(picked) => open.iter().find(|process| process.id == picked).copied(),
        None => open.iter().copied().max_by(|a, b| match pick {
            Pick::MostCpu => a.cpu.unwrap_or(0.0).total_cmp(&b.cpu.unwrap_or(0.0)),
            Pick::Newest => b.age.cmp(&a.age),
            _ => a.memory_held.or(a.memory).cmp(&b.memory_held.or(b.memory)),
        }),
    };
    (chosen.into_iter().collect(), spared)
}

/// The verdict on a step for one process as if it were the only one.
fn alone(process: &Process, action: Action, armed: bool, circumstances: &Circumstances<'_>) -> Verdict {
    let now = circumstances.snapshot.moment;
    if let Some(until) = circumstances.standing_back.get(&process.id).filter(|until| **until > now.monotonic) {
        let left = until.saturating_sub(now.monotonic);
        return Verdict::StandingBack { until: now.wall.checked_add(left).unwrap_or(now.wall) };
    }
    acting(action, armed, circumstances)
}

fn acting(action: Action, armed: bool, circumstances: &Circumstances<'_>) -> Verdict {
    match armed && !circumstances.all_in_shadow {
        false => Verdict::Shadow(action),
        true if circumstances.disarmed => Verdict::Waits(action),
        true => Verdict::Act(action),
    }
}

fn overtake(decisions: &mut [Decision]) {
    let mut strongest: BTreeMap<ProcessId, (Action, u64)> = BTreeMap::new();
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

/// A step of a case counts once, on however many processes it acts.
fn keep_within(decisions: &mut [Decision], cap: Cap, ledger: &mut Ledger, now: Duration) {
    let mut allowed: BTreeMap<u64, bool> = BTreeMap::new();
    for decision in decisions {
        let Verdict::Act(action) = decision.verdict else { continue };
        if action.is_act() && !*allowed.entry(decision.case).or_insert_with(|| ledger.spend(action, cap, now)) {
            decision.verdict = Verdict::Capped(action, cap);
        }
    }
}
