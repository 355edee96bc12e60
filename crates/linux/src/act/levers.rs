//! Lowering by the lever that works for the offender's scheduling group: all of them are remembered before the first is moved,
//! and what was moved is taken back.

use std::path::Path;

use sophron_core::act::{Lever, Lowering, Moved, Only, Originals, Reach, Restoring, UnitWeight};
use sophron_core::model::Process;
use sophron_core::text::with_causes;

use super::{ActError, lower, restore};
use crate::act::lower::{session_value, set_session_value};
use crate::act::{may_raise, originals};
use crate::handle::Handle;
use crate::inspect::lever;
use crate::service_manager::{ServiceManager, UnitName};

/// A lowering of one process, before anything is moved.
pub(super) struct Levers<'a> {
    pub handle: &'a Handle,
    pub process: &'a Process,
    pub nice: i32,
    pub only: Only,
    pub reach: Reach,
    /// A socket at which the service manager is spoken to directly.
    pub direct: Option<&'a Path>,
    /// By what lowering works on it: looked at once, before it is moved.
    pub lever: Lever,
}

impl<'a> Levers<'a> {
    pub fn of(
        handle: &'a Handle,
        process: &'a Process,
        (nice, only): (i32, Only),
        reach: Reach,
        direct: Option<&'a Path>,
    ) -> Levers<'a> {
        Levers { handle, process, nice, only, reach, direct, lever: lever(process.id.pid) }
    }

    /// The unit whose weight may be changed: where the CPU is shared out by control groups, that weight is the lever.
    fn unit(&self) -> Option<UnitName> {
        let by_weight = self.direct.is_some() || matches!(self.lever, Lever::Weight { .. });
        UnitName::of(self.process).filter(|_| by_weight && self.reach.moves_weight(self.process))
    }

    /// What there is to put back, of every lever that will be moved; goes into the intent.
    pub fn originals(&self) -> Result<Originals, ActError> {
        let mut originals = originals(self.handle, self.only)?;
        if self.only == Only::Disk {
            return Ok(originals);
        }
        if self.reach.whole_session && matches!(self.lever, Lever::SessionGroup { .. }) {
            originals.session = session_value(self.handle).filter(|was| *was < self.nice);
        }
        if let Some(unit) = self.unit()
            && let Ok(was) = manager(unit.uid, self.direct).cpu_weight(&unit)
        {
            let set = UnitWeight::of_nice(self.nice);
            let UnitName { name, group, uid } = unit;
            let weight = UnitWeight { unit: name, group, uid, was, set };
            originals.weight = was.is_none_or(|was| was > set).then_some(weight);
        }
        Ok(originals)
    }

    /// Lowers by every lever that the originals name. A lever that fails is a remark: what the others did is in force all
    /// the same.
    pub fn lower(self, originals: Originals) -> Result<Lowering, ActError> {
        let lowering = lower(self.handle, self.nice, self.only)?;
        let session = originals.session.map(|was| {
            let stays = set_session_value(self.handle, self.nice).err().map(|error| with_causes(&error));
            Moved { was, to: self.nice, stays }
        });
        let weight = originals.weight.as_ref().map(|weight| {
            let unit = unit_of(weight);
            let set = manager(unit.uid, self.direct).set_cpu_weight(&unit, Some(weight.set));
            Moved { was: weight.was.unwrap_or(100), to: weight.set, stays: set.err().map(|error| error.to_string()) }
        });
        Ok(Lowering {
            nice: self.nice,
            only: self.only,
            threads: lowering.threads,
            complete: lowering.complete,
            hindered: lowering.hindered.map(|error| with_causes(&error)),
            session,
            weight,
            lever: self.lever,
            reversible: self.only == Only::Disk || may_raise(originals.was),
            originals,
        })
    }
}

pub(super) fn manager(uid: Option<u32>, direct: Option<&Path>) -> ServiceManager {
    direct.map_or_else(|| ServiceManager::of_user(uid), ServiceManager::at)
}

fn unit_of(weight: &UnitWeight) -> UnitName {
    UnitName { name: weight.unit.clone(), group: weight.group.clone(), uid: weight.uid }
}

/// Takes a lowering to `set` back: every lever that still stands where we put it, to what it was, or to `still` where
/// another case wants that.
pub(super) fn put_back(
    handle: Option<&Handle>,
    set: i32,
    originals: &Originals,
    still: Option<i32>,
    direct: Option<&Path>,
) -> Restoring {
    let mut done = Restoring { gone: handle.is_none(), ..Restoring::default() };
    // The unit's weight does not depend on whether this process lives.
    match weight_back(originals, still, direct) {
        Ok(weight) => done.weight = weight,
        Err(why) => done.failed.push(format!("the CPU weight of its unit: {why}")),
    }
    let Some(handle) = handle else { return done };
    let session = originals.session.filter(|_| session_value(handle) == Some(set));
    if let Some(target) = session.map(|was| was.max(still.unwrap_or(was))) {
        match set_session_value(handle, target) {
            Ok(()) => done.session = Some((set, target)),
            Err(ActError::Gone) => {}
            Err(error) => done.failed.push(format!("its session's value: {}", with_causes(&error))),
        }
    }
    match restore(handle, set, originals, still) {
        Ok(restored) => {
            done.left = restored.superseded;
            done.disks = restored.disks;
            let target = still.unwrap_or(originals.was);
            done.nice = (restored.restored > 0).then_some((set, target, restored.restored));
        }
        Err(ActError::Gone) => done.gone = true,
        Err(error) => done.failed.push(with_causes(&error)),
    }
    done
}

/// The unit's weight, where it is still what we set: from what, to what.
fn weight_back(originals: &Originals, still: Option<i32>, direct: Option<&Path>) -> Result<Option<(u64, u64)>, String> {
    let Some(weight) = &originals.weight else { return Ok(None) };
    let (unit, manager) = (unit_of(weight), manager(weight.uid, direct));
    let now = manager.cpu_weight(&unit).map_err(|error| with_causes(&error))?;
    if now != Some(weight.set) {
        return Ok(None);
    }
    let target = still.map_or(weight.was, |nice| Some(UnitWeight::of_nice(nice)));
    manager.set_cpu_weight(&unit, target).map_err(|error| with_causes(&error))?;
    Ok(Some((weight.set, target.unwrap_or(100))))
}
