//! Between the judge and the act: what becomes of the steps that are due at one tick.
//!
//! One act per process and tick. The strongest due step wins; the others are overtaken. Protection, shadow and
//! standing back turn an act into words.

use std::collections::BTreeMap;
use std::time::Duration;

use crate::judge::{Case, Event, Judge};
use crate::model::{Facts, ProcessId, Snapshot};
use crate::protect::Protections;
use crate::rules::Action;

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
}

/// What becomes of a due step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Verdict {
    /// The step is an alert.
    Alert,
    /// It is to be taken.
    Act(Action),
    /// It would be taken, were the rule armed.
    Shadow(Action),
    /// The process is protected: why.
    Spared(String),
    /// Another case's stronger step goes first.
    Overtaken {
        /// That case.
        by: u64,
    },
    /// A hand was at work on the process: rules stand back from it until then (monotonic).
    StandingBack {
        /// Until when.
        until: Duration,
    },
}

/// The verdict on one due step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Decision {
    /// The case.
    pub case: u64,
    /// The step, by its place in the ladder.
    pub step: usize,
    /// What the step says.
    pub action: Action,
    /// What becomes of it.
    pub verdict: Verdict,
}

/// A verdict for every step that is due.
pub fn decide(events: &[Event], judge: &Judge, circumstances: &Circumstances<'_>) -> Vec<Decision> {
    let due = events.iter().filter_map(|event| match event {
        Event::Due { case, step } => {
            let case = judge.case(*case)?;
            Some((case, *step, judge.rule_of(case).ladder.get(*step)?.action))
        }
        _ => None,
    });
    let mut decisions: Vec<Decision> = due
        .map(|(case, step, action)| {
            let verdict = alone(case, action, judge, circumstances);
            Decision { case: case.number, step, action, verdict }
        })
        .collect();
    overtake(&mut decisions, judge);
    decisions
}

/// The verdict on a step as if it were the only one.
fn alone(case: &Case, action: Action, judge: &Judge, circumstances: &Circumstances<'_>) -> Verdict {
    if action == Action::Alert {
        return Verdict::Alert;
    }
    let facts = Facts::new(&case.subject, &circumstances.snapshot.machine);
    if let Some(reason) = circumstances.protections.reason(&facts) {
        return Verdict::Spared(reason);
    }
    let now = circumstances.snapshot.moment.monotonic;
    if let Some(until) = circumstances.standing_back.get(&case.subject.id).filter(|until| **until > now) {
        return Verdict::StandingBack { until: *until };
    }
    let armed = judge.rule_of(case).armed && !circumstances.all_in_shadow;
    if armed { Verdict::Act(action) } else { Verdict::Shadow(action) }
}

fn overtake(decisions: &mut [Decision], judge: &Judge) {
    let mut strongest: BTreeMap<ProcessId, (Action, u64)> = BTreeMap::new();
    let acts = |decision: &Decision| match decision.verdict {
        Verdict::Act(action) => judge.case(decision.case).map(|case| (case.subject.id, action)),
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
