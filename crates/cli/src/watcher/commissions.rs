//! What the dispatcher commissions, carried out on a thread of its own: announced in the trail, looked at once more by the rule
//! that ordered it, done by the one actuator.

use std::sync::{Arc, Mutex, PoisonError};

use sophron_core::act::Outcome;
use sophron_core::dispatch::{Check, Commission, Done, Leave};
use sophron_core::happening::{Happening, Scribe, What};
use sophron_core::model::{Needs, Process};
use sophron_linux::act::{Actuator, Commit, Found, Standing};
use sophron_linux::here;

use super::recorder::Recorder;

/// By whose leave what is under way goes on, as it is now.
pub type LeaveNow = Arc<Mutex<Leave>>;

/// Does it.
pub fn perform(
    commission: Commission,
    actuator: Actuator,
    needs: Needs,
    leave: &LeaveNow,
    (recorder, scribe): (&Recorder, &Scribe),
) -> (Done, Option<Standing>) {
    let mut commit = ByTheRule { commission: &commission, needs, leave, recorder, scribe, announced: false };
    let (outcome, took, standing) = actuator.perform(&commission.order, &mut commit).outcome();
    let announced = commit.announced;
    (Done { commission, outcome, took, announced }, standing)
}

/// What is told where whoever is at it ends midway.
pub fn unfinished(commission: Commission) -> Done {
    Done { commission, outcome: Outcome::unfinished(), took: std::time::Duration::ZERO, announced: true }
}

/// An intent with what is known right before the act.
pub fn announced(happening: &Happening, found: Found) -> Happening {
    let mut happening = Happening { at: here::now().wall, ..happening.clone() };
    if let What::Announced(act, announced) = &mut happening.what {
        announced.originals = found.originals;
        if !act.is_undo() {
            announced.open = found.open;
        }
    }
    happening
}

struct ByTheRule<'a> {
    commission: &'a Commission,
    needs: Needs,
    leave: &'a LeaveNow,
    recorder: &'a Recorder,
    scribe: &'a Scribe,
    announced: bool,
}

impl ByTheRule<'_> {
    /// What must still hold of a target, and how it was judged; nothing where something is taken back.
    fn checked(&self, target: usize) -> Option<(&Check, &Process)> {
        self.commission.check.as_ref().zip(self.commission.order.targets.get(target))
    }
}

impl Commit for ByTheRule<'_> {
    fn announce(&mut self, _: usize, found: Found) -> Result<(), String> {
        let intent = self.scribe.record(&announced(&self.commission.announced, found));
        let intent = intent.ok_or("there is no record of that")?;
        self.announced = true;
        if self.takes_back() { self.recorder.commit_undo(intent) } else { self.recorder.commit(intent) }
    }

    fn needs(&self) -> Needs {
        self.needs
    }

    fn still_right(&mut self, target: usize, now: Process) -> Result<(), String> {
        let Some((check, judged)) = self.checked(target) else { return Ok(()) };
        if let Some(uid) = check.wholly_of.filter(|uid| !here::is_wholly(now.id.pid, *uid)) {
            return Err(format!("it is not wholly of user {uid}, who has answered"));
        }
        let leave = self.leave.lock().unwrap_or_else(PoisonError::into_inner);
        check.still_right(self.commission.case().unwrap_or_default(), judged, now, &leave)
    }

    fn goes_on(&mut self, target: usize) -> Result<(), String> {
        let Some((check, judged)) = self.checked(target) else { return Ok(()) };
        let leave = self.leave.lock().unwrap_or_else(PoisonError::into_inner);
        check.goes_on(self.commission.case().unwrap_or_default(), judged, &leave)
    }

    fn takes_back(&self) -> bool {
        self.commission.is_undo()
    }
}
