//! Because of whom: the apps behind a finding, the heaviest first.

use std::collections::HashMap;
use std::time::Duration;

use jiff::Timestamp;

use super::{HeldFile, Scene, Surroundings};
use crate::groups::{Group, Grouping, children, groups};
use crate::model::{Process, ProcessId, is_at_work};
use crate::order::InOrder;
use crate::sorted::SortedSet;
use crate::units::{Value, scaled_percent, scaled_size};

/// Most suspects of one finding.
const MOST: usize = 3;

/// Growing that fast is said, bytes a second.
const GROWING: f64 = 256.0 * 1024.0;

/// Reading that much beside holding memory is said, bytes a second.
const READING: f64 = 1024.0 * 1024.0;

/// One app that may be behind a finding.
#[derive(Debug, Clone, PartialEq)]
pub struct Suspect {
    /// The app.
    pub app: String,
    /// Its heaviest process.
    pub id: ProcessId,
    /// Whose it is.
    pub owner: String,
    /// Processes of that app and owner.
    pub members: usize,
    /// What it has to do with the finding, with its figure.
    pub amount: String,
    /// When the heaviest process started.
    pub started: Timestamp,
    /// How long ago that is.
    pub age: Duration,
    /// Which file it runs.
    pub path: Option<String>,
    /// Whether that is proven.
    pub path_proven: bool,
    /// The unit that it belongs to.
    pub unit: Option<String>,
    /// What started it: its parent, that one's parent, and so on, up to the machine's first process.
    pub started_by: Vec<String>,
    /// What else is known of it.
    pub notes: Vec<String>,
    /// Why it should be let finish, if there is a sign of that.
    pub honest: Option<String>,
}

/// Looks for suspects in one scene.
pub(super) struct Lineup<'s> {
    scene: &'s Scene,
    around: &'s Surroundings<'s>,
    apps: Vec<Group<'s>>,
    by_pid: HashMap<u32, &'s Process>,
}

