//! Lowering, for hands and rules alike: the lever that works for the offender's scheduling group is chosen, all of them
//! are remembered before the first is moved, and what was moved is taken back.

pub mod effect;

use std::path::PathBuf;

use sophron_core::effects::{Originals, UnitWeight};
use sophron_core::model::{Process, Snapshot};
use sophron_linux::act::{self, ActError, Only};
use sophron_linux::handle::Handle;
use sophron_linux::inspect::{Lever, lever};
use sophron_linux::service_manager::{self, ServiceManager};

use crate::watcher::recorder::chain;

/// How far a lowering may reach beyond niceness: decided on the processes that are meant.
#[derive(Debug, Clone, Default)]
pub struct Reach {
    /// Those meant are a whole session: only then its own value may be changed, which acts on all of it.
    pub whole_session: bool,
    /// The unit whose weight may be changed: the program's own, or one all of whose processes are meant.
    unit: Option<String>,
    /// A socket at which the service manager is spoken to directly.
    direct: Option<PathBuf>,
}

impl Reach {
    /// The reach on `process`, where `meant` says who is lowered along with it.
    pub fn of(
        snapshot: &Snapshot,
        process: &Process,
        direct: Option<PathBuf>,
        meant: impl Fn(&Process) -> bool,
    ) -> Reach {
        let alive = || snapshot.processes.iter().filter(|process| !process.has_ended());
        let session = process.session;
        let whole_session =
            session != 0 && meant(process) && alive().filter(|other| other.session == session).all(&meant);
        // Where the desktop puts every program into a control group of its own, that group's weight is the lever.
        let by_weight = direct.is_some() || matches!(lever(process.id.pid), Lever::Weight { .. });
        let unit = process.unit.clone().filter(|unit| by_weight && !unit.is_empty() && !unit.starts_with("session-"));
        let of_it = |other: &&Process| other.group == process.group;
        let mate = |other: &Process| meant(other) || other.app == process.app;
        let unit = unit.filter(|unit| unit.starts_with("app-") || alive().filter(of_it).all(mate));
        Reach { whole_session, unit, direct }
    }

    /// Nothing beyond the process.
    pub fn none(direct: Option<PathBuf>) -> Reach {
        Reach { direct, ..Reach::default() }
    }

    pub fn manager(&self, process: &Process) -> ServiceManager {
        self.direct.as_deref().map_or_else(|| ServiceManager::of(process), ServiceManager::at)
    }
}

/// What there is to put back, of every lever that will be moved; goes into the intent.
///
/// # Errors
/// The process is gone.
pub fn originals(
    handle: &Handle,
    process: &Process,
    nice: i32,
    only: Only,
    reach: &Reach,
) -> Result<Originals, ActError> {
    let mut originals = act::originals(handle, only)?;
    if only == Only::Disk {
        return Ok(originals);
    }
    if reach.whole_session && matches!(lever(process.id.pid), Lever::SessionGroup { .. }) {
        originals.session = act::session_value(handle).filter(|was| *was < nice);
    }
    if let Some(unit) = reach.unit.clone()
        && let Ok(was) = reach.manager(process).cpu_weight(&unit)
    {
        let set = UnitWeight::of_nice(nice);
        let uid = service_manager::user_of(process);
        originals.weight = was.is_none_or(|was| was > set).then_some(UnitWeight { unit, uid, was, set });
    }
    Ok(originals)
}

