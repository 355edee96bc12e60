//! What became of a question, in words.

use jiff::tz::TimeZone;

use super::clock;
use crate::act::Came;
use crate::answer::{Answer, Answered, Question, Turn};
use crate::rules::Unasked;
use crate::severity::Tone;
use crate::units::exact_duration;

impl Turn {
    pub(super) fn word(&self) -> &'static str {
        match self {
            Turn::Shown(..) => "shown",
            Turn::Answered(..) => "answered",
            Turn::TurnedDown(..) => "refused",
            Turn::Unanswered => "no answer",
            Turn::Unasked(..) => "unasked",
            Turn::Withdrawn(_) => "withdrawn",
        }
    }

    pub(super) fn tone(&self) -> Tone {
        match self {
            Turn::Answered(..) | Turn::Unanswered => Tone::Notice,
            Turn::Shown(..) | Turn::Withdrawn(_) => Tone::Faint,
            Turn::TurnedDown(..) | Turn::Unasked(..) => Tone::Warning,
        }
    }

    /// What came of it, as the record has it.
    pub fn came(&self) -> Came {
        match self {
            Turn::Shown(..) => Came::Shown,
            Turn::Answered(..) => Came::Answered,
            Turn::TurnedDown(..) => Came::TurnedDown,
            Turn::Unanswered => Came::Unanswered,
            Turn::Unasked(..) => Came::Unasked,
            Turn::Withdrawn(_) => Came::Withdrawn,
        }
    }

    pub(super) fn seen(&self, question: &Question, zone: &TimeZone) -> String {
        let (action, person) = (question.action, &question.person.1);
        match self {
            Turn::Shown(place, until) => format!("{person} sees it {place}, until {}", clock(*until, zone)),
            Turn::Answered(answered, until) => {
                let until = until.map(|until| format!(" until {}", clock(until, zone))).unwrap_or_default();
                format!("{}{until}, {}", answered.answer.deed(), over(answered))
            }
            Turn::TurnedDown(answered, why) => {
                format!("`{}`, {}: {why}; nothing is done", answered.answer, over(answered))
            }
            Turn::Unanswered => format!("nobody has answered in {}", exact_duration(question.window)),
            Turn::Unasked(why, Unasked::GoOn) => format!("{person} cannot be asked: {why}; it goes on all the same"),
            Turn::Unasked(why, Unasked::Leave) => {
                format!("{person} cannot be asked: {why}; so it is not done: {action}")
            }
            Turn::Withdrawn(why) => format!("{person} is asked no more: {why}"),
        }
    }
}

impl Answer {
    /// What follows from it.
    fn deed(&self) -> &str {
        match self {
            Answer::LetRun => "let it run",
            Answer::Suspend => "suspend it",
            Answer::End => "end it now",
            Answer::Restart => "restart its unit",
            Answer::Other(word) => word,
        }
    }
}

/// Over what it came: nobody knows who sat there.
fn over(answered: &Answered) -> String {
    let by = &answered.by;
    let session = by.session.as_ref().map(|session| format!(", session {session}")).unwrap_or_default();
    let locked = if by.locked == Some(true) { ", its screen locked" } else { "" };
    format!("over {}{session}{locked}", by.over)
}

impl Answered {
    /// Why something is done that somebody has answered so.
    pub(crate) fn because(&self) -> String {
        format!("answered {}", over(self))
    }
}
