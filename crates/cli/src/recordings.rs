//! What a command is to look at instead of this machine now: recordings that were named, or the lookback, and which part
//! of them.

use std::collections::VecDeque;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, Zoned};
use sophron_core::model::{Moment, Snapshot};
use sophron_core::moment::Anchor;
use sophron_core::over::{Over, Seen};
use sophron_core::recording::Ours;
use sophron_core::units::scaled_duration;
use sophron_core::usage::Usual;

use crate::args;
use crate::exit::{Exit, Failure};
use crate::lookback;
use crate::moments;
use crate::places;
use crate::recording_file::Player;
use crate::ui::when;

/// Of the lookback, what came so long before a moment is read as well: since when a figure has been high is said of it.
const BEFORE: Duration = Duration::from_secs(3600);

/// A part of a lookback has so many pieces at least.
const LEAST_PIECES: usize = 4;

/// A moment is answered by a sample that is no older than this; else that is said.
const FRESH: SignedDuration = SignedDuration::from_secs(60);

/// Recordings, and the part of them that is meant.
#[derive(Debug, Clone)]
pub struct Recordings {
    paths: Vec<PathBuf>,
    /// How it is named in messages.
    name: String,
    since: Option<Timestamp>,
    until: Option<Timestamp>,
    zone: TimeZone,
    /// From one sample to the next, by the first of them.
    every: Duration,
    /// The user who recorded.
    recorder: u32,
    /// Whether it is the watcher's lookback.
    of_watcher: bool,
    /// What makes another command look at the same.
    suffix: String,
    /// What is usual of apps on that machine, where it is known.
    usual: Option<Arc<Usual>>,
}

/// What was read.
pub struct Told {
    pub host: String,
    /// Seconds between two samples.
    pub every: f64,
    /// Said on standard error.
    pub notes: Vec<String>,
}

/// The process IDs of a span, and what was seen of them over it.
pub type Spanned = std::collections::BTreeMap<sophron_core::model::ProcessId, Seen>;

impl Recordings {
    /// What was asked for; `None` is this machine, now.
    pub fn asked(asked: &args::Recorded, state: &args::State) -> Result<Option<Recordings>, Failure> {
        if asked.from.is_none() && asked.at.is_none() && asked.since.is_none() && asked.until.is_none() {
            return Ok(None);
        }
        let until = asked.at.as_deref().or(asked.until.as_deref());
        let from: Vec<PathBuf> = asked.from.iter().cloned().collect();
        Recordings::new(&from, asked.since.as_deref(), until, state).map(Some)
    }

    /// The last of the lookback, over that long; none where there is no lookback.
    pub fn last_of_lookback(length: Duration, state: &args::State) -> Option<Recordings> {
        let since = format!("{}s ago", length.as_secs());
        let written = |path: &PathBuf| std::fs::metadata(path).ok()?.modified().ok()?.elapsed().ok();
        // One that nobody has written to since tells nothing of now.
        let is_fresh = |of: &Recordings| of.paths.last().and_then(written).is_some_and(|since| since < length);
        Recordings::new(&[], Some(&since), None, state).ok().filter(is_fresh)
    }

    /// From its beginning on, where no beginning was asked for.
    pub fn or_whole(mut self) -> Recordings {
        self.since = self.since.or(Some(Timestamp::UNIX_EPOCH));
        self
    }

    /// With what is usual of apps here, where it is the lookback of a machine that has a history, and somebody asks.
    pub fn knowing_what_is_usual(mut self, asks: bool, state: &args::State) -> Recordings {
        if asks && self.of_watcher {
            self.usual = crate::history::usual(state).map(Arc::new);
        }
        self
    }

    /// What is to be gone through.
    pub fn played(played: &args::Played, state: &args::State) -> Result<Recordings, Failure> {
        Recordings::new(&played.from, played.since.as_deref(), played.until.as_deref(), state)
    }

