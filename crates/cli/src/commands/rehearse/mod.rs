//! `sophron rehearse RULES --from RECORDING`: what rules would have done, before they may touch anything.

mod compare;
mod machine_formats;
mod text;
mod timeline;
mod vary;

use std::io::IsTerminal;
use std::path::Path;
use std::time::{Duration, Instant};

use jiff::tz::TimeZone;
use sophron_core::happening::Happening;
use sophron_core::model::Snapshot;
use sophron_core::protect::Protections;
use sophron_core::rehearsal::Rehearsal;
use sophron_core::rules::RuleSet;
use sophron_core::telling::{Tally, Told};

use crate::args::{self, TextOrJson};
use crate::commands::{condition_of, rules};
use crate::exit::{Exit, Failure};
use crate::recordings::Recordings;
use crate::ui::{self, events, table, when};
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
    /// The messages that each channel would have had.
    told: Vec<Told>,
}

pub fn run(args: &args::Rehearse) -> Result<Exit, Failure> {
    let loaded = rules_file::load(&args.rules)?;
    let rules = only(&loaded.rules, args.only.as_deref())?;
    let recordings = Recordings::played(&args.played, &args.state)?;
    let recordings = recordings.knowing_what_is_usual(rules.ask_what_is_usual(), &args.state);
    // Hours are meant in the recording's own zone.
    let zone = recordings.zone().clone();
    let begin = |rules: &RuleSet, protections| -> Result<Rehearsal, Failure> {
        let spare = args.spare.as_deref().map(|text| condition_of(text, "--spare")).transpose()?;
        Ok(Rehearsal::new(rules, recordings.every(), protections, spare, zone.clone()))
    };
    let protections = |loaded: &rules_file::Loaded| -> Result<_, Failure> {
        let service = recordings.recorder();
        Ok(Protections { conditions: loaded.protections()?, service, ..Protections::default() })
    };
    if let Some(setting) = &args.vary {
        return vary::run(args, &rules, setting, |rules| begin(rules, protections(&loaded)?), &recordings);
    }
    let mut rehearsals = vec![begin(&rules, protections(&loaded)?)?];
    if let Some(against) = &args.against {
        let old = rules_file::load(against)?;
        rehearsals.push(begin(&only(&old.rules, args.only.as_deref())?, protections(&old)?)?);
    }
    let mut tally = Tally::new(&rules, &zone);
    let mut told = |happening: &Happening| {
        tally.note(happening, &rules);
        if args.lines {
            say(happening, args.format, &zone);
        }
    };
    let replayed = replay(&recordings, &mut rehearsals, &mut told)?;
    let replayed = Replayed { told: tally.told(), ..replayed };
    for note in &replayed.notes {
        ui::err(format_args!("sophron: {note}\n"));
    }
    let rehearsal = &rehearsals[0];
    if args.lines {
        return Ok(exit(rehearsal));
    }
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

/// The very line that a watcher would have shown, or the object.
fn say(happening: &Happening, format: TextOrJson, zone: &TimeZone) {
    match format {
        TextOrJson::Text => {
            if let Some(line) = happening.line(zone) {
                ui::out(format_args!("{}\n", events::render_in(&line, table::terminal_width(), zone)));
            }
        }
        TextOrJson::Json => {
            ui::out(format_args!("{}\n", happening.json(zone)));
        }
    }
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

/// Every sample of every recording, in order, to each of the rehearsals.
fn replay(
    recordings: &Recordings,
    rehearsals: &mut [Rehearsal],
    told_one: &mut dyn FnMut(&Happening),
) -> Result<Replayed, Failure> {
    let zone = recordings.zone().clone();
    let mut progress = Progress::default();
    let told = recordings.each(|snapshot, ours, path| {
        progress.show(path, snapshot, &zone);
        for (place, rehearsal) in rehearsals.iter_mut().enumerate() {
            rehearsal.take(snapshot, ours);
            if place == 0 {
                rehearsal.happenings().iter().for_each(&mut *told_one);
            }
        }
    })?;
    progress.end();
    Ok(Replayed { host: told.host, every: told.every, zone, notes: told.notes, told: Vec::new() })
}

/// On a terminal, how far it has come.
#[derive(Default)]
struct Progress {
    shown: Option<Instant>,
}

impl Progress {
    fn show(&mut self, path: &Path, snapshot: &Snapshot, zone: &TimeZone) {
        let due = self.shown.is_none_or(|shown| shown.elapsed() >= SHOWN);
        if due && std::io::stderr().is_terminal() {
            let at = when::date_in(snapshot.moment.wall, Some(zone));
            ui::err(format_args!(
                "\rrehearsing {}: {at}",
                sophron_core::text::clean(path.as_os_str().as_encoded_bytes())
            ));
        }
        if due {
            self.shown = Some(Instant::now());
        }
    }

    fn end(&self) {
        if self.shown.is_some() && std::io::stderr().is_terminal() {
            ui::err("\r\x1b[K");
        }
    }
}
