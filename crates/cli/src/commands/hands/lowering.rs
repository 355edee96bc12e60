//! Lowering by hand: measured before and after.

use std::time::{Duration, Instant};

use sophron_core::audit::{ActionRecord, Draft};
use sophron_core::model::{Process, Snapshot};
use sophron_linux::act::Only;

use super::acts::{Came, refusal, worse};
use super::{Chosen, Hand};
use crate::exit::{Exit, Failure};
use crate::lowering::effect::{self, Measured};
use crate::lowering::{self, Reach};
use crate::source;

/// Over how long the effect is measured, before and after.
const MEASURED: Duration = Duration::from_secs(2);

impl Hand<'_> {
    pub(super) fn lower(&mut self, able: &[Chosen], nice: i32, only: Only) -> Result<Exit, Failure> {
        let before = self.measure()?;
        let mut exit = Exit::Fine;
        let mut done: Vec<(&Chosen, Reach, Draft, Came, Instant)> = Vec::new();
        for chosen in able {
            let began = Instant::now();
            let reach = self.reach(chosen, able);
            match self.lower_one(chosen, nice, only, &reach) {
                Ok((intent, came)) => done.push((chosen, reach, intent, came, began)),
                Err(came) => {
                    exit = worse(exit, &came);
                    super::acts::say(&chosen.process, came.0, &came.1, came.2);
                }
            }
        }
        let after = self.measure()?;
        let meant = |process: &Process| able.iter().any(|chosen| chosen.process.id == process.id);
        for (chosen, reach, intent, (word, mut seen, well), began) in done {
            let was = before.process(chosen.process.id.pid).filter(|was| was.id == chosen.process.id);
            if let Some(before) = was.filter(|_| well) {
                let whole_session = reach.whole_session;
                let measured =
                    Measured { before, after: &after, cpu: None, over: (MEASURED, MEASURED), only, whole_session };
                seen = format!("{seen}; {}", effect::words(&measured, meant));
            }
            let came = (word, seen, well);
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

    fn reach(&self, chosen: &Chosen, able: &[Chosen]) -> Reach {
        let direct = self.args.service_manager.clone();
        let meant = |process: &Process| able.iter().any(|chosen| chosen.process.id == process.id);
        Reach::of(&self.snapshot, &chosen.process, direct, meant)
    }

    fn lower_one(&mut self, chosen: &Chosen, nice: i32, only: Only, reach: &Reach) -> Result<(Draft, Came), Came> {
        let originals =
            lowering::originals(&chosen.handle, &chosen.process, nice, only, reach).map_err(|error| refusal(&error))?;
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
            .intend(&chosen.process, &self.snapshot, action)
            .map_err(|why| ("dropped", format!("no record, no action: {why}"), false))?;
        if let Err(why) = self.still_the_one(chosen) {
            return Ok((intent, ("dropped", why, false)));
        }
        let came = lowering::lower(&chosen.handle, nice, only, &originals, reach)
            .map_or_else(|error| refusal(&error), |(seen, complete)| ("lowered", seen, complete));
        Ok((intent, came))
    }
}
