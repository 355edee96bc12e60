//! The weeks before the day, hour by hour: the same programs at the same office.

use std::sync::Arc;

use jiff::civil::{Date, DateTime, Time, Weekday};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use serde::Deserialize;
use sophron_core::sorted::SortedMap;
use sophron_core::usage::{App, AppHour, CaseAt, Event, Happened, History, MachineHour, Row};

use crate::StoryError;
use crate::random::Random;
use crate::story::{Program, Size, Story};

/// The weeks.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Months {
    begin: Date,
    end: Date,
    seed: u64,
    open: i8,
    shut: i8,
    #[serde(default)]
    away: Vec<Date>,
    #[serde(default)]
    routine: Vec<Routine>,
    #[serde(default)]
    version: Vec<Version>,
    #[serde(default)]
    happened: Vec<Told>,
    #[serde(default)]
    case: Vec<Recurring>,
}

/// What a program does on its days, in that hour.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Routine {
    app: String,
    days: Vec<String>,
    hour: i8,
    cpu_minutes: f64,
    read: Option<Size>,
    held: Option<Size>,
    #[serde(default)]
    waited_minutes: f64,
    #[serde(default)]
    skipped: Vec<Date>,
}

/// A version that holds more.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Version {
    app: String,
    from: DateTime,
    holds: f64,
    words: String,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Told {
    at: DateTime,
    event: Event,
    words: String,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Recurring {
    app: String,
    rule: String,
    days: Vec<String>,
    hour: i8,
}

impl Months {
    /// Reads the weeks.
    ///
    /// # Errors
    /// They make no sense.
    pub fn read(text: &str) -> Result<Months, StoryError> {
        toml::from_str(text).map_err(|error| StoryError(error.to_string()))
    }
}

fn is_on(days: &[String], day: Weekday) -> bool {
    const NAMES: [&str; 7] = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
    let place = usize::from(day.to_monday_zero_offset().unsigned_abs());
    days.iter().any(|name| NAMES.get(place).is_some_and(|known| known == name))
}

/// The history that these weeks and that story tell.
///
/// # Errors
/// They do not make sense.
pub fn history(story: &Story, months: &Months) -> Result<History, StoryError> {
    let fail = |error: &dyn std::fmt::Display| StoryError(error.to_string());
    let zone = TimeZone::get(&story.zone).map_err(|error| fail(&error))?;
    let at = |when: DateTime| when.to_zoned(zone.clone()).map(|at| at.timestamp()).map_err(|error| fail(&error));
    let mut history = History::empty(&story.host, zone.clone());
    let mut random = Random(months.seed);
    // Programs of the same name and owner are one app.
    let mut apps: Apps<'_> = SortedMap::new();
    for program in &story.program {
        let uid = crate::day::uid_of(&program.owner);
        let of = apps.entry((&program.app, &program.owner)).or_insert_with(|| {
            (Arc::new(App { app: program.app.clone(), owner: program.owner.clone(), uid }), Vec::new())
        });
        // A program that comes again is the same one.
        if of.1.iter().all(|known| known.from.is_none() == program.from.is_none()) && of.1.is_empty() {
            of.1.push(program);
        }
    }
    let mut day = months.begin;
    while day <= months.end {
        let weekday = day.weekday();
        if weekday != Weekday::Sunday && !months.away.contains(&day) {
            for hour in months.open..=months.shut {
                let start = at(day.at(hour, 0, 0, 0))?;
                let seen = if hour == months.open {
                    3000.0
                } else if hour == months.shut {
                    1200.0
                } else {
                    3600.0
                };
                let mut row = row(story, months, &apps, day, hour, seen, start, &mut random);
                row.machine.until = None;
                history.rows.push(row);
            }
            for case in months.case.iter().filter(|case| is_on(&case.days, weekday)) {
                let owner =
                    story.program.iter().find(|program| program.app == case.app).map(|program| program.owner.clone());
                let minute = (random.unit() * 59.0) as i8;
                history.cases.push(CaseAt {
                    at: at(day.at(case.hour, minute, 0, 0))?,
                    app: case.app.clone(),
                    owner: owner.unwrap_or_default(),
                    rule: case.rule.clone(),
                });
            }
        }
        day = day.checked_add(1.day()).map_err(|error| fail(&error))?;
    }
    for told in &months.happened {
        let (event, words) = (told.event.clone(), told.words.clone());
        history.happened.push(Happened { at: at(told.at)?, event, app: String::new(), words });
    }
    for version in &months.version {
        let (event, app, words) = (Event::Program, version.app.clone(), version.words.clone());
        history.happened.push(Happened { at: at(version.from)?, event, app, words });
    }
    history.happened.sort_by_key(|happened| happened.at);
    Ok(history)
}

/// The programs of one name and owner.
type Apps<'s> = SortedMap<(&'s str, &'s str), (Arc<App>, Vec<&'s Program>)>;

