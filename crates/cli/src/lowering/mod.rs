//! Lowering, for hands and rules alike: the lever that works for the offender's scheduling group is chosen, all of them
//! are remembered before the first is moved, and what was moved is taken back.

pub mod effect;

use std::path::PathBuf;

use sophron_core::effects::{Originals, UnitWeight};
use sophron_core::model::{Process, Snapshot};
use sophron_linux::act::{self, ActError, Only};
use sophron_linux::handle::Handle;
use sophron_linux::inspect::{Lever, lever};
use sophron_linux::service_manager::{ServiceManager, UnitName};

use crate::watcher::recorder::chain;

/// How far a lowering may reach beyond niceness: decided on the processes that are meant.
#[derive(Debug, Clone, Default)]
pub struct Reach {
    /// Those meant are a whole session: only then its own value may be changed, which acts on all of it.
    pub whole_session: bool,
    /// The unit whose weight may be changed: the program's own, or one all of whose processes are meant.
    unit: Option<UnitName>,
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
        let unit = UnitName::of(process).filter(|unit| by_weight && !unit.name.starts_with("session-"));
        let of_it = |other: &&Process| other.group == process.group;
        let mate = |other: &Process| meant(other) || other.app == process.app;
        let unit = unit.filter(|unit| unit.name.starts_with("app-") || alive().filter(of_it).all(mate));
        Reach { whole_session, unit, direct }
    }

    /// Nothing beyond the process.
    pub fn none(direct: Option<PathBuf>) -> Reach {
        Reach { direct, ..Reach::default() }
    }

    pub fn manager(&self, unit: &UnitName) -> ServiceManager {
        self.direct.as_deref().map_or_else(|| ServiceManager::of_user(unit.uid), ServiceManager::at)
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
        && let Ok(was) = reach.manager(&unit).cpu_weight(&unit)
    {
        let set = UnitWeight::of_nice(nice);
        let UnitName { name, group, uid } = unit;
        let weight = UnitWeight { unit: name, group, uid, was, set };
        originals.weight = was.is_none_or(|was| was > set).then_some(weight);
    }
    Ok(originals)
}

/// Lowers by every lever that the originals name. What was seen, and whether every thread was reached. A lever that fails is a
/// remark: what the others did is in force all the same.
///
/// # Errors
/// The process is gone, or another user's: nothing was done.
pub fn lower(
    handle: &Handle,
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
    if let Some(error) = &lowering.hindered {
        what.push(format!("not all of it: {}", chain(error)));
    }
    if let Some(was) = originals.session {
        what.push(match act::set_session_value(handle, nice) {
            Ok(()) => format!("its session's value {was} → {nice}"),
            Err(error) => format!("its session's value stays {was}: {}", chain(&error)),
        });
    }
    if let Some(weight) = &originals.weight {
        let unit = unit_of(weight);
        match reach.manager(&unit).set_cpu_weight(&unit, Some(weight.set)) {
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
    let (mut what, mut failed) = (Vec::new(), Vec::new());
    // The unit's weight does not depend on whether this process lives.
    match weight_back(originals, still, direct) {
        Ok(weight) => what.extend(weight),
        Err(why) => failed.push(format!("the CPU weight of its unit is not put back: {why}")),
    }
    let mut superseded = 0;
    let mut gone = handle.is_none();
    if let Some(handle) = handle {
        let session = originals.session.filter(|_| act::session_value(handle) == Some(set));
        if let Some(target) = session.map(|was| was.max(still.unwrap_or(was))) {
            match act::set_session_value(handle, target) {
                Ok(()) => what.push(format!("its session's value {set} → {target}")),
                Err(ActError::Gone) => {}
                Err(error) => failed.push(format!("its session's value is not put back: {}", chain(&error))),
            }
        }
        match act::restore(handle, set, originals, still) {
            Ok(done) => {
                superseded = done.superseded;
                if done.disks > 0 {
                    what.insert(0, format!("disk as before, {}", threads(done.disks)));
                }
                if done.restored > 0 {
                    let target = still.unwrap_or(originals.was);
                    what.insert(0, format!("nice {set} → {target}, {}", threads(done.restored)));
                }
            }
            Err(ActError::Gone) => gone = true,
            Err(error) => failed.push(chain(&error)),
        }
    }
    if !failed.is_empty() {
        what.extend(failed);
        return Restored::Refused(what.join("; "));
    }
    match (what.is_empty(), superseded) {
        (true, _) if gone => Restored::Gone,
        (true, 0) => Restored::Done("it was as before".to_owned()),
        (true, _) => Restored::Superseded,
        (false, 0) => Restored::Done(what.join("; ")),
        (false, left) => {
            what.push(format!("{} left as somebody else has set them", threads(left)));
            Restored::Done(what.join("; "))
        }
    }
}

fn unit_of(weight: &UnitWeight) -> UnitName {
    UnitName { name: weight.unit.clone(), group: weight.group.clone(), uid: weight.uid }
}

/// The unit's weight, where it is still what we set.
fn weight_back(
    originals: &Originals,
    still: Option<i32>,
    direct: Option<&std::path::Path>,
) -> Result<Option<String>, String> {
    let Some(weight) = &originals.weight else { return Ok(None) };
    let manager = direct.map_or_else(|| ServiceManager::of_user(weight.uid), ServiceManager::at);
    let unit = unit_of(weight);
    let now = manager.cpu_weight(&unit).map_err(|error| chain(&error))?;
    if now != Some(weight.set) {
        return Ok(None);
    }
    let target = still.map_or(weight.was, |nice| Some(UnitWeight::of_nice(nice)));
    manager.set_cpu_weight(&unit, target).map_err(|error| chain(&error))?;
    Ok(Some(format!("CPU weight of its unit {} → {}", weight.set, target.unwrap_or(100))))
}
