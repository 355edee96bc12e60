//! Whom `where`s cover: what goes by who a process is, is settled once, and holds for as long as it is that one.

use std::sync::Arc;

use super::sight::Sight;
use crate::condition::{Condition, Truth};
use crate::model::{Cost, Names, Needs, Process, Snapshot};

/// The different `where`s of the rules, and what is known of each process by them.
#[derive(Debug, Default)]
pub(super) struct Covers {
    wheres: Vec<Condition>,
    /// What each of them names, with what tells who it is.
    needs: Vec<Needs>,
    /// Those that go by who a process is alone, each by the bit of its place; beyond so many bits nothing is remembered.
    by_who: u64,
    /// The machine's part in that: its cores, and its memory in bytes.
    machine: (u32, u64),
    /// In the order of the sample's processes.
    known: Vec<Known>,
}

#[derive(Debug, Clone)]
struct Known {
    who: Who,
    parent: u32,
    ended: bool,
    settled: u64,
    holds: u64,
}

/// All that lasts of a process. Texts that are held here are not changed: others are put in their place.
#[derive(Debug, Clone)]
struct Who {
    pid: u32,
    start: u64,
    names: Arc<Names>,
    uid: u32,
    session: u32,
    kernel: bool,
}

impl Who {
    fn of(process: &Process) -> Who {
        let (id, names) = (&process.id, Arc::clone(&process.names));
        let Process { uid, session, kernel, .. } = *process;
        Who { pid: id.pid, start: id.start, names, uid, session, kernel }
    }

    fn has_its_number(&self, process: &Process) -> bool {
        self.pid == process.id.pid && self.start == process.id.start
    }

    fn is(&self, process: &Process) -> bool {
        self.has_its_number(process)
            && Arc::ptr_eq(&self.names, &process.names)
            && (self.uid, self.session, self.kernel) == (process.uid, process.session, process.kernel)
    }
}

impl Known {
    fn nothing_of(process: &Process) -> Known {
        let (parent, ended) = (process.parent, process.has_ended());
        Known { who: Who::of(process), parent, ended, settled: 0, holds: 0 }
    }
}

impl Covers {
    /// Where a `where` has its place: rules with the same one share it.
    pub fn place(&mut self, covers: &Condition) -> usize {
        self.wheres.iter().position(|known| known == covers).unwrap_or_else(|| {
            let place = self.wheres.len();
            self.by_who |= if covers.goes_by_who_it_is() { bit(place) } else { 0 };
            self.needs.push(Needs::of(&covers.fields()).with(Cost::Stat).only(Needs::FILES));
            self.wheres.push(covers.clone());
            place
        })
    }

    /// How many different ones there are.
    pub fn count(&self) -> usize {
        self.wheres.len()
    }

    /// Whether that one goes by who a process is alone, and is remembered.
    pub fn is_lasting(&self, place: usize) -> bool {
        bit(place) & self.by_who != 0
    }

    /// Whether that one goes by control groups.
    pub fn goes_by_group(&self, place: usize) -> bool {
        self.needs[place].has(Cost::Cgroup)
    }

    /// For the processes of this sample. Whether the same stand in the same places as in the one before, each who it was and with the
    /// same parent.
    pub fn keep_up(&mut self, snapshot: &Snapshot) -> bool {
        let processes = &snapshot.processes;
        let machine = (snapshot.machine.cores, snapshot.machine.memory_total);
        if std::mem::replace(&mut self.machine, machine) != machine {
            self.known.clear();
        }
        let same = |(known, process): (&Known, &Process)| known.who.has_its_number(process);
        let mut changed = self.known.len() != processes.len() || !self.known.iter().zip(processes).all(same);
        if changed {
            let mut before = std::mem::take(&mut self.known).into_iter().peekable();
            self.known.reserve(processes.len());
            for process in processes {
                // Both are in the order of PIDs.
                while before.next_if(|known| known.who.pid < process.id.pid).is_some() {}
                let known = before.next_if(|known| known.who.has_its_number(process));
                self.known.push(known.unwrap_or_else(|| Known::nothing_of(process)));
            }
        }
        for (known, process) in self.known.iter_mut().zip(processes) {
            if !known.who.is(process) {
                *known = Known::nothing_of(process);
                changed = true;
            }
            let family = (process.parent, process.has_ended());
            changed |= (known.parent, known.ended) != family;
            (known.parent, known.ended) = family;
        }
        !changed
    }

    /// Whether the `where` of that place covers a process. What is read only as far as it matters is asked again where it holds:
    /// nothing is true by what is carried over.
    pub fn settle(&mut self, place: usize, sight: &mut Sight<'_>, at: usize) -> Truth {
        let (covers, needs) = (&self.wheres[place], self.needs[place]);
        let bit = bit(place) & self.by_who;
        if bit == 0 {
            return sight.settle(covers, at, None, needs);
        }
        let known = &self.known[at];
        if known.settled & bit != 0 {
            let (holds, process) = (known.holds & bit != 0, sight.process(at));
            // Who has not run is who he was. What has been read of another since may have shown that it is somebody else.
            let is_so = !sight.is_lazy() || (known.who.is(process) && (!holds || process.outrun.only(needs).is_none()));
            if is_so {
                return holds.into();
            }
        }
        // Who it is cannot have changed but by running.
        let truth = sight.settle(covers, at, None, needs.only(sight.process(at).outrun));
        let process = sight.process(at);
        if !self.known[at].who.is(process) {
            self.known[at] = Known::nothing_of(process);
        }
        let known = &mut self.known[at];
        known.settled &= !bit;
        known.holds &= !bit;
        match truth {
            Truth::Unknown => {}
            Truth::True => (known.settled, known.holds) = (known.settled | bit, known.holds | bit),
            Truth::False => known.settled |= bit,
        }
        truth
    }
}

fn bit(place: usize) -> u64 {
    u32::try_from(place).ok().and_then(|place| 1_u64.checked_shl(place)).unwrap_or(0)
}
