//! Which field means something for which subject, and how it is summed.

use crate::groups::Grouping;
use crate::model::{Field, Subject};

/// What a rule judges as one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub enum Judged {
    /// Each process by itself.
    #[default]
    Process,
    /// One owner's processes of one program.
    App,
    /// A process and all its descendants.
    Tree,
    /// All processes of one user.
    Owner,
    /// All processes of one control group.
    Unit,
    /// The machine.
    Machine,
}

/// How a group's reading comes from those of its members.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Summing {
    /// The process's own reading.
    Own,
    /// Their sum; unknown when one is.
    Sum,
    /// Their sum, in a tree with what ended children had used unseen.
    Cpu,
    /// The sum of proportional memory; where that is not known the resident sum, as an upper bound.
    Memory,
    /// The number of members.
    Count,
    /// The greatest: that of the oldest member.
    Oldest,
    /// What all of them have in common, or the tree's root has.
    Common,
    /// The machine's own.
    Machine,
}

impl Summing {
    /// In words, for the documentation.
    pub fn word(self) -> &'static str {
        match self {
            Summing::Own => "its own",
            Summing::Sum => "sum",
            Summing::Cpu => "sum of CPU",
            Summing::Memory => "sum of proportional memory",
            Summing::Count => "number of processes",
            Summing::Oldest => "of the oldest",
            Summing::Common => "in common",
            Summing::Machine => "the machine's",
        }
    }
}

impl Judged {
    /// Every subject.
    pub const ALL: [Judged; 6] =
        [Judged::Process, Judged::App, Judged::Tree, Judged::Owner, Judged::Unit, Judged::Machine];

    /// Its word, as in `judge = "…"`.
    pub fn word(self) -> &'static str {
        match self {
            Judged::Process => "process",
            Judged::App => "app",
            Judged::Tree => "tree",
            Judged::Owner => "owner",
            Judged::Unit => "unit",
            Judged::Machine => "machine",
        }
    }

    /// With its article, for messages.
    pub fn with_article(self) -> &'static str {
        match self {
            Judged::Process => "a process",
            Judged::App => "an app",
            Judged::Tree => "a tree",
            Judged::Owner => "an owner",
            Judged::Unit => "a unit",
            Judged::Machine => "the machine",
        }
    }

    /// The subject of that word.
    pub fn named(word: &str) -> Option<Judged> {
        Judged::ALL.into_iter().find(|judged| judged.word() == word)
    }

    /// How its processes are found; `None` for a process and for the machine.
    pub fn grouping(self) -> Option<Grouping> {
        match self {
            Judged::App => Some(Grouping::App),
            Judged::Tree => Some(Grouping::Tree),
            Judged::Owner => Some(Grouping::Owner),
            Judged::Unit => Some(Grouping::Unit),
            Judged::Process | Judged::Machine => None,
        }
    }

    /// How a field's reading comes about for it; `None` where the field means nothing.
    pub fn summing(self, field: Field) -> Option<Summing> {
        use Field as F;
        if field.info().subject == Subject::Machine {
            return Some(Summing::Machine);
        }
        match self {
            Judged::Process => return Some(Summing::Own),
            Judged::Machine => return None,
            _ => {}
        }
        match field {
            F::Cpu | F::CpuPart => Some(Summing::Cpu),
            F::Memory | F::MemoryPart => Some(Summing::Memory),
            F::CpuChildren
            | F::CpuTime
            | F::MemoryHeld
            | F::MemoryVirtual
            | F::MemorySwapped
            | F::Disk
            | F::DiskRead
            | F::DiskWrite
            | F::Faults
            | F::Threads => Some(Summing::Sum),
            F::Instances => Some(Summing::Count),
            F::Age => Some(Summing::Oldest),
            F::App if matches!(self, Judged::App | Judged::Tree) => Some(Summing::Common),
            F::Owner | F::Uid if self != Judged::Unit => Some(Summing::Common),
            F::Unit | F::Origin if matches!(self, Judged::Unit | Judged::Tree) => Some(Summing::Common),
            F::Path | F::Name if self == Judged::Tree => Some(Summing::Common),
            _ => None,
        }
    }

    /// Why a field may not stand in a `breach` or `calm` of a rule that judges it.
    pub fn refuses(self, field: Field) -> Option<&'static str> {
        if self.summing(field).is_some() {
            return None;
        }
        Some(match field {
            _ if self == Judged::Machine => "not a reading of the machine",
            Field::MemoryPrivate | Field::MemoryProportional => "of a group `memory` is the sum of proportional memory",
            Field::Files => "too costly to read of a whole group",
            _ => "differs from process to process",
        })
    }
}
