//! A history as lines, to be kept in a file and taken elsewhere. What is read is not trusted.

use std::collections::HashMap;
use std::sync::Arc;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};

use super::history::{CaseAt, Event, Happened, History};
use super::rows::{App, AppHour, MachineHour, Row};
use crate::order::InOrder;
use crate::text::{clean, cut};

/// The format that is written, and the newest that is read.
pub const FORMAT: u32 = 1;

/// Names are cut at so many characters.
const LONGEST: usize = 256;

/// Most rows and apps of a file.
const MOST_ROWS: usize = 1 << 20;

/// What is wrong with a file.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum FileError {
    /// It is none.
    #[error("this is no history of usage")]
    NotOne,
    /// It was written by a newer version.
    #[error("it is of format {0}, and this version reads up to {FORMAT}")]
    Newer(u32),
    /// A line cannot be read.
    #[error("line {0} cannot be read: {1}")]
    Line(usize, String),
}

#[derive(Serialize, Deserialize)]
struct Header {
    sophron: String,
    format: u32,
    host: String,
    zone: Option<String>,
}

#[derive(Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum Line {
    App(u32, String, String, u32),
    Hour { start: Timestamp, machine: MachineLine, apps: Vec<AppLine> },
    Happened { at: Timestamp, event: Event, app: String, words: String },
    Case { at: Timestamp, app: String, owner: String, rule: String },
}

/// Number of the app, and its figures.
type AppLine = (u32, [f64; 7], u32, u32);

#[derive(Serialize, Deserialize)]
struct MachineLine {
    seconds: f64,
    napped: f64,
    cores: u32,
    memory: u64,
    cpu: f64,
    unseen: f64,
    available_low: Option<f64>,
    available: Option<f64>,
    swapped: f64,
    stalled: [f64; 3],
    waited: f64,
    held_up: f64,
    disk_busy: f64,
    files_full: Option<f64>,
}

/// Figures are kept to what they are worth.
fn whole(value: f64) -> f64 {
    (value * 10.0).round() / 10.0
}

impl From<&MachineHour> for MachineLine {
    fn from(of: &MachineHour) -> MachineLine {
        MachineLine {
            seconds: whole(of.seconds),
            napped: whole(of.napped),
            cores: of.cores,
            memory: of.memory,
            cpu: whole(of.cpu),
            unseen: whole(of.unseen),
            available_low: of.available_low.map(f64::round),
            available: of.available.map(f64::round),
            swapped: of.swapped.round(),
            stalled: of.stalled.map(whole),
            waited: whole(of.waited),
            held_up: whole(of.held_up),
            disk_busy: whole(of.disk_busy),
            files_full: of.files_full.map(whole),
        }
    }
}

/// Nothing below zero, and nothing that is no number.
fn sane(value: f64) -> f64 {
    if value.is_finite() { value.max(0.0) } else { 0.0 }
}

impl From<MachineLine> for MachineHour {
    fn from(of: MachineLine) -> MachineHour {
        MachineHour {
            seconds: sane(of.seconds),
            napped: sane(of.napped),
            cores: of.cores,
            memory: of.memory,
            cpu: sane(of.cpu),
            unseen: sane(of.unseen),
            available_low: of.available_low.map(sane),
            available: of.available.map(sane),
            swapped: sane(of.swapped),
            stalled: of.stalled.map(sane),
            waited: sane(of.waited),
            held_up: sane(of.held_up),
            disk_busy: sane(of.disk_busy),
            files_full: of.files_full.map(sane),
            until: None,
        }
    }
}

