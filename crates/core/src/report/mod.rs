//! A report over a stretch of time: what was bad when, because of whom, and who used how much. Snapshots in, a document out.

mod cases;
mod collect;
mod customer;
mod episodes;
mod felt;
mod figures;
mod growth;
mod headline;
mod join;
mod months;
mod page;
mod sentences;
mod standing;
mod tables;
mod tiles;
mod times;

pub use cases::{Case, of_records};
pub use collect::{Collector, Setting, Stretch};
pub use customer::customer;
pub use episodes::{Culprit, Episode, episodes};
pub use felt::Felt;
pub use months::{months, months_for_customer};
pub use page::{Frame, charts, page};
pub use times::Times;