    /// These recordings, or the lookback where there are none, from one moment to another.
    pub fn new(
        from: &[PathBuf],
        since: Option<&str>,
        until: Option<&str>,
        state: &args::State,
    ) -> Result<Recordings, Failure> {
        let (anchor, name) = match from.first() {
            Some(first) => {
                let player = Player::open(first)?;
                let zone = player.header().zone.as_deref().and_then(|name| TimeZone::get(name).ok());
                let begun = player.header().begun.to_zoned(zone.unwrap_or(TimeZone::UTC));
                (Anchor::Day(begun), first.display().to_string())
            }
            None => (Anchor::Now(Zoned::now()), "the lookback".to_owned()),
        };
        let read = |text: &str| moments::read(text, &anchor);
        let (from_when, to_when) = (since.map(read).transpose()?, until.map(read).transpose()?);
        if from_when.zip(to_when).is_some_and(|(from, to)| from >= to) {
            return Err(Failure::new(Exit::Usage, "that span ends before it begins")
                .hint("a time of day without a day is its latest: write the day as well, as \"yesterday 18:00\""));
        }
        let (zone, now) = match &anchor {
            Anchor::Now(now) => (now.time_zone().clone(), Some(now.timestamp())),
            Anchor::Day(begun) => (begun.time_zone().clone(), None),
        };
        let clean = |text: &str| sophron_core::text::clean(text.as_bytes());
        let quoted = |text: &str| if text.contains(' ') { format!("\"{}\"", clean(text)) } else { clean(text) };
        let mut suffix = String::new();
        for path in from {
            suffix.push_str(&format!(" --from {}", sophron_core::text::clean(path.as_os_str().as_encoded_bytes())));
        }
        suffix.extend(since.map(|since| format!(" --since {}", quoted(since))));
        suffix.extend(
            until.map(|until| format!(" --{} {}", if since.is_some() { "until" } else { "at" }, quoted(until))),
        );
        let paths = match now {
            None => from.to_vec(),
            Some(now) => {
                // Without a time all of it is meant.
                let whole = from_when.is_none() && to_when.is_none();
                let first = if whole { Timestamp::UNIX_EPOCH } else { from_when.or(to_when).unwrap_or(now) };
                let before = if from_when.is_some() { Duration::ZERO } else { BEFORE };
                of_lookback(&places::state(state.folder.as_deref())?, first, to_when, before)?
            }
        };
        let (every, recorder) = match paths.first() {
            Some(first) => {
                let player = Player::open(first)?;
                (player.header().every, player.header().uid)
            }
            None => (0.0, 0),
        };
        let every = Duration::try_from_secs_f64(every).unwrap_or_default().min(Duration::from_secs(3600));
        let of_watcher = now.is_some();
        Ok(Recordings {
            paths,
            name,
            since: from_when,
            until: to_when,
            zone,
            every,
            recorder,
            of_watcher,
            suffix,
            usual: None,
        })
    }

    /// So many parts of about the same length, one after the other, where it is a lookback of enough pieces: each begins with the
    /// last sample of the one before.
    pub fn parts(&self, most: usize) -> Vec<Recordings> {
        let parts = if self.of_watcher { most.min(self.paths.len() / LEAST_PIECES).max(1) } else { 1 };
        let length = self.paths.len().div_ceil(parts).max(1);
        let last = self.paths.last();
        // Only the last one can be still written, and ends where it was asked for.
        let part = |paths: &[PathBuf]| Recordings {
            paths: paths.to_vec(),
            of_watcher: self.of_watcher && paths.last() == last,
            ..self.clone()
        };
        if parts == 1 { vec![self.clone()] } else { self.paths.chunks(length).map(part).collect() }
    }

    pub fn every(&self) -> Duration {
        self.every
    }

    /// The beginning that was asked for.
    pub fn since(&self) -> Option<Timestamp> {
        self.since
    }

    pub fn recorder(&self) -> u32 {
        self.recorder
    }

    pub fn zone(&self) -> &TimeZone {
        &self.zone
    }

    pub fn suffix(&self) -> &str {
        &self.suffix
    }

    /// Whether a span was asked for, and not a moment.
    pub fn is_span(&self) -> bool {
        self.since.is_some()
    }

