//! How far a lowering reaches: niceness acts only inside a scheduling group, and the value of that group acts on everybody in it.

use super::Lever;
use crate::model::{Manager, Process, Unit};
use crate::units::quoted;

/// What a lowering may move beyond niceness: decided on the processes that are meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Reach {
    /// Those meant are a whole session: only then its own value may be changed, which acts on all of it.
    pub whole_session: bool,
    /// Those meant are all of their unit, or the same program as the rest of it: then its weight may be changed.
    pub whole_unit: bool,
}

impl Reach {
    /// The reach on `process`, where `meant` says who is lowered along with it.
    pub fn of(processes: &[Process], process: &Process, meant: impl Fn(&Process) -> bool) -> Reach {
        let whole_session = process.session != 0 && meant(process) && of_session(processes, process).all(&meant);
        let mate = |other: &Process| meant(other) || other.app == process.app;
        Reach { whole_session, whole_unit: of_group(processes, process).all(mate) }
    }

    /// Whether the weight of its unit may be changed: where the desktop puts every program into a control group of its own,
    /// or where the whole unit is meant.
    pub fn moves_weight(&self, process: &Process) -> bool {
        weighed(process).is_some_and(|unit| unit.name.starts_with("app-") || self.whole_unit)
    }
}

/// A lowering that acts against those in its scheduling group alone.
#[derive(Debug, Clone, PartialEq)]
pub struct Confined<'p> {
    /// The group, in words.
    pub inside: String,
    /// Who else is in it and would have to be lowered as well, for the others to have something of it.
    pub others: Vec<&'p Process>,
    /// The condition that fits all of them; `None` where nothing that we may change makes the group milder.
    pub all: Option<String>,
}

impl<'p> Confined<'p> {
    /// Whether a lowering of `process` is confined, where `meant` says who is lowered along with it.
    pub fn of(
        processes: &'p [Process],
        process: &Process,
        lever: &Lever,
        meant: impl Fn(&Process) -> bool,
    ) -> Option<Confined<'p>> {
        let reach = Reach::of(processes, process, &meant);
        match lever {
            Lever::Nice => None,
            Lever::SessionGroup { .. } if reach.whole_session => None,
            Lever::SessionGroup { .. } => Some(Confined {
                inside: "its session".to_owned(),
                others: of_session(processes, process).filter(|other| !meant(other)).collect(),
                all: (process.session != 0).then(|| format!("session = {}", process.session)),
            }),
            Lever::Weight { .. } if reach.moves_weight(process) => None,
            Lever::Weight { group, .. } => {
                let all = weighed(process).map(|unit| match unit.manager {
                    Manager::Machine => format!("unit = {}", quoted(unit.name)),
                    Manager::User(uid) => format!("unit = {} and uid = {uid}", quoted(unit.name)),
                });
                let others = of_group(processes, process).filter(|other| !meant(other)).collect();
                Some(Confined { inside: format!("the control group {group}"), others, all })
            }
        }
    }
}

/// The unit whose weight may be changed at all: a login's is everybody's in it.
fn weighed(process: &Process) -> Option<Unit<'_>> {
    process.own_unit().filter(|unit| !unit.name.starts_with("session-"))
}

fn of_session<'p>(processes: &'p [Process], process: &Process) -> impl Iterator<Item = &'p Process> {
    let session = process.session;
    processes.iter().filter(move |other| !other.has_ended() && other.session == session)
}

fn of_group<'p>(processes: &'p [Process], process: &Process) -> impl Iterator<Item = &'p Process> {
    let group = process.group.clone();
    processes.iter().filter(move |other| !other.has_ended() && other.group == group)
}
