//! Lowering by hand: the lever that works for its scheduling group, measured before and after.

use std::time::{Duration, Instant};

use sophron_core::audit::ActionRecord;
use sophron_core::effects::{Originals, UnitWeight};
use sophron_core::model::{Process, Snapshot};
use sophron_core::units::{Value, scaled_duration, scaled_percent};
use sophron_linux::act::{self, ActError, Only};
use sophron_linux::inspect::{Lever, lever};
use sophron_linux::service_manager::{self, ServiceManager};

use super::acts::{Came, refusal, worse};
use super::{Chosen, Hand};
use crate::exit::{Exit, Failure};
use crate::source;

/// Over how long the effect is measured, before and after.
const MEASURED: Duration = Duration::from_secs(2);

/// A share that falls by less than a tenth has not changed.
const NO_CHANGE: f64 = 0.9;

/// A core, or a machine, busier than that has somebody who wants it, percent.
const CONTENDED: f64 = 90.0;

impl Hand<'_> {
    pub(super) fn lower(&mut self, able: &[Chosen], nice: i32, only: Only) -> Result<Exit, Failure> {
        let before = self.measure()?;
        let whole_session = only != Only::Disk && self.is_a_whole_session(able);
        let mut exit = Exit::Fine;
        let mut done: Vec<(&Chosen, sophron_core::audit::Draft, Came, Instant)> = Vec::new();
        for chosen in able {
            let began = Instant::now();
            match self.lower_one(chosen, nice, only, whole_session) {
                Ok((intent, came)) => done.push((chosen, intent, came, began)),
                Err(came) => {
                    exit = worse(exit, &came);
                    super::acts::say(&chosen.process, came.0, &came.1, came.2);
                }
            }
        }
        let after = self.measure()?;
        for (chosen, intent, (word, seen, well), began) in done {
            let effect = if well { effect(&before, &after, chosen, able, only, whole_session) } else { String::new() };
            let came = (word, format!("{seen}{effect}"), well);
            exit = worse(exit, &came);
            self.finish(chosen, &intent, &came, began);
        }
        Ok(exit)
    }

    fn measure(&mut self) -> Result<Snapshot, Failure> {
        let failed = |error| Failure::of(Exit::Failed, error);
        self.sampler.look().map_err(failed)?;
        source::measuring(MEASURED);
        std::thread::sleep(MEASURED);
        source::measured();
        self.sampler.look().map_err(failed)
    }

    /// Whether those are all processes of their session: only then its own value may be changed, which acts on all.
    fn is_a_whole_session(&self, able: &[Chosen]) -> bool {
        let Some(session) = able.first().map(|chosen| chosen.process.session).filter(|session| *session != 0) else {
            return false;
        };
        let chosen = |process: &Process| able.iter().any(|chosen| chosen.process.id == process.id);
        let members =
            self.snapshot.processes.iter().filter(|process| process.session == session && !process.has_ended());
        able.iter().all(|chosen| chosen.process.session == session) && members.into_iter().all(chosen)
    }

    fn lower_one(
        &mut self,
        chosen: &Chosen,
        nice: i32,
        only: Only,
        whole_session: bool,
    ) -> Result<(sophron_core::audit::Draft, Came), Came> {
        let mut originals = act::originals(&*chosen.handle, only).map_err(|error| refusal(&error))?;
        let by_session = whole_session && matches!(lever(chosen.process.id.pid), Lever::SessionGroup { .. });
        originals.session = if by_session { act::session_value(&chosen.handle) } else { None };
        originals.weight = if only == Only::Disk { None } else { self.weight_of(chosen, nice) };
        // Where niceness is not touched, what is recorded as set is what it was.
        let set = if only == Only::Disk { originals.was } else { nice };
        let action = ActionRecord {
            nice: Some(set),
            originals: Some(originals.clone()),
            tree: self.args.tree,
            ..ActionRecord::word("lower")
        };
        let intent = self
            .trail
            .intend(&chosen.process, action)
            .map_err(|why| ("dropped", format!("no record, no action: {why}"), false))?;
        if let Err(why) = self.still_the_one(chosen) {
            return Ok((intent, ("dropped", why, false)));
        }
        let manager = self.manager_of(&chosen.process);
        let came = lower(chosen, nice, only, &originals, &manager).unwrap_or_else(|error| refusal(&error));
        Ok((intent, came))
    }

    /// Where the desktop puts every program into a control group of its own, that group's weight is the lever: of a unit
    /// that is the program's own, or all of whose processes are meant.
    fn weight_of(&self, chosen: &Chosen, nice: i32) -> Option<UnitWeight> {
        let by_weight =
            matches!(lever(chosen.process.id.pid), Lever::Weight { .. }) || self.args.service_manager.is_some();
        let unit = chosen
            .process
            .unit
            .clone()
            .filter(|unit| by_weight && !unit.is_empty() && !unit.starts_with("session-"))?;
        let of_it = |process: &&Process| process.group == chosen.process.group && !process.has_ended();
        let meant =
            |process: &Process| self.args.tree || process.id == chosen.process.id || process.app == chosen.process.app;
        if !unit.starts_with("app-") && !self.snapshot.processes.iter().filter(of_it).all(meant) {
            return None;
        }
        let was = self.manager_of(&chosen.process).cpu_weight(&unit).ok()?;
        let uid = service_manager::user_of(&chosen.process);
        Some(UnitWeight { unit, uid, was, set: weight_for(nice) })
    }
}

