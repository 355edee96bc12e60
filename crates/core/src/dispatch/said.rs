//! What is said once, or now and then: what a rule cannot judge, for want of which reading; that no sample can be taken.

use std::collections::BTreeSet;
use std::time::Duration;

use super::Dispatcher;
use crate::happening::{Happening, News};
use crate::judge::RuleStatus;
use crate::model::{Field, Moment};
use crate::rules::RuleName;

/// The rules of which that has been said.
#[derive(Debug, Default)]
pub(super) struct Said {
    unreadable: BTreeSet<RuleName>,
    late: BTreeSet<RuleName>,
    /// Why no sample could be taken, and when that was said.
    blind: Option<(String, Duration)>,
}

/// What goes on is said again after that long.
const AGAIN: Duration = Duration::from_secs(60);

impl Said {
    pub(crate) fn forget_all(&mut self) {
        *self = Said::default();
    }
}

impl Dispatcher {
    /// No sample can be taken.
    pub(super) fn say_blind(&mut self, now: Moment, why: String) {
        let told = self.said.blind.as_ref().is_some_and(|(told, at)| *told == why && now.monotonic < *at + AGAIN);
        if !told {
            self.said.blind = Some((why.clone(), now.monotonic));
            self.news(now, News::Blind(why));
        }
    }

    /// What a rule cannot read, for want of a right or because nobody may.
    pub(super) fn wanting(&self, status: &RuleStatus) -> Vec<&'static str> {
        // A rate may be unknown because it needs another reading. Of others' processes it is the right that is wanting, where it is.
        let rates: BTreeSet<Field> = match self.protections.to_read {
            Some(_) => status
                .rates
                .iter()
                .filter(|(_, uid)| *uid != self.protections.service)
                .map(|(field, _)| *field)
                .collect(),
            None => BTreeSet::new(),
        };
        let is_wanting = |field: &&Field| !field.info().rate || rates.contains(field);
        status.unreadable.iter().filter(is_wanting).copied().map(Field::name).collect()
    }

    pub(super) fn sees_again(&mut self) {
        self.said.blind = None;
    }

    pub(super) fn say_what_is_unreadable(&mut self, now: Moment) {
        let mut news = Vec::new();
        for (rule, status) in self.judge.status() {
            if status.late > 0 && self.said.late.insert(rule.name.clone()) {
                news.push((rule.name.clone(), News::Late(status.late)));
            }
            let fields = self.wanting(status);
            if fields.is_empty() || !self.said.unreadable.insert(rule.name.clone()) {
                continue;
            }
            let count = status.undecided + status.unjudged;
            news.push((rule.name.clone(), News::Unreadable { count, fields, help: self.protections.to_read }));
        }
        for (rule, news) in news {
            self.tell(Happening { rule: Some(rule), ..Happening::news(now.wall, news) });
        }
    }
}
