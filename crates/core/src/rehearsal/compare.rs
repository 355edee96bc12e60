//! Two files of rules on the same recording: what is new, gone, earlier, later.

use std::collections::BTreeMap;

use jiff::{SignedDuration, Timestamp};

use super::{Rehearsal, Story};

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
    let by_subject = |rehearsal: &'_ Rehearsal, stories: Vec<&'_ Story>| -> Vec<((String, String, String), usize)> {
        let key =
            |story: &Story| (rehearsal.rules().rules[story.rule].name.clone(), story.app.clone(), story.owner.clone());
        stories.iter().enumerate().map(|(place, story)| (key(story), place)).collect()
    };
    let gather = |rehearsal| -> Vec<((String, String, String), usize)> {
        let rehearsal: &Rehearsal = rehearsal;
        by_subject(rehearsal, rehearsal.stories().collect())
    };
    let (olds, news): (Vec<&Story>, Vec<&Story>) = (old.stories().collect(), new.stories().collect());
    let mut old_cases: Cases<'_> = BTreeMap::new();
    let mut new_cases: Cases<'_> = BTreeMap::new();
    gather(old).into_iter().for_each(|(key, place)| old_cases.entry(key).or_default().push(olds[place]));
    gather(new).into_iter().for_each(|(key, place)| new_cases.entry(key).or_default().push(news[place]));
    let mut all = Vec::new();
    let keys: std::collections::BTreeSet<_> = old_cases.keys().chain(new_cases.keys()).cloned().collect();
    for key in keys {
        let none = Vec::new();
        let (olds, news) = (old_cases.get(&key).unwrap_or(&none), new_cases.get(&key).unwrap_or(&none));
        for place in 0..olds.len().max(news.len()) {
            all.extend(difference(&key.0, olds.get(place).copied(), news.get(place).copied()));
        }
    }
    all.sort_by_key(|difference: &Difference| difference.opened);
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
