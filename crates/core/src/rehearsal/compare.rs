//! Two files of rules on the same recording: what is new, gone, earlier, later.

use std::collections::{BTreeMap, BTreeSet};

use jiff::{SignedDuration, Timestamp};

use super::{Rehearsal, Story};

use crate::order::{InOrder, IntoSet};

/// How a case of the new rules stands to the old ones'.
#[derive(Debug, Clone, PartialEq)]
pub enum Change {
    /// Only the new rules have it.
    New,
    /// Only the old ones had it.
    Gone,
    /// Both have it, with other times or steps: how much later it opens (negative for earlier), and acts.
    Moved {
        /// It opens that much later.
        opens: SignedDuration,
        /// It acts that much later; `None` where one of both never does.
        acts: Option<SignedDuration>,
    },
    /// The same in both.
    Same,
}

/// A case in one or both.
#[derive(Debug, Clone, PartialEq)]
pub struct Difference {
    /// The rule's name.
    pub rule: String,
    /// Whom it is about.
    pub label: String,
    /// When it opens, by the new rules, or by the old ones where those alone have it.
    pub opened: Timestamp,
    /// When it first acts by the old rules.
    pub old_act: Option<Timestamp>,
    /// When it first acts by the new ones.
    pub new_act: Option<Timestamp>,
    /// How they differ.
    pub change: Change,
}

/// Every case of both, by time. Cases of one rule on one owner's program are paired in their order.
pub fn compare(old: &Rehearsal, new: &Rehearsal) -> Vec<Difference> {
    type Cases<'r> = BTreeMap<(String, String, String), Vec<&'r Story>>;
    fn gather(rehearsal: &Rehearsal) -> Cases<'_> {
        let mut cases = Cases::new();
        for story in rehearsal.stories() {
            let rule = story.rule.to_string();
            cases.entry((rule, story.app.clone(), story.owner.clone())).or_default().push(story);
        }
        cases
    }
    let (old_cases, new_cases) = (gather(old), gather(new));
    let mut all = Vec::new();
    let keys: BTreeSet<_> = old_cases.keys().chain(new_cases.keys()).cloned().into_set();
    for key in keys {
        let none = Vec::new();
        let (olds, news) = (old_cases.get(&key).unwrap_or(&none), new_cases.get(&key).unwrap_or(&none));
        for place in 0..olds.len().max(news.len()) {
            all.extend(difference(&key.0, olds.get(place).copied(), news.get(place).copied()));
        }
    }
    all.order_by_key(|difference: &Difference| difference.opened);
    all
}

fn difference(rule: &str, old: Option<&Story>, new: Option<&Story>) -> Option<Difference> {
    let story = new.or(old)?;
    let (old_act, new_act) = (old.and_then(Story::first_act), new.and_then(Story::first_act));
    let change = match (old, new) {
        (None, _) => Change::New,
        (_, None) => Change::Gone,
        (Some(old), Some(new)) => {
            let opens = new.opened.duration_since(old.opened);
            let acts = new_act.zip(old_act).map(|(new, old)| new.duration_since(old));
            let same_acts = old_act == new_act && old.steps == new.steps;
            if opens.is_zero() && same_acts { Change::Same } else { Change::Moved { opens, acts } }
        }
    };
    Some(Difference {
        rule: rule.to_owned(),
        label: story.label.clone(),
        opened: story.opened,
        old_act,
        new_act,
        change,
    })
}
