//! `sophron rehearse RULES --from RECORDING`: what rules would have done, before they may touch anything.

mod compare;
mod machine_formats;
mod text;
mod timeline;
mod vary;

use std::io::IsTerminal;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use jiff::tz::TimeZone;
use sophron_core::model::Snapshot;
use sophron_core::protect::Protections;
use sophron_core::rehearsal::Rehearsal;
use sophron_core::rules::RuleSet;

use crate::args::{self, TextOrJson};
use crate::commands::{condition_of, rules};
use crate::exit::{Exit, Failure};
use crate::recording_file::Player;
use crate::ui::{self, when};
use crate::watcher::rules_file;

/// How often progress is shown.
const SHOWN: Duration = Duration::from_millis(300);

/// What was replayed.
struct Replayed {
    host: String,
    every: f64,
    zone: TimeZone,
    /// Recordings that broke off, with the reason.
    notes: Vec<String>,
}

pub fn run(args: &args::Rehearse) -> Result<Exit, Failure> {
    let loaded = rules_file::load(&args.rules)?;
    let rules = only(&loaded.rules, args.only.as_deref())?;
    let zone = first_zone(&args.from)?;
    let begin = |rules: &RuleSet, protections| -> Result<Rehearsal, Failure> {
        let spare = args.spare.as_deref().map(|text| condition_of(text, "--spare")).transpose()?;
        Ok(Rehearsal::new(rules, protections, spare, zone.clone()))
    };
    let protections = |loaded: &rules_file::Loaded| -> Result<_, Failure> {
        Ok(Protections { conditions: loaded.protections()?, ..Protections::default() })
    };
    if let Some(setting) = &args.vary {
        return vary::run(args, &rules, setting, |rules| begin(rules, protections(&loaded)?), &zone);
    }
    let mut rehearsals = vec![begin(&rules, protections(&loaded)?)?];
    if let Some(against) = &args.against {
        let old = rules_file::load(against)?;
        rehearsals.push(begin(&only(&old.rules, args.only.as_deref())?, protections(&old)?)?);
    }
    let replayed = replay(&args.from, &mut rehearsals, zone.clone())?;
    for note in &replayed.notes {
        ui::err(format_args!("sophron: {note}\n"));
    }
    let rehearsal = &rehearsals[0];
    match (rehearsals.get(1), args.format) {
        (Some(old), TextOrJson::Text) => ui::out(compare::text(old, rehearsal, &replayed)),
        (Some(old), TextOrJson::Json) => ui::out(compare::json(old, rehearsal, &replayed)),
        (None, TextOrJson::Json) => ui::out(machine_formats::json(rehearsal, &replayed, args.case)),
        (None, TextOrJson::Text) => match args.case {
            Some(number) => {
                let story = rehearsal.stories().find(|story| story.case == number).ok_or_else(|| {
                    Failure::new(Exit::Failed, format!("there is no case {number}"))
                        .hint("without --case all of them are listed")
                })?;
                ui::out(text::one(rehearsal, story, &replayed));
            }
            None => ui::out(text::all(rehearsal, &replayed, &loaded.origin())),
        },
    }
    Ok(exit(rehearsal))
}

/// Fine when all rules could be judged and nobody is hit who was to be spared.
fn exit(rehearsal: &Rehearsal) -> Exit {
    let blind = rehearsal.sums().iter().any(|sum| sum.cannot_be_judged().is_some());
    if blind || !rehearsal.hits().is_empty() { Exit::Found } else { Exit::Fine }
}

fn only(rules: &RuleSet, name: Option<&str>) -> Result<RuleSet, Failure> {
    let Some(name) = name else { return Ok(rules.clone()) };
    let (_, rule) = rules::named(rules, name)?;
    Ok(RuleSet { rules: vec![rule.clone()], ..rules.clone() })
}

/// Hours are meant in the recording's own zone.
fn first_zone(from: &[PathBuf]) -> Result<TimeZone, Failure> {
    let Some(first) = from.first() else { return Ok(TimeZone::system()) };
    let player = Player::open(first)?;
    let zone = player.header().zone.as_deref().and_then(|zone| TimeZone::get(zone).ok());
    Ok(zone.unwrap_or_else(TimeZone::system))
}

/// Every sample of every recording, in order, to each of the rehearsals.
fn replay(from: &[PathBuf], rehearsals: &mut [Rehearsal], zone: TimeZone) -> Result<Replayed, Failure> {
    let mut replayed = Replayed { host: String::new(), every: 0.0, zone, notes: Vec::new() };
    for path in from {
        let mut player = Player::open(path)?;
        replayed.host.clone_from(&player.header().host);
        replayed.every = player.header().every;
        let mut progress = Progress::new(path);
        while player.next().is_some() {
            let (snapshot, ours) = (player.snapshot(), player.ours());
            progress.show(snapshot, &replayed.zone);
            rehearsals.iter_mut().for_each(|rehearsal| rehearsal.take(snapshot, ours));
        }
        progress.end();
        if let Some(why) = player.cut {
            replayed.notes.push(format!("{}: {why}; what came before is rehearsed", path.display()));
        }
    }
    Ok(replayed)
}

/// On a terminal, how far it has come.
struct Progress<'p> {
    path: &'p Path,
    shown: Option<Instant>,
    on: bool,
}

impl<'p> Progress<'p> {
    fn new(path: &'p Path) -> Progress<'p> {
        Progress { path, shown: None, on: std::io::stderr().is_terminal() }
    }

    fn show(&mut self, snapshot: &Snapshot, zone: &TimeZone) {
        let due = self.shown.is_none_or(|shown| shown.elapsed() >= SHOWN);
        if self.on && due {
            let at = when::date_in(snapshot.moment.wall, Some(zone));
            ui::err(format_args!(
                "\rrehearsing {}: {at}",
                sophron_core::text::clean(self.path.as_os_str().as_encoded_bytes())
            ));
            self.shown = Some(Instant::now());
        }
    }

    fn end(&self) {
        if self.on && self.shown.is_some() {
            ui::err("\r\x1b[K");
        }
    }
}