/// For which part of that hour a program is there.
fn there(program: &Program, hour: i8) -> f64 {
    let minutes = |time: Time| f64::from(time.hour()) * 60.0 + f64::from(time.minute());
    let (begin, end) = (f64::from(hour) * 60.0, f64::from(hour) * 60.0 + 60.0);
    let from = program.from.map_or(begin, minutes).max(begin);
    let until = program.until.map_or(end, minutes).min(end);
    ((until - from) / 60.0).max(0.0)
}

#[allow(clippy::too_many_arguments)]
fn row(
    story: &Story,
    months: &Months,
    apps: &Apps<'_>,
    day: Date,
    hour: i8,
    seen: f64,
    start: Timestamp,
    random: &mut Random,
) -> Row {
    let weekday = day.weekday();
    let routine = |app: &str| {
        let mut of = months.routine.iter().filter(|routine| routine.app == app && routine.hour == hour);
        of.find(|routine| is_on(&routine.days, weekday) && !routine.skipped.contains(&day))
    };
    let mut row = Row { start, ..Row::default() };
    let mut waited: f64 = 0.0;
    let busy = crate::day::rhythm(Time::constant(hour, 30, 0, 0));
    for (app, programs) in apps.values() {
        let routine = routine(&app.app);
        let mut of = AppHour::default();
        for program in programs {
            let seen = seen * there(program, hour);
            if seen <= 0.0 {
                continue;
            }
            let count = f64::from(program.count);
            let share = (program.active / 100.0 * busy).min(1.0);
            of.seconds = seen;
            of.cpu += count * program.cpu / 100.0 * share * seen * random.between(0.85, 1.2);
            of.held += count * program.memory.0 as f64 * random.between(0.97, 1.04);
            of.read += program.disk_read() * share * seen * random.between(0.7, 1.2);
            of.most += program.count;
        }
        if of.seconds <= 0.0 {
            continue;
        }
        if let Some(routine) = routine {
            of.cpu += routine.cpu_minutes * 60.0 * random.between(0.92, 1.06);
            of.read += routine.read.map_or(0.0, |size| size.0 as f64) * random.between(0.94, 1.05);
            of.held = routine.held.map_or(of.held, |size| size.0 as f64);
            waited += routine.waited_minutes * 60.0 * random.between(0.85, 1.1);
        }
        let version = months.version.iter().filter(|version| version.app == app.app);
        let hour_of = day.at(hour, 0, 0, 0);
        for version in version.filter(|version| hour_of >= version.from) {
            of.held *= version.holds;
        }
        of.held_high = of.held * random.between(1.01, 1.12);
        row.apps.push((Arc::clone(app), of));
    }
    let used: f64 = row.apps.iter().map(|(_, of)| of.cpu).sum();
    let held: f64 = row.apps.iter().map(|(_, of)| of.held).sum();
    let unseen = used * random.between(0.05, 0.08);
    let total = story.memory.0;
    let left = (total as f64 * 0.86 - held).max(total as f64 * 0.12);
    row.machine = MachineHour {
        seconds: seen,
        cores: story.cores,
        memory: total,
        cpu: used + unseen,
        unseen,
        available: Some(left),
        available_low: Some(left * random.between(0.86, 0.95)),
        stalled: [random.between(2.0, 20.0), 0.0, waited * 0.4 + random.between(1.0, 9.0)],
        waited: waited.min(seen),
        disk_busy: waited * 0.9 + random.between(4.0, 30.0),
        files_full: Some(69.0 + f64::from(day.day_of_year() - 225) * 0.04),
        ..MachineHour::default()
    };
    row
}
