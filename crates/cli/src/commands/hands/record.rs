//! What a hand writes down: the intent before, the outcome after, in the same trail as rules.

use std::path::PathBuf;

use sophron_core::audit::{By, Draft, InForce, Kind};
use sophron_core::happening::{Happening, Scribe};
use sophron_core::rules::Audit;
use sophron_linux::here;
use sophron_linux::trail::{self, Append, Keeping, TrailFile};

use crate::args;
use crate::commands::ended::Ended;
use crate::exit::{Exit, Failure};
use crate::places;
use crate::watcher::{keeping, scribe};
use sophron_core::text::with_causes;

/// The trail that a hand writes to.
pub(super) struct Trail {
    pub state: PathBuf,
    pub scribe: Scribe,
    pub because: Option<String>,
    /// What is in force by it.
    pub in_force: InForce,
    /// What was ended by us before: whom, and when.
    pub ended: Ended,
    file: Option<TrailFile>,
    keeping: Keeping,
}

impl Trail {
    /// Reads what was recorded so far; nothing is written yet.
    pub fn new(folder: &args::State, because: Option<&str>, settings: &Audit) -> Result<Trail, Failure> {
        let state = places::state(folder.folder.as_deref())?;
        let boot = here::boot(std::path::Path::new("/proc"))
            .map_err(|error| Failure::new(Exit::Failed, "the boot ID cannot be read").because(error))?;
        let mut ended = Ended::default();
        let latest = trail::latest(&state, |record| ended.note(record));
        let unreadable = "no record, no action: nothing was done; --state DIR names another place";
        let latest = latest.map_err(|error| Failure::of(Exit::Failed, error).hint(unreadable))?.unwrap_or_default();
        if let Some(fault) = &latest.fault {
            let seen =
                format!("the audit trail is not sound at record {}: {}; nothing was done", fault.seq, fault.what);
            return Err(Failure::new(Exit::Failed, seen).hint("look at it with `sophron audit verify`"));
        }
        let usual = folder.folder.is_none();
        Ok(Trail {
            scribe: scribe(boot, By::Hand, settings.command_lines),
            because: because.map(|text| sophron_core::text::clean(text.as_bytes())),
            in_force: latest.in_force,
            ended,
            file: None,
            keeping: Keeping { own_folder: usual, ..keeping(settings)? },
            state,
        })
    }

    /// Opens it for writing: without it nothing is done.
    pub fn open(&mut self) -> Result<(), Failure> {
        let file = TrailFile::open(&self.state, self.scribe.plain(here::now().wall, Kind::TrailOpened), self.keeping);
        self.file = Some(file.map_err(|error| {
            Failure::of(Exit::Failed, error)
                .hint("no record, no action: nothing was done; --state DIR names another place")
        })?);
        Ok(())
    }

    /// An intent: returns when it is on disk.
    pub fn intend(&mut self, happening: &Happening) -> Result<(), String> {
        let record = self.scribe.record(happening).ok_or("there is no record of that")?;
        self.write(&record)
    }

    /// What came of it. A trail that cannot take it any more is said: the act has been done.
    pub fn tell(&mut self, happening: &Happening) {
        if let Err(why) = self.intend(happening) {
            crate::ui::err(format_args!("sophron: the outcome could not be recorded, its intent was: {why}\n"));
        }
    }

    fn write(&mut self, draft: &Draft) -> Result<(), String> {
        let file = self.file.as_mut().ok_or("the trail is not open")?;
        file.append(std::slice::from_ref(draft)).map_err(|error| with_causes(&error))
    }
}
