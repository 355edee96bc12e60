//! The cases of a rehearsal over time: bars and, beneath, the steps as letters.

use jiff::Timestamp;
use sophron_core::happening::Over;
use sophron_core::rehearsal::{StepWord, Story};
use sophron_core::rules::Action;
use sophron_core::units::Value;

use crate::ui::timeline::Canvas;

/// What the letters mean.
pub const LEGEND: &str = "half a bar is the limit, a full one twice that; a told, i told again, l lower, s suspend, r restart, t terminate, ? asked first, - held back, c calm, e ended, b back";

/// The readings of a story.
pub fn bars(canvas: &Canvas<'_>, story: &Story) -> String {
    let limit = story.limit.as_ref().and_then(Value::number).unwrap_or_default();
    let falls = story.worst.as_ref().and_then(Value::number).is_some_and(|worst| worst < limit);
    canvas.bars(&story.points, limit, falls)
}

/// The steps of a story.
pub fn marks(canvas: &Canvas<'_>, story: &Story) -> String {
    let mut marks: Vec<(Timestamp, char)> = vec![(story.opened, 'a')];
    let again = |step: &&sophron_core::rehearsal::Step| letter(&step.word) != 'a' || step.at != story.opened;
    marks.extend(story.steps.iter().filter(again).map(|step| (step.at, letter(&step.word))));
    marks.extend(story.closed.map(|(at, why)| (at, if why == Over::Calm { 'c' } else { 'e' })));
    canvas.marks(&marks)
}

fn letter(word: &StepWord) -> char {
    match word {
        StepWord::Told => 'a',
        StepWord::Reminded => 'i',
        StepWord::HeldBack(..) => '-',
        StepWord::Asked(..) | StepWord::Turned(_) => '?',
        StepWord::HoursEnded => 'h',
        StepWord::CameBack => 'b',
        StepWord::Done(action) => match action {
            Action::Alert => 'a',
            Action::Run => 'x',
            Action::Lower { .. } => 'l',
            Action::Suspend { .. } => 's',
            Action::Restart => 'r',
            Action::Terminate { .. } => 't',
        },
    }
}
