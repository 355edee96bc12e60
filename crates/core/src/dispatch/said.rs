//! What is said once: what a rule cannot judge, for want of which reading.

use std::collections::BTreeSet;

use super::Dispatcher;
use crate::happening::{Happening, News};
use crate::model::{Field, Moment};
use crate::rules::RuleName;

/// The rules of which that has been said.
#[derive(Debug, Default)]
pub(super) struct Said {
    unreadable: BTreeSet<RuleName>,
    late: BTreeSet<RuleName>,
}

impl Said {
    pub(crate) fn forget_all(&mut self) {
        *self = Said::default();
    }
}

impl Dispatcher {
    pub(super) fn say_what_is_unreadable(&mut self, now: Moment) {
        let mut news = Vec::new();
        for (rule, status) in self.judge.status() {
            if status.late > 0 && self.said.late.insert(rule.name.clone()) {
                news.push((rule.name.clone(), News::Late(status.late)));
            }
            // A rate is unknown at a process's first sample; that is no want of rights.
            let fields = status.unreadable.iter().filter(|field| !field.info().rate);
            let fields: Vec<&'static str> = fields.copied().map(Field::name).collect();
            if fields.is_empty() || !self.said.unreadable.insert(rule.name.clone()) {
                continue;
            }
            let count = status.undecided + status.unjudged;
            news.push((rule.name.clone(), News::Unreadable { count, fields, help: self.settings.to_read }));
        }
        for (rule, news) in news {
            self.tell(Happening { rule: Some(rule), ..Happening::news(now.wall, news) });
        }
    }
}
