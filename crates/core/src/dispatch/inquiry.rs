//! How a rule stands to a process: what a running watcher answers.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::Dispatcher;
use super::standing::{OpenCase, PartInWords, Standing, Story, word};
use crate::condition::Truth;
use crate::facts::Facts;
use crate::judge::{Case, Part, Wait};
use crate::model::{Machine, Moment, Process};
use crate::rules::{Rule, RuleName};
use crate::units::scaled_duration;

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

/// What somebody wants to know.
#[derive(Debug, Clone)]
pub struct Inquiry {
    /// By which the reply is handed back.
    pub ticket: u64,
    /// The rule.
    pub rule: RuleName,
    /// The process, as last sampled.
    pub process: Process,
    /// The machine, as last sampled.
    pub machine: Machine,
}

/// What a watcher runs.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Running {
    /// Its rules, by name.
    pub rules: Vec<String>,
    /// How many of them act, and do not only tell.
    pub armed: usize,
    /// Which of those that act cover the process that was asked about, and may act on it.
    pub covering: Vec<String>,
    /// The digest of the files that they were read from.
    pub digest: String,
}

impl Dispatcher {
    pub(super) fn standing(&self, now: Moment, inquiry: &Inquiry) -> Option<Standing> {
        let Inquiry { rule: name, process, machine, .. } = inquiry;
        let rule = self.judge.rule(name)?;
        let (key, lead) = self.judge.subject_of(name, process)?;
        let case = self.judge.cases().find(|case| case.rule == *name && case.key == key);
        let left = |until: Duration| (until > now.monotonic).then(|| (until - now.monotonic).as_secs_f64());
        let next = |case: &Case| {
            let again = case.ladder.owed.iter().filter_map(|owed| {
                let left = owed.from.0.saturating_sub(now.monotonic);
                Some(format!("{}, tried again in {}", rule.ladder.get(owed.step)?.action, scaled_duration(left)))
            });
            let waits = match case.ladder.wait {
                Wait::Answer => Some("whose it is is asked first".to_owned()),
                Wait::Until { over, .. } if over.0 > now.monotonic => {
                    Some(format!("nothing is done for {}", scaled_duration(over.0 - now.monotonic)))
                }
                _ => None,
            };
            let step = case.upcoming(rule);
            let step = step.map(|(step, left)| format!("{} in {} of breach", step.action, scaled_duration(left)));
            Some(waits.into_iter().chain(again).chain(step).collect::<Vec<_>>().join("; "))
                .filter(|next| !next.is_empty())
        };
        let members = case.map_or_else(|| self.judge.members(name, &key), |case| case.members.len());
        let open = |case: &Case| OpenCase {
            number: case.number,
            clock: case.ladder.clock.as_secs_f64(),
            next: next(case),
            over_budget: case.ladder.is_over_budget(),
        };
        let facts = Facts::new(process, machine);
        let subject = key.label(lead.as_ref(), members);
        let mut standing = Standing::of(rule, &facts, subject, &self.protections, now, &self.settings.zone);
        // By the readings of the group, and with the windows.
        standing.parts = self.judge.parts(name, &key, lead.as_ref(), machine).into_iter().map(words).collect();
        if rule.armed && self.settings.shadow {
            standing.only_tells = Some("the watcher was started with --shadow".to_owned());
        } else if rule.armed && self.is_disarmed() {
            standing.only_tells = Some("the watcher is disarmed, since its record cannot be relied on".to_owned());
        }
        let by_word = self.back.until(name, &process.id);
        let by_hand = self.hands.standing_back.get(&process.id).copied();
        standing.story = Some(Story {
            building: self.judge.building(name, &key).map(|held| held.as_secs_f64()),
            case: case.map(open),
            spent: self.judge.spent(name, &key, lead.as_ref()),
            standing_back: by_word.max(by_hand).and_then(left),
            by_word: by_word > by_hand,
            settling: left(self.judge.acting_from()),
        });
        Some(standing)
    }

    /// What is run, and which armed rules cover a process.
    pub fn running(&self, process: Option<(&Process, &Machine)>) -> Running {
        let acts = |rule: &Rule| rule.armed && !self.settings.shadow && !self.is_disarmed();
        let covers = |rule: &Rule| {
            let Some((process, machine)) = process else { return false };
            let facts = Facts::new(process, machine);
            rule.covering(&facts) == Truth::True && self.protections.reason(&facts).is_none()
        };
        let armed = self.rules.rules.iter().filter(|rule| acts(rule));
        Running {
            rules: self.rules.rules.iter().map(|rule| rule.name.to_string()).collect(),
            armed: armed.clone().count(),
            covering: armed.filter(|rule| covers(rule)).map(|rule| rule.name.to_string()).collect(),
            digest: self.rules.digest.clone(),
        }
    }
}

fn words(part: Part) -> PartInWords {
    (part.words, word(part.truth).to_owned(), part.reading.as_ref().map(|reading| format!("now {}", reading.scaled())))
}
