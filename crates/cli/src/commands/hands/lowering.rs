//! Lowering by hand: measured before and after.

use std::time::Duration;

use sophron_core::act::{Only, Outcome};
use sophron_core::happening::{Effect, Look};
use sophron_core::model::{Process, Snapshot};

use super::acts::worse;
use super::{Chosen, Hand};
use crate::exit::{Exit, Failure};
use crate::source;

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
                    Some(Effect::of(&look, meant).words())
                }
                _ => None,
            };
            exit = worse(exit, &outcome);
            self.finish(chosen, outcome, took, effect);
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
}
