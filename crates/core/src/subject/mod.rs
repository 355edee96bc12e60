//! What a rule judges as one: a process, an app, a tree, an owner, a unit, or the machine.

mod legal;
mod totals;

use std::fmt;

pub use legal::{Judged, Summing};
pub use totals::Totals;

use crate::model::{Process, ProcessId};

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
    pub fn likeness(&self, lead: &Process) -> Likeness {
        match self {
            SubjectKey::Process(_) | SubjectKey::Tree(_) => {
                Likeness::Program { uid: lead.uid, app: lead.app.clone(), path: lead.path.clone() }
            }
            group => Likeness::Group(group.clone()),
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
    pub fn label(&self, lead: &Process, members: usize) -> String {
        let count = if members == 1 { "1 process".to_owned() } else { format!("{members} processes") };
        match self {
            SubjectKey::Process(_) => lead.label(),
            SubjectKey::App { app, .. } => format!("{app} ({}), {count}", lead.owner),
            SubjectKey::Tree(_) => format!("tree of {}, {count}", lead.label()),
            SubjectKey::Owner(_) => format!("{}, {count}", lead.owner),
            SubjectKey::Unit(group) => {
                let unit = lead.unit.as_deref().filter(|unit| !unit.is_empty()).unwrap_or(group);
                format!("{unit}, {count}")
            }
            SubjectKey::Machine => "the machine".to_owned(),
        }
    }
}

impl fmt::Display for Judged {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}
