//! Where a command that looks gets its snapshot: from this machine, or from a recording.

use std::io::IsTerminal;
use std::path::Path;
use std::time::Duration;

use jiff::tz::TimeZone;
use sophron_core::model::{Cost, Needs, Snapshot};
use sophron_core::over::Over;
use sophron_core::units::scaled_duration;
use sophron_linux::Sampler;

use crate::exit::{Exit, Failure};
use crate::recordings::{Recordings, Spanned};
use crate::ui;

/// Over how long rates of the live machine are measured.
const INTERVAL: Duration = Duration::from_secs(1);

/// Over how long growth on the live machine is.
const SPAN: Duration = Duration::from_secs(5);

/// One look at this machine: who there is, without rates.
pub fn present() -> Result<Snapshot, Failure> {
    let failed = |error| Failure::of(Exit::Failed, error);
    Sampler::new(Path::new("/proc"), Needs::PERIODIC).and_then(|mut sampler| sampler.look()).map_err(failed)
}

/// A source of snapshots.
pub enum Source {
    /// This machine.
    Live {
        /// What looks at it.
        sampler: Box<Sampler>,
        /// What is read of everybody.
        needs: Needs,
        /// Whether what is asked for comes from two whole readings.
        twice: bool,
    },
    /// One moment, or a span, of recordings.
    Recorded(Recordings),
}

/// A snapshot and what has to be said about it.
pub struct Look {
    pub snapshot: Snapshot,
    /// The recording's zone, if it is one and has one.
    pub zone: Option<TimeZone>,
    /// Said on standard error.
    pub notes: Vec<String>,
    /// What was seen over a span, where one was asked for.
    pub over: Option<Spanned>,
}

impl Source {
    /// The recordings given, or this machine with what `needs` names; `rates` says whether rates other than CPU are meant.
    pub fn new(recordings: Option<Recordings>, needs: Needs, rates: bool) -> Result<Source, Failure> {
        match recordings {
            Some(recordings) => Ok(Source::Recorded(recordings)),
            None => {
                let sampler =
                    Sampler::new(Path::new("/proc"), needs).map_err(|error| Failure::of(Exit::Failed, error))?;
                let twice = needs_two_readings(needs, rates);
                let mut source = Source::Live { sampler: Box::new(sampler), needs, twice };
                source.prime()?;
                Ok(source)
            }
        }
    }

    pub fn is_live(&self) -> bool {
        matches!(self, Source::Live { .. })
    }

    /// The first sample of a live machine has no rates. Only what has other rates than CPU needs more than the clocks.
    fn prime(&mut self) -> Result<(), Failure> {
        let Source::Live { sampler, twice, .. } = self else { return Ok(()) };
        let primed = if *twice { sampler.look().map(|_| ()) } else { sampler.prime() };
        primed.map_err(|error| Failure::of(Exit::Failed, error))
    }

    /// The next snapshot: of the machine after an interval, of the recording at its moment.
    pub fn look(&mut self, interval: Option<Duration>) -> Result<Look, Failure> {
        match self {
            Source::Live { sampler, needs, twice } => {
                let interval = interval.unwrap_or(INTERVAL);
                measuring(interval);
                std::thread::sleep(interval);
                // What only ranks by CPU or memory needs little of the idle.
                let ranks_only = !*twice && !needs.has(Cost::Stat) && !needs.has(Cost::Command);
                let snapshot = if ranks_only { sampler.glance() } else { sampler.look() };
                let snapshot = snapshot.map_err(|error| Failure::of(Exit::Failed, error))?;
                measured();
                Ok(Look { snapshot, zone: None, notes: Vec::new(), over: None })
            }
            Source::Recorded(recordings) => {
                let (snapshot, over, told) = recordings.look()?;
                Ok(Look { snapshot, zone: Some(recordings.zone().clone()), notes: told.notes, over })
            }
        }
    }

    /// A look over a span: that of the recordings, or of the machine from one whole reading to the next.
    pub fn span(&mut self, interval: Option<Duration>) -> Result<Look, Failure> {
        let Source::Live { sampler, .. } = self else { return self.look(interval) };
        let failed = |error| Failure::of(Exit::Failed, error);
        let interval = interval.unwrap_or(SPAN);
        let mut over = Over::default();
        over.take(&sampler.look().map_err(failed)?);
        measuring(interval);
        std::thread::sleep(interval);
        over.take(&sampler.look().map_err(failed)?);
        measured();
        let (snapshot, seen) = over.finish().unwrap_or_default();
        Ok(Look { snapshot, zone: None, notes: Vec::new(), over: Some(seen) })
    }
}

/// Rates other than CPU, and counts over all, come from two whole readings; `rates` says whether any such are asked for.
fn needs_two_readings(needs: Needs, rates: bool) -> bool {
    rates || needs.has(Cost::Io) || needs.has(Cost::Family) || needs.has(Cost::Status) || needs.has(Cost::Cgroup)
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
