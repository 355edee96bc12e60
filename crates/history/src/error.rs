//! What can be wrong with a history.

use std::path::PathBuf;

use rusqlite::ErrorCode;
use sophron_linux::files::PathError;

/// What the database says, once.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub struct Said(String);

/// Why a history cannot be read or written.
#[derive(Debug, thiserror::Error)]
pub enum HistoryError {
    /// Its folder is not safe, or cannot be made.
    #[error(transparent)]
    Folder(#[from] PathError),
    /// There is none.
    #[error("there is no history in {0}")]
    Missing(PathBuf),
    /// A newer version has written it.
    #[error("{path} is of format {found}, and this version reads up to {}", crate::open::FORMAT)]
    Newer {
        /// The file.
        path: PathBuf,
        /// Its format.
        found: i64,
    },
    /// It is no history, or damaged.
    #[error("{path} is no history of usage, or is damaged")]
    Damaged {
        /// The file.
        path: PathBuf,
        /// What the database says.
        #[source]
        source: Option<Said>,
    },
    /// The database said no.
    #[error("{path} cannot be {what}")]
    Database {
        /// The file.
        path: PathBuf,
        /// What was tried.
        what: &'static str,
        /// What it said.
        #[source]
        source: Said,
    },
}

impl HistoryError {
    pub(crate) fn of(path: &std::path::Path, what: &'static str, source: rusqlite::Error) -> HistoryError {
        let path = path.to_owned();
        match source.sqlite_error_code() {
            Some(ErrorCode::DatabaseCorrupt | ErrorCode::NotADatabase) => {
                HistoryError::Damaged { path, source: Some(Said(source.to_string())) }
            }
            _ => HistoryError::Database { path, what, source: Said(source.to_string()) },
        }
    }

    /// Whether what stands there is of no use, so that it may be set aside.
    pub fn is_damaged(&self) -> bool {
        matches!(self, HistoryError::Damaged { .. })
    }

    /// Whether a newer version has written it.
    pub fn is_newer(&self) -> bool {
        matches!(self, HistoryError::Newer { .. })
    }

    /// Whether there is simply none.
    pub fn is_missing(&self) -> bool {
        match self {
            HistoryError::Missing(_) => true,
            HistoryError::Folder(error) => error.is_missing(),
            _ => false,
        }
    }
}
