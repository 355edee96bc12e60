//! Writing a history: whole rows of hours, every few minutes.

use std::collections::HashMap;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use jiff::{SignedDuration, Timestamp};
use rusqlite::{Connection, OptionalExtension, params};
use sophron_core::moment::shifted;
use sophron_core::text::cut;
use sophron_core::usage::{App, AppHour, Happened, OTHERS, Row, Usual};

use crate::rows::{kib, milli};
use crate::{HistoryError, open, pack, rows};

/// So many days more than have to are removed at once, where it has become too large.
const DAYS_AT_ONCE: i64 = 7;

/// Most that is kept of what else happened, and of each kind in a day: whoever makes up names or files crowds nothing out.
const MOST_HAPPENED: i64 = 50_000;
const MOST_A_DAY: i64 = 40;

/// Most files of programs that are known.
const MOST_PROGRAMS: i64 = 20_000;

/// Most apps of one owner but root that are new on a day: names are claims, and the rest of them are others.
const MOST_NEW: u32 = 200;

/// Longest name that is kept, characters.
const LONGEST_NAME: usize = 64;

/// The file that a program runs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProgramFile {
    /// Its path, where it stands now.
    pub path: String,
    /// Its size, bytes.
    pub size: u64,
    /// When it was last changed, seconds since 1970.
    pub changed: i64,
}

/// A history that is being written.
#[derive(Debug)]
pub struct Store {
    connection: Connection,
    path: PathBuf,
    /// The number of each app, and the last day on which it was there.
    apps: HashMap<Arc<App>, (i64, i64)>,
    /// How many apps of each owner were new on a day.
    new: HashMap<(i64, u32), u32>,
    /// What was in its place, and of no use.
    set_aside: Option<PathBuf>,
}

impl Store {
    /// Opens the history in that folder, or makes it; the folder is made, and must be safe. `readers` is the ID of a group that may
    /// read it; it is let through the folder above only where `own_folder` says that it is Sophron's own. What is damaged is set aside under another name, and a new one is begun.
    ///
    /// # Errors
    /// The folder is not safe, the file is of a newer version, or it cannot be opened.
    pub fn open(folder: &Path, readers: Option<u32>, own_folder: bool) -> Result<Store, HistoryError> {
        sophron_linux::files::private_folder(folder)?;
        let path = open::path(folder);
        let (connection, set_aside) = match open::to_write(&path) {
            Ok(connection) => (connection, None),
            Err(error) if error.is_damaged() => {
                let aside = set_aside(&path)?;
                (open::to_write(&path)?, Some(aside))
            }
            Err(error) => return Err(error),
        };
        if let Some(group) = readers {
            sophron_linux::files::give_to_group(folder, group, own_folder)?;
            sophron_linux::files::give_to_group_file(&path, group)?;
        }
        let mode = if readers.is_some() { 0o640 } else { 0o600 };
        let _ = std::fs::set_permissions(&path, std::fs::Permissions::from_mode(mode));
        Ok(Store { connection, path, apps: HashMap::new(), new: HashMap::new(), set_aside })
    }

    /// What was found damaged and set aside when it was opened.
    pub fn set_aside(&self) -> Option<&Path> {
        self.set_aside.as_deref()
    }

    fn failed(&self, error: rusqlite::Error) -> HistoryError {
        HistoryError::of(&self.path, "written", error)
    }

