//! What a rule judges as one: a process, an app, a tree, an owner, a unit, or the machine.

mod legal;
mod totals;

use std::fmt;

pub use legal::{Judged, Summing};
pub use totals::Totals;

use crate::model::{Process, ProcessId};
use crate::text::processes;

/// Which subject: stays the same from one sample to the next.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum SubjectKey {
    /// A process.
    Process(ProcessId),
    /// One owner's processes of one program: nobody can push another's over a limit by a program of that name.
    App {
        /// Whose.
        uid: u32,
        /// The program.
        app: String,
    },
    /// A process and all its descendants.
    Tree(ProcessId),
    /// All processes of one user.
    Owner(u32),
    /// All processes of one control group, by its full path.
    Unit(String),
    /// The machine.
    Machine,
}

/// What is the same of a subject when it comes back under another PID.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Likeness {
    /// The same program of the same owner from the same file.
    Program {
        /// Whose.
        uid: u32,
        /// The program.
        app: String,
        /// Its file.
        path: Option<String>,
    },
    /// A group that is the same by its key.
    Group(SubjectKey),
}

impl SubjectKey {
    /// What is the same when it comes back.
    pub(crate) fn likeness(&self, lead: Option<&Process>) -> Likeness {
        match (self, lead) {
            (SubjectKey::Process(_) | SubjectKey::Tree(_), Some(lead)) => {
                Likeness::Program { uid: lead.person(), app: lead.app.clone(), path: lead.path.clone() }
            }
            (group, _) => Likeness::Group(group.clone()),
        }
    }

    /// What it is judged as.
    pub fn judged(&self) -> Judged {
        match self {
            SubjectKey::Process(_) => Judged::Process,
            SubjectKey::App { .. } => Judged::App,
            SubjectKey::Tree(_) => Judged::Tree,
            SubjectKey::Owner(_) => Judged::Owner,
            SubjectKey::Unit(_) => Judged::Unit,
            SubjectKey::Machine => Judged::Machine,
        }
    }

    /// How it is named in lines for people, with the process that stands for it and the number of its processes.
    pub fn label(&self, lead: Option<&Process>, members: usize) -> String {
        let of_lead = |id: &ProcessId| lead.map_or_else(|| id.checked().to_string(), Process::label);
        let owner = || lead.map_or("", |lead| lead.owner.as_str());
        let count = processes(members);
        match self {
            SubjectKey::Process(id) => of_lead(id),
            SubjectKey::App { app, .. } => format!("{app} ({}), {count}", owner()),
            SubjectKey::Tree(id) => format!("tree of {}, {count}", of_lead(id)),
            SubjectKey::Owner(_) => format!("{}, {count}", owner()),
            SubjectKey::Unit(group) => {
                let unit = lead.and_then(|lead| lead.unit.as_deref()).filter(|unit| !unit.is_empty()).unwrap_or(group);
                format!("{unit}, {count}")
            }
            SubjectKey::Machine => "the machine".to_owned(),
        }
    }
}

impl Judged {
    /// The subject that a process is of; none where that is not known: whose program has not been read is of no app, who is in
    /// no control group of no unit. A tree is that of the process itself.
    pub(crate) fn key_of(self, process: &Process) -> Option<SubjectKey> {
        Some(match self {
            Judged::Process => SubjectKey::Process(process.id),
            Judged::App if process.app_unread() => return None,
            Judged::App => SubjectKey::App { uid: process.person(), app: process.app.clone() },
            Judged::Tree => SubjectKey::Tree(process.id),
            Judged::Owner => SubjectKey::Owner(process.person()),
            Judged::Unit => SubjectKey::Unit(process.group.clone()?),
            Judged::Machine => SubjectKey::Machine,
        })
    }
}

impl fmt::Display for Judged {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}
