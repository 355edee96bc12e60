//! What is said once, or now and then: what a rule cannot judge, for want of which reading; that no sample can be taken.

use std::time::Duration;

use super::Dispatcher;
use crate::happening::{Happening, News};
use crate::judge::Lacking;
use crate::model::{Field, Moment};
use crate::rules::RuleName;
use crate::sorted::{SortedMap, SortedSet};
use crate::text::processes;

/// The rules of which that has been said.
#[derive(Debug, Default)]
pub(super) struct Said {
    unreadable: SortedSet<RuleName>,
    late: SortedSet<RuleName>,
    uncounted: SortedSet<RuleName>,
    /// What each rule could not read at the last tick, of whom, and at the one before as well.
    lacking: SortedMap<RuleName, SortedSet<Lacking>>,
    wanting: SortedMap<RuleName, SortedSet<Field>>,
    /// Why no sample could be taken, and when that was said.
    blind: Option<(String, Duration)>,
    /// When it was said that of some processes nothing can be read.
    misses: Option<Duration>,
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

    /// Of so many processes nothing can be read: said as often as that no sample can be taken.
    pub(super) fn say_whom_it_misses(&mut self, now: Moment, unread: usize) {
        if unread == 0 || self.said.misses.is_some_and(|at| now.monotonic < at + AGAIN) {
            return;
        }
        self.said.misses = Some(now.monotonic);
        let whom = processes(unread);
        let why = "too many files are open, or there is no memory: see `LimitNOFILE` of the service, `fs.file-max` of the machine";
        self.news(now, News::Blind(format!("nothing can be read of {whom}: {why}")));
    }

    /// What a rule cannot read, for want of a right or because nobody may: of the same process at two ticks in a row.
    pub(super) fn wanting(&self, rule: &RuleName) -> Vec<&'static str> {
        self.said.wanting.get(rule).into_iter().flatten().copied().map(Field::name).collect()
    }

    fn note_what_is_wanting(&mut self) {
        let (right, own) = (self.protections.to_read.is_some(), self.protections.service);
        let mut lacking = SortedMap::new();
        self.said.wanting.clear();
        for (rule, status) in self.judge.status().filter(|(_, status)| !status.lacking.is_empty()) {
            let before = self.said.lacking.remove(&rule.name).unwrap_or_default();
            // A rate may be unknown because it needs another reading. Of others' processes it is the right that is wanting, where it is.
            let counts = |(field, _, uid): &&Lacking| !field.info().rate || right && *uid != own;
            let both = before.intersection(&status.lacking).filter(counts);
            let fields: SortedSet<Field> = both.map(|(field, ..)| *field).collect();
            if !fields.is_empty() {
                self.said.wanting.insert(rule.name.clone(), fields);
            }
            lacking.insert(rule.name.clone(), status.lacking.clone());
        }
        self.said.lacking = lacking;
    }

    pub(super) fn sees_again(&mut self) {
        self.said.blind = None;
    }

    /// Of so many processes of a group the memory is not in its sum.
    pub(super) fn say_what_is_uncounted(&mut self, now: Moment, rule: &RuleName, uncounted: usize) {
        if uncounted > 0 && self.said.uncounted.insert(rule.clone()) {
            self.tell(Happening { rule: Some(rule.clone()), ..Happening::news(now.wall, News::Uncounted(uncounted)) });
        }
    }

    pub(super) fn say_what_is_unreadable(&mut self, now: Moment) {
        self.note_what_is_wanting();
        let mut news = Vec::new();
        for (rule, status) in self.judge.status() {
            if status.late > 0 && self.said.late.insert(rule.name.clone()) {
                news.push((rule.name.clone(), News::Late(status.late)));
            }
            let fields = self.wanting(&rule.name);
            if fields.is_empty() || !self.said.unreadable.insert(rule.name.clone()) {
                continue;
            }
            let count = status.unread;
            news.push((rule.name.clone(), News::Unreadable { count, fields, help: self.protections.to_read }));
        }
        for (rule, news) in news {
            self.tell(Happening { rule: Some(rule), ..Happening::news(now.wall, news) });
        }
    }
}
