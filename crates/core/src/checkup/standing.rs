//! Processes that do not go on: stuck in the kernel, frozen, suspended, or ended and not collected.

use std::time::Duration;

use super::findings::{Inquiry, finding, inspections};
use super::{Finding, FindingKind};
use crate::model::Process;
use crate::severity::Severity;
use crate::state::State;
use crate::text;
use crate::units::{scaled_duration, scaled_size};

/// What does not change for that long is not just passing.
const SETTLED: Duration = Duration::from_millis(400);

impl Inquiry<'_> {
    /// Processes that do not go on: stuck, frozen, suspended, not collected.
    pub(super) fn held_up(&self) -> Vec<Finding> {
        let frozen = ("is frozen with its control group", "are frozen with their control groups");
        let suspended = ("is suspended", "are suspended");
        let found = [
            self.stuck(),
            self.held(FindingKind::Frozen, State::Frozen, frozen),
            self.held(FindingKind::Suspended, State::Suspended, suspended),
            self.zombies(),
        ];
        found.into_iter().flatten().collect()
    }

    /// Whether something was so at every look, over long enough.
    fn always(&self, seen: u32) -> bool {
        self.scene.looks >= 2 && self.scene.length >= SETTLED && seen == self.scene.looks
    }

    fn stuck(&self) -> Option<Finding> {
        let still = |process: &Process| process.cpu.is_none_or(|cpu| cpu < 0.05);
        let moves =
            |process: &Process| [process.disk_read, process.disk_write].into_iter().flatten().any(|rate| rate > 0.0);
        let processes = self.scene.snapshot.processes.iter();
        let stuck: Vec<&Process> = processes
            .filter(|process| !process.kernel && still(process) && !moves(process))
            .filter(|process| process.state == State::Waiting && self.always(self.scene.tally(process).waiting))
            .collect();
        let looks = format!("at every one of {} looks over {}", self.scene.looks, scaled_duration(self.scene.length));
        let suspects = self.lineup.these(&stuck, |_| format!("waiting in the kernel {looks}"));
        let next = inspections(&suspects, "what it waits for");
        let remarks = vec!["neither a polite nor a forced end works before the kernel answers: look for a disk or a network disk that does not".to_owned()];
        let headline = counted(stuck.len(), "is stuck in the kernel", "are stuck in the kernel");
        let finding = finding(FindingKind::Stuck, Severity::Notice, headline).with(Vec::new(), None, suspects);
        (!stuck.is_empty()).then(|| finding.saying(remarks, next))
    }

    fn held(&self, kind: FindingKind, state: State, (one, many): (&str, &str)) -> Option<Finding> {
        let processes = self.scene.snapshot.processes.iter();
        let held: Vec<&Process> =
            processes.filter(|process| process.state == state && !process.kernel && !process.has_ended()).collect();
        let what = |process: &Process| {
            let memory = process.memory_held.map(|held| format!(", holds {}", scaled_size(held as f64)));
            format!("{}{}", state.word(), memory.unwrap_or_default())
        };
        let suspects = self.lineup.these(&held, what);
        let mut next = inspections(&suspects, "who it is, and who suspended it");
        if kind == FindingKind::Suspended {
            next.extend(self.act(&suspects, "resume", "", "it goes on"));
        }
        let finding = finding(kind, Severity::Notice, counted(held.len(), one, many));
        (!held.is_empty()).then(|| finding.with(Vec::new(), None, suspects).saying(Vec::new(), next))
    }

    fn zombies(&self) -> Option<Finding> {
        let processes = self.scene.snapshot.processes.iter();
        let zombies: Vec<&Process> =
            processes.filter(|process| process.has_ended() && self.always(self.scene.tally(process).zombie)).collect();
        let mut parents: Vec<&Process> = Vec::new();
        for parent in zombies.iter().filter_map(|zombie| self.lineup.process(zombie.parent)) {
            if !parents.iter().any(|known| known.id == parent.id) {
                parents.push(parent);
            }
        }
        let amount = |parent: &Process| {
            let own = zombies.iter().filter(|zombie| zombie.parent == parent.id.pid).count();
            format!("has not collected {own} of its children that ended")
        };
        let suspects = self.lineup.these(&parents, amount);
        let next = inspections(&suspects, "who it is, and what it waits for");
        let remarks = vec!["a zombie uses no memory and no CPU, and goes when its parent collects it or ends: the mistake is the parent's".to_owned()];
        let headline = counted(
            zombies.len(),
            "has ended and is not collected (a zombie)",
            "have ended and are not collected (zombies)",
        );
        let finding = finding(FindingKind::Zombies, Severity::Notice, headline).with(Vec::new(), None, suspects);
        (!zombies.is_empty()).then(|| finding.saying(remarks, next))
    }
}

fn counted(count: usize, one: &str, many: &str) -> String {
    format!("{} {}", text::processes(count), if count == 1 { one } else { many })
}
