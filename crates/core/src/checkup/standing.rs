//! Processes that do not go on: stuck in the kernel, frozen, suspended, or ended and not collected.

use std::time::Duration;

use super::findings::{Inquiry, finding, inspections};
use super::{Finding, FindingKind};
use crate::model::Process;
use crate::severity::Severity;
use crate::state::State;
use crate::units::{scaled_duration, scaled_size};

/// What does not change for that long is not just passing.
const SETTLED: Duration = Duration::from_millis(400);

impl Inquiry<'_> {
    /// Processes that do not go on: stuck, frozen, suspended, not collected.
    pub(super) fn held_up(&self) -> Vec<Finding> {
        let processes = &self.scene.snapshot.processes;
        let enough = self.scene.looks >= 2 && self.scene.length >= SETTLED;
        let always = |seen: u32| enough && seen == self.scene.looks;
        let still = |process: &Process| process.cpu.is_none_or(|cpu| cpu < 0.05);
        let moves =
            |process: &Process| [process.disk_read, process.disk_write].into_iter().flatten().any(|rate| rate > 0.0);
        let stuck: Vec<&Process> = processes
            .iter()
            .filter(|process| !process.kernel && still(process) && !moves(process))
            .filter(|process| process.state == State::Waiting && always(self.scene.tally(process).waiting))
            .collect();
        let in_state = |state: State| -> Vec<&Process> {
            processes
                .iter()
                .filter(|process| process.state == state && !process.kernel && !process.has_ended())
                .collect()
        };
        let zombies: Vec<&Process> = processes
            .iter()
            .filter(|process| process.has_ended() && always(self.scene.tally(process).zombie))
            .collect();
        let mut findings = Vec::new();
        let looks = format!("at every one of {} looks over {}", self.scene.looks, scaled_duration(self.scene.length));
        if !stuck.is_empty() {
            let suspects = self.lineup.these(&stuck, |_| format!("waiting in the kernel {looks}"));
            let next = inspections(&suspects, "what it waits for");
            let remarks = vec!["neither a polite nor a forced end works before the kernel answers: look for a disk or a network disk that does not".to_owned()];
            let headline = counted(stuck.len(), "is stuck in the kernel", "are stuck in the kernel");
            findings.push(
                finding(FindingKind::Stuck, Severity::Notice, headline)
                    .with(Vec::new(), None, suspects)
                    .saying(remarks, next),
            );
        }
        for (kind, state, one, many) in [
            (
                FindingKind::Frozen,
                State::Frozen,
                "is frozen with its control group",
                "are frozen with their control groups",
            ),
            (FindingKind::Suspended, State::Suspended, "is suspended", "are suspended"),
        ] {
            let held = in_state(state);
            if held.is_empty() {
                continue;
            }
            let what = |process: &Process| {
                let memory = process.memory_held.map(|held| format!(", holds {}", scaled_size(held as f64)));
                format!("{}{}", state.word(), memory.unwrap_or_default())
            };
            let suspects = self.lineup.these(&held, what);
            let mut next = inspections(&suspects, "who it is, and who suspended it");
            if kind == FindingKind::Suspended {
                next.extend(self.act(&suspects, "resume", "", "it goes on"));
            }
            findings.push(
                finding(kind, Severity::Notice, counted(held.len(), one, many))
                    .with(Vec::new(), None, suspects)
                    .saying(Vec::new(), next),
            );
        }
        if !zombies.is_empty() {
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
            findings.push(
                finding(FindingKind::Zombies, Severity::Notice, headline)
                    .with(Vec::new(), None, suspects)
                    .saying(remarks, next),
            );
        }
        findings
    }
}

fn counted(count: usize, one: &str, many: &str) -> String {
    if count == 1 { format!("1 process {one}") } else { format!("{count} processes {many}") }
}
