//! Lowering by hand: measured before and after.

use std::time::Duration;

use sophron_core::act::{Only, Outcome};
use sophron_core::facts::Facts;
use sophron_core::happening::{Effect, Look};
use sophron_core::model::{Process, Snapshot};

use super::acts::worse;
use super::ending::{Asked, ending};
use super::{Chosen, Hand};
use crate::exit::{Exit, Failure};
use crate::source;
use sophron_linux::act;

/// Over how long the effect is measured, before and after.
const MEASURED: Duration = Duration::from_secs(2);

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
        let mut without: Vec<(&Chosen, Effect)> = Vec::new();
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
            let words = effect.as_ref().map(Effect::words);
            self.finish(chosen, outcome, took, words);
            without.extend(effect.filter(Effect::is_without).map(|effect| (chosen, effect)));
        }
        let asked = if only == Only::Disk { Asked::Disk } else { Asked::Cpu };
        let mut next = Vec::new();
        for (chosen, effect) in &without {
            let (process, id) = (&chosen.process, chosen.process.id.checked());
            // What would be refused is not offered.
            let spared = |leader: &Process| self.protections.reason(&Facts::new(leader, &after.machine)).is_some();
            let leader = after.process(process.session).filter(|leader| leader.id != process.id && !spared(leader));
            next.extend(leader.filter(|_| effect.is_held_by_session()).map(|leader| {
                (format!("sophron lower {} --tree", leader.id.checked()), "its whole session gives way to the others")
            }));
            next.push((format!("sophron suspend {id}"), "it stands still for 5 m, and goes on by itself"));
        }
        let undo = able.iter().map(|chosen| chosen.process.id.checked().to_string()).collect::<Vec<_>>().join(" ");
        let by_root = only != Only::Disk && able.iter().any(|chosen| !act::may_raise(chosen.process.nice));
        let undo = match by_root {
            false => format!("sophron restore {undo}"),
            // Of this record: root's own does not know of it.
            true => format!("only root may: sudo sophron restore {undo} --state {}", self.trail.state.display()),
        };
        ending(asked, &before.machine, &after.machine, Some(&undo), &next);
        // That nothing came of it is worth an answer of its own.
        Ok(if exit == Exit::Fine && !without.is_empty() { Exit::Found } else { exit })
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
