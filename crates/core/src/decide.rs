//! Between the judge and the act: what becomes of the steps that are due at one tick.
//!
//! One act per process and tick. The strongest due step wins; the others are overtaken. Protection, shadow, standing
//! back, a spent budget and the cap on acts turn an act into words.

use std::collections::{BTreeMap, VecDeque};
use std::time::Duration;

use crate::judge::{Case, Event, Judge};
use crate::model::{Facts, Process, ProcessId, Snapshot};
use crate::protect::Protections;
use crate::rules::{Action, Cap, Pick};
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
    /// The process is protected: why.
    Spared(String),
    /// Another case's stronger step goes first.
    Overtaken {
        /// That case.
        by: u64,
    },
    /// The budget of the subject is spent.
    OverBudget(Action),
    /// All rules together have acted as often as they may in an hour.
    Capped(Action),
    /// A hand was at work on the process: rules stand back from it until then (monotonic).
    StandingBack {
        /// Until when.
        until: Duration,
    },
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
    /// The process that it is about.
    pub subject: Process,
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
    pub fn remember(&mut self, at: Duration, verb: &str) {
        self.acts.push_back((at, matches!(verb, "terminate" | "restart")));
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

/// A verdict for every step that is due, on every process that it acts on. The judge is told how many outcomes to await.
pub fn decide(
    events: &[Event],
    judge: &mut Judge,
    circumstances: &Circumstances<'_>,
    cap: Cap,
    ledger: &mut Ledger,
) -> Vec<Decision> {
    let mut decisions = Vec::new();
    for event in events {
        let Event::Due { case: number, step } = event else { continue };
        let Some(case) = judge.case(*number).cloned() else { continue };
        let Some(action) = judge.rule_of(&case).ladder.get(*step).map(|step| step.action) else { continue };
        let (pick, armed) = (judge.rule_of(&case).pick, judge.rule_of(&case).armed);
        let decision = |subject: &Process, verdict| Decision {
            case: *number,
            step: *step,
            action,
            subject: subject.clone(),
            verdict,
        };
        if !action.is_act() {
            let verdict = if action == Action::Alert { Verdict::Alert } else { acting(action, armed, circumstances) };
            decisions.push(decision(&case.subject, verdict));
            continue;
        }
        let (targets, spared) = targets(&case, action, pick, circumstances);
        if let (Some(picked), true) = (targets.first(), pick != Pick::All) {
            judge.pick(*number, picked.id);
        }
        let before = decisions.len();
        if let Some((process, why)) = spared {
            decisions.push(decision(process, Verdict::Spared(why)));
        }
        if case.over_budget {
            decisions.push(decision(&case.subject, Verdict::OverBudget(action)));
        } else {
            decisions
                .extend(targets.iter().map(|process| decision(process, alone(process, action, armed, circumstances))));
        }
        if decisions.len() == before {
            // Whoever was to be acted on is gone.
            decisions.push(decision(&case.subject, Verdict::Spared("none of its processes is left".to_owned())));
        }
    }
    overtake(&mut decisions);
    keep_within(&mut decisions, cap, ledger, circumstances.snapshot.moment.monotonic);
    for event in events {
        if let Event::Due { case, .. } = event {
            let outcomes = decisions.iter().filter(|decision| decision.case == *case).count();
            judge.awaits(*case, u32::try_from(outcomes).unwrap_or(u32::MAX));
        }
    }
    decisions
}

type Spared<'s> = Option<(&'s Process, String)>;

/// Whom a step acts on, and one of those that are protected. A tree is ended and restarted at its root.
fn targets<'s>(
    case: &Case,
    action: Action,
    pick: Pick,
    circumstances: &Circumstances<'s>,
) -> (Vec<&'s Process>, Spared<'s>) {
    let find = |id: &ProcessId| circumstances.snapshot.process(id.pid).filter(|process| process.id == *id);
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
            (Action::Restart, _) => Some(case.subject.id),
            _ => None,
        };
        if let Some(lead) = whole.and_then(|id| open.iter().find(|process| process.id == id)) {
            return (vec![lead], spared);
        }
        return (open, spared);
    }
    let chosen = match case.picked {
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
    let now = circumstances.snapshot.moment.monotonic;
    if let Some(until) = circumstances.standing_back.get(&process.id).filter(|until| **until > now) {
        return Verdict::StandingBack { until: *until };
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
        Verdict::Act(action) if action.is_act() => Some((decision.subject.id, action)),
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
            decision.verdict = Verdict::Capped(action);
        }
    }
}
