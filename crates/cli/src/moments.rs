//! Moments as they are typed.

use jiff::Timestamp;
use sophron_core::moment::{self, Anchor};

use crate::exit::{Exit, Failure};

/// A moment that was typed.
///
/// # Errors
/// It is none, with how one is written there.
pub fn read(text: &str, anchor: &Anchor) -> Result<Timestamp, Failure> {
    moment::parse(text, anchor).map_err(|error| Failure::of(Exit::Usage, error).hint(moment::examples(anchor)))
}
