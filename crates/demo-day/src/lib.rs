//! The recorded working day, and the weeks before it: a story in, the lines of a recording and of a history out. The same story gives the same lines, always.

mod day;
mod months;
mod random;
mod story;

use std::fmt;

pub use months::{Months, history};
pub use story::Story;

/// What is wrong with a story.
#[derive(Debug)]
pub struct StoryError(pub String);

impl fmt::Display for StoryError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for StoryError {}

/// The lines of the recording that a story tells.
///
/// # Errors
/// The story does not make sense.
pub fn lines(story: &str) -> Result<String, StoryError> {
    day::record(&Story::read(story)?)
}

/// The lines of the history that the weeks before the story tell.
///
/// # Errors
/// They do not make sense.
pub fn months(story: &str, months: &str) -> Result<String, StoryError> {
    let history = history(&Story::read(story)?, &Months::read(months)?)?;
    Ok(sophron_core::usage::file::write(&history))
}
