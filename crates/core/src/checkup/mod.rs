//! Checkup: is this machine short of something, of what, and because of whom? Snapshots in, findings out.

mod cpu;
mod findings;
mod grows;
mod known;
mod limits;
mod observe;
mod standing;
mod suspects;
mod words;

use std::collections::HashMap;
use std::time::Duration;

use jiff::Timestamp;

pub use findings::check;
pub use grows::Grown;
pub use known::Known;
pub use limits::{LIMITS, Limit, Limits, Watched};
pub use observe::{Observation, Past, Scene, Tallies, Tally};
pub use suspects::Suspect;

use crate::model::{Field, Process, ProcessId};
use crate::severity::Severity;
use crate::sorted::SortedSet;

/// What a finding is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum FindingKind {
    /// The machine, or a control group, is short of memory.
    Memory,
    /// The machine is short of CPU.
    Cpu,
    /// Programs wait for a disk.
    Disk,
    /// A file system is nearly full.
    Files,
    /// Processes are stuck in the kernel.
    Stuck,
    /// One program keeps a core to itself.
    Core,
    /// The load is high without CPU or disk being busy.
    Load,
    /// Processes held with their control group.
    Frozen,
    /// Processes suspended by a signal.
    Suspended,
    /// Processes that ended and are not collected.
    Zombies,
    /// What a program holds in memory grows.
    Grows,
    /// CPU went to nobody who was seen.
    Unseen,
}

impl FindingKind {
    /// Every kind, the worst first where severities are equal.
    pub const ALL: [FindingKind; 12] = [
        FindingKind::Memory,
        FindingKind::Cpu,
        FindingKind::Disk,
        FindingKind::Files,
        FindingKind::Stuck,
        FindingKind::Core,
        FindingKind::Load,
        FindingKind::Frozen,
        FindingKind::Suspended,
        FindingKind::Zombies,
        FindingKind::Grows,
        FindingKind::Unseen,
    ];

    /// Its word, as a rules file writes it.
    pub fn word(self) -> &'static str {
        match self {
            FindingKind::Memory => "memory",
            FindingKind::Cpu => "cpu",
            FindingKind::Disk => "disk",
            FindingKind::Files => "files",
            FindingKind::Stuck => "stuck",
            FindingKind::Core => "core",
            FindingKind::Load => "load",
            FindingKind::Frozen => "frozen",
            FindingKind::Suspended => "suspended",
            FindingKind::Zombies => "zombies",
            FindingKind::Grows => "grows",
            FindingKind::Unseen => "unseen",
        }
    }

    /// Whether the machine is short of something by it; else it is only worth knowing.
    pub(crate) fn is_shortage(self) -> bool {
        !matches!(
            self,
            FindingKind::Frozen
                | FindingKind::Suspended
                | FindingKind::Zombies
                | FindingKind::Grows
                | FindingKind::Unseen
        )
    }
}

/// What a rules file's `[checkup]` says.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Settings {
    /// The limits in force.
    pub limits: Limits,
    /// Findings that are known, each with its reason.
    pub known: Vec<Known>,
}

/// A figure and its limit, in words.
#[derive(Debug, Clone, PartialEq)]
pub struct Figure {
    /// Which.
    pub field: Field,
    /// The figure, in the field's base unit; available memory and free space in percent or bytes as the limit is.
    pub value: f64,
    /// `64% of the time somebody waited for a core`.
    pub words: String,
    /// `60%`: the level that it passed, or the nearest that it did not.
    pub limit: String,
    /// How serious it is by itself.
    pub severity: Option<Severity>,
}

/// Since when a finding has been so.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Since {
    /// Since that moment.
    At(Timestamp),
    /// On average over that time, which is longer than the looks: not when it began.
    OnAverage(Duration),
}

/// What to do next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Next {
    /// Advice in words.
    Say(String),
    /// A command to type, without the program's name, and what it tells.
    Type(String, &'static str),
}

/// One thing found.
#[derive(Debug, Clone, PartialEq)]
pub struct Finding {
    /// What it is about.
    pub kind: FindingKind,
    /// How serious.
    pub severity: Severity,
    /// In a few words.
    pub headline: String,
    /// Its figures, the leading one first.
    pub figures: Vec<Figure>,
    /// Since when, where that is known.
    pub since: Option<Since>,
    /// The file system or control group that it is about.
    pub of: Option<String>,
    /// Because of whom, the heaviest first.
    pub suspects: Vec<Suspect>,
    /// What else has to be said about it.
    pub remarks: Vec<String>,
    /// What to do next.
    pub next: Vec<Next>,
    /// Why it is known, if a rules file says so.
    pub known: Option<String>,
}

/// A control group with a memory limit (memory.max and memory.current, or their older names; cgroups(7)).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GroupMemory {
    /// Its path.
    pub group: String,
    /// Its limit, bytes.
    pub limit: u64,
    /// What it uses, bytes; files kept in memory count.
    pub used: u64,
    /// Its processes.
    pub members: Vec<u32>,
}

/// A deleted file that somebody still has open: its space comes free when that one closes it, or ends.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HeldFile {
    /// Who.
    pub pid: u32,
    /// Its old name.
    pub path: String,
    /// What it takes on the disk, bytes.
    pub size: u64,
    /// The device number of its file system.
    pub number: u64,
}

/// Says why a process is protected, if it is.
pub type Protected<'a> = dyn Fn(&Process) -> Option<String> + 'a;

/// What is known beside the snapshots.
#[derive(Default)]
pub struct Surroundings<'a> {
    /// A recording: it holds less than a machine.
    pub recorded: bool,
    /// Whether Sophron may read everything.
    pub privileged: bool,
    /// Mounted disks that did not answer.
    pub silent: Vec<String>,
    /// Control groups of those that wait, as far as they have a memory limit.
    pub groups: Vec<GroupMemory>,
    /// Deleted files that are still held.
    pub held: Vec<HeldFile>,
    /// Sophron's own processes.
    pub own: SortedSet<u32>,
    /// What the record tells of a process.
    pub notes: HashMap<ProcessId, String>,
    /// How what processes hold has gone before the looks, where that was recorded.
    pub grown: Vec<Grown>,
    /// Since when figures have been beyond their limits, where earlier samples were seen.
    pub past: Past,
    /// Why a process is protected.
    pub protected: Option<&'a Protected<'a>>,
}

/// What a checkup tells.
#[derive(Debug, Clone, PartialEq)]
pub struct Report {
    /// In one line: what the machine is short of, or that nothing is short.
    pub verdict: String,
    /// The worst first.
    pub findings: Vec<Finding>,
    /// What was looked at and is fine.
    pub fine: Vec<String>,
    /// What could not be read, and why.
    pub unread: Vec<String>,
    /// What Sophron itself used, percent of one core.
    pub own: Option<f64>,
}

/// What no checkup looks at.
pub const NOT_EXAMINED: &str =
    "network, graphics card, temperature and clock speed, health of the disks, network file systems, numbers of files";

impl Report {
    /// Whether anything was found that is not known already.
    pub fn found(&self) -> bool {
        self.findings.iter().any(|finding| finding.known.is_none())
    }
}
