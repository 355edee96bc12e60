//! Who descends from whom, also when those between have ended: the kernel gives orphans to another parent, and a tree would
//! lose them. Kept from sample to sample, and between samples by process events where those may be heard.

use std::collections::{HashMap, HashSet};
use std::num::NonZeroU32;

use sophron_core::model::Process;

use crate::events::{Event, Events};

#[derive(Debug, Default)]
pub(super) struct Descent {
    events: Option<Events>,
    /// For every process the nearest living one that it descends from, by PID.
    above: HashMap<u32, u32>,
    below: HashMap<u32, Vec<u32>>,
}

impl Descent {
    pub fn begin() -> Descent {
        Descent { events: Events::listen(), ..Descent::default() }
    }

    /// What happened since the sample before.
    pub fn listen(&mut self) {
        let Some(events) = &self.events else { return };
        let heard = events.heard();
        for event in heard.events {
            match event {
                Event::Fork { parent, child } => self.born(child, parent),
                Event::Exit { pid } => self.ended(pid),
            }
        }
        if heard.lost {
            // Numbers may have been given anew unheard: what the next sample shows counts.
            (self.above, self.below) = (HashMap::new(), HashMap::new());
        }
    }

    fn born(&mut self, child: u32, parent: u32) {
        self.above.insert(child, parent);
        self.below.entry(parent).or_default().push(child);
    }

    /// Those below it descend from whom it came from.
    pub fn ended(&mut self, pid: u32) {
        let Some(above) = self.above.remove(&pid) else { return };
        for child in self.below.remove(&pid).unwrap_or_default() {
            if self.above.get(&child) == Some(&pid) {
                self.born(child, above);
            }
        }
    }

    /// Tells every process of a sample what it descends from, where that is not its parent.
    pub fn tell(&mut self, processes: &mut [Process]) {
        let alive: HashSet<u32> = processes.iter().map(|process| process.id.pid).collect();
        for process in processes {
            let pid = process.id.pid;
            let known = process.ancestor.map(NonZeroU32::get).filter(|ancestor| alive.contains(ancestor));
            let known = known.unwrap_or(process.parent);
            if !self.above.contains_key(&pid) {
                self.born(pid, known);
            }
            let above = self.above.get(&pid).copied().filter(|above| *above != process.parent && alive.contains(above));
            process.ancestor = above.and_then(NonZeroU32::new);
        }
    }
}

#[cfg(test)]
mod tests {
    use sophron_core::model::{Boot, ProcessId};

    use super::*;

    #[test]
    fn an_orphan_stays_below_whom_its_parent_came_from() {
        let one = |pid, parent| {
            let mut process = Process::unread(ProcessId { pid, start: 1, boot: Boot(1) });
            process.parent = parent;
            process
        };
        let mut descent = Descent::default();
        let mut sample = vec![one(1, 0), one(10, 1), one(11, 10), one(12, 11)];
        descent.tell(&mut sample);
        assert!(sample.iter().all(|process| process.ancestor.is_none()));
        descent.ended(11);
        // Between two samples 12 has started 13, which has started 14 and ended.
        descent.born(13, 12);
        descent.born(14, 13);
        descent.ended(13);
        let mut sample = vec![one(1, 0), one(10, 1), one(12, 1), one(14, 1)];
        descent.tell(&mut sample);
        let ancestors: Vec<Option<u32>> = sample.iter().map(|process| process.ancestor.map(NonZeroU32::get)).collect();
        assert_eq!(ancestors, [None, None, Some(10), Some(12)]);
        descent.ended(10);
        let mut sample = vec![one(1, 0), one(12, 1), one(14, 12)];
        descent.tell(&mut sample);
        assert!(sample.iter().all(|process| process.ancestor.is_none()), "now the first process is above it");
    }
}
