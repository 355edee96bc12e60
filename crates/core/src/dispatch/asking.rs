//! How a rule stands to a process: what a running watcher answers.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::Dispatcher;
use crate::condition::Truth;
use crate::judge::{Case, Part};
use crate::model::{Machine, Moment, Process};
use crate::rules::RuleName;
use crate::units::{Value, scaled_duration};

/// A question as it is put: how a rule stands to a process, by its name, its PID and its start time.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Wanted {
    /// The rule.
    pub rule: String,
    /// The process.
    pub pid: u32,
    /// When it started, clock ticks since boot.
    pub start: u64,
}

impl Wanted {
    /// From one line, which may come from anybody.
    ///
    /// # Errors
    /// It is no question.
    pub fn read(line: &[u8]) -> serde_json::Result<Wanted> {
        serde_json::from_slice(line)
    }
}

/// What somebody wants to know.
#[derive(Debug, Clone)]
pub struct Question {
    /// By which the answer is handed back.
    pub ticket: u64,
    /// The rule.
    pub rule: RuleName,
    /// The process, as last sampled.
    pub process: Process,
    /// The machine, as last sampled.
    pub machine: Machine,
}

/// How a rule stands to the subject that a process is of. Times in seconds.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Standing {
    /// The subject, as people call it.
    pub subject: String,
    /// For how long a breach has held that opened no case yet.
    pub building: Option<f64>,
    /// The open case.
    pub case: Option<OpenCase>,
    /// Each part of the breach: in words, whether it holds, and its reading.
    pub parts: Vec<(String, String, Option<String>)>,
    /// Cases acted upon in the time of the budget.
    pub spent: Option<usize>,
    /// For how long rules stand back from it.
    pub standing_back: Option<f64>,
    /// For how long nothing is done after a start.
    pub settling: Option<f64>,
}

/// An open case.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct OpenCase {
    /// Its number.
    pub number: u64,
    /// Breached time.
    pub clock: f64,
    /// The next step, and when.
    pub next: Option<String>,
}

impl Dispatcher {
    pub(super) fn standing(&self, now: Moment, question: &Question) -> Option<Standing> {
        let Question { rule: name, process, machine, .. } = question;
        let rule = self.judge.rule(name)?;
        let (key, lead) = self.judge.subject_of(name, process)?;
        let case = self.judge.cases().find(|case| case.rule == *name && case.key == key);
        let left = |until: Duration| (until > now.monotonic).then(|| (until - now.monotonic).as_secs_f64());
        let next = |case: &Case| {
            let again = case.ladder.owed.iter().filter_map(|owed| {
                let left = owed.from.0.saturating_sub(now.monotonic);
                Some(format!("{}, tried again in {}", rule.ladder.get(owed.step)?.action, scaled_duration(left)))
            });
            let step = case.upcoming(rule);
            let step = step.map(|(step, left)| format!("{} in {} of breach", step.action, scaled_duration(left)));
            Some(again.chain(step).collect::<Vec<_>>().join("; ")).filter(|next| !next.is_empty())
        };
        let members = case.map_or(1, |case| case.members.len());
        let open =
            |case: &Case| OpenCase { number: case.number, clock: case.ladder.clock.as_secs_f64(), next: next(case) };
        Some(Standing {
            subject: key.label(lead.as_ref(), members),
            building: self.judge.building(name, &key).map(|held| held.as_secs_f64()),
            case: case.map(open),
            parts: self.judge.parts(name, &key, lead.as_ref(), machine).into_iter().map(words).collect(),
            spent: self.judge.spent(name, &key, lead.as_ref()),
            standing_back: self.hands.standing_back.get(&process.id).and_then(|until| left(*until)),
            settling: left(self.judge.acting_from()),
        })
    }
}

fn words(part: Part) -> (String, String, Option<String>) {
    let truth = match part.truth {
        Truth::True => "true",
        Truth::False => "false",
        Truth::Unknown => "unknown",
    };
    (part.words, truth.to_owned(), part.reading.as_ref().map(Value::scaled))
}
