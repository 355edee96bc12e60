//! The watcher's history of usage: what the lookback's sampler sees, summed up by the hour and kept every few minutes. If it cannot be
//! kept the watch goes on without it, and it is caught up with later, as far as the lookback reaches.

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime};

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use sophron_core::checkup::Limits;
use sophron_core::model::{ProcessId, Snapshot};
use sophron_core::moment::shifted;
use sophron_core::rules::Usage as Settings;
use sophron_core::sorted::SortedMap;
use sophron_core::text::with_causes;
use sophron_core::units::{scaled_duration, scaled_size};
use sophron_core::usage::{App, Event, Happened, Row, Slot, Tally, Usual};
use sophron_history::{HistoryError, ProgramFile, Store};
use sophron_linux::handle::Handle;
use sophron_linux::{here, program};

use crate::args;
use crate::recordings::Recordings;

/// What was seen is kept that often.
const KEPT: Duration = Duration::from_secs(300);

/// After a failure it is tried again that much later.
const TRY_AGAIN: Duration = Duration::from_secs(60);

/// What is too old is removed that often.
const PRUNED: Duration = Duration::from_secs(3600);

/// What is usual is told that often.
const TOLD: Duration = Duration::from_secs(6 * 3600);

/// Hours that could not be kept are remembered for that long.
const REMEMBERED: SignedDuration = SignedDuration::from_hours(48);

/// So many hours are kept at once when days are caught up with.
const HOURS_AT_ONCE: usize = 6;

/// Nobody watched for longer than that: it is told.
const GAP: SignedDuration = SignedDuration::from_hours(1);

/// In a history that is younger every app is new.
const YOUNG: SignedDuration = SignedDuration::from_hours(24);

/// Most new apps that are told at once: names are claims.
const MOST_NEW: usize = 5;

/// So many programs at once are looked at for whether their file is another one.
const MOST_FILES: usize = 256;

/// What package managers write when they change something.
const PACKAGES: [&str; 4] = [
    "/var/lib/dpkg/status",
    "/var/lib/rpm/rpmdb.sqlite",
    "/usr/lib/sysimage/rpm/rpmdb.sqlite",
    "/var/lib/pacman/local",
];

/// Keeps it.
pub struct Keeper {
    state: PathBuf,
    settings: Settings,
    /// Whether the state folder is Sophron's own, so that readers may be let through it.
    own_folder: bool,
    tally: Tally,
    store: Option<Store>,
    /// What was in the store of hours that are under way before anything of now was added.
    bases: SortedMap<Timestamp, Option<Row>>,
    /// Whether what was recorded before is in it.
    filled: bool,
    kept: Instant,
    pruned: Option<Instant>,
    /// Whether it could not be kept when it was last tried.
    failed: bool,
    /// The rules that are in force, by their digest.
    rules: String,
    /// Whose files were looked at already.
    looked_at: HashSet<ProcessId>,
    /// When it was last told what is usual.
    told: Option<Instant>,
}

impl Keeper {
    /// One that keeps by these settings; none where nothing is to be kept.
    pub fn new(state: &Path, settings: &Settings, own_folder: bool) -> Option<Keeper> {
        (!settings.keep.is_zero()).then(|| Keeper {
            state: state.to_owned(),
            settings: settings.clone(),
            own_folder,
            tally: Tally::new(Slot::Hour, TimeZone::system(), Limits::default()),
            store: None,
            bases: SortedMap::new(),
            filled: false,
            kept: Instant::now(),
            pruned: None,
            failed: false,
            rules: String::new(),
            looked_at: HashSet::new(),
            told: None,
        })
    }

    /// What is usual of apps here, where it was not told for some hours.
    pub fn usual(&mut self) -> Option<Arc<Usual>> {
        if self.told.is_some_and(|told| told.elapsed() < TOLD) {
            return None;
        }
        let since = here::now().wall.checked_sub(sophron_history::USUAL).ok()?;
        let usual = self.store.as_ref()?.usual(since).ok()?;
        self.told = Some(Instant::now());
        Some(Arc::new(usual))
    }

    /// The rules that are in force now.
    pub fn rules(&mut self, digest: &str) {
        digest.clone_into(&mut self.rules);
    }

