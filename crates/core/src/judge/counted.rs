//! What a group has counted of a field that is the pace of something: bytes, faults, CPU time of children. Members come and go, so
//! it is no sum of what they have counted: it goes on by what each of them counts while he is of it.

use std::time::Duration;

use crate::model::{Field, Process, ProcessId};
use crate::sorted::SortedSet;
use crate::window::{Keep, Spec};

/// The same for one field.
#[derive(Debug)]
pub struct Counted {
    field: Field,
    /// Up to when everybody was read.
    total: u64,
    /// In the order of PIDs.
    members: Vec<Member>,
}

#[derive(Debug)]
struct Member {
    pid: u32,
    start: u64,
    /// What is counted from; not known where it could not be read.
    from: Option<u64>,
    /// Whoever has just come is read at every tick until his first border: he may be gone before it.
    last: Option<u64>,
    is_young: bool,
}

impl Member {
    fn is(&self, id: &ProcessId) -> bool {
        (self.pid, self.start) == (id.pid, id.start)
    }

    /// Of whoever is gone before his first border what he had counted at the last tick; of the others that was read at their last.
    fn left_behind(&self) -> u64 {
        let last = self.last.filter(|_| self.is_young);
        last.zip(self.from).map_or(0, |(last, from)| last.saturating_sub(from))
    }
}

impl Counted {
    /// Of each field of which windows keep counts.
    pub fn of(specs: &[Spec]) -> Vec<Counted> {
        let counts = specs.iter().filter(|spec| spec.keep == Keep::Count);
        let fields: SortedSet<Field> = counts.map(|spec| spec.field).collect();
        fields.into_iter().map(|field| Counted { field, total: 0, members: Vec::new() }).collect()
    }

    /// Of what.
    pub fn field(&self) -> Field {
        self.field
    }

    /// Whether that one has to be read at this tick, border or not.
    pub fn is_young(&self, id: &ProcessId) -> bool {
        let place = self.members.binary_search_by_key(&id.pid, |member| member.pid);
        !place.is_ok_and(|at| self.members[at].is(id) && !self.members[at].is_young)
    }

    /// Goes on with those who are of it now, in the order of PIDs; at a border all of them have been read.
    pub fn go_on(&mut self, members: &[&Process], at_border: bool, born_within: Duration) {
        let same = self.members.len() == members.len()
            && self.members.iter().zip(members).all(|(known, process)| known.is(&process.id));
        if !same {
            let mut before = std::mem::take(&mut self.members).into_iter().peekable();
            let mut now = Vec::with_capacity(members.len());
            for process in members {
                while let Some(gone) = before.next_if(|known| known.pid < process.id.pid) {
                    self.total = self.total.saturating_add(gone.left_behind());
                }
                let known = before.next_if(|known| known.pid == process.id.pid);
                let (known, gone) = match known {
                    Some(known) if known.is(&process.id) => (Some(known), None),
                    other => (None, other),
                };
                self.total = self.total.saturating_add(gone.map_or(0, |gone| gone.left_behind()));
                now.push(known.unwrap_or_else(|| {
                    let count = process.count_behind(self.field);
                    // Whoever was born since the last sample has counted all of it since then.
                    let from = if process.age <= born_within { count.map(|_| 0) } else { count };
                    Member { pid: process.id.pid, start: process.id.start, from, last: count, is_young: true }
                }));
            }
            self.total = before.fold(self.total, |total, gone| total.saturating_add(gone.left_behind()));
            self.members = now;
        }
        for (member, process) in self.members.iter_mut().zip(members).filter(|(member, _)| member.is_young || at_border)
        {
            let count = process.count_behind(self.field);
            member.from = member.from.or(count);
            member.last = count;
            if at_border {
                let counted = count.zip(member.from).map_or(0, |(count, from)| count.saturating_sub(from));
                self.total = self.total.saturating_add(counted);
                (member.from, member.is_young) = (count, false);
            }
        }
    }

    /// What was counted by now as far as it was read; `None` where of somebody nothing could be.
    pub fn now(&self, members: &[&Process]) -> Option<u64> {
        self.members.iter().zip(members).try_fold(self.total, |total, (member, process)| {
            let counted = process.count_behind(self.field)?.saturating_sub(member.from?);
            Some(total.saturating_add(counted))
        })
    }
}
