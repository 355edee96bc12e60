//! What a rule means, apart from how it is spelled: by this it is the same rule when the rules are read anew.

use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use super::Rule;
use crate::text::hex;

/// What a rule judges by, and what it does then. Its note, its place and its spelling do not count.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Meaning {
    /// A digest of all that decides whether there is a case: its name, subjects, conditions, times and hours.
    judging: String,
    /// One of each step of its ladder.
    steps: Vec<String>,
    /// Whether it acts.
    armed: bool,
    /// On whom of several it acts, and how often; empty where an older version kept it.
    #[serde(default)]
    picks: String,
    #[serde(default)]
    budget: String,
}

/// How the ladder of a rule goes on that judges as before.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Revision {
    /// So many of its first steps are as they were.
    pub kept: usize,
    /// Whether it acts from now on, and did not before.
    pub arms: bool,
    /// Whether it acts no more.
    pub disarms: bool,
    /// Whether it picks by something else, and has another budget.
    pub picks_otherwise: bool,
    pub other_budget: bool,
}

impl Meaning {
    /// How a rule goes on that means this from now on, and what `before` says until now; none where it is another.
    pub(crate) fn revises(&self, before: &Meaning) -> Option<Revision> {
        let kept = self.steps.iter().zip(&before.steps).take_while(|(now, then)| now == then).count();
        let (arms, disarms) = (self.armed && !before.armed, !self.armed && before.armed);
        let other = |now: &String, before: &String| !before.is_empty() && now != before;
        (self.judging == before.judging).then_some(Revision {
            kept,
            arms,
            disarms,
            picks_otherwise: other(&self.picks, &before.picks),
            other_budget: other(&self.budget, &before.budget),
        })
    }

    /// Whether it does the same as well.
    pub(crate) fn does_as(&self, before: &Meaning) -> bool {
        let does =
            |meaning: &Meaning| (meaning.steps.clone(), meaning.armed, meaning.picks.clone(), meaning.budget.clone());
        does(self) == does(before)
    }
}

impl Rule {
    /// What it means.
    pub fn meaning(&self) -> Meaning {
        let shown = |condition: &Option<crate::condition::Condition>| condition.as_ref().map(ToString::to_string);
        let digest = |what: String| hex(&Sha256::digest(what)[..16]);
        let judging = (
            (&*self.name, self.judge, shown(&self.covers), self.breach.to_string(), self.lasting),
            (shown(&self.calm), &self.hours, &self.windows),
        );
        Meaning {
            judging: digest(format!("{judging:?}")),
            steps: self.ladder.iter().map(|step| digest(format!("{step:?}"))).collect(),
            armed: self.armed,
            picks: format!("{:?}", self.pick),
            budget: format!("{:?}", self.budget),
        }
    }
}
