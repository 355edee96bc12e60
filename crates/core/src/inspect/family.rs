//! What a process came from, and what hangs on it.

use std::collections::{BTreeMap, HashSet};

use crate::groups::children;
use crate::model::{Process, Snapshot};
use crate::order::InOrder;

/// Its parent, that one's parent, and so on, up to the machine's first process.
pub fn ancestors<'s>(snapshot: &'s Snapshot, process: &Process) -> Vec<&'s Process> {
    let mut found: Vec<&Process> = Vec::new();
    let mut next = snapshot.process(process.parent);
    while let Some(parent) = next.filter(|parent| found.iter().all(|known| known.id != parent.id)) {
        found.push(parent);
        next = snapshot.process(parent.parent);
    }
    found
}

/// What hangs on a process.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Family {
    /// Its children.
    pub children: usize,
    /// All that descends from it.
    pub descendants: usize,
    /// By app, how many of them there are, the most first.
    pub apps: Vec<(String, usize)>,
    /// What ends with it, in sentences.
    pub ends_with_it: Vec<String>,
    /// What goes on without it, in a sentence.
    pub goes_on: Option<String>,
    /// How many of its children have ended, and it has not collected them.
    pub uncollected: usize,
}

/// The topmost process of a unit: the service manager takes its end for that of the unit.
pub fn main_of_unit<'s>(snapshot: &'s Snapshot, unit: &str) -> Option<&'s Process> {
    let is_of_it = |process: &&Process| process.unit.as_deref() == Some(unit);
    let mut members = snapshot.processes.iter().filter(is_of_it);
    members.find(|member| snapshot.process(member.parent).is_none_or(|parent| !is_of_it(&parent)))
}

/// What hangs on a process, and what would end with it.
pub fn family(snapshot: &Snapshot, process: &Process) -> Family {
    let children = children(&snapshot.processes);
    let below = |pid: u32| children.get(&pid).into_iter().flatten();
    let mut found: Vec<&Process> = below(process.id.pid).copied().collect();
    let direct = found.len();
    let uncollected = found.iter().filter(|child| child.has_ended()).count();
    let mut seen: HashSet<u32> = found.iter().map(|child| child.id.pid).collect();
    let mut at = 0;
    while let Some(next) = found.get(at).copied() {
        found.extend(below(next.id.pid).filter(|child| seen.insert(child.id.pid)));
        at += 1;
    }
    let mut apps: BTreeMap<&str, usize> = BTreeMap::new();
    found.iter().for_each(|child| *apps.entry(child.app.as_str()).or_default() += 1);
    let mut apps: Vec<(String, usize)> = apps.into_iter().map(|(app, count)| (app.to_owned(), count)).collect();
    apps.order_by_key(|(_, count)| std::cmp::Reverse(*count));
    let ends_with_it = ends_with(snapshot, process);
    let goes_on = match direct {
        _ if !ends_with_it.is_empty() => None,
        0 => None,
        1 => Some("when it ends, its child goes on under another parent, unless it ends by itself".to_owned()),
        many => {
            Some(format!("when it ends, its {many} children go on under another parent, unless they end by themselves"))
        }
    };
    Family { children: direct, descendants: found.len(), apps, ends_with_it, goes_on, uncollected }
}

fn ends_with(snapshot: &Snapshot, process: &Process) -> Vec<String> {
    let mut sentences = Vec::new();
    if process.id.pid == 1 {
        return vec!["everything: the machine ends with it".to_owned()];
    }
    if let Some(unit) = process.unit.as_deref().filter(|unit| unit.ends_with(".service"))
        && main_of_unit(snapshot, unit).is_some_and(|main| main.id == process.id)
    {
        let others = snapshot.processes.iter().filter(|other| other.unit.as_deref() == Some(unit)).count() - 1;
        let others = match others {
            0 => "it has no other process".to_owned(),
            1 => "the service manager ends its other process as well".to_owned(),
            many => format!("the service manager ends its {many} other processes as well"),
        };
        sentences.push(format!("the unit {unit}, whose main process it seems to be: {others}"));
    }
    if process.session == process.id.pid && !process.tty.is_empty() {
        let others =
            snapshot.processes.iter().filter(|other| other.tty == process.tty && other.id != process.id).count();
        sentences.push(format!(
            "the session on {}: what runs in that terminal is told to hang up ({others} processes)",
            process.tty
        ));
    }
    sentences
}