    /// Every sample up to the end that was asked for, in the order of time, with what the recording watcher was doing and
    /// the file that it comes from.
    pub fn each(&self, mut each: impl FnMut(&Snapshot, &Ours, &Path)) -> Result<Told, Failure> {
        let mut told = Told { host: String::new(), every: 0.0, notes: Vec::new() };
        let mut last: Option<Moment> = None;
        let mut seen = 0_u64;
        let mut begins_later = None;
        'files: for path in &self.paths {
            let mut player = Player::open(path)?;
            self.usual.iter().for_each(|usual| player.know(Arc::clone(usual)));
            told.host.clone_from(&player.header().host);
            told.every = player.header().every;
            let goes_on = last;
            if let Some(last) = &last {
                player.follow(last);
            }
            let mut first = true;
            while player.next().is_some() {
                let moment = player.snapshot().moment;
                // A piece of the lookback begins with the last sample of the one before.
                let again = std::mem::take(&mut first) && goes_on.is_some_and(|last| moment.wall <= last.wall);
                if self.until.is_some_and(|until| moment.wall > until) {
                    begins_later.get_or_insert(moment.wall);
                    break 'files;
                }
                last = Some(moment);
                if !again && self.since.is_none_or(|since| moment.wall >= since) {
                    seen += 1;
                    each(player.snapshot(), player.ours(), path);
                }
            }
            if let Some(cut) = &player.cut {
                // The piece that the watcher is writing has no end yet.
                let being_written = self.of_watcher && self.paths.last() == Some(path);
                if !being_written {
                    told.notes.push(format!("{} {}: {cut}", path.display(), self.sound_until(last)));
                }
                if last.is_none() && !being_written {
                    let name = path.display();
                    return Err(Failure::new(Exit::Failed, format!("{name} holds no whole sample: {cut}")));
                }
            }
        }
        if seen == 0 {
            return Err(self.nothing(begins_later, last));
        }
        if let (Some(until), Some(last), true) = (self.until, last, self.of_watcher)
            && until.duration_since(last.wall) > FRESH
        {
            let gap = scaled_duration(Duration::try_from(until.duration_since(last.wall)).unwrap_or_default());
            told.notes.push(format!("the sample before that is {gap} older: nothing was kept in between"));
        }
        Ok(told)
    }

    fn sound_until(&self, last: Option<Moment>) -> String {
        last.map_or_else(String::new, |last| {
            let until = last.wall.to_zoned(self.zone.clone()).strftime("%H:%M:%S").to_string();
            format!("is sound until {until} only")
        })
    }

    fn nothing(&self, begins: Option<Timestamp>, last: Option<Moment>) -> Failure {
        let name = &self.name;
        match (begins, last) {
            (Some(begins), None) => {
                let begins = when::date_in(begins, Some(&self.zone));
                Failure::new(Exit::Usage, format!("{name} begins later, at {begins}")).hint("give a later time")
            }
            (_, Some(last)) => {
                let end = when::date_in(last.wall, Some(&self.zone));
                Failure::new(
                    Exit::Usage,
                    format!("{name} has nothing in that span; its last sample before is of {end}"),
                )
                .hint("give an earlier --since")
            }
            (None, None) => Failure::new(Exit::Failed, format!("{name} holds no sample")),
        }
    }

    /// The last sample; over a span its rates are those of the whole span, and what else was seen comes with it.
    pub fn look(&self) -> Result<(Snapshot, Option<Spanned>, Told), Failure> {
        if self.is_span() {
            let mut over = Over::default();
            let told = self.each(|snapshot, _, _| over.take(snapshot))?;
            let (snapshot, seen) = over.finish().unwrap_or_default();
            return Ok((snapshot, Some(seen), told));
        }
        let mut found = Snapshot::default();
        let told = self.each(|snapshot, _, _| found.clone_from(snapshot))?;
        Ok((found, None, told))
    }

    /// The last samples, over that long and at least one, or over the span that was asked for; `each` is given all.
    pub fn window(
        &self,
        length: Duration,
        mut each: impl FnMut(&Snapshot),
    ) -> Result<(VecDeque<Snapshot>, Told), Failure> {
        let length = if self.is_span() { Duration::MAX } else { length };
        let mut window: VecDeque<Snapshot> = VecDeque::new();
        let told = self.each(|snapshot, _, _| {
            each(snapshot);
            window.push_back(snapshot.clone());
            let begin = snapshot.moment.monotonic.saturating_sub(length);
            while window.len() > 1 && window.front().is_some_and(|oldest| oldest.moment.monotonic <= begin) {
                window.pop_front();
            }
        })?;
        Ok((window, told))
    }
}

/// The pieces of the lookback in which that part is.
fn of_lookback(
    state: &Path,
    first: Timestamp,
    until: Option<Timestamp>,
    before: Duration,
) -> Result<Vec<PathBuf>, Failure> {
    let folder = lookback::folder(state);
    let none = |failure: Failure| {
        failure.hint("`sophron watch` keeps the last days of a machine while it runs; `--from FILE` reads a recording")
    };
    let pieces = lookback::pieces(state).map_err(|error| {
        let there = match error.kind() {
            std::io::ErrorKind::NotFound => format!("there is no lookback in {}", folder.display()),
            _ => format!("the lookback in {} cannot be read", folder.display()),
        };
        none(Failure::new(Exit::Failed, there).because(error))
    })?;
    let oldest = pieces
        .first()
        .ok_or_else(|| none(Failure::new(Exit::Failed, format!("the lookback in {} is empty", folder.display()))))?;
    let begin = SignedDuration::try_from(before).ok().and_then(|before| first.checked_sub(before).ok());
    let begin = begin.unwrap_or(first);
    // The piece in which it begins, and all that follow until it ends.
    let from = pieces.iter().rposition(|piece| piece.begun <= begin).unwrap_or(0);
    let within = |begun: Timestamp| until.is_none_or(|until| begun <= until);
    let paths: Vec<PathBuf> =
        pieces[from..].iter().filter(|piece| within(piece.begun)).map(|piece| piece.path.clone()).collect();
    if paths.is_empty() {
        let begins = when::date_in(oldest.begun, None);
        return Err(
            Failure::new(Exit::Usage, format!("the lookback begins later, at {begins}")).hint("give a later time")
        );
    }
    Ok(paths)
}
