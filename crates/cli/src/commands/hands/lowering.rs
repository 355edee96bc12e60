//! Lowering by hand: measured before and after.

use std::time::Duration;

use sophron_core::act::{Confined, Lever, Only, Outcome};
use sophron_core::facts::Facts;
use sophron_core::happening::{Effect, Look};
use sophron_core::model::{Process, Snapshot};
use sophron_core::text::processes;

use super::acts::{ids, worse};
use super::ending::{Asked, ending, figure};
use super::targets::MOST_UNASKED;
use super::{Chosen, Hand};
use crate::exit::{Exit, Failure};
use crate::source;
use sophron_linux::act;

/// Over how long the effect is measured, before and after.
const MEASURED: Duration = Duration::from_secs(2);

/// A lowering that acts inside a scheduling group only.
pub(super) struct Narrow {
    /// Inside which, and who else is in it.
    pub said: String,
    /// What works against the others: what to type, and what that does.
    pub way: (String, &'static str),
}

/// What stops it for a while, whatever the kernel groups CPU by.
fn suspend(process: &Process) -> (String, &'static str) {
    (format!("sophron suspend {}", process.id.checked()), "it stands still for 5 m, and goes on by itself")
}

impl Hand<'_> {
    pub(super) fn lower(&mut self, able: &[Chosen], only: Only) -> Result<Exit, Failure> {
        let before = self.measure()?;
        let meant = |process: &Process| able.iter().any(|chosen| chosen.process.id == process.id);
        let mut done: Vec<(&Chosen, Outcome, Duration)> = Vec::new();
        for chosen in able {
            let Some(order) = self.order(std::slice::from_ref(chosen), able) else { continue };
            let (outcome, took, _) = self.perform(&order, &[chosen], false).outcome();
            done.push((chosen, outcome, took));
        }
        let after = self.measure()?;
        let mut exit = Exit::Fine;
        let mut without: Vec<(&Chosen, Lever)> = Vec::new();
        for (chosen, outcome, took) in done {
            let was = before.find(&chosen.process.id);
            let effect = match (&outcome, was) {
                (Outcome::Lowered(lowering), Some(before)) if lowering.complete => {
                    let look = Look {
                        before,
                        after: &after,
                        cpu: None,
                        over: (MEASURED, MEASURED),
                        only,
                        whole_session: lowering.originals.session.is_some(),
                        lever: &lowering.lever,
                    };
                    Some(Effect::of(&look, meant))
                }
                _ => None,
            };
            exit = worse(exit, &outcome);
            if let Outcome::Lowered(lowering) = &outcome
                && effect.as_ref().is_some_and(Effect::is_without)
            {
                without.push((chosen, lowering.lever.clone()));
            }
            self.finish(chosen, outcome, took, effect.as_ref().map(Effect::words));
        }
        let asked = if only == Only::Disk { Asked::Disk } else { Asked::Cpu };
        let mut next = Vec::new();
        for (chosen, lever) in &without {
            let way = self.confined(&after, &chosen.process, lever, meant).map(|confined| confined.way);
            let suspend = suspend(&chosen.process);
            next.extend(way.filter(|way| *way != suspend && !next.contains(way)));
            next.push(suspend);
        }
        let undo = ids(able);
        let by_root = only != Only::Disk && able.iter().any(|chosen| !act::may_raise(chosen.process.nice));
        let undo = match by_root {
            false => format!("sophron restore {undo}"),
            // Of this record: root's own does not know of it.
            true => format!("only root may: sudo sophron restore {undo} --state {}", self.trail.state.display()),
        };
        ending(figure(asked, &before.machine, &after.machine).as_deref(), Some(&undo), &next);
        // That nothing came of it is worth an answer of its own.
        Ok(if exit == Exit::Fine && !without.is_empty() { Exit::Found } else { exit })
    }

    /// Whom a lowering of it does not act against, and what would.
    pub(super) fn confined(
        &self,
        snapshot: &Snapshot,
        process: &Process,
        lever: &Lever,
        meant: impl Fn(&Process) -> bool,
    ) -> Option<Narrow> {
        let confined = Confined::of(&snapshot.processes, process, lever, &meant)?;
        let others = confined.others.len();
        let inside = &confined.inside;
        let mut said = match others {
            0 => format!("acts only inside {inside}, in which nobody else runs: nobody has anything of it"),
            some => {
                format!("acts only inside {inside}, against {} more: nobody else has anything of it", processes(some))
            }
        };
        let spared = confined.others.iter().find_map(|other| {
            let why = self.protections.reason(&Facts::new(other, &snapshot.machine))?;
            Some(format!("; all of it is not to be lowered: {} is protected ({why})", other.label()))
        });
        let way = match confined.all.filter(|_| spared.is_none()) {
            Some(all) => {
                let count = others + snapshot.processes.iter().filter(|process| meant(process)).count();
                let most = if count > MOST_UNASKED { format!(" --at-most {count}") } else { String::new() };
                (format!("sophron lower --where '{all}'{most}"), "all of it gives way to the others")
            }
            None => suspend(process),
        };
        said.extend(spared);
        Some(Narrow { said, way })
    }

    fn measure(&mut self) -> Result<Snapshot, Failure> {
        let failed = |error| Failure::of(Exit::Failed, error);
        self.sampler.look().map_err(failed)?;
        source::measuring(MEASURED);
        std::thread::sleep(MEASURED);
        source::measured();
        self.sampler.look().map_err(failed)
    }
}
