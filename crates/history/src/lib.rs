//! The history of usage on disk: one database file in a folder of its own. The running watcher writes it; commands read it.
//!
//! While it is written it is in write-ahead mode: whoever reads it sees the last commit, whenever the writer is killed. At a clean
//! end it goes back to a single file, which a reader who may not write the folder can open.

#![forbid(unsafe_code)]

mod error;
mod open;
mod pack;
mod read;
mod rows;
mod write;

use std::path::{Path, PathBuf};

pub use error::{HistoryError, Said};
pub use read::Reader;
pub use write::{ProgramFile, Store};

/// The name of the database file.
pub const FILE: &str = "usage.db";

/// What is usual is told by the last so many hours: 60 days.
pub const USUAL: jiff::SignedDuration = jiff::SignedDuration::from_hours(60 * 24);

/// The folder in which it stands.
pub fn folder(state: &Path) -> PathBuf {
    state.join("usage")
}