/// The lines of a history.
pub fn write(history: &History) -> String {
    let mut out = String::new();
    let mut line = |value: Result<String, serde_json::Error>| {
        if let Ok(text) = value {
            out.push_str(&text);
            out.push('\n');
        }
    };
    let zone = history.zone.iana_name().map(str::to_owned);
    let header = Header { sophron: "usage".to_owned(), format: FORMAT, host: history.host.clone(), zone };
    line(serde_json::to_string(&header));
    let mut places: HashMap<&App, u32> = HashMap::new();
    for row in &history.rows {
        let mut apps: Vec<AppLine> = Vec::new();
        for (app, of) in &row.apps {
            let next = u32::try_from(places.len()).unwrap_or(u32::MAX);
            let place = *places.entry(app).or_insert_with(|| {
                line(serde_json::to_string(&Line::App(next, app.app.clone(), app.owner.clone(), app.uid)));
                next
            });
            let figures = [of.seconds, of.cpu, of.through, of.held, of.held_high, of.read, of.written];
            let figures = [
                figures[0].round(),
                whole(figures[1]),
                whole(figures[2]),
                figures[3].round(),
                figures[4].round(),
                figures[5].round(),
                figures[6].round(),
            ];
            apps.push((place, figures, of.most, of.starts));
        }
        line(serde_json::to_string(&Line::Hour { start: row.start, machine: (&row.machine).into(), apps }));
    }
    for of in history.happened.iter().cloned() {
        line(serde_json::to_string(&Line::Happened { at: of.at, event: of.event, app: of.app, words: of.words }));
    }
    for of in history.cases.iter().cloned() {
        line(serde_json::to_string(&Line::Case { at: of.at, app: of.app, owner: of.owner, rule: of.rule }));
    }
    out
}

/// A history from its lines.
///
/// # Errors
/// It is none, is newer, or has a line that cannot be read.
pub fn read<'l>(mut lines: impl Iterator<Item = &'l [u8]>) -> Result<History, FileError> {
    let name = |text: &str| clean(cut(text, LONGEST).as_bytes());
    let first = lines.next().ok_or(FileError::NotOne)?;
    let header: Header = serde_json::from_slice(first).map_err(|_| FileError::NotOne)?;
    if header.sophron != "usage" {
        return Err(FileError::NotOne);
    }
    if header.format > FORMAT {
        return Err(FileError::Newer(header.format));
    }
    let zone = header.zone.as_deref().and_then(|zone| TimeZone::get(zone).ok()).unwrap_or(TimeZone::UTC);
    let mut history = History::empty(&name(&header.host), zone);
    let mut apps: HashMap<u32, Arc<App>> = HashMap::new();
    for (place, line) in lines.enumerate().filter(|(_, line)| !line.is_empty()) {
        let wrong = |why: String| FileError::Line(place + 2, why);
        let line: Line = serde_json::from_slice(line).map_err(|error| wrong(error.to_string()))?;
        if history.rows.len() + apps.len() >= MOST_ROWS {
            return Err(wrong(format!("it has more than {MOST_ROWS} rows")));
        }
        match line {
            Line::App(id, app, owner, uid) => {
                apps.insert(id, History::app(&name(&app), &name(&owner), uid));
            }
            Line::Hour { start, machine, apps: of } => {
                let one = |(id, figures, most, starts): &AppLine| {
                    let app = apps.get(id).ok_or_else(|| wrong(format!("there is no app {id}")))?;
                    let [seconds, cpu, through, held, held_high, read, written] = figures.map(sane);
                    let hour =
                        AppHour { seconds, cpu, through, held, held_high, read, written, most: *most, starts: *starts };
                    Ok((Arc::clone(app), hour))
                };
                let apps = of.iter().map(one).collect::<Result<_, FileError>>()?;
                history.rows.push(Row { start, machine: machine.into(), apps });
            }
            Line::Happened { at, event, app, words } => {
                history.happened.push(Happened { at, event, app: name(&app), words: name(&words) });
            }
            Line::Case { at, app, owner, rule } => {
                history.cases.push(CaseAt { at, app: name(&app), owner: name(&owner), rule: name(&rule) });
            }
        }
    }
    history.rows.order_by_key(|row| row.start);
    history.happened.order_by_key(|happened| happened.at);
    history.cases.order_by_key(|case| case.at);
    Ok(history)
}
