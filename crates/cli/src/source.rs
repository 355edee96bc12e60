//! Where a command that looks gets its snapshot: from this machine, or from a recording.

use std::collections::VecDeque;
use std::io::IsTerminal;
use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use sophron_core::model::{Cost, Needs, Snapshot};
use sophron_core::recording::Header;
use sophron_core::units::scaled_duration;
use sophron_linux::Sampler;

use crate::exit::{Exit, Failure};
use crate::recording_file::Player;
use crate::ui::{self, when};

/// Over how long rates of the live machine are measured.
const INTERVAL: Duration = Duration::from_secs(1);

/// A source of snapshots.
pub enum Source {
    /// This machine.
    Live(Box<Sampler>, Needs),
    /// One moment of a recording.
    Recorded(PathBuf, Option<String>),
}

/// A snapshot and what has to be said about it.
pub struct Look {
    pub snapshot: Snapshot,
    /// The recording's zone, if it is one and has one.
    pub zone: Option<TimeZone>,
    /// Said on standard error.
    pub notes: Vec<String>,
}

impl Source {
    /// The recording given, or this machine with what `needs` names.
    pub fn new(from: Option<&Path>, at: Option<&str>, needs: Needs) -> Result<Source, Failure> {
        match from {
            Some(path) => Ok(Source::Recorded(path.to_owned(), at.map(str::to_owned))),
            None => {
                let sampler =
                    Sampler::new(Path::new("/proc"), needs).map_err(|error| Failure::of(Exit::Failed, error))?;
                let mut source = Source::Live(Box::new(sampler), needs);
                source.prime(needs)?;
                Ok(source)
            }
        }
    }

    pub fn is_live(&self) -> bool {
        matches!(self, Source::Live(..))
    }

    /// The first sample of a live machine has no rates. Only what has other rates than CPU needs more than the clocks.
    fn prime(&mut self, needs: Needs) -> Result<(), Failure> {
        let Source::Live(sampler, _) = self else { return Ok(()) };
        let primed = if needs_two_readings(needs) { sampler.look().map(|_| ()) } else { sampler.prime() };
        primed.map_err(|error| Failure::of(Exit::Failed, error))
    }

    /// The next snapshot: of the machine after an interval, of the recording at its moment.
    pub fn look(&mut self, interval: Option<Duration>) -> Result<Look, Failure> {
        match self {
            Source::Live(sampler, needs) => {
                let interval = interval.unwrap_or(INTERVAL);
                measuring(interval);
                std::thread::sleep(interval);
                // What only ranks by CPU or memory needs little of the idle.
                let ranks_only = !needs_two_readings(*needs) && !needs.has(Cost::Stat) && !needs.has(Cost::Command);
                let snapshot = if ranks_only { sampler.glance() } else { sampler.look() };
                let snapshot = snapshot.map_err(|error| Failure::of(Exit::Failed, error))?;
                measured();
                Ok(Look { snapshot, zone: None, notes: Vec::new() })
            }
            Source::Recorded(path, at) => recorded(path, at.as_deref()),
        }
    }
}

/// Rates other than CPU, and counts over all, come from two whole readings.
fn needs_two_readings(needs: Needs) -> bool {
    needs.has(Cost::Io) || needs.has(Cost::Family) || needs.has(Cost::Status) || needs.has(Cost::Cgroup)
}

fn told() -> bool {
    std::io::stderr().is_terminal() && std::io::stdout().is_terminal()
}

/// A command that measures says so at once, and for how long still.
pub fn measuring(left: Duration) {
    if told() {
        ui::err(format_args!("\u{1b}[2Kmeasuring for {} …\r", scaled_duration(left)));
    }
}

pub fn measured() {
    if told() {
        ui::err("\u{1b}[2K\r");
    }
}

/// The sample at a moment, the last one before it; without a moment, the last of all.
fn recorded(path: &Path, at: Option<&str>) -> Result<Look, Failure> {
    let mut found: Option<Snapshot> = None;
    let (zone, notes) = replay(path, at, |snapshot| match found.as_mut() {
        Some(found) => found.clone_from(snapshot),
        None => found = Some(snapshot.clone()),
    })?;
    // Without a sample the replay has failed.
    Ok(Look { snapshot: found.unwrap_or_default(), zone: Some(zone), notes })
}

/// The last samples of a recording before a moment, over that long and at least one; `each` is given all of them.
pub fn window(
    path: &Path,
    at: Option<&str>,
    length: Duration,
    mut each: impl FnMut(&Snapshot),
) -> Result<(VecDeque<Snapshot>, TimeZone, Vec<String>), Failure> {
    let mut window: VecDeque<Snapshot> = VecDeque::new();
    let (zone, notes) = replay(path, at, |snapshot| {
        each(snapshot);
        window.push_back(snapshot.clone());
        let begin = snapshot.moment.monotonic.saturating_sub(length);
        while window.len() > 1 && window.front().is_some_and(|oldest| oldest.moment.monotonic <= begin) {
            window.pop_front();
        }
    })?;
    Ok((window, zone, notes))
}

/// Every sample of a recording up to a moment, in the order of time; its zone, and what has to be said about it.
fn replay(path: &Path, at: Option<&str>, mut each: impl FnMut(&Snapshot)) -> Result<(TimeZone, Vec<String>), Failure> {
    let mut player = Player::open(path)?;
    let zone = player.header().zone.as_deref().and_then(|name| TimeZone::get(name).ok());
    let shown_zone = zone.clone().unwrap_or(TimeZone::UTC);
    let until = at.map(|at| moment(at, player.header(), &shown_zone)).transpose()?;
    let (mut seen, mut last) = (None, None);
    while let Some(snapshot) = player.next() {
        last = Some(snapshot.moment.wall);
        if until.is_some_and(|until| snapshot.moment.wall > until) {
            break;
        }
        seen = last;
        each(snapshot);
    }
    let name = path.display();
    let seen = seen.ok_or_else(|| match (&player.cut, last) {
        (Some(cut), None) => Failure::new(Exit::Failed, format!("{name} holds no whole sample: {cut}")),
        (None, None) => Failure::new(Exit::Failed, format!("{name} holds no sample")),
        _ => Failure::new(
            Exit::Usage,
            format!("{name} begins later, at {}", player.header().begun.to_zoned(shown_zone.clone())),
        )
        .hint("give a later --at"),
    })?;
    let mut notes = Vec::new();
    if let Some(cut) = &player.cut {
        let until = seen.to_zoned(shown_zone.clone()).strftime("%H:%M:%S").to_string();
        notes.push(format!("{name} is sound until {until} only: {cut}"));
    }
    Ok((shown_zone, notes))
}

/// `10:00`, `10:00:30` on the day the recording begins, or a whole RFC 3339 time.
fn moment(at: &str, header: &Header, zone: &TimeZone) -> Result<Timestamp, Failure> {
    if let Ok(time) = at.parse::<Timestamp>() {
        return Ok(time);
    }
    let time = when::time_of_day(at).ok_or_else(|| {
        Failure::new(Exit::Usage, format!("`{}` is not a time", sophron_core::text::clean(at.as_bytes())))
            .hint("write it as 10:00, 10:00:30 or 2026-11-23T10:00:00+01:00")
    })?;
    let day = header.begun.to_zoned(zone.clone()).date();
    let zoned = day.to_datetime(time).to_zoned(zone.clone());
    zoned
        .map(|zoned| zoned.timestamp())
        .map_err(|error| Failure::new(Exit::Usage, "that time is out of range").because(error))
}
