//! Whose memory grows, also where nothing is short yet: over the looks, and over the time that was recorded before them.

use std::time::Duration;

use super::findings::{Inquiry, finding, inspections};
use super::{Finding, FindingKind, Next};
use crate::model::{Process, ProcessId};
use crate::order::InOrder;
use crate::severity::Severity;
use crate::units::{scaled_duration, scaled_size};

/// Growing by that much, and by that part of what it held, is said; bytes.
const MUCH: f64 = 64.0 * 1_048_576.0;
const PART: f64 = 0.5;

/// Growing so fast that memory ends within that time is said from this much on.
const IN_SIGHT: Duration = Duration::from_secs(600);
const AT_LEAST: f64 = 16.0 * 1_048_576.0;

/// Memory that ends within that time is a warning.
const SOON: Duration = Duration::from_secs(1800);

/// Most that are named.
const MOST: usize = 3;

/// How what a process holds has gone over a span.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Grown {
    /// Which process.
    pub id: ProcessId,
    /// What it held at first, bytes.
    pub from: u64,
    /// What it holds now, bytes.
    pub to: u64,
    /// From the first to the last.
    pub over: Duration,
}

impl Grown {
    fn by(&self) -> f64 {
        self.to.saturating_sub(self.from) as f64
    }

    /// Bytes a second.
    fn rate(&self) -> f64 {
        self.by() / self.over.as_secs_f64().max(f64::MIN_POSITIVE)
    }
}

impl Inquiry<'_> {
    /// The fastest growers, and when memory ends at that rate.
    pub(super) fn grows(&self) -> Option<Finding> {
        let mut grown: Vec<(&Process, Grown)> = Vec::new();
        for process in self.scene.snapshot.processes.iter().filter(|process| !process.kernel) {
            let over_looks = self.scene.grown(process);
            let before = self.around.grown.iter().find(|grown| grown.id == process.id).copied();
            // What has gone on for longer says more about the rate.
            let said = before.filter(|grown| self.is_said(grown)).or(over_looks.filter(|grown| self.is_said(grown)));
            grown.extend(said.map(|grown| (process, grown)));
        }
        grown.order_by(|(_, a), (_, b)| b.rate().total_cmp(&a.rate()));
        grown.truncate(MOST);
        let (first, fastest) = grown.first()?;
        let processes: Vec<&Process> = grown.iter().map(|(process, _)| *process).collect();
        let amount = |process: &Process| {
            let grown = grown.iter().find(|(other, _)| other.id == process.id).map(|(_, grown)| grown);
            grown.map_or(String::new(), |grown| {
                format!(
                    "memory held {}, {} more than {} ago",
                    scaled_size(grown.to as f64),
                    scaled_size(grown.by()),
                    scaled_duration(grown.over)
                )
            })
        };
        let suspects = self.lineup.these(&processes, amount);
        let ends = self.ends(fastest.rate());
        let severity = if ends.is_some_and(|ends| ends <= SOON) { Severity::Warning } else { Severity::Notice };
        let a_minute = scaled_size(fastest.rate() * 60.0);
        let headline = format!("{} grows by {a_minute} a minute", first.app);
        let remarks = ends.map(|ends| {
            format!("at that rate the memory that is left, swap apart, is used up in {}", scaled_duration(ends))
        });
        let mut next = inspections(&suspects, "which of its memory is its own, and whether it reads as it grows");
        next.extend(self.act(
            &suspects,
            "suspend",
            "",
            "it grows no further, keeps what it has, and goes on after 5 m",
        ));
        next.push(Next::Type("list --by growth".to_owned(), "who has grown, with the course"));
        let found = finding(FindingKind::Grows, severity, headline).with(Vec::new(), None, suspects);
        Some(found.saying(remarks.into_iter().collect(), next))
    }

    fn is_said(&self, grown: &Grown) -> bool {
        let much = grown.by() >= MUCH && grown.by() >= grown.from as f64 * PART;
        much || grown.by() >= AT_LEAST && self.ends(grown.rate()).is_some_and(|ends| ends <= IN_SIGHT)
    }

    /// When the memory that is left is used up at that rate.
    fn ends(&self, rate: f64) -> Option<Duration> {
        let left = self.scene.snapshot.machine.memory_available? as f64;
        Duration::try_from_secs_f64(left / rate.max(1.0)).ok().filter(|ends| *ends < Duration::from_secs(7 * 86_400))
    }
}
