//! `sophron rules draft TARGET`: a filled-in rule for an offender that one is looking at.

use std::path::Path;

use jiff::tz::TimeZone;
use sophron_core::model::{Needs, Snapshot};
use sophron_core::suggest::{self, Course};
use sophron_linux::{Demand, Sampler};

use crate::args;
use crate::commands::target;
use crate::exit::{Exit, Failure};
use crate::recordings::Recordings;
use crate::source;
use crate::ui::{self, when};

/// How long the machine is measured.
const LENGTH: std::time::Duration = std::time::Duration::from_secs(2);

/// How far back the lookback is asked.
const BACK: &str = "24h ago";

pub fn run(args: &args::Draft) -> Result<Exit, Failure> {
    let asked = Recordings::asked(&args.recorded, &args.state)?;
    let (now, history) = match &asked {
        Some(recordings) => (recordings.look()?.0, Some(recordings.clone())),
        // Without a lookback only this moment is known.
        None => (measured()?, Recordings::new(&[], Some(BACK), None, &args.state).ok()),
    };
    let process = target::find(&args.target, &now)?.heaviest().clone();
    let mut course = Course::of(process.clone());
    let mut since = None;
    if let Some(history) = &history {
        // One that began after the last sample was never seen there.
        let _ = history.each(|snapshot, _, _| {
            since.get_or_insert(snapshot.moment.wall);
            course.take(snapshot);
        });
    }
    let zone = asked.as_ref().map_or_else(TimeZone::system, |recordings| recordings.zone().clone());
    let rule = suggest::draft(&course, args.trouble.map(Into::into));
    let at = when::date_in(now.moment.wall, Some(&zone));
    let seen = match since {
        Some(since) => format!("as it was from {} to {at}", when::clock_or_date(since, now.moment.wall, Some(&zone))),
        None => format!("as it was at {at}; no lookback knows what it did before"),
    };
    let rehearse = match &asked {
        Some(recordings) => {
            format!("sophron rehearse draft.toml{}", recordings.suffix().replace(" --at ", " --until "))
        }
        None => "sophron rehearse draft.toml".to_owned(),
    };
    ui::out(format_args!(
        "# Drafted from {} on {}, {seen}.\n# In shadow, and installed nowhere. Next, with this kept as draft.toml: sophron rules check draft.toml; {rehearse}\nformat = 1\n\n{}",
        process.label(),
        now.machine.host,
        rule.toml()
    ));
    Ok(Exit::Fine)
}

/// This machine over a moment.
fn measured() -> Result<Snapshot, Failure> {
    let failed = |error| Failure::of(Exit::Failed, error);
    let sampler = Sampler::new(Path::new("/proc"), Needs::PERIODIC).map_err(failed)?;
    let mut sampler = sampler.on_demand(Demand::default());
    let mut snapshot = Snapshot::default();
    sampler.sample(&mut snapshot).map_err(failed)?;
    source::measuring(LENGTH);
    std::thread::sleep(LENGTH);
    sampler.sample(&mut snapshot).map_err(failed)?;
    sampler.read_all(&mut snapshot);
    source::measured();
    Ok(snapshot)
}
