//! Who descends from whom while a tree is acted upon, by process events: who leaves it because his parent ends belongs to it
//! all the same.

use sophron_core::sorted::SortedSet;

use super::tree::Spared;
use crate::events::{Event, Events};

/// Listens to process events from its making on.
#[derive(Debug)]
pub struct Lineage {
    source: Events,
    /// What happened before it was said whom to follow.
    early: Vec<Event>,
    following: bool,
    descendants: SortedSet<u32>,
}

impl Lineage {
    /// Begins to listen; `None` where that is not allowed.
    pub fn listen() -> Option<Lineage> {
        let (early, descendants) = (Vec::new(), SortedSet::new());
        Some(Lineage { source: Events::listen()?, early, following: false, descendants })
    }

    /// Follows those from when it began to listen.
    pub(super) fn follow(&mut self, roots: impl Iterator<Item = u32>, spared: &mut Spared) {
        self.descendants.extend(roots);
        self.following = true;
        for event in std::mem::take(&mut self.early) {
            self.take(event, spared);
        }
    }

    /// The processes that descend from those followed and live, by PID.
    pub(super) fn descendants(&mut self, spared: &mut Spared) -> &SortedSet<u32> {
        // Where events were lost, looks at parents have to do.
        for event in self.source.heard().events {
            self.take(event, spared);
        }
        &self.descendants
    }

    fn take(&mut self, event: Event, spared: &mut Spared) {
        match event {
            _ if !self.following => self.early.push(event),
            Event::Fork { parent, child } => {
                if self.descendants.contains(&parent) && !spared.has(parent) {
                    self.descendants.insert(child);
                }
            }
            // Its number may be somebody else's from now on.
            Event::Exit { pid } => {
                self.descendants.remove(&pid);
            }
        }
    }
}