impl<'s> Lineup<'s> {
    pub fn new(scene: &'s Scene, around: &'s Surroundings<'s>) -> Lineup<'s> {
        let processes = &scene.snapshot.processes;
        let by_pid = processes.iter().map(|process| (process.id.pid, process)).collect();
        Lineup { scene, around, apps: groups(processes, Grouping::App, |_| true), by_pid }
    }

    /// Those with most CPU, the time of children that nobody saw included.
    pub(crate) fn by_cpu(&self, at_least: f64) -> Vec<Suspect> {
        let use_of = Process::accounted_cpu;
        let mut heavy = self.heaviest(use_of, at_least);
        // Of a parent of many short-lived children the whole tree is one suspect. Whoever everybody descends from, of the
        // machine or of a session, never stands for them.
        let is_root = |group: &Group<'s>| group.members.iter().any(|member| self.is_root(member));
        let swarm =
            |(group, cpu): &(&Group<'s>, f64)| (unseen(group) > cpu / 3.0 && !is_root(group)).then(|| self.tree(group));
        let trees: Vec<Option<Vec<&Process>>> = heavy.iter().map(swarm).collect();
        // A named one with more of its own than the tree has in unseen ones is told by itself.
        let mut below: SortedSet<u32> = SortedSet::new();
        for ((group, _), tree) in heavy.iter().zip(&trees) {
            let light = |member: &&&Process| member.cpu.unwrap_or(0.0) < unseen(group);
            below.extend(tree.iter().flatten().skip(1).filter(light).map(|member| member.id.pid));
        }
        let mut trees = trees.into_iter();
        let mut suspects: Vec<Suspect> = Vec::new();
        heavy.retain(|(group, cpu)| {
            let tree = trees.next().flatten();
            if group.members.iter().all(|member| below.contains(&member.id.pid)) {
                return false;
            }
            let amount = match &tree {
                Some(tree) => {
                    let all: f64 = tree.iter().map(|member| use_of(member)).sum();
                    let unseen = scaled_percent(unseen(group));
                    let all = scaled_percent(all);
                    format!("cpu {all} of a core with its children, {unseen} in children too short-lived to be seen")
                }
                None if unseen(group) > cpu / 3.0 => {
                    let (all, unseen) = (scaled_percent(*cpu), scaled_percent(unseen(group)));
                    format!("cpu {all} of a core, {unseen} of it in children too short-lived to be seen")
                }
                None => format!("cpu {} of a core", scaled_percent(*cpu)),
            };
            let mut suspect = self.suspect(group, use_of, amount);
            suspect.honest = suspect.honest.or_else(|| at_work(group));
            suspects.push(suspect);
            true
        });
        self.feeders_first(&heavy, &mut suspects);
        suspects
    }

    /// Those who hold most memory.
    pub fn by_memory(&self, among: impl Fn(&Process) -> bool) -> Vec<Suspect> {
        let held = |process: &Process| process.memory_held.or(process.memory).unwrap_or(0) as f64;
        let held = |process: &Process| if among(process) { held(process) } else { 0.0 };
        let least = self.scene.snapshot.machine.memory_total as f64 / 100.0;
        let mut heavy = self.heaviest(held, least);
        if heavy.is_empty() {
            heavy = self.heaviest(held, 1.0);
        }
        let suspect = |(group, sum): &(&Group<'s>, f64)| {
            let at_most = if group.members.len() > 1 { "at most " } else { "" };
            let ram = scaled_size(self.scene.snapshot.machine.memory_total as f64);
            let mut amount = format!("memory held {at_most}{} of {ram}", scaled_size(*sum));
            let swapped: u64 = group.members.iter().filter_map(|member| member.memory_swapped).sum();
            if swapped > 1 << 20 {
                amount.push_str(&format!(", {} of it swapped out", scaled_size(swapped as f64)));
            }
            let growth: f64 = group.members.iter().filter_map(|member| self.scene.growth(member)).sum();
            if growth > GROWING {
                amount.push_str(&format!(", growing by {}", Value::Rate(growth).scaled()));
            }
            let read: f64 = group.members.iter().filter_map(|member| member.disk_read).map(f64::from).sum();
            if read >= READING {
                amount.push_str(&format!(", reads {}", Value::Rate(read).scaled()));
            }
            self.suspect(group, held, amount)
        };
        heavy.iter().map(suspect).collect()
    }

    /// Those who read and write most; where that may not be read, those found waiting in the kernel most often.
    pub(crate) fn by_disk(&self) -> Vec<Suspect> {
        let rate = |process: &Process| {
            f64::from(process.disk_read.unwrap_or(0.0)) + f64::from(process.disk_write.unwrap_or(0.0))
        };
        let mut suspects: Vec<Suspect> = Vec::new();
        for (group, _) in self.heaviest(rate, 256.0 * 1024.0) {
            let sum = |of: fn(&Process) -> Option<f32>| {
                let all: f64 = group.members.iter().filter_map(|member| of(member)).map(f64::from).sum();
                Value::Rate(all).scaled()
            };
            let amount =
                format!("reads {}, writes {}", sum(|member| member.disk_read), sum(|member| member.disk_write));
            suspects.push(self.suspect(group, rate, amount));
        }
        let looks = f64::from(self.scene.looks.max(1));
        let waits = |process: &Process| {
            let unknown = process.disk_read.is_none() || suspects.is_empty();
            let counts = unknown && !process.kernel && !process.has_ended();
            if counts { f64::from(self.scene.tally(process).waiting) / looks } else { 0.0 }
        };
        let mut waiting = Vec::new();
        for (group, _) in self.heaviest(waits, 0.25) {
            let most = group.members.iter().max_by(|a, b| waits(a).total_cmp(&waits(b))).copied();
            let found = most.map_or(0, |process| self.scene.tally(process).waiting);
            let amount = format!("found waiting in the kernel at {found} of {} looks", self.scene.looks);
            waiting.push(self.suspect(group, waits, amount));
        }
        suspects.extend(waiting);
        suspects.truncate(MOST);
        suspects
    }

    /// Those who hold deleted files of one file system.
    pub(crate) fn by_held_files(&self, held: &[&HeldFile]) -> Vec<Suspect> {
        let mut by_pid: HashMap<u32, Vec<&HeldFile>> = HashMap::new();
        for file in held {
            by_pid.entry(file.pid).or_default().push(file);
        }
        let size = |files: &[&HeldFile]| files.iter().map(|file| file.size).fold(0, u64::saturating_add);
        let mut holders: Vec<(&Process, u64, &HeldFile)> = by_pid
            .iter()
            .filter_map(|(pid, files)| {
                let largest = files.iter().max_by_key(|file| file.size)?;
                Some((*self.by_pid.get(pid)?, size(files), *largest))
            })
            .collect();
        holders.order_by_key(|(process, size, _)| (std::cmp::Reverse(*size), process.id.pid));
        let suspect = |(process, size, largest): &(&Process, u64, &HeldFile)| {
            let amount = format!("holds {} in deleted files, the largest {}", scaled_size(*size as f64), largest.path);
            self.one(process, 1, amount)
        };
        holders.iter().take(MOST).map(suspect).collect()
    }

    /// Those processes, those of which the record tells first; of an app of which it tells nothing, one stands for all.
    pub fn these(&self, processes: &[&Process], amount: impl Fn(&Process) -> String) -> Vec<Suspect> {
        let noted = |process: &Process| self.around.notes.contains_key(&process.id);
        let mut apps: Vec<(&Process, usize)> =
            processes.iter().filter(|process| noted(process)).map(|process| (*process, 1)).collect();
        for process in processes.iter().filter(|process| !noted(process)) {
            let same = |first: &Process| first.app == process.app && first.uid == process.uid && !noted(first);
            match apps.iter_mut().find(|(first, _)| same(first)) {
                Some((_, count)) => *count += 1,
                None => apps.push((process, 1)),
            }
        }
        apps.iter().take(MOST).map(|(process, count)| self.one(process, *count, amount(process))).collect()
    }

    pub fn process(&self, pid: u32) -> Option<&'s Process> {
        self.by_pid.get(&pid).copied()
    }

    fn heaviest(&self, weigh: impl Fn(&Process) -> f64, at_least: f64) -> Vec<(&Group<'s>, f64)> {
        let weighed = self.apps.iter().map(|app| (app, app.members.iter().map(|member| weigh(member)).sum::<f64>()));
        let mut heavy: Vec<(&Group<'s>, f64)> = weighed.filter(|(_, weight)| *weight >= at_least).collect();
        heavy.order_by(|(a, x), (b, y)| y.total_cmp(x).then_with(|| a.name.cmp(&b.name)));
        // One that is far lighter than the heaviest has little to do with it.
        let most = heavy.first().map_or(0.0, |(_, weight)| *weight);
        heavy.retain(|(_, weight)| *weight >= most / 8.0);
        heavy.truncate(MOST);
        heavy
    }

    /// Of the machine, of a user's manager, or of a session at a terminal.
    fn is_root(&self, process: &Process) -> bool {
        process.collects() || process.id.pid == process.session && !process.tty.is_empty()
    }

    fn suspect(&self, group: &Group<'s>, weigh: impl Fn(&Process) -> f64, amount: String) -> Suspect {
        let heaviest = group.members.iter().max_by(|a, b| weigh(a).total_cmp(&weigh(b)));
        // A group has a member.
        self.one(heaviest.copied().unwrap_or(group.members[0]), group.members.len(), amount)
    }

    fn one(&self, process: &Process, members: usize, amount: String) -> Suspect {
        let now = self.scene.snapshot.moment.wall;
        let started = jiff::SignedDuration::try_from(process.age).ok().and_then(|age| now.checked_sub(age).ok());
        let mut notes = Vec::new();
        if self.around.own.contains(&process.id.pid) {
            notes.push("this is Sophron itself".to_owned());
        }
        if process.kernel {
            notes.push("a kernel thread: it works for others, and cannot be acted upon".to_owned());
        }
        notes.extend(self.around.notes.get(&process.id).cloned());
        let protected = self.around.protected.and_then(|protected| protected(process));
        Suspect {
            app: process.app.clone(),
            id: process.id,
            owner: process.owner.clone(),
            members,
            amount,
            started: started.unwrap_or(now),
            age: process.age,
            path: process.path.clone(),
            path_proven: process.path_proven(),
            unit: process.unit.clone().filter(|unit| !unit.is_empty()),
            started_by: self.ancestors(process),
            notes,
            honest: protected.map(|why| format!("it is protected ({why})")),
        }
    }

    /// The members of a group and all that descends from them, the members first.
    fn tree(&self, group: &Group<'s>) -> Vec<&'s Process> {
        let children = children(&self.scene.snapshot.processes);
        let mut members = group.members.clone();
        let mut at = 0;
        while let Some(parent) = members.get(at) {
            let below = children.get(&parent.id.pid).into_iter().flatten();
            let new: Vec<&Process> =
                below.filter(|child| !members.iter().any(|member| member.id == child.id)).copied().collect();
            members.extend(new);
            at += 1;
        }
        members
    }

    fn ancestors(&self, process: &Process) -> Vec<String> {
        let mut names = Vec::new();
        let mut next = self.by_pid.get(&process.parent);
        while let Some(parent) = next.filter(|_| names.len() < 4) {
            names.push(format!("{} {}", parent.app, parent.id.checked()));
            next = self.by_pid.get(&parent.parent).filter(|_| parent.id.pid > 1);
        }
        names
    }

    /// A window that shows a terminal is busy because something in it prints: the one that prints comes first.
    fn feeders_first(&self, heavy: &[(&Group<'s>, f64)], suspects: &mut Vec<Suspect>) {
        for (display, _) in heavy {
            let shows = |process: &&Process| {
                let leader = self.by_pid.get(&process.session);
                let below =
                    leader.and_then(|leader| display.members.iter().find(|shown| shown.id.pid == leader.parent));
                !process.tty.is_empty() && below.is_some_and(|shown| shown.tty != process.tty)
            };
            let busy = self.scene.snapshot.processes.iter().filter(|process| process.cpu.is_some_and(|cpu| cpu >= 5.0));
            let Some(feeder) = busy.filter(shows).max_by(|a, b| a.cpu.unwrap_or(0.0).total_cmp(&b.cpu.unwrap_or(0.0)))
            else {
                continue;
            };
            let cpu = scaled_percent(feeder.cpu.unwrap_or(0.0));
            let Some(at) = suspects.iter().position(|suspect| suspect.app == display.name) else { continue };
            suspects[at].notes.push(format!(
                "it shows the terminal {} that {} {} prints to: mend that one first",
                feeder.tty,
                feeder.app,
                feeder.id.checked()
            ));
            let known = suspects.iter().position(|suspect| suspect.app == feeder.app && suspect.owner == feeder.owner);
            let mut first = match known {
                Some(known) => suspects.remove(known),
                None => self.one(feeder, 1, format!("cpu {cpu} of a core")),
            };
            first.notes.push(format!("what it prints keeps {} busy as well", display.name));
            let at = suspects.iter().position(|suspect| suspect.app == display.name).unwrap_or(0);
            suspects.insert(at, first);
            suspects.truncate(MOST + 1);
            return;
        }
    }
}

/// CPU of children that ended and that nobody saw, percent of one core.
fn unseen(group: &Group<'_>) -> f64 {
    let collected = |member: &&&Process| !member.collects();
    group.members.iter().filter(collected).filter_map(|member| member.waited).map(f64::from).sum()
}

/// Signs of work: it moves data as it computes, or it was made to give way to the others.
fn at_work(group: &Group<'_>) -> Option<String> {
    let moved: f64 =
        group.members.iter().flat_map(|member| [member.disk_read, member.disk_write]).flatten().map(f64::from).sum();
    let nice = group.members.iter().map(|member| member.nice).min().unwrap_or(0);
    if is_at_work(moved) {
        Some(format!("it reads and writes {} as it computes, and seems to be at work", Value::Rate(moved).scaled()))
    } else if nice >= 5 {
        Some(format!("it runs at nice {nice} and gives way to the others"))
    } else {
        None
    }
}
