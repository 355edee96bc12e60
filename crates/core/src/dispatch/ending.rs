//! The end: everything in force is taken back, what is under way is awaited.

use super::Dispatcher;
use crate::happening::News;
use crate::model::{Moment, ProcessId};
use crate::sorted::SortedSet;

/// How far the end has come.
#[derive(Debug, Default)]
pub(super) struct Ending {
    begun: bool,
    /// On whom something was taken back.
    undone: SortedSet<ProcessId>,
}

impl Ending {
    pub fn has_begun(&self) -> bool {
        self.begun
    }
}

impl Dispatcher {
    pub(super) fn begin_to_end(&mut self, now: Moment) {
        if self.ending.begun {
            return;
        }
        self.ending.begun = true;
        self.news(now, News::Ending);
        self.ask_nobody_any_more(now);
        self.undo_all(now);
    }

    /// An act that was under way may have left something in force.
    pub(super) fn go_on_ending(&mut self, now: Moment) {
        if self.ending.begun {
            self.undo_all(now);
        }
    }

    fn undo_all(&mut self, now: Moment) {
        for id in self.effects.processes() {
            let case = self.effects.cases_of(&id).first().copied();
            let acts = self.effects.let_go_of_all_on(&id);
            self.ending.undone.insert(id);
            for undo in acts {
                self.take_back(now, id, undo, case, None);
            }
        }
    }

    /// The last words, once nothing is under way any more, or nobody waits for it.
    pub fn last_words(&self, now: Moment) -> crate::happening::Happening {
        let (open, undone) = (self.judge.cases().count(), self.ending.undone.len());
        crate::happening::Happening::news(now.wall, News::Ended { open, undone })
    }
}
