//! Whom no rule may act on, and why. Unknown protects.

use crate::condition::{Comparison, Condition, Truth};
use crate::facts::Facts;
use crate::model::{Field, ProcessId, Snapshot};
use crate::sorted::SortedSet;
use crate::window::Quantity;

/// The protections in force: the built-in ones and every `[protect]` that binds us.
#[derive(Debug, Clone, Default)]
pub struct Protections {
    /// `[protect] where` conditions, each with the file that it stands in.
    pub conditions: Vec<(Condition, String)>,
    /// Sophron's own processes: itself and its guards.
    pub own: SortedSet<u32>,
    /// What holds the terminal that Sophron was started from, and the leader of its session.
    pub terminal: SortedSet<ProcessId>,
    /// What started Sophron, and what started that, by PID; refreshed with every snapshot.
    pub ancestors: SortedSet<u32>,
    /// The user whom the rules are watched for: of his own processes nobody else says what they are called. Root, unless
    /// given.
    pub service: u32,
    /// What would help to read what may not be read, in words: said with what cannot be ruled out.
    pub to_read: Option<&'static str>,
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
            weighed => {
                let unread = if weighed.truth == Truth::Unknown { condition.unreadable(facts) } else { Vec::new() };
                // A script's name is a name alone, also while it cannot be read: who hangs whoever asks for it has no more of it.
                let is_of_a_script = |field: &Field| matches!(field, Field::App | Field::Command);
                let name_alone = weighed.by_name_alone() && process.uid != self.service;
                match weighed.truth {
                    Truth::True => (!name_alone).then(|| format!("[protect] in {file}")),
                    _ if name_alone && !unread.is_empty() && unread.iter().all(is_of_a_script) => None,
                    _ => {
                        let fields: Vec<&str> = unread.into_iter().map(Field::name).collect();
                        let help = self.to_read.map(|help| format!(" ({help})")).unwrap_or_default();
                        let fields = fields.join(", ");
                        Some(format!("[protect] in {file} cannot be ruled out: {fields} cannot be read{help}"))
                    }
                }
            }
        })
    }
}

/// A truth and what it rests on.
#[derive(Clone, Copy)]
struct Weighed {
    truth: Truth,
    /// It goes by what the program is called.
    name: bool,
    /// It says whose it is: the owner, or a unit of the machine.
    whose: bool,
}

impl Weighed {
    /// Anybody can give himself a name, and start the very program that stands at a path with a library of his own in it: that
    /// protects only together with whose it is.
    fn by_name_alone(self) -> bool {
        self.name && !self.whose
    }
}

/// Whether a part of a condition says whose a process is: that it is this one's, not that it is anybody's but.
pub(crate) fn says_whose(condition: &Condition) -> bool {
    match condition {
        Condition::Compare(Quantity::Now(Field::Owner | Field::Uid | Field::Unit), Comparison::Equal, _)
        | Condition::OneOf(Field::Owner | Field::Uid | Field::Unit, _) => true,
        Condition::Matches(Field::Owner | Field::Unit, pattern) => pattern != "*",
        Condition::All(parts) => parts.iter().any(says_whose),
        _ => false,
    }
}

fn weigh(condition: &Condition, facts: &Facts<'_>) -> Weighed {
    match condition {
        Condition::Any(parts) => {
            let weighed: Vec<Weighed> = parts.iter().map(|part| weigh(part, facts)).collect();
            let of = |truth| weighed.iter().filter(move |part| part.truth == truth);
            let solid = of(Truth::True).find(|part| !part.by_name_alone());
            let deciding = solid.or_else(|| of(Truth::Unknown).next()).or_else(|| of(Truth::True).next());
            deciding.copied().unwrap_or(Weighed { truth: Truth::False, name: false, whose: false })
        }
        Condition::All(parts) => {
            let all = Weighed { truth: condition.evaluate(facts), name: false, whose: false };
            parts.iter().map(|part| weigh(part, facts)).fold(all, |all, part| Weighed {
                name: all.name || part.name,
                whose: all.whose || part.whose,
                ..all
            })
        }
        Condition::Not(inner) => {
            let inner = weigh(inner, facts);
            Weighed { truth: !inner.truth, whose: false, ..inner }
        }
        leaf => {
            let name = leaf.fields().iter().any(|field| facts.is_a_mere_name(*field));
            Weighed { truth: leaf.evaluate(facts), name, whose: !name && says_whose(leaf) }
        }
    }
}
