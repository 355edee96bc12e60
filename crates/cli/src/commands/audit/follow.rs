//! `sophron audit --follow`: what is recorded from now on.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::path::PathBuf;
use std::time::Duration;

use sophron_core::audit::{Record, SubjectRecord};
use sophron_linux::trail;

use super::{export, filter};
use crate::args::{self, TextOrJson};
use crate::exit::{Exit, Failure};
use crate::places;
use crate::ui::{self, when};

/// How often the trail is looked at.
const PAUSE: Duration = Duration::from_millis(300);

pub fn run(args: &args::AuditList) -> Result<Exit, Failure> {
    let state = places::state(args.filter.state.folder.as_deref())?;
    let filter = filter(&args.filter)?;
    let whole = args.records || args.format == TextOrJson::Json;
    // Only what comes from now on.
    let mut place = (present(&state)?, 0);
    place.1 = place.0.as_ref().and_then(|path| std::fs::metadata(path).ok()).map_or(0, |file| file.len());
    let mut rest = Vec::new();
    loop {
        if let Some(path) = &place.0 {
            place.1 += more(path, place.1, &mut rest);
            while let Some(end) = rest.iter().position(|byte| *byte == b'\n') {
                let line: Vec<u8> = rest.drain(..=end).collect();
                let Ok(record) = serde_json::from_slice::<Record>(&line) else { continue };
                if filter.takes(&record) {
                    ui::out(if whole { export::line(&record) } else { told(&record) });
                }
            }
        }
        let now = present(&state)?;
        if now != place.0 {
            place = (now, 0);
            rest.clear();
            continue;
        }
        std::thread::sleep(PAUSE);
    }
}

fn present(state: &std::path::Path) -> Result<Option<PathBuf>, Failure> {
    Ok(trail::files(state).map_err(|error| Failure::of(Exit::Failed, error))?.pop())
}

/// What was appended since; how many bytes.
fn more(path: &std::path::Path, from: u64, rest: &mut Vec<u8>) -> u64 {
    let read = File::open(path).and_then(|mut file| {
        file.seek(SeekFrom::Start(from))?;
        file.read_to_end(rest)
    });
    read.unwrap_or(0) as u64
}

/// `09:32:20  outcome  case 47  labelpress 51907-kqm (ines)  suspended: every thread`.
fn told(record: &Record) -> String {
    let mut pieces = vec![when::clock(record.at), record.kind.to_string()];
    pieces.extend(record.case.map(|case| format!("case {case}")));
    pieces.extend(record.subject.as_ref().map(SubjectRecord::label));
    pieces.extend(record.action.as_ref().map(|action| action.verb.to_string()));
    pieces.extend(record.result.as_ref().map(|result| match result.seen.is_empty() {
        true => result.outcome.to_string(),
        false => format!("{}: {}", result.outcome, result.seen),
    }));
    pieces.join("  ") + "\n"
}