    /// What was recorded since the last that was kept, before anything of now is counted. As long as the history cannot be opened
    /// nothing is counted: the lookback has it.
    pub fn fill(&mut self) -> Result<(), String> {
        self.kept = Instant::now();
        self.open()?;
        self.filled = true;
        let until = self.store.as_ref().and_then(|store| store.until().ok()).flatten();
        let since = until.map(|until| shifted(until, SignedDuration::from_millis(-1)));
        let state = args::State { folder: Some(self.state.clone()) };
        let since = since.map_or_else(|| "1970-01-01T00:00:00Z".to_owned(), |since| since.to_string());
        let keep = SignedDuration::try_from(self.settings.keep).unwrap_or(SignedDuration::MAX);
        let oldest = shifted(here::now().wall, -keep);
        let mut last = None;
        let mut done = Ok(());
        // Where there is no lookback there is nothing to catch up with.
        if let Ok(recordings) = Recordings::new(&[], Some(&since), None, &state) {
            let _ = recordings.each(|snapshot, _, _| {
                if snapshot.moment.wall >= oldest {
                    self.tally.take(snapshot);
                    last = Some(snapshot.moment.wall);
                }
                // Days at once would take memory that is not needed again.
                if self.tally.open() > HOURS_AT_ONCE && done.is_ok() {
                    done = self.keep();
                }
            });
        }
        let seen = last.or(until);
        let gap = seen.map(|seen| here::now().wall.duration_since(seen)).filter(|gap| *gap > GAP);
        if let (Some(gap), Some(store)) = (gap, &mut self.store) {
            let length = scaled_duration(Duration::try_from(gap).unwrap_or_default());
            let words = format!("nobody had watched for {length}");
            let at = here::now().wall;
            let _ = store.happened(&Happened { at, event: Event::Unwatched, app: String::new(), words });
        }
        done.and_then(|()| self.keep())
    }

    /// One sample; kept when it is time. Why it cannot be kept, if it cannot.
    pub fn take(&mut self, snapshot: &Snapshot) -> Option<Result<(), String>> {
        if !self.filled {
            return (self.kept.elapsed() >= TRY_AGAIN).then(|| self.fill());
        }
        self.tally.take(snapshot);
        let every = if self.failed { TRY_AGAIN } else { KEPT };
        (self.kept.elapsed() >= every).then(|| self.keep_and_look(snapshot))
    }

    fn keep_and_look(&mut self, snapshot: &Snapshot) -> Result<(), String> {
        self.keep()?;
        let told = |error: HistoryError| with_causes(&error);
        self.programs(snapshot).map_err(told)?;
        self.machine().map_err(told)?;
        if self.pruned.is_none_or(|pruned| pruned.elapsed() >= PRUNED) {
            self.pruned = Some(Instant::now());
            let (keep, most) = (self.settings.keep, self.settings.most);
            if let Some(store) = &mut self.store {
                store.prune(keep, most, snapshot.moment.wall).map_err(told)?;
            }
        }
        Ok(())
    }

    /// The end: what is known is kept, and the file is whole.
    pub fn end(mut self) {
        let _ = self.keep();
        if let Some(store) = self.store.take() {
            store.close();
        }
    }

    fn open(&mut self) -> Result<(), String> {
        if self.store.is_some() {
            return Ok(());
        }
        let readers = match &self.settings.readers {
            Some(name) => Some(
                here::group(name)
                    .ok_or_else(|| format!("it is not kept: there is no group `{name}` that could read it"))?,
            ),
            None => None,
        };
        let opened = Store::open(&sophron_history::folder(&self.state), readers, self.own_folder);
        let mut store = opened.map_err(|error| format!("it is not kept: {}", with_causes(&error)))?;
        let learnt = store.learn("host", &here::host());
        learnt.map_err(|error| format!("it is not kept: {}", with_causes(&error)))?;
        let aside = store.set_aside().map(|aside| {
            format!("what was there was damaged, and is set aside as {}; a new one is begun", aside.display())
        });
        self.bases.clear();
        self.store = Some(store);
        aside.map_or(Ok(()), Err)
    }

    /// Everything that is under way, in the place of what was there of it.
    fn keep(&mut self) -> Result<(), String> {
        self.kept = Instant::now();
        let done = self.open().and_then(|()| self.write());
        self.failed = done.is_err();
        if done.is_err() {
            self.tally.forget_before(shifted(here::now().wall, -REMEMBERED));
        }
        done
    }

    fn write(&mut self) -> Result<(), String> {
        let Some(store) = &mut self.store else { return Ok(()) };
        let mut rows: Vec<Row> = self.tally.rows();
        let Some(latest) = rows.last().map(|row| row.start) else { return Ok(()) };
        if !self.settings.owners {
            rows.iter_mut().for_each(without_owners);
        }
        let mut trouble = None;
        for row in &mut rows {
            let base = match self.bases.get(&row.start) {
                Some(base) => base,
                None => match store.hour(row.start) {
                    Ok(base) => self.bases.entry(row.start).or_insert(base),
                    Err(error) => {
                        trouble = Some(error);
                        break;
                    }
                },
            };
            if let Some(base) = base {
                *row = base.and(row);
            }
        }
        let added = match trouble {
            Some(error) => Err(error),
            None => store.keep(&rows),
        };
        let added = match added {
            Ok(added) => added,
            Err(error) => {
                if error.is_damaged() {
                    // It is set aside when it is opened again.
                    self.store = None;
                }
                return Err(format!("it is not kept: {}", with_causes(&error)));
            }
        };
        self.tally.forget_before(latest);
        self.bases.retain(|start, _| *start >= latest);
        let _ = tell_new(store, &added, latest);
        Ok(())
    }

