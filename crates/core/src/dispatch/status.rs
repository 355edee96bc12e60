//! How a watch stands: what each rule sees, what is open, from whom rules stand back.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::Dispatcher;
use crate::condition::Truth;
use crate::facts::Facts;
use crate::judge::{Case, RuleStatus};
use crate::model::{Moment, Process, Snapshot};
use crate::order::InOrder;
use crate::rules::Rule;
use crate::severity::Severity;
use crate::stand_back::StandBack;
use crate::units::{Value, scaled_duration};

/// How a watch stands.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Status {
    /// Its rules, the worst first.
    pub rules: Vec<RuleStanding>,
    /// From whom rules stand back by somebody's word.
    pub stand_backs: Vec<StandBack>,
    /// Whether no rule acts, as it was begun.
    pub shadow: bool,
    /// Why nothing is acted upon, where that is so.
    pub disarmed: Option<String>,
    /// Until when nothing is done after a start.
    pub settling: Option<Timestamp>,
    /// Processes on which something of ours is in force.
    pub in_force: usize,
}

/// How a rule stands.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RuleStanding {
    /// Its name.
    pub rule: String,
    /// How serious it is: `notice`, `warning`, `critical`.
    pub severity: String,
    /// Whether it acts; otherwise it only says what it would do.
    pub armed: bool,
    /// `breached`, `easing`, `building`, `unknown` or `within`.
    pub state: String,
    /// Processes that it covers.
    pub covered: usize,
    /// Whom it has a case with, the oldest first, at most 20.
    pub subjects: Vec<Subject>,
    /// How many cases it has open.
    pub cases: usize,
    /// Processes that it cannot judge.
    pub not_judged: usize,
    /// Why, and the right that is missing.
    pub unknown: Option<String>,
    /// Its hours, where now is outside of them.
    pub outside: Option<String>,
}

/// Whom a rule has a case with.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Subject {
    /// As people call it.
    pub subject: String,
    /// The case.
    pub case: u64,
    /// Since when.
    pub since: Timestamp,
    /// What it reads, and its limit, for people.
    pub reading: Option<String>,
    /// What comes next, if the breach goes on.
    pub next: Option<String>,
}

/// Most cases of a rule that are named.
const MOST: usize = 20;

impl Dispatcher {
    /// How it stands, by the last sample.
    pub fn status(&self, now: Moment, snapshot: &Snapshot) -> Status {
        let mut rules: Vec<RuleStanding> =
            self.judge.status().map(|(rule, seen)| self.rule_standing(rule, seen, now, snapshot)).collect();
        let place = |rule: &RuleStanding| {
            ["breached", "unknown", "easing", "building", "within"].iter().position(|word| *word == rule.state)
        };
        let severity = |rule: &RuleStanding| Severity::of_word(&rule.severity);
        rules.order_by(|a, b| place(a).cmp(&place(b)).then_with(|| severity(b).cmp(&severity(a))));
        let settles = self.judge.acting_from();
        let settling =
            (settles > now.monotonic).then(|| now.wall.checked_add(settles - now.monotonic).unwrap_or(now.wall));
        Status {
            rules,
            stand_backs: self.stand_backs.clone(),
            shadow: self.settings.shadow,
            disarmed: self.disarmed(),
            settling,
            in_force: self.effects.processes().len(),
        }
    }

    fn rule_standing(&self, rule: &Rule, seen: &RuleStatus, now: Moment, snapshot: &Snapshot) -> RuleStanding {
        let mut cases: Vec<&Case> = self.judge.cases().filter(|case| case.rule == rule.name).collect();
        cases.order_by_key(|case| case.number);
        let fields = self.wanting(&rule.name);
        let help = self.protections.to_read.unwrap_or("not even root may");
        let unknown = match (fields.is_empty(), seen.late) {
            (false, _) => Some(format!("{} cannot be read ({help})", fields.join(", "))),
            (true, 1..) => Some("what they run was not to be read in time, and is tried again".to_owned()),
            (true, 0) => None,
        };
        let state = match (cases.iter().any(|case| case.breached), cases.is_empty(), &unknown) {
            (true, ..) => "breached",
            (false, false, _) => "easing",
            (false, true, Some(_)) => "unknown",
            (false, true, None) if self.judge.builds(&rule.name) => "building",
            (false, true, None) => "within",
        };
        let subject = |case: &&Case| {
            let reading = case.measure.as_ref().map(|measure| {
                let scaled = |value: &Option<Value>| value.as_ref().map_or("unknown".to_owned(), Value::scaled);
                let limit = measure.limit.as_ref().map(|limit| format!(", limit {}", limit.scaled()));
                format!("{} {}{}", measure.quantity, scaled(&measure.reading), limit.unwrap_or_default())
            });
            let back = self.is_held_back(case);
            let next = case.upcoming(rule).map(|(step, left)| match left.is_zero() {
                _ if back => format!("{}, not while rules stand back", step.action),
                true => format!("{}, due", step.action),
                false => format!("{}; due in {} of breach", step.action, scaled_duration(left)),
            });
            let (subject, number, since) = (case.label(), case.number, case.opened.wall);
            Subject { subject, case: number, since, reading, next }
        };
        let covered = |process: &&Process| {
            !process.has_ended() && rule.covering(&Facts::new(process, &snapshot.machine)) == Truth::True
        };
        RuleStanding {
            rule: rule.name.to_string(),
            severity: rule.severity.word().to_owned(),
            armed: rule.armed,
            state: state.to_owned(),
            covered: snapshot.processes.iter().filter(covered).count(),
            subjects: cases.iter().take(MOST).map(subject).collect(),
            cases: cases.len(),
            not_judged: if unknown.is_some() { seen.unread + seen.late } else { 0 },
            unknown,
            outside: (!rule.hours.covers(now.wall, &self.settings.zone)).then(|| rule.hours.to_string()),
        }
    }
}
