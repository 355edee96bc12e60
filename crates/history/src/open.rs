//! Opening the file: what is trusted of it, and what it is made of.

use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::config::DbConfig;
use rusqlite::{Connection, OpenFlags};

use crate::{FILE, HistoryError};

/// The format that is written, and the newest that is read (`user_version`).
pub(crate) const FORMAT: i64 = 1;

/// That it is ours (`application_id`): `Soph`.
const OURS: i64 = 0x536f_7068;

/// How long a lock of the other side is waited for.
const WAIT: Duration = Duration::from_secs(5);

/// Times are seconds since 1970; CPU time and times of an hour are milliseconds; memory and disks are KiB: small numbers take little
/// room. The apps of an hour are packed; the last of an app is the day on which it was there.
const TABLES: &str = "
    CREATE TABLE app (
        id INTEGER PRIMARY KEY, app TEXT NOT NULL, owner TEXT NOT NULL, uid INTEGER NOT NULL, last INTEGER NOT NULL,
        UNIQUE (app, owner, uid));
    CREATE TABLE hour (start INTEGER PRIMARY KEY, apps BLOB NOT NULL);
    CREATE TABLE machine (
        start INTEGER PRIMARY KEY, until INTEGER, seconds INTEGER NOT NULL, napped INTEGER NOT NULL, cores INTEGER NOT NULL,
        memory INTEGER NOT NULL, cpu INTEGER NOT NULL, unseen INTEGER NOT NULL, available_low INTEGER, available INTEGER,
        swapped INTEGER NOT NULL, stalled_cpu INTEGER NOT NULL, stalled_memory INTEGER NOT NULL, stalled_disk INTEGER NOT NULL,
        waited INTEGER NOT NULL, held_up INTEGER NOT NULL, disk_busy INTEGER NOT NULL, files_full REAL);
    CREATE TABLE program (
        app TEXT NOT NULL, owner TEXT NOT NULL, first INTEGER NOT NULL, last INTEGER NOT NULL, path TEXT NOT NULL,
        size INTEGER NOT NULL, changed INTEGER NOT NULL, PRIMARY KEY (app, owner)) WITHOUT ROWID;
    CREATE TABLE happened (at INTEGER NOT NULL, event TEXT NOT NULL, app TEXT NOT NULL, words TEXT NOT NULL);
    CREATE INDEX happened_at ON happened (at);
    CREATE TABLE known (name TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
";

pub(crate) fn path(folder: &Path) -> PathBuf {
    folder.join(FILE)
}

/// Nothing of what stands in the file is run, whoever wrote it.
fn guarded(connection: &Connection) -> rusqlite::Result<()> {
    connection.busy_timeout(WAIT)?;
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_DEFENSIVE, true)?;
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_TRUSTED_SCHEMA, false)?;
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_TRIGGER, false)?;
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_VIEW, false)?;
    connection.execute_batch("PRAGMA temp_store = MEMORY; PRAGMA cell_size_check = ON; PRAGMA cache_size = -1024;")
}

/// For reading only.
pub(crate) fn to_read(path: &Path) -> Result<Connection, HistoryError> {
    if !path.exists() {
        return Err(HistoryError::Missing(path.parent().unwrap_or(path).to_owned()));
    }
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NOFOLLOW | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let opened = |error| HistoryError::of(path, "opened", error);
    let connection = Connection::open_with_flags(path, flags).map_err(opened)?;
    guarded(&connection).map_err(opened)?;
    is_ours(&connection, path)?;
    Ok(connection)
}

/// For writing; made where there is none.
pub(crate) fn to_write(path: &Path) -> Result<Connection, HistoryError> {
    let opened = |error| HistoryError::of(path, "opened", error);
    if !path.exists() {
        // Made by us first, so that nobody else may read it for a moment.
        match sophron_linux::new_files::create(path) {
            Ok(_) => {}
            Err(_) if path.exists() => {}
            Err(error) => return Err(error.into()),
        }
    }
    let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NOFOLLOW | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let connection = Connection::open_with_flags(path, flags).map_err(opened)?;
    guarded(&connection).map_err(opened)?;
    let number = |name: &str| connection.pragma_query_value(None, name, |row| row.get::<_, i64>(0)).map_err(opened);
    let is_new = number("user_version")? == 0 && number("application_id")? == 0 && number("page_count")? == 0;
    if is_new {
        let made = format!(
            "PRAGMA auto_vacuum = INCREMENTAL; BEGIN; {TABLES} PRAGMA application_id = {OURS}; PRAGMA user_version = {FORMAT}; COMMIT;"
        );
        if let Err(error) = connection.execute_batch(&made) {
            drop(connection);
            // What was not made whole would be taken for damaged.
            let _ = std::fs::remove_file(path);
            return Err(HistoryError::of(path, "made", error));
        }
    }
    is_ours(&connection, path)?;
    // What is committed is seen by readers at once, and survives a kill; a loss of power may cost the last minutes.
    let journal = "PRAGMA journal_mode = WAL; PRAGMA synchronous = NORMAL; PRAGMA wal_autocheckpoint = 256; PRAGMA journal_size_limit = 1048576;";
    connection.execute_batch(journal).map_err(opened)?;
    Ok(connection)
}

fn is_ours(connection: &Connection, path: &Path) -> Result<(), HistoryError> {
    let number = |name: &str| {
        let read = connection.pragma_query_value(None, name, |row| row.get::<_, i64>(0));
        read.map_err(|error| HistoryError::of(path, "read", error))
    };
    if number("application_id")? != OURS {
        return Err(HistoryError::Damaged { path: path.to_owned(), source: None });
    }
    match number("user_version")? {
        FORMAT => Ok(()),
        newer if newer > FORMAT => Err(HistoryError::Newer { path: path.to_owned(), found: newer }),
        _ => Err(HistoryError::Damaged { path: path.to_owned(), source: None }),
    }
}
