//! Inspect: what one process is doing, and what hangs on it. Sightings in, an answer with its evidence out.

mod doing;
mod family;

pub use doing::{Answer, Doing, Sightings, ThreadSeen, Wait, judge};
pub use family::{Family, ancestors, family, main_of_unit};
