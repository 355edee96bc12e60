//! A failure: one line for the person, the causes below it, then what to do.

use crate::exit::Failure;
use crate::ui::style::{Label, Styled};

pub fn print(failure: &Failure) {
    let mut text = format!("{} {}\n", Styled(Label::Critical, "sophron:"), failure.message);
    let mut cause = failure.source.as_deref().map(|source| source as &dyn std::error::Error);
    while let Some(error) = cause {
        text.push_str(&format!("  because {error}\n"));
        cause = error.source();
    }
    for hint in &failure.hints {
        text.push_str(&format!("  {} {hint}\n", Styled(Label::Notice, "try:")));
    }
    super::err(text);
}
