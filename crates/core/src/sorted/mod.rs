//! Maps and sets as sorted lists: what a rule, a case or a page keeps is a handful, found by halving and put in by moving what comes
//! after it. The standard library's tree is built anew for every kind of key and value, at 7,000 lines to compile and 6 KB each; it
//! stays where there can be thousands that come in any order.

mod map;
mod set;

pub use map::{Entry, SortedMap};
pub use set::SortedSet;
