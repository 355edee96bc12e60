//! Totals over processes that belong together: by app, tree, owner or unit.

use std::collections::{BTreeMap, HashMap};

use crate::model::Process;

/// What a group is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Grouping {
    /// One owner's processes of one program.
    App,
    /// A process and all its descendants, those included whose own parent has ended.
    Tree,
    /// All processes of one user.
    Owner,
    /// All processes of one control group.
    Unit,
}

impl Grouping {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Grouping::App => "app",
            Grouping::Tree => "tree",
            Grouping::Owner => "owner",
            Grouping::Unit => "unit",
        }
    }
}

/// An amount of memory of several processes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Amount {
    /// Bytes.
    pub bytes: u64,
    /// Whether that is only an upper bound: shared pages may be in it more than once.
    pub at_most: bool,
}

/// A group with its totals.
#[derive(Debug, Clone)]
pub struct Group<'a> {
    /// What it is called: the app, the root's app, the user, or the unit.
    pub name: String,
    /// Whose it is; empty where several users' processes are in it.
    pub owner: String,
    /// Its processes; in a tree the root is the first.
    pub members: Vec<&'a Process>,
}

impl<'a> Group<'a> {
    /// CPU, percent of one core. In a tree with what ended children had used unseen; `None` when nobody has a rate yet.
    pub fn cpu(&self, grouping: Grouping) -> Option<f64> {
        let own = self.members.iter().filter_map(|process| process.cpu);
        let waited = self.members.iter().filter_map(|process| process.waited).map(f64::from);
        let any = self.members.iter().any(|process| process.cpu.is_some());
        any.then(|| own.sum::<f64>() + if grouping == Grouping::Tree { waited.sum() } else { 0.0 })
    }

    /// Memory: proportional where it is known of everybody (or there is nobody to share with), else the resident sum as
    /// an upper bound. `None` when not even that is known of anybody.
    pub fn memory(&self) -> Option<Amount> {
        if let [only] = self.members[..] {
            return only.memory.map(|bytes| Amount { bytes, at_most: false });
        }
        let proportional =
            |process: &&Process| process.memory_proportional.or(process.memory.filter(|memory| *memory == 0));
        let exact: Option<u64> = self.members.iter().map(proportional).sum();
        if let Some(bytes) = exact {
            return Some(Amount { bytes, at_most: false });
        }
        let mut resident = self.members.iter().filter_map(|process| process.memory).peekable();
        resident.peek()?;
        Some(Amount { bytes: resident.sum(), at_most: true })
    }

    /// The member with most CPU, or most memory.
    pub fn heaviest(&self, by_memory: bool) -> &'a Process {
        let heavier = |a: &&&Process, b: &&&Process| {
            if by_memory { a.memory.cmp(&b.memory) } else { a.cpu.unwrap_or(-1.0).total_cmp(&b.cpu.unwrap_or(-1.0)) }
        };
        // A group has a member.
        self.members.iter().max_by(heavier).copied().unwrap_or(self.members[0])
    }
}

/// All processes in their groups. For trees, `roots` says which processes begin one: the topmost such process of each line.
pub fn groups<'a>(processes: &'a [Process], grouping: Grouping, roots: impl Fn(&Process) -> bool) -> Vec<Group<'a>> {
    if grouping == Grouping::Tree {
        return trees(processes, roots);
    }
    let mut groups: BTreeMap<(u32, &str), Group<'a>> = BTreeMap::new();
    for process in processes.iter().filter(|process| !process.has_ended()) {
        let (key, name, owner) = match grouping {
            Grouping::Owner => ((process.person(), ""), process.owner.clone(), process.owner.clone()),
            Grouping::Unit => {
                let unit = process.unit.as_deref().filter(|unit| !unit.is_empty()).unwrap_or("(none)");
                ((0, process.group.as_deref().unwrap_or(unit)), unit.to_owned(), String::new())
            }
            _ => ((process.person(), process.app.as_str()), process.app.clone(), process.owner.clone()),
        };
        groups.entry(key).or_insert_with(|| Group { name, owner, members: Vec::new() }).members.push(process);
    }
    groups.into_values().collect()
}

fn trees<'a>(processes: &'a [Process], roots: impl Fn(&Process) -> bool) -> Vec<Group<'a>> {
    let mut below: HashMap<u32, Vec<&Process>> = HashMap::new();
    for process in processes.iter().filter(|process| process.comes_from() != process.id.pid) {
        below.entry(process.comes_from()).or_default().push(process);
    }
    let by_pid: HashMap<u32, &Process> = processes.iter().map(|process| (process.id.pid, process)).collect();
    let is_below_a_root = |process: &Process| {
        let mut next = by_pid.get(&process.comes_from());
        for _ in 0..processes.len() {
            match next {
                Some(parent) if roots(parent) => return true,
                Some(parent) => next = by_pid.get(&parent.comes_from()),
                None => return false,
            }
        }
        false
    };
    let topmost =
        processes.iter().filter(|process| roots(process) && !process.has_ended() && !is_below_a_root(process));
    topmost
        .map(|root| {
            let mut members = vec![root];
            let mut at = 0;
            while let Some(parent) = members.get(at) {
                members.extend(below.get(&parent.id.pid).into_iter().flatten());
                at += 1;
            }
            Group { name: root.app.clone(), owner: root.owner.clone(), members }
        })
        .collect()
}

/// The children of each process, by PID.
pub fn children(processes: &[Process]) -> HashMap<u32, Vec<&Process>> {
    let mut children: HashMap<u32, Vec<&Process>> = HashMap::new();
    for process in processes.iter().filter(|process| process.parent != process.id.pid) {
        children.entry(process.parent).or_default().push(process);
    }
    children
}

/// Whether a tree begins here when nobody says where: right below the machine's first process and the kernel's.
pub fn begins_a_tree(process: &Process) -> bool {
    process.id.pid > 2 && process.parent <= 2
}
