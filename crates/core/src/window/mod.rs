//! Readings over time: what `avg(cpu, 2m)` and its like are computed from.
//!
//! A window is divided into 60 slots and the one being filled. A slot keeps one number, whatever the number of readings
//! in it: memory and time a sample do not depend on how long a window, or a day, is. Every function is defined over
//! those numbers.

mod function;
mod history;
pub mod numbers;
mod quantity;
mod slots;

pub use function::{Function, Keep, Series};
pub use history::{Bounds, Feed, History, Spec};
pub use quantity::Quantity;
pub use slots::{SLOTS, Slots};
