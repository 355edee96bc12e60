//! Rows of the database and rows of the core: whole numbers there, figures here.

use std::sync::Arc;

use jiff::Timestamp;
use rusqlite::Connection;
use sophron_core::text::{clean, cut};
use sophron_core::usage::{App, Gathering, MachineHour, Row, Usual};

use crate::pack;

/// Names are cut at so many characters.
const LONGEST: usize = 256;

/// Most rows that are read at once: more than a year of twice as many apps as there may be.
const MOST_ROWS: usize = 10_000_000;

pub(crate) const MACHINE: &str = "start, until, seconds, napped, cores, memory, cpu, unseen, available_low, available, swapped, \
     stalled_cpu, stalled_memory, stalled_disk, waited, held_up, disk_busy, files_full";

pub(crate) fn milli(seconds: f64) -> i64 {
    (seconds.max(0.0) * 1000.0).round() as i64
}

pub(crate) fn kib(bytes: f64) -> i64 {
    (bytes.max(0.0) / 1024.0).round() as i64
}

pub(crate) fn seconds(milli: i64) -> f64 {
    milli.max(0) as f64 / 1000.0
}

pub(crate) fn bytes(kib: i64) -> f64 {
    kib.max(0) as f64 * 1024.0
}

/// What was written is not trusted: it is a file.
pub(crate) fn name(text: &str) -> String {
    clean(cut(text, LONGEST).as_bytes())
}

/// Every app by its number: these are dense, and there are many rows to each.
#[derive(Debug, Default)]
pub(crate) struct Apps(Vec<Option<Arc<App>>>);

/// A higher number than that is none of ours.
const MOST_APPS: usize = 1 << 20;

impl Apps {
    pub(crate) fn put(&mut self, id: i64, app: Arc<App>) {
        let Some(place) = usize::try_from(id).ok().filter(|place| *place < MOST_APPS) else { return };
        if self.0.len() <= place {
            self.0.resize(place + 1, None);
        }
        self.0[place] = Some(app);
    }

    pub(crate) fn get(&self, id: i64) -> Option<&Arc<App>> {
        self.0.get(usize::try_from(id).ok()?)?.as_ref()
    }
}

/// The apps that there are.
pub(crate) fn apps(connection: &Connection) -> rusqlite::Result<Apps> {
    let mut statement = connection.prepare("SELECT id, app, owner, uid FROM app")?;
    let mut rows = statement.query([])?;
    let mut apps = Apps::default();
    while let Some(row) = rows.next()? {
        let uid = u32::try_from(row.get::<_, i64>(3)?).unwrap_or(u32::MAX);
        let app = App { app: name(row.get_ref(1)?.as_str()?), owner: name(row.get_ref(2)?.as_str()?), uid };
        apps.put(row.get(0)?, Arc::new(app));
    }
    Ok(apps)
}

/// The hours of a part of the time, the earliest first.
pub(crate) fn hours(
    connection: &Connection,
    apps: &Apps,
    from: Timestamp,
    until: Timestamp,
) -> rusqlite::Result<Vec<Row>> {
    let span = [from.as_second(), until.as_second()];
    let mut rows: Vec<Row> = Vec::new();
    let mut statement = connection
        .prepare_cached(&format!("SELECT {MACHINE} FROM machine WHERE start >= ?1 AND start < ?2 ORDER BY start"))?;
    let mut found = statement.query(span)?;
    while let Some(row) = found.next()? {
        let start = Timestamp::from_second(row.get(0)?).unwrap_or_default();
        rows.push(Row { start, machine: machine(row)?, apps: Vec::new() });
    }
    let mut statement =
        connection.prepare_cached("SELECT start, apps FROM hour WHERE start >= ?1 AND start < ?2 ORDER BY start")?;
    let mut found = statement.query(span)?;
    let (mut at, mut left) = (0, MOST_ROWS);
    while let Some(row) = found.next()? {
        let start: i64 = row.get(0)?;
        while rows.get(at).is_some_and(|known| known.start.as_second() < start) {
            at += 1;
        }
        let Some(known) = rows.get_mut(at).filter(|known| known.start.as_second() == start) else { continue };
        pack::each(row.get_ref(1)?.as_blob()?, apps, |app, hour| {
            if left > 0 {
                left -= 1;
                known.apps.push((Arc::clone(app), hour));
            }
        });
    }
    Ok(rows)
}

/// What is usual of each app since then.
pub(crate) fn usual(connection: &Connection, since: Timestamp) -> rusqlite::Result<Usual> {
    let apps = apps(connection)?;
    let mut gathering = Gathering::default();
    let mut statement = connection.prepare("SELECT apps FROM hour WHERE start >= ?1")?;
    let mut found = statement.query([since.as_second()])?;
    while let Some(row) = found.next()? {
        pack::each(row.get_ref(0)?.as_blob()?, &apps, |app, hour| gathering.add(&app.app, &hour));
    }
    Ok(gathering.finish())
}

fn machine(row: &rusqlite::Row<'_>) -> rusqlite::Result<MachineHour> {
    let milli = |place: usize| row.get::<_, i64>(place).map(seconds);
    let kib = |place: usize| row.get::<_, Option<i64>>(place).map(|kib| kib.map(bytes));
    Ok(MachineHour {
        until: row.get::<_, Option<i64>>(1)?.and_then(|at| Timestamp::from_millisecond(at).ok()),
        seconds: milli(2)?,
        napped: milli(3)?,
        cores: u32::try_from(row.get::<_, i64>(4)?).unwrap_or(1),
        memory: u64::try_from(row.get::<_, i64>(5)?).unwrap_or(0).saturating_mul(1024),
        cpu: milli(6)?,
        unseen: milli(7)?,
        available_low: kib(8)?,
        available: kib(9)?,
        swapped: bytes(row.get(10)?),
        stalled: [milli(11)?, milli(12)?, milli(13)?],
        waited: milli(14)?,
        held_up: milli(15)?,
        disk_busy: milli(16)?,
        files_full: row.get::<_, Option<f64>>(17)?.filter(|full| full.is_finite()),
    })
}
