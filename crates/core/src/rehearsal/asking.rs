//! Who is asked in a rehearsal: nobody answers. Of a recording whose watcher has asked itself it is known what was answered.

use jiff::Timestamp;

use super::Rehearsal;
use crate::act::Came;
use crate::answer::{Answer, Answered, Answerer};
use crate::dispatch::{Asking, Incoming, Input};
use crate::model::{Moment, ProcessId, Snapshot};
use crate::recording::{self, Ours};

/// What is asked.
#[derive(Debug, Default)]
pub(super) struct Asked(Vec<One>);

#[derive(Debug)]
struct One {
    number: u64,
    case: u64,
    of: ProcessId,
    verb: &'static str,
    at: Moment,
    /// Whether the recording tells of it, or it is taken for shown.
    known: bool,
}

/// Of the questions that are known by their numbers, the latest are kept.
const MOST: usize = 256;

impl Asked {
    pub fn put(&mut self, asking: &Asking, at: Moment) {
        let (Some(case), Some(target)) = (asking.asked.case, asking.asked.subject.lead()) else { return };
        if self.0.len() == MOST {
            self.0.remove(0);
        }
        let (number, verb) = (asking.question.number, asking.question.action.word());
        self.0.push(One { number, case, of: target.id, verb, at, known: false });
    }
}

impl Rehearsal {
    /// What became of questions since the sample before. What the recording does not tell of was shown at once, and nobody answers.
    pub(super) fn answer_as_recorded(&mut self, snapshot: &Snapshot, ours: &Ours) {
        for told in &ours.asked {
            let asked = self.asked.0.iter_mut().rev();
            let mut fits =
                asked.filter(|one| (one.of.pid, one.of.start, one.verb) == (told.pid, told.start, &*told.verb));
            if let Some(one) = fits.next() {
                one.known = true;
                let Some(input) = input(one, told) else { continue };
                let commands = self.dispatcher.step(moment(told.at, snapshot), input);
                self.follow(commands, snapshot);
            }
        }
        let unknown: Vec<(u64, Moment)> =
            self.asked.0.iter().filter(|one| !one.known).map(|one| (one.number, one.at)).collect();
        self.asked.0.iter_mut().for_each(|one| one.known = true);
        for (number, at) in unknown {
            let commands = self.dispatcher.step(at, Input::Shown(number, Ok("as if".to_owned())));
            self.follow(commands, snapshot);
        }
    }
}

fn input(one: &One, told: &recording::Asked) -> Option<Input<'static>> {
    Some(match (&told.answer, Came::from(told.came.as_str())) {
        (Some((answer, uid)), _) => {
            let by = Answerer { uid: *uid, over: "the recording".to_owned(), session: None, locked: None };
            let answered = Answered { answer: Answer::from(answer.as_str()), by };
            Input::Answer(Box::new(Incoming {
                ticket: 0,
                question: Some(one.number),
                case: one.case,
                answered,
                unsound: None,
            }))
        }
        (None, Came::Shown) => Input::Shown(one.number, Ok(told.why.clone())),
        (None, Came::Unasked) => Input::Shown(one.number, Err(told.why.clone())),
        _ => return None,
    })
}

/// When that was, on every clock, by the sample that follows it.
fn moment(at: Timestamp, snapshot: &Snapshot) -> Moment {
    let now = snapshot.moment;
    let before = std::time::Duration::try_from(now.wall.duration_since(at)).unwrap_or_default();
    Moment {
        monotonic: now.monotonic.saturating_sub(before),
        boottime: now.boottime.saturating_sub(before),
        wall: at.min(now.wall),
    }
}