/// What a niceness comes to as a weight: each step gives a fifth less, from 100.
fn weight_for(nice: i32) -> u64 {
    (100.0 / 1.25_f64.powi(nice)).round().max(1.0) as u64
}

fn lower(
    chosen: &Chosen,
    nice: i32,
    only: Only,
    originals: &Originals,
    manager: &ServiceManager,
) -> Result<Came, ActError> {
    let lowering = act::lower(&*chosen.handle, nice, only)?;
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
    if let Some(was) = originals.session.filter(|was| *was < nice) {
        act::set_session_value(&chosen.handle, nice)?;
        what.push(format!("its session's value {was} → {nice}"));
    }
    if let Some(weight) = originals.weight.as_ref().filter(|weight| weight.was.is_none_or(|was| was > weight.set)) {
        match manager.set_cpu_weight(&weight.unit, Some(weight.set)) {
            Ok(()) => what.push(format!("CPU weight of its unit {} → {}", weight.was.unwrap_or(100), weight.set)),
            Err(error) => what.push(format!("the CPU weight of its unit stays: {error}")),
        }
    }
    let threads = if lowering.threads == 1 { "1 thread".to_owned() } else { format!("{} threads", lowering.threads) };
    what.push(threads);
    if !lowering.complete {
        what.push("it makes new threads faster than they can be lowered".to_owned());
    }
    Ok(("lowered", what.join(", "), lowering.complete))
}

/// What it did, over a stated time; where it did nothing, why.
fn effect(
    before: &Snapshot,
    after: &Snapshot,
    chosen: &Chosen,
    all: &[Chosen],
    only: Only,
    whole_session: bool,
) -> String {
    let find = |snapshot: &Snapshot| {
        snapshot.process(chosen.process.id.pid).filter(|now| now.id == chosen.process.id).cloned()
    };
    let (Some(was), Some(is)) = (find(before), find(after)) else { return "; it ended meanwhile".to_owned() };
    let over = scaled_duration(MEASURED);
    if only == Only::Disk {
        let rate =
            |process: &Process| process.disk_read.zip(process.disk_write).map(|(read, write)| f64::from(read + write));
        return match (rate(&was), rate(&is)) {
            (Some(was), Some(is)) => {
                format!("; disk {} → {} (each over {over})", Value::Rate(was).scaled(), Value::Rate(is).scaled())
            }
            _ => "; its disk rates may not be read".to_owned(),
        };
    }
    let (Some(was_cpu), Some(is_cpu)) = (was.cpu, is.cpu) else {
        return "; its effect could not be measured".to_owned();
    };
    let figures =
        format!("; cpu {} → {} of a core (each over {over})", scaled_percent(was_cpu), scaled_percent(is_cpu));
    if was_cpu < 1.0 {
        return format!("{figures}: it used hardly any before");
    }
    if is_cpu < was_cpu * NO_CHANGE {
        return figures;
    }
    // All cores busy, or one of them while this process gets less than one.
    let core = after.machine.core_fullest.is_some_and(|core| core >= CONTENDED) && is_cpu < CONTENDED;
    let contended = core || after.machine.cpu.is_some_and(|cpu| cpu >= CONTENDED);
    let why = match lever(chosen.process.id.pid) {
        _ if nobody_else(after, all) => "nobody but those lowered uses the CPU".to_owned(),
        _ if !contended => "nobody else wants the CPU: it gives way as soon as somebody does".to_owned(),
        Lever::Weight { group, .. } => format!(
            "it is in the control group {group}: niceness acts only against that group's own processes, against the others its CPU weight"
        ),
        Lever::SessionGroup { .. } if !whole_session => {
            "the kernel groups CPU by session: niceness acts only inside its own; lowering the whole session (its leader with --tree) acts against the others".to_owned()
        }
        _ => "those who want the CPU are no milder than it, or there is room for all".to_owned(),
    };
    format!("{figures}: no effect, since {why}")
}

/// Whether hardly anybody uses CPU but those that were lowered.
fn nobody_else(after: &Snapshot, all: &[Chosen]) -> bool {
    let chosen = |process: &&Process| all.iter().any(|chosen| chosen.process.id == process.id);
    let others = after.processes.iter().filter(|process| !chosen(process)).filter_map(|process| process.cpu);
    others.sum::<f64>() < 5.0
}
