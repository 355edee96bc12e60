//! `sophron report`: what was bad when, because of whom, and who used how much, over a day or several.

use std::path::Path;
use std::sync::Arc;

use jiff::{SignedDuration, Timestamp};
use sophron_core::document::Document;
use sophron_core::moment::{Anchor, shifted};
use sophron_core::protect::Protections;
use sophron_core::rehearsal::Rehearsal;
use sophron_core::report::{self, Case, Collector, Frame, Setting, Stretch};
use sophron_core::rules::{Hours, RuleSet};
use sophron_core::text::clean;
use sophron_linux::{new_files, trail};

use crate::args::{self, ReportFormat};
use crate::exit::{Exit, Failure};
use crate::history;
use crate::lookback;
use crate::moments;
use crate::places;
use crate::recordings::{Recordings, Told};
use crate::ui::{self, document, table, when};
use crate::watcher::rules_file;

/// Of the lookback so much is told of unless a time is given.
const LATELY: &str = "24h ago";

/// Longer ago than that is told by the history, where the lookback does not reach as far; it may begin so much later.
const SHORT: SignedDuration = SignedDuration::from_hours(24);
const SLACK: SignedDuration = SignedDuration::from_hours(12);

/// Most parts that are gone through at once.
const MOST_PARTS: usize = 4;

/// A case of the record may have opened so long before the time that is told of.
const BEFORE: SignedDuration = SignedDuration::from_hours(48);

pub fn run(args: &args::Report) -> Result<Exit, Failure> {
    if let Some(path) = args.save.as_deref() {
        not_there(path)?;
    }
    if let Some((document, news)) = over_months(args)? {
        give(args, &document)?;
        return Ok(if news { Exit::Found } else { Exit::Fine });
    }
    let guidance = rules_file::guidance(args.rules.as_deref())?;
    let rules = guidance.loaded.as_ref().map(|loaded| &loaded.rules);
    let recorded = !args.played.from.is_empty();
    let hours = args.hours.as_deref().map(|name| hours(name, rules)).transpose()?;
    let since = args.played.since.as_deref().or((!recorded && args.played.until.is_none()).then_some(LATELY));
    let recordings = Recordings::new(&args.played.from, since, args.played.until.as_deref(), &args.state)?;
    let setting = Setting {
        checkup: rules.map(|rules| rules.checkup.clone()).unwrap_or_default(),
        zone: recordings.zone().clone(),
        hours,
    };
    let rehearsed = guidance.loaded.as_ref().filter(|_| recorded && args.rules.is_some());
    let mut rehearsal = rehearsed
        .map(|loaded| {
            let protections = Protections {
                conditions: loaded.protections()?,
                service: recordings.recorder(),
                ..Protections::default()
            };
            let (zone, every) = (recordings.zone().clone(), recordings.every());
            Ok::<_, Failure>(Rehearsal::new(&loaded.rules, every, protections, None, zone))
        })
        .transpose()?;
    let (collector, told) = match &mut rehearsal {
        Some(rehearsal) => {
            let mut collector = Collector::new(setting);
            let told = recordings.each(|snapshot, ours, _| {
                collector.take(snapshot);
                rehearsal.take(snapshot, ours);
            })?;
            (collector, told)
        }
        None => in_parts(&recordings, &setting)?,
    };
    for note in &told.notes {
        ui::err(format_args!("sophron: {note}\n"));
    }
    let stretch = collector.finish().ok_or_else(|| Failure::new(Exit::Failed, "there is no sample in that time"))?;
    if let Some(asked) = recordings.since().filter(|since| !recorded && shifted(stretch.from, -SLACK) > *since) {
        let (begins, asked) = (when::date(stretch.from), when::date(asked));
        ui::err(format_args!("sophron: nothing was kept of {asked} until {begins}\n"));
    }
    let mut frame = Frame {
        suffix: args.played.from.iter().map(|path| format!(" --from {}", shown(path))).collect(),
        with_day: !recorded,
        source: match args.played.from.first() {
            Some(first) => format!("the recording {}", shown(first)),
            None => "the lookback".to_owned(),
        },
        recorded,
        rehearsed: rehearsed.map(rules_file::Loaded::origin),
        no_cases: None,
        command: typed(args),
        version: env!("CARGO_PKG_VERSION"),
    };
    let cases = match (&rehearsal, recorded) {
        (Some(rehearsal), _) => rehearsal.stories().map(|story| Case::of_story(story, rehearsal.rules())).collect(),
        (None, true) => {
            frame.no_cases = Some(
                "A recording has no record of cases; with --rules FILE your rules are rehearsed on it.".to_owned(),
            );
            Vec::new()
        }
        (None, false) => of_record(&args.state, &stretch, &mut frame)?,
    };
    let episodes = report::episodes(&stretch);
    let document = match args.to {
        Some(args::Reader::Customer) => {
            report::customer(&stretch, &episodes, &cases, rehearsal.is_some(), &suggested(args))
        }
        None => report::page(&stretch, &episodes, &cases, &frame),
    };
    give(args, &document)?;
    let news = episodes.iter().any(|episode| !episode.is_honest());
    Ok(if news { Exit::Found } else { Exit::Fine })
}

