//! What a recording keeps of what its watcher did.

use super::{CarriedOut, Happening, What};
use crate::act::Verb;
use crate::recording::Outcome;

impl Happening {
    /// What came of an act, for a recording; none for anything else.
    pub fn kept(&self) -> Option<Outcome> {
        let (What::Came(CarriedOut { act, outcome, .. }), Some(process)) = (&self.what, self.subject.lead()) else {
            return None;
        };
        let verb = act.as_ref().map_or(Verb::Run, |act| act.verb());
        Some(Outcome {
            at: self.at,
            pid: process.id.pid,
            start: process.id.start,
            app: process.app.clone(),
            owner: process.owner.clone(),
            case: self.case,
            verb: verb.word().to_owned(),
            outcome: outcome.came().word().to_owned(),
        })
    }
}
