//! Reading a history, also while it is written.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use jiff::tz::TimeZone;
use rusqlite::{Connection, OptionalExtension};
use sophron_core::usage::{Event, Happened, History, Usual};

use crate::{HistoryError, open, rows};

/// A history that is being read.
#[derive(Debug)]
pub struct Reader {
    connection: Connection,
    path: PathBuf,
}

impl Reader {
    /// Opens the history in that folder.
    ///
    /// # Errors
    /// There is none, others could change it, it is of a newer version, or it cannot be read.
    pub fn open(folder: &Path) -> Result<Reader, HistoryError> {
        // Whoever could put another file there could have it say anything, and much of it.
        sophron_linux::files::trusted_folder(folder).map_err(|error| match error.is_missing() {
            true => HistoryError::Missing(folder.to_owned()),
            false => error.into(),
        })?;
        let path = open::path(folder);
        Ok(Reader { connection: open::to_read(&path)?, path })
    }

    /// What it tells of a part of the time, by that clock.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn read(&self, zone: TimeZone, from: Timestamp, until: Timestamp) -> Result<History, HistoryError> {
        let failed = |error| HistoryError::of(&self.path, "read", error);
        // One state of it, whatever is written meanwhile.
        let view = self.connection.unchecked_transaction().map_err(failed)?;
        let host: Option<String> = view
            .query_row("SELECT value FROM known WHERE name = 'host'", [], |row| row.get(0))
            .optional()
            .map_err(failed)?;
        let mut history = History::empty(&rows::name(&host.unwrap_or_default()), zone);
        let apps = rows::apps(&view).map_err(failed)?;
        history.rows = rows::hours(&view, &apps, from, until).map_err(failed)?;
        history.happened = happened(&view, from, until).map_err(failed)?;
        Ok(history)
    }

    /// What is usual of each app since then.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn usual(&self, since: Timestamp) -> Result<Usual, HistoryError> {
        rows::usual(&self.connection, since).map_err(|error| HistoryError::of(&self.path, "read", error))
    }

    /// The first hour of it.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn begins(&self) -> Result<Option<Timestamp>, HistoryError> {
        let first = self.connection.query_row("SELECT min(start) FROM machine", [], |row| row.get::<_, Option<i64>>(0));
        let first = first.map_err(|error| HistoryError::of(&self.path, "read", error))?;
        Ok(first.and_then(|at| Timestamp::from_second(at).ok()))
    }
}

fn happened(connection: &Connection, from: Timestamp, until: Timestamp) -> rusqlite::Result<Vec<Happened>> {
    let mut statement =
        connection.prepare("SELECT at, event, app, words FROM happened WHERE at >= ?1 AND at < ?2 ORDER BY at")?;
    let read = statement.query_map([from.as_second(), until.as_second()], |row| {
        Ok(Happened {
            at: Timestamp::from_second(row.get(0)?).unwrap_or_default(),
            event: Event::from(row.get_ref(1)?.as_str()?),
            app: rows::name(row.get_ref(2)?.as_str()?),
            words: rows::name(row.get_ref(3)?.as_str()?),
        })
    })?;
    read.collect()
}
