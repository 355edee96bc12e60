//! Whom no rule may act on, and why. Unknown protects.

use std::collections::BTreeSet;

use crate::condition::{Condition, Truth};
use crate::facts::Facts;
use crate::model::{Field, ProcessId, Snapshot};

/// The protections in force: the built-in ones and every `[protect]` that binds us.
#[derive(Debug, Clone, Default)]
pub struct Protections {
    /// `[protect] where` conditions, each with the file that it stands in.
    pub conditions: Vec<(Condition, String)>,
    /// Sophron's own processes: itself and its guards.
    pub own: BTreeSet<u32>,
    /// What holds the terminal that Sophron was started from, and the leader of its session.
    pub terminal: BTreeSet<ProcessId>,
    /// What started Sophron, and what started that, by PID; refreshed with every snapshot.
    pub ancestors: BTreeSet<u32>,
}

impl Protections {
    /// Takes the ancestors of `pid` from a snapshot: parents change when processes end.
    pub fn refresh_ancestors(&mut self, snapshot: &Snapshot, pid: u32) {
        self.ancestors.clear();
        let mut next = snapshot.process(pid).map(|process| process.parent);
        while let Some(parent) = next.filter(|parent| *parent != 0 && self.ancestors.insert(*parent)) {
            next = snapshot.process(parent).map(|process| process.parent);
        }
    }

    /// Why the process is protected, or `None` if it is known not to be.
    pub fn reason(&self, facts: &Facts<'_>) -> Option<String> {
        let process = facts.process?;
        let pid = process.id.pid;
        if pid == 1 {
            return Some("PID 1: the machine ends with it".to_owned());
        }
        if process.kernel {
            return Some("a kernel thread".to_owned());
        }
        if self.own.contains(&pid) {
            return Some("Sophron itself".to_owned());
        }
        if self.ancestors.contains(&pid) {
            return Some("Sophron was started from it".to_owned());
        }
        if self.terminal.contains(&process.id) {
            return Some("holds the terminal that Sophron was started from".to_owned());
        }
        self.conditions.iter().find_map(|(condition, file)| match weigh(condition, facts) {
            Weighed { truth: Truth::False, .. } => None,
            Weighed { truth: Truth::Unknown, .. } => {
                let fields: Vec<&str> = condition.unreadable(facts).into_iter().map(Field::name).collect();
                Some(format!("[protect] in {file} cannot be ruled out: {} cannot be read", fields.join(", ")))
            }
            weighed if weighed.by_claim_alone() => None,
            _ => Some(format!("[protect] in {file}")),
        })
    }
}

/// A truth and what it rests on.
#[derive(Clone, Copy)]
struct Weighed {
    truth: Truth,
    claim: bool,
    owner: bool,
}

impl Weighed {
    /// A name that anybody can give himself protects only together with whose it is.
    fn by_claim_alone(self) -> bool {
        self.claim && !self.owner
    }
}

fn weigh(condition: &Condition, facts: &Facts<'_>) -> Weighed {
    match condition {
        Condition::Any(parts) => {
            let weighed: Vec<Weighed> = parts.iter().map(|part| weigh(part, facts)).collect();
            let of = |truth| weighed.iter().filter(move |part| part.truth == truth);
            let solid = of(Truth::True).find(|part| !part.by_claim_alone());
            let deciding = solid.or_else(|| of(Truth::Unknown).next()).or_else(|| of(Truth::True).next());
            deciding.copied().unwrap_or(Weighed { truth: Truth::False, claim: false, owner: false })
        }
        Condition::All(parts) => {
            let all = Weighed { truth: condition.evaluate(facts), claim: false, owner: false };
            parts.iter().map(|part| weigh(part, facts)).fold(all, |all, part| Weighed {
                claim: all.claim || part.claim,
                owner: all.owner || part.owner,
                ..all
            })
        }
        Condition::Not(inner) => {
            let inner = weigh(inner, facts);
            Weighed { truth: !inner.truth, ..inner }
        }
        leaf => {
            let fields = leaf.fields();
            Weighed {
                truth: leaf.evaluate(facts),
                claim: fields.iter().any(|field| facts.is_claim(*field)),
                owner: fields.iter().any(|field| matches!(field, Field::Owner | Field::Uid)),
            }
        }
    }
}