    /// Whose file was replaced since it was seen last.
    fn programs(&mut self, snapshot: &Snapshot) -> Result<(), HistoryError> {
        let Some(store) = &mut self.store else { return Ok(()) };
        let now = snapshot.moment.wall;
        self.looked_at.retain(|id| snapshot.find(id).is_some());
        let new = snapshot.processes.iter().filter(|process| !process.kernel && process.path_proven());
        let new: Vec<_> = new.filter(|process| !self.looked_at.contains(&process.id)).take(MOST_FILES).collect();
        let mut apps: HashSet<(&str, &str)> = HashSet::new();
        for process in new {
            self.looked_at.insert(process.id);
            let owner = if self.settings.owners { process.owner.as_str() } else { "" };
            if !apps.insert((&process.app, owner)) {
                continue;
            }
            // Whoever has that PID by then is another one.
            let Ok(handle) = Handle::open(&process.id) else { continue };
            let Some(file) = program::of(process.id.pid) else { continue };
            drop(handle);
            let Some(path) = process.path.clone() else { continue };
            let file = ProgramFile { path, size: file.size, changed: file.changed };
            if let Some(before) = store.runs(&process.app, owner, &file, now)? {
                let words = replaced(&process.app, &before, &file);
                store.happened(&Happened { at: now, event: Event::Program, app: process.app.clone(), words })?;
            }
        }
        Ok(())
    }

    /// Another kernel, other packages, other rules.
    fn machine(&mut self) -> Result<(), HistoryError> {
        let Some(store) = &mut self.store else { return Ok(()) };
        let now = here::now().wall;
        let mut told = |event: Event, name: &str, value: &str, words: &dyn Fn(&str) -> String| {
            if value.is_empty() {
                return Ok(());
            }
            let before = store.learn(name, value)?.filter(|before| before != value);
            match before {
                Some(before) => store.happened(&Happened { at: now, event, app: String::new(), words: words(&before) }),
                None => Ok(()),
            }
        };
        let kernel = std::fs::read_to_string("/proc/sys/kernel/osrelease").unwrap_or_default();
        let kernel = sophron_core::text::clean(kernel.trim().as_bytes());
        told(Event::Kernel, "kernel", &kernel, &|before| {
            format!("another kernel was started: {kernel}, before {before}")
        })?;
        let changed = PACKAGES.iter().filter_map(|path| std::fs::metadata(path).ok()?.modified().ok()).max();
        let changed =
            changed.and_then(|at| at.duration_since(SystemTime::UNIX_EPOCH).ok()).map(|at| at.as_secs().to_string());
        told(Event::Packages, "packages", &changed.unwrap_or_default(), &|_| {
            "packages were installed, upgraded or removed".to_owned()
        })?;
        let rules = self.rules.clone();
        told(Event::Rules, "rules", &rules, &|_| "the rules became others".to_owned())
    }
}

fn replaced(app: &str, before: &ProgramFile, now: &ProgramFile) -> String {
    let (size, old) = (scaled_size(now.size as f64), scaled_size(before.size as f64));
    match before.path == now.path {
        true => format!("the file of {app} was replaced ({}, {size}, before {old})", now.path),
        false => format!("{app} runs another file ({}, {size}, before {})", now.path, before.path),
    }
}

/// Nobody is told apart by his name.
fn without_owners(row: &mut Row) {
    let mut apps: SortedMap<String, (Arc<App>, sophron_core::usage::AppHour)> = SortedMap::new();
    for (app, hour) in row.apps.drain(..) {
        let nameless = || Arc::new(App { app: app.app.clone(), owner: String::new(), uid: u32::MAX });
        let known =
            apps.entry(app.app.clone()).or_insert_with(|| (nameless(), sophron_core::usage::AppHour::default()));
        known.1 = known.1.beside(&hour);
    }
    row.apps = apps.into_values().collect();
}

/// Apps that were never seen before, once there is a before.
fn tell_new(store: &mut Store, added: &[App], now: Timestamp) -> Result<(), HistoryError> {
    if now.duration_since(store.begun(now)?) < YOUNG {
        return Ok(());
    }
    for app in added.iter().take(MOST_NEW) {
        let owner = if app.owner.is_empty() { String::new() } else { format!(" ({})", app.owner) };
        let words = format!("{}{owner} was seen for the first time", app.app);
        store.happened(&Happened { at: here::now().wall, event: Event::NewApp, app: app.app.clone(), words })?;
    }
    Ok(())
}
