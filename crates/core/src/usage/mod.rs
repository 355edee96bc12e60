//! Usage over time: who used how much of the machine, hour by hour. Snapshots in, rows out; where they are kept is others' business.

mod against;
mod by_time;
mod changes;
pub mod file;
mod history;
mod minutes;
mod rows;
mod since;
mod tally;
mod usual;
mod view;

pub use against::Earlier;
pub use changes::{Change, Course, Day, LEAST_DAYS, Measure, changed};
pub use history::{CaseAt, Event, Happened, History};
pub(crate) use rows::used;
pub use rows::{App, AppHour, MachineHour, OTHERS, Row, Total, total};
pub(crate) use since::from_to;
pub use since::{Changed, all_changes, since};
pub use tally::{Slot, Tally};
pub use usual::{Gathering, Usual};
pub use view::{Asked, By, Group, cpu_time, view};
pub(crate) use view::{cpu, figures};
