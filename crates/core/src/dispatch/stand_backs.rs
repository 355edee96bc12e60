//! Standing back by somebody's word. It is as outside of hours: what is in force is undone, clocks stand still, people are told
//! as before.

use std::time::Duration;

use jiff::Timestamp;

use super::{Beside, Command, Dispatcher};
use crate::audit::Who;
use crate::happening::{Happening, Next, Subject, What};
use crate::judge::Case;
use crate::model::{Moment, ProcessId, Snapshot};
use crate::rules::Rule;
use crate::sorted::SortedSet;
use crate::stand_back::{StandBack, StandsBack, Whom};

/// What somebody says.
#[derive(Debug, Clone)]
pub struct Word {
    /// By which the reply is handed back.
    pub ticket: u64,
    /// From whom rules stand back, or no longer do.
    pub whom: Vec<Whom>,
    /// For how long; where it is to end, not at all.
    pub length: Option<Duration>,
    /// Who says so.
    pub by: Who,
    /// Why.
    pub because: Option<String>,
}

/// Why rules act again.
#[derive(Debug, Clone, PartialEq)]
pub enum ActsAgain {
    /// The time is over.
    Over,
    /// Somebody said so, and why.
    Said(Who, Option<String>),
    /// The process has ended.
    Ended,
}

impl Dispatcher {
    /// Somebody has said that rules stand back, or do so no longer.
    pub(super) fn take_word(&mut self, now: Moment, word: Word) {
        let Word { ticket, whom, length, by, because } = word;
        let mut ended = Vec::new();
        match length {
            Some(length) => {
                for whom in whom {
                    self.stand_backs.retain(|known| !known.whom.is_same(&whom));
                    let said = StandBack::new(whom, length, by.clone(), because.clone(), now);
                    self.tell(told(now, &said, What::StandsBack(Box::new(said.clone()))));
                    self.stand_backs.push(said);
                }
            }
            None => {
                let meant =
                    |known: &mut StandBack| whom.iter().any(|whom| *whom == Whom::All || whom.is_same(&known.whom));
                ended = self.stand_backs.extract_if(.., meant).collect();
                for one in &ended {
                    let why = ActsAgain::Said(by.clone(), because.clone());
                    self.tell(told(now, one, What::ActsAgain(Box::new(one.clone()), why)));
                }
            }
        }
        self.revision += 1;
        self.out.push(Command::Said(ticket, ended));
    }

    /// What holds at present.
    pub fn stand_backs(&self) -> &[StandBack] {
        &self.stand_backs
    }

    /// What is over by time, or with its process.
    pub(super) fn mind_the_stand_backs(&mut self, snapshot: &Snapshot, beside: &Beside) {
        let now = snapshot.moment;
        let gone = |id| !beside.unseen.contains(&id) && snapshot.find(&id).is_none_or(|process| process.has_ended());
        let over = |one: &StandBack| match one.whom.id() {
            _ if one.left(now).is_zero() => Some(ActsAgain::Over),
            Some(id) if gone(id) => Some(ActsAgain::Ended),
            _ => None,
        };
        let ended: Vec<(StandBack, ActsAgain)> =
            self.stand_backs.iter().filter_map(|one| Some((one.clone(), over(one)?))).collect();
        for (one, why) in ended {
            self.stand_backs.retain(|known| !known.whom.is_same(&one.whom));
            self.tell(told(now, &one, What::ActsAgain(Box::new(one.clone()), why)));
            self.revision += 1;
        }
    }

    /// From whom rules stand back by somebody's word: here, and in the watcher that recorded.
    pub(super) fn by_word(&self, now: Moment, beside: &Beside) -> StandsBack {
        let mut back = StandsBack::of(&self.stand_backs, now);
        let recorded = &beside.recorded.by_word;
        back.all = back.all.max(recorded.all);
        back.rules.extend(recorded.rules.iter().map(|(rule, until)| (rule.clone(), *until)));
        back.processes.extend(recorded.processes.iter().map(|(id, until)| (*id, *until)));
        back
    }

    /// What comes next in a case: while rules stand back nothing does, and nobody knows when that is over.
    pub(super) fn next_of(&self, case: &Case, rule: &Rule, at: Timestamp) -> Next {
        if self.is_held_back(case) { Next::Unsaid } else { Next::of(case, rule, at) }
    }

    /// Whether a case is one in which nothing is done by somebody's word.
    pub(super) fn is_held_back(&self, case: &Case) -> bool {
        self.back.covers(&case.rule, &case.members)
    }

    /// What is in force on whom rules stand back from is undone; whoever is busy comes next time.
    pub(super) fn undo_where_rules_stand_back(&mut self, busy: &SortedSet<ProcessId>) {
        if self.back.is_empty() || self.effects.is_empty() {
            return;
        }
        for id in self.effects.processes().into_iter().filter(|id| !busy.contains(id)) {
            for case in self.effects.cases_of(&id) {
                if self.stands_back_by_word(case, &id) {
                    self.let_go(id, case, Some("rules stand back from it"));
                }
            }
        }
    }

    /// Whether a rule stands back from a process, by a hand or by somebody's word.
    pub(super) fn stands_back(&self, case: u64, id: &ProcessId) -> bool {
        self.hands.standing_back.contains_key(id) || self.stands_back_by_word(case, id)
    }

    fn stands_back_by_word(&self, case: u64, id: &ProcessId) -> bool {
        self.judge.case(case).is_some_and(|case| self.back.until(&case.rule, id).is_some())
    }
}

fn told(now: Moment, one: &StandBack, what: What) -> Happening {
    let rule = if let Whom::Rule(rule) = &one.whom { Some(rule.as_str().into()) } else { None };
    let subject = one.whom.as_process().map_or(Subject::Machine, |process| Subject::process(&process));
    Happening { at: now.wall, rule, case: None, subject, what, next: Next::Unsaid }
}
