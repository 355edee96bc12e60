//! The recorded working day: a story in, the lines of a recording out. The same story gives the same lines, always.

mod day;
mod random;
mod story;

use std::fmt;

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