    /// The last moment that is counted in it.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn until(&self) -> Result<Option<Timestamp>, HistoryError> {
        let last = self.connection.query_row("SELECT max(until) FROM machine", [], |row| row.get::<_, Option<i64>>(0));
        Ok(last.map_err(|error| self.failed(error))?.and_then(|at| Timestamp::from_millisecond(at).ok()))
    }

    /// What is usual of each app since then.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn usual(&self, since: Timestamp) -> Result<Usual, HistoryError> {
        rows::usual(&self.connection, since).map_err(|error| self.failed(error))
    }

    /// The hour that begins then, as it is there.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn hour(&self, start: Timestamp) -> Result<Option<Row>, HistoryError> {
        let read = || {
            let apps = rows::apps(&self.connection)?;
            rows::hours(&self.connection, &apps, start, shifted(start, SignedDuration::from_secs(1)))
        };
        Ok(read().map_err(|error| self.failed(error))?.pop())
    }

    /// Puts whole hours in the place of what was there of them. Which apps were not known before.
    ///
    /// # Errors
    /// It cannot be written; then it is as it was.
    pub fn keep(&mut self, hours: &[Row]) -> Result<Vec<App>, HistoryError> {
        let path = &self.path;
        let failed = |error| HistoryError::of(path, "written", error);
        let change = self.connection.transaction().map_err(failed)?;
        let mut added = Vec::new();
        let mut write = || -> rusqlite::Result<()> {
            let mut number = change.prepare_cached("SELECT id FROM app WHERE app = ?1 AND owner = ?2 AND uid = ?3")?;
            let mut put_name =
                change.prepare_cached("INSERT INTO app (app, owner, uid, last) VALUES (?1, ?2, ?3, ?4)")?;
            let mut last = change.prepare_cached("UPDATE app SET last = ?2 WHERE id = ?1 AND last < ?2")?;
            let mut hour = change.prepare_cached("INSERT OR REPLACE INTO hour (start, apps) VALUES (?1, ?2)")?;
            let mut machine = change.prepare_cached(&format!(
                "INSERT OR REPLACE INTO machine ({}) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17, ?18)",
                rows::MACHINE
            ))?;
            for row in hours {
                let (start, of) = (row.start.as_second(), &row.machine);
                machine.execute(params![
                    start,
                    of.until.map(Timestamp::as_millisecond),
                    milli(of.seconds),
                    milli(of.napped),
                    of.cores,
                    i64::try_from(of.memory / 1024).unwrap_or(i64::MAX),
                    milli(of.cpu),
                    milli(of.unseen),
                    of.available_low.map(kib),
                    of.available.map(kib),
                    kib(of.swapped),
                    milli(of.stalled[0]),
                    milli(of.stalled[1]),
                    milli(of.stalled[2]),
                    milli(of.waited),
                    milli(of.held_up),
                    milli(of.disk_busy),
                    of.files_full,
                ])?;
                let day = start.div_euclid(86_400);
                self.new.retain(|(of, _), _| of.abs_diff(day) <= 1);
                let mut others: HashMap<u32, (Arc<App>, AppHour)> = HashMap::new();
                let mut packed = Vec::new();
                let mut id_of = |app: &Arc<App>, may_be_new: bool| -> rusqlite::Result<Option<i64>> {
                    if let Some((id, seen)) = self.apps.get_mut(app) {
                        if *seen < day {
                            *seen = day;
                            last.execute([*id, day])?;
                        }
                        return Ok(Some(*id));
                    }
                    let name = cut(&app.app, LONGEST_NAME);
                    let known = number.query_row(params![name, app.owner, app.uid], |row| row.get(0)).optional()?;
                    let id = match known {
                        Some(id) => {
                            last.execute([id, day])?;
                            id
                        }
                        None => {
                            let new = self.new.entry((day, app.uid)).or_default();
                            if !may_be_new && app.uid != 0 && *new >= MOST_NEW {
                                return Ok(None);
                            }
                            *new += 1;
                            added.push(App::clone(app));
                            put_name.insert(params![name, app.owner, app.uid, day])?
                        }
                    };
                    self.apps.insert(Arc::clone(app), (id, day));
                    Ok(Some(id))
                };
                for (app, of) in &row.apps {
                    let is_others = app.app == OTHERS;
                    let id = if is_others { None } else { id_of(app, false)? };
                    match id {
                        Some(id) => pack::push(&mut packed, id, of),
                        None => {
                            let nameless = || Arc::new(App { app: OTHERS.to_owned(), ..App::clone(app) });
                            let known = others.entry(app.uid).or_insert_with(|| (nameless(), AppHour::default()));
                            known.1 = known.1.beside(of);
                        }
                    }
                }
                for (app, of) in others.values() {
                    if let Some(id) = id_of(app, true)? {
                        pack::push(&mut packed, id, of);
                    }
                }
                hour.execute(params![start, packed])?;
            }
            Ok(())
        };
        let written = write();
        let done = written.and_then(|()| change.commit());
        if done.is_err() || self.apps.len() > 4096 {
            // Numbers that were taken back are not known.
            self.apps.clear();
        }
        done.map_err(|error| HistoryError::of(&self.path, "written", error))?;
        Ok(added)
    }

    /// Something else that happened.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn happened(&mut self, of: &Happened) -> Result<(), HistoryError> {
        let count = "SELECT count(*) FROM happened WHERE at > ?1 - 86400 AND at <= ?1 AND event = ?2";
        let today =
            self.connection.query_row(count, params![of.at.as_second(), of.event.word()], |row| row.get::<_, i64>(0));
        if today.map_err(|error| self.failed(error))? >= MOST_A_DAY {
            return Ok(());
        }
        let put = "INSERT INTO happened (at, event, app, words) VALUES (?1, ?2, ?3, ?4)";
        let done = self.connection.execute(put, params![of.at.as_second(), of.event.word(), of.app, of.words]);
        done.map_err(|error| self.failed(error))?;
        Ok(())
    }

    /// What was known by that name, and is from now on.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn learn(&mut self, name: &str, value: &str) -> Result<Option<String>, HistoryError> {
        let before =
            self.connection.query_row("SELECT value FROM known WHERE name = ?1", [name], |row| row.get(0)).optional();
        let before: Option<String> = before.map_err(|error| self.failed(error))?;
        if before.as_deref() != Some(value) {
            let put = "INSERT OR REPLACE INTO known (name, value) VALUES (?1, ?2)";
            self.connection.execute(put, [name, value]).map_err(|error| self.failed(error))?;
        }
        Ok(before)
    }

    /// Since when there is something in it: that moment, if there was nothing.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn begun(&mut self, now: Timestamp) -> Result<Timestamp, HistoryError> {
        let put = self
            .connection
            .execute("INSERT OR IGNORE INTO known (name, value) VALUES ('begun', ?1)", [now.to_string()]);
        put.map_err(|error| self.failed(error))?;
        let begun = self
            .connection
            .query_row("SELECT value FROM known WHERE name = 'begun'", [], |row| row.get::<_, String>(0));
        Ok(begun.map_err(|error| self.failed(error))?.parse().unwrap_or(now))
    }

    /// The file that an app ran before, where it is another one now.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn runs(
        &mut self,
        app: &str,
        owner: &str,
        file: &ProgramFile,
        now: Timestamp,
    ) -> Result<Option<ProgramFile>, HistoryError> {
        let ask = "SELECT path, size, changed FROM program WHERE app = ?1 AND owner = ?2";
        let read = |row: &rusqlite::Row<'_>| {
            let size = u64::try_from(row.get::<_, i64>(1)?).unwrap_or(0);
            Ok(ProgramFile { path: rows::name(row.get_ref(0)?.as_str()?), size, changed: row.get(2)? })
        };
        let before =
            self.connection.query_row(ask, [app, owner], read).optional().map_err(|error| self.failed(error))?;
        let (now, size) = (now.as_second(), i64::try_from(file.size).unwrap_or(i64::MAX));
        let put = "INSERT INTO program (app, owner, first, last, path, size, changed) VALUES (?1, ?2, ?3, ?3, ?4, ?5, ?6) \
             ON CONFLICT DO UPDATE SET last = ?3, path = ?4, size = ?5, changed = ?6";
        let changed = before.as_ref() != Some(file);
        let done = self.connection.execute(put, params![app, owner, now, file.path, size, file.changed]);
        done.map_err(|error| self.failed(error))?;
        Ok(before.filter(|_| changed))
    }

    /// Removes what is older than `keep`, and the oldest until no more than `most` bytes are taken.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn prune(&mut self, keep: Duration, most: u64, now: Timestamp) -> Result<(), HistoryError> {
        let oldest = now.as_second().saturating_sub(i64::try_from(keep.as_secs()).unwrap_or(i64::MAX));
        self.cut(oldest)?;
        let newest = now.as_second() - 86_400;
        while self.size()? > most {
            let first =
                self.connection.query_row("SELECT min(start) FROM machine", [], |row| row.get::<_, Option<i64>>(0));
            let first = first.map_err(|error| self.failed(error))?;
            // The last day stays, whatever it takes.
            let Some(first) = first.filter(|first| *first < newest) else { return Ok(()) };
            self.cut((first + DAYS_AT_ONCE * 86_400).min(newest))?;
        }
        Ok(())
    }

    /// How much is taken, bytes.
    fn size(&self) -> Result<u64, HistoryError> {
        let number = |name: &str| {
            let read = self.connection.pragma_query_value(None, name, |row| row.get::<_, i64>(0));
            read.map_err(|error| self.failed(error))
        };
        Ok(u64::try_from(number("page_count")?.saturating_mul(number("page_size")?)).unwrap_or(0))
    }

    /// Removes what began before that moment, and gives the room back.
    fn cut(&mut self, before: i64) -> Result<(), HistoryError> {
        let connection = &mut self.connection;
        let mut cut = || -> rusqlite::Result<usize> {
            let change = connection.transaction()?;
            let mut gone = 0;
            for table in ["machine WHERE start", "hour WHERE start", "happened WHERE at"] {
                gone += change.execute(&format!("DELETE FROM {table} < ?1"), [before])?;
            }
            gone += change.execute(
                "DELETE FROM happened WHERE rowid <= (SELECT max(rowid) FROM happened) - ?1",
                [MOST_HAPPENED],
            )?;
            gone += change.execute(
                "DELETE FROM program WHERE last < ?1 OR last < (SELECT last FROM program ORDER BY last DESC LIMIT 1 OFFSET ?2)",
                [before, MOST_PROGRAMS],
            )?;
            if gone > 0 {
                change.execute("DELETE FROM app WHERE last < ?1", [before.div_euclid(86_400)])?;
            }
            change.commit()?;
            if gone > 0 {
                let mut free = connection.prepare("PRAGMA incremental_vacuum")?;
                let mut pages = free.query([])?;
                while pages.next()?.is_some() {}
            }
            Ok(gone)
        };
        let gone = cut().map_err(|error| HistoryError::of(&self.path, "written", error))?;
        if gone > 0 {
            self.apps.clear();
        }
        Ok(())
    }

    /// A clean end: one file, which readers who may not write the folder can open.
    pub fn close(self) {
        // Where it does not succeed, a reader is there: what is committed is in the log, and is read from it.
        let _ = self.connection.execute_batch("PRAGMA journal_mode = DELETE;");
    }
}

/// Out of the way under another name, with what belongs to it.
fn set_aside(path: &Path) -> Result<PathBuf, HistoryError> {
    // One is kept, so that what is damaged again and again does not fill the disk.
    let aside = path.with_extension("damaged.db");
    let moved = std::fs::rename(path, &aside);
    moved.map_err(|source| sophron_linux::files::PathError::Io { path: path.to_owned(), what: "set aside", source })?;
    for more in ["-wal", "-shm"] {
        let mut beside = path.as_os_str().to_owned();
        beside.push(more);
        let _ = std::fs::remove_file(PathBuf::from(beside));
    }
    Ok(aside)
}