/// Days are gone through in parts, as many at once as there are cores.
fn in_parts(recordings: &Recordings, setting: &Setting) -> Result<(Collector, Told), Failure> {
    let cores = std::thread::available_parallelism().map_or(1, std::num::NonZero::get).min(MOST_PARTS);
    let parts = recordings.parts(cores);
    let one = |part: &Recordings| {
        let mut collector = Collector::new(setting.clone());
        part.each(|snapshot, _, _| collector.take(snapshot)).map(|told| (collector, told))
    };
    let done: Vec<Result<(Collector, Told), Failure>> = std::thread::scope(|scope| {
        let begun: Vec<_> =
            parts.iter().map(|part| (part, std::thread::Builder::new().spawn_scoped(scope, || one(part)))).collect();
        let ended = |(part, thread): (&Recordings, std::io::Result<std::thread::ScopedJoinHandle<'_, _>>)| match thread
        {
            // A panic in it has been printed.
            Ok(thread) => thread.join().unwrap_or_else(|_| Err(Failure::new(Exit::Failed, "a part could not be read"))),
            Err(_) => one(part),
        };
        begun.into_iter().map(ended).collect()
    });
    let mut whole: Option<(Collector, Told)> = None;
    let mut nothing = None;
    for part in done {
        match part {
            Ok((collector, mut told)) => {
                whole = Some(match whole {
                    None => (collector, told),
                    Some((before, notes)) => {
                        told.notes.splice(0..0, notes.notes);
                        (before.and(collector), told)
                    }
                });
            }
            // The time that is asked for need not be in every part.
            Err(failure) if failure.exit == Exit::Usage => nothing = Some(failure),
            Err(failure) => return Err(failure),
        }
    }
    whole.ok_or_else(|| nothing.unwrap_or_else(|| Failure::new(Exit::Failed, "there is no sample in that time")))
}

/// What is older than the lookback reaches is told by the history of usage; and whether something has changed in it.
fn over_months(args: &args::Report) -> Result<Option<(Document, bool)>, Failure> {
    let kept = args.played.from.first().filter(|path| history::is_history(path));
    if kept.is_none() && (!args.played.from.is_empty() || !reaches_back(args)?) {
        return Ok(None);
    }
    if args.played.from.len() > 1 {
        return Err(Failure::new(Exit::Usage, "a report is made of one kept history, or of recordings"));
    }
    if args.rules.is_some() || args.hours.is_some() {
        let why = "a report over weeks is made of hours, which were counted by the limits of their time: there are no other rules or hours to it";
        return Err(Failure::new(Exit::Usage, why)
            .hint("leave --rules and --hours away, or ask for a time that the lookback or a recording has"));
    }
    let span = args::UsageSpan {
        from: kept.cloned(),
        since: args.played.since.clone(),
        until: args.played.until.clone(),
        state: args::State { folder: args.state.folder.clone() },
    };
    let (history, since, until) = history::asked(&span, LATELY, SignedDuration::ZERO)?;
    let history = history.within(since, until);
    let from = match kept {
        Some(path) => shown(path),
        None => "its history of usage".to_owned(),
    };
    let made = format!(
        "Made by Sophron {} on {} from {from} ({}): {}",
        env!("CARGO_PKG_VERSION"),
        history.host,
        sophron_core::text::counted(history.rows.len(), "hour"),
        typed(args)
    );
    let document = match args.to {
        Some(args::Reader::Customer) => report::months_for_customer(&history, &suggested(args)),
        None => report::months(&history, &made),
    };
    let nothing = || Failure::new(Exit::Failed, "nothing is known of that time").hint("give an earlier --since");
    let news = !sophron_core::usage::all_changes(&history).is_empty();
    Ok(Some((document.ok_or_else(nothing)?, news)))
}

/// Whether a time is asked for that began before the lookback, longer ago than that reaches at most.
fn reaches_back(args: &args::Report) -> Result<bool, Failure> {
    let Some(since) = args.played.since.as_deref() else { return Ok(false) };
    let now = jiff::Zoned::now();
    let since = moments::read(since, &Anchor::Now(now.clone()))?;
    let folder = places::state(args.state.folder.as_deref())?;
    let oldest = lookback::pieces(&folder).ok().and_then(|pieces| pieces.first().map(|piece| piece.begun));
    // Who keeps no history is told what the lookback has of it.
    let kept = || sophron_history::folder(&folder).join(sophron_history::FILE).exists();
    let before_lookback = oldest.is_none_or(|oldest| since < shifted(oldest, -SLACK) && kept());
    Ok(before_lookback && now.timestamp().duration_since(since) > SHORT)
}

fn suggested(args: &args::Report) -> Vec<String> {
    args.suggest.iter().map(|text| clean(text.as_bytes())).collect()
}

fn shown(path: &Path) -> String {
    clean(path.as_os_str().as_encoded_bytes())
}

/// The hours of that name.
fn hours(name: &str, rules: Option<&RuleSet>) -> Result<Hours, Failure> {
    let known = rules.map(|rules| &rules.hours);
    if let Some(spans) = known.and_then(|known| known.get(name)) {
        return Ok(Hours::named(name, false, Arc::clone(spans)));
    }
    let names: Vec<&str> = known.iter().flat_map(|known| known.keys().map(String::as_str)).collect();
    let hint = match names.is_empty() {
        true => "name them in a rules file: `[hours]`, `office = [\"Mon-Fri 08:00-18:00\"]`, and give it with --rules"
            .to_owned(),
        false => format!("the rules file has {}", names.join(", ")),
    };
    Err(Failure::new(Exit::Usage, format!("there are no hours called {}", clean(name.as_bytes()))).hint(hint))
}

/// The cases of the record in that time.
fn of_record(state: &args::State, stretch: &Stretch, frame: &mut Frame) -> Result<Vec<Case>, Failure> {
    let folder = places::state(state.folder.as_deref())?;
    let since: Option<Timestamp> = stretch.from.checked_sub(BEFORE).ok();
    let filter = sophron_core::audit::Filter { since, ..sophron_core::audit::Filter::default() };
    let files = match trail::read(&folder, since, None) {
        Ok(files) => files,
        Err(error) => {
            let why = sophron_core::text::with_causes(&error);
            frame.no_cases = Some(format!("The record could not be read: {why}."));
            return Ok(Vec::new());
        }
    };
    let Some(files) = files else {
        frame.no_cases = Some("No record was kept in this time.".to_owned());
        return Ok(Vec::new());
    };
    let records: Vec<_> = files.bytes.iter().flat_map(|bytes| filter.pick(bytes, false)).collect();
    Ok(report::of_records(&records, stretch.from, stretch.until))
}

/// The command that makes it again, as it was typed.
fn typed(args: &args::Report) -> String {
    let quoted = |text: &str| match text.chars().all(|c| c.is_ascii_alphanumeric() || "._-/:=+".contains(c))
        && !text.is_empty()
    {
        true => text.to_owned(),
        false => format!("'{}'", clean(text.as_bytes()).replace('\'', "'\\''")),
    };
    let mut command = "sophron report".to_owned();
    let mut add = |option: &str, value: Option<String>| {
        if let Some(value) = value {
            command.push_str(&format!(" --{option} {}", quoted(&value)));
        }
    };
    for path in &args.played.from {
        add("from", Some(path.display().to_string()));
    }
    add("since", args.played.since.clone());
    add("until", args.played.until.clone());
    add("rules", args.rules.as_ref().map(|path| path.display().to_string()));
    add("hours", args.hours.clone());
    command
}

fn not_there(path: &Path) -> Result<(), Failure> {
    match path.symlink_metadata() {
        Ok(_) => {
            Err(Failure::new(Exit::Usage, format!("{} is there already, and nothing is overwritten", shown(path)))
                .hint("give another name, or take that file away"))
        }
        Err(_) => Ok(()),
    }
}

/// To the file that was asked for, or to standard output.
fn give(args: &args::Report, document: &Document) -> Result<(), Failure> {
    let format = args.format.unwrap_or(if args.save.is_some() { ReportFormat::Html } else { ReportFormat::Text });
    let width = if args.save.is_some() { None } else { table::terminal_width() };
    let text = match format {
        ReportFormat::Html => ui::page::html(document),
        ReportFormat::Text => document::text(document, width),
        ReportFormat::Json => format!("{}\n", document.json()),
    };
    let Some(path) = args.save.as_deref() else {
        match format {
            ReportFormat::Text => ui::page(&text),
            _ => ui::out(text),
        }
        return Ok(());
    };
    let text = if format == ReportFormat::Text { anstream::adapter::strip_str(&text).to_string() } else { text };
    // It says who ran what: it is for whoever asked, until he gives it to others.
    let written = new_files::write(path, text.as_bytes(), new_files::OWNER_ONLY);
    written.map_err(|error| Failure::of(Exit::Failed, error))?;
    ui::err(format_args!("sophron: written to {}\n", shown(path)));
    Ok(())
}
