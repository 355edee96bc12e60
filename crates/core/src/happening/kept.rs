//! What a recording keeps of what its watcher did.

use super::{CarriedOut, Happening, What};
use crate::act::{Came, Verb};
use crate::answer::{Question, Turn};
use crate::model::Process;
use crate::recording::{Asked, Outcome};

impl Happening {
    /// What became of a question, for a recording; none for anything else, and for what follows from the time alone.
    pub(crate) fn kept_of_asking(&self) -> Option<Asked> {
        let process = self.subject.lead()?;
        let (question, turn) = match &self.what {
            What::Asks(question, _) => (question, None),
            What::Turned(question, turn) => (question, Some(turn)),
            _ => return None,
        };
        let came = turn.map_or(Came::Asked, Turn::came).to_string();
        let Some(turn) = turn else { return Some(asked(self.at, process, question, came)) };
        let (answer, why) = match turn {
            Turn::Shown(place, _) => (None, place.clone()),
            Turn::Unasked(why, _) => (None, why.clone()),
            Turn::Answered(answered, _) => (Some((answered.answer.to_string(), answered.by.uid)), String::new()),
            Turn::TurnedDown(..) | Turn::Unanswered | Turn::Withdrawn(_) => return None,
        };
        Some(Asked { answer, why, ..asked(self.at, process, question, came) })
    }

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

fn asked(at: jiff::Timestamp, process: &Process, question: &Question, came: String) -> Asked {
    let (pid, start, verb) = (process.id.pid, process.id.start, question.action.word().to_owned());
    Asked { at, pid, start, verb, came, answer: None, why: String::new() }
}
