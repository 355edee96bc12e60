//! The trail on disk: one writer at a time, every append synced before it counts, nothing after a failure.
//!
//! Files stand in `audit/` of the state folder, owner-only: the records in `000001.jsonl`, `000002.jsonl` …, `lock`, and
//! the keys of stamps. Each file begins with what is needed to go on without those before it.

mod files;
mod folder;
mod keys;
mod stamping;
mod tail;
mod writer;

use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

use sophron_core::audit::Draft;

use crate::files::PathError;
pub use files::{Files, Latest, files, latest, read, walk};
pub use folder::{Disk, Folder, Seen, Sheet};
pub use keys::{FIRST_KEY, Stamped};
pub use tail::Tail;
pub use writer::Writer;

/// How long a writer waits for the lock.
pub(crate) const LOCK_WAIT: Duration = Duration::from_secs(2);

/// How the trail is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Keeping {
    /// A file of that many bytes is followed by a new one.
    pub piece: u64,
    /// So is one that began so long ago.
    pub piece_age: Duration,
    /// Files whose last record is older than that are removed.
    pub keep: Duration,
    /// So are the oldest while all together have more bytes than that.
    pub most: u64,
    /// The ID of the group that may read it.
    pub readers: Option<u32>,
    /// Whether the state folder is Sophron's own, so that its readers may be let through it: where it stands in the usual
    /// place, or was made for it.
    pub own_folder: bool,
}

impl Default for Keeping {
    fn default() -> Self {
        const DAY: Duration = Duration::from_secs(86_400);
        Keeping {
            piece: 8 << 20,
            piece_age: 30 * DAY,
            keep: 400 * DAY,
            most: 1 << 30,
            readers: None,
            own_folder: false,
        }
    }
}

/// Why a record could not be written, or the trail not be read.
#[derive(Debug, thiserror::Error)]
pub enum TrailError {
    /// The folder is not usable.
    #[error("the audit trail's folder is not usable")]
    Folder(#[from] PathError),
    /// Another writer holds the lock.
    #[error("another writer holds {0} for longer than 2 s")]
    Locked(PathBuf),
    /// The file cannot be opened, read, written or synced.
    #[error("the audit trail {path} cannot be {what}")]
    Io {
        /// The file.
        path: PathBuf,
        /// What was tried.
        what: &'static str,
        /// Why not.
        #[source]
        source: io::Error,
    },
    /// What is there cannot be continued.
    #[error(
        "the audit trail {path} cannot be continued: {why}; look at it with `sophron audit verify`, then move it away"
    )]
    Unsound {
        /// The file.
        path: PathBuf,
        /// Why.
        why: String,
    },
    /// It was cut back, or taken away, since this writer wrote to it. What was left has been set aside.
    #[error("the audit trail is not what it was: {0}")]
    Lost(String),
    /// A record cannot be written as JSON.
    #[error("a record cannot be written as JSON")]
    Json(#[from] serde_json::Error),
}

/// Something that takes records and returns only when they are safe.
pub trait Append: Send {
    /// Appends the drafts, in order, and syncs them. Either all of them are in the trail afterwards, or an error.
    ///
    /// # Errors
    /// They may not be in the trail: nothing that rests on them may be done.
    fn append(&mut self, drafts: &[Draft]) -> Result<(), TrailError>;

    /// Signs what was recorded so far, where that can be done; `None` where there is nothing new.
    ///
    /// # Errors
    /// The stamp could not be written.
    fn stamp(&mut self) -> Result<Option<Stamped>, TrailError> {
        Ok(None)
    }
}

/// The trail of one state folder, opened for writing.
pub type TrailFile = Writer<Disk>;

impl TrailFile {
    /// Opens, or begins, the trail of a state folder. `base` is a draft with host, boot and user filled in.
    ///
    /// # Errors
    /// The folder or its lock cannot be made or is not safe.
    pub fn open(state: &Path, base: Draft, keeping: Keeping) -> Result<TrailFile, TrailError> {
        let path = folder(state);
        let disk = Disk::open(&path, keeping.readers, keeping.own_folder)?;
        Ok(Writer::new(disk, path, base, keeping))
    }
}

/// The folder of a state folder's trail.
pub fn folder(state: &Path) -> PathBuf {
    state.join("audit")
}

/// The name of a file of the trail, by its number.
pub fn name(number: u64) -> String {
    format!("{number:06}.jsonl")
}

/// The number of a file of the trail; `None` for other files.
pub fn number(name: &str) -> Option<u64> {
    let digits = name.strip_suffix(".jsonl")?;
    (digits.len() >= 6 && digits.bytes().all(|byte| byte.is_ascii_digit())).then(|| digits.parse().ok()).flatten()
}

pub(crate) fn io_error(path: &Path, what: &'static str, source: impl Into<io::Error>) -> TrailError {
    TrailError::Io { path: path.to_owned(), what, source: source.into() }
}