/// Lowers by every lever that the originals name. What was seen, and whether every thread was reached.
///
/// # Errors
/// The process is gone, or another user's.
pub fn lower(
    handle: &Handle,
    process: &Process,
    nice: i32,
    only: Only,
    originals: &Originals,
    reach: &Reach,
) -> Result<(String, bool), ActError> {
    let lowering = act::lower(handle, nice, only)?;
    let mut what = Vec::new();
    if only != Only::Disk {
        what.push(if originals.was < nice {
            format!("nice {} → {nice}", originals.was)
        } else {
            format!("had nice {} already", originals.was)
        });
    }
    if only != Only::Cpu {
        what.push("disk only when nobody else wants it".to_owned());
    }
    if let Some(was) = originals.session {
        act::set_session_value(handle, nice)?;
        what.push(format!("its session's value {was} → {nice}"));
    }
    if let Some(weight) = &originals.weight {
        match reach.manager(process).set_cpu_weight(&weight.unit, Some(weight.set)) {
            Ok(()) => what.push(format!("CPU weight of its unit {} → {}", weight.was.unwrap_or(100), weight.set)),
            Err(error) => what.push(format!("the CPU weight of its unit stays: {error}")),
        }
    }
    what.push(threads(lowering.threads));
    if !lowering.complete {
        what.push("it makes new threads faster than they can be lowered".to_owned());
    }
    Ok((what.join(", "), lowering.complete))
}

fn threads(count: usize) -> String {
    if count == 1 { "1 thread".to_owned() } else { format!("{count} threads") }
}

/// What came of taking a lowering back.
#[derive(Debug)]
pub enum Restored {
    /// Put back; in words, what.
    Done(String),
    /// Somebody else has changed all of it since: left as it is.
    Superseded,
    /// It has ended.
    Gone,
    /// It could not be, or not all of it.
    Refused(String),
}

/// Takes a lowering to `set` back: every lever that still stands where we put it, to what it was, or to `still` where
/// another case wants that.
pub fn put_back(
    handle: Option<&Handle>,
    set: i32,
    originals: &Originals,
    still: Option<i32>,
    direct: Option<&std::path::Path>,
) -> Restored {
    // The unit's weight does not depend on whether this process lives.
    let weight = match weight_back(originals, still, direct) {
        Ok(weight) => weight,
        Err(why) => return Restored::Refused(format!("the CPU weight of its unit is not put back: {why}")),
    };
    let Some(handle) = handle else { return weight.map_or(Restored::Gone, Restored::Done) };
    let session = originals.session.filter(|_| act::session_value(handle) == Some(set));
    let session = session.map(|was| was.max(still.unwrap_or(was)));
    if let Some(Err(error)) = session.map(|target| act::set_session_value(handle, target)) {
        return Restored::Refused(chain(&error));
    }
    match act::restore(handle, set, originals, still) {
        Ok(done) if done.restored + done.disks == 0 && session.is_none() && weight.is_none() => {
            if done.superseded > 0 {
                Restored::Superseded
            } else {
                Restored::Done("it was as before".to_owned())
            }
        }
        Ok(done) => {
            let mut what = Vec::new();
            if done.restored > 0 {
                what.push(format!("nice {set} → {}, {}", still.unwrap_or(originals.was), threads(done.restored)));
            }
            if done.disks > 0 {
                what.push(format!("disk as before, {}", threads(done.disks)));
            }
            what.extend(weight);
            what.extend(session.map(|target| format!("its session's value {set} → {target}")));
            if done.superseded > 0 {
                what.push(format!("{} left as somebody else has set them", threads(done.superseded)));
            }
            Restored::Done(what.join("; "))
        }
        Err(ActError::Gone) => Restored::Gone,
        Err(error) => Restored::Refused(chain(&error)),
    }
}

/// The unit's weight, where it is still what we set.
fn weight_back(
    originals: &Originals,
    still: Option<i32>,
    direct: Option<&std::path::Path>,
) -> Result<Option<String>, String> {
    let Some(weight) = &originals.weight else { return Ok(None) };
    let manager = direct.map_or_else(|| ServiceManager::of_user(weight.uid), ServiceManager::at);
    let now = manager.cpu_weight(&weight.unit).map_err(|error| chain(&error))?;
    if now != Some(weight.set) {
        return Ok(None);
    }
    let target = still.map_or(weight.was, |nice| Some(UnitWeight::of_nice(nice)));
    manager.set_cpu_weight(&weight.unit, target).map_err(|error| chain(&error))?;
    Ok(Some(format!("CPU weight of its unit {} → {}", weight.set, target.unwrap_or(100))))
}
