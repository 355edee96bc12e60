//! Where a command gets usage over weeks from: this machine's history, one that was kept in a file, or a recording.

use std::io::{BufRead, BufReader, Read};
use std::path::Path;

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, Zoned};
use sophron_core::audit::{Filter, Kind};
use sophron_core::checkup::Limits;
use sophron_core::moment::Anchor;
use sophron_core::subject::Judged;
use sophron_core::text::clean;
use sophron_core::usage::{CaseAt, History, Slot, Tally, Usual, file};
use sophron_history::{HistoryError, Reader};
use sophron_linux::{files, here, trail};

use crate::args::{self, UsageSpan};
use crate::exit::{Exit, Failure};
use crate::moments;
use crate::places;
use crate::recordings::Recordings;

/// The history that comes with Sophron; made by `cargo run -p sophron-demo-day`.
const DEMO_MONTHS: &[u8] = include_bytes!("../../../demo/months.jsonl.zst");

/// What `--from` calls it.
pub const DEMO: &str = "demo-months";

/// A kept history is at most so large, unpacked, bytes.
const LARGEST: u64 = 512 << 20;

/// The first bytes of a compressed file, and of a database.
const PACKED: [u8; 4] = [0x28, 0xb5, 0x2f, 0xfd];
const DATABASE: &[u8] = b"SQLite format 3";

/// How a kept history begins, unpacked.
const BEGINS: &[u8] = b"{\"sophron\":\"usage\"";

fn shown(path: &Path) -> String {
    clean(path.as_os_str().as_encoded_bytes())
}

/// A span in a time of its own, or in the present.
fn span(asked: &UsageSpan, anchor: &Anchor, default: Option<&str>) -> Result<(Timestamp, Timestamp), Failure> {
    let read = |text: &str| moments::read(text, anchor);
    let since = asked.since.as_deref().or(default).map(read).transpose()?.unwrap_or(Timestamp::MIN);
    let until = asked.until.as_deref().map(read).transpose()?.unwrap_or(Timestamp::MAX);
    if since >= until {
        return Err(Failure::new(Exit::Usage, "that span ends before it begins"));
    }
    Ok((since, until))
}

/// The part of the time that is asked for: `since`, and everything before it that is needed as well, `earlier` than that.
pub fn asked(
    asked: &UsageSpan,
    default: &str,
    earlier: SignedDuration,
) -> Result<(History, Timestamp, Timestamp), Failure> {
    match &asked.from {
        None => {
            let now = Zoned::now();
            let zone = now.time_zone().clone();
            let (since, until) = span(asked, &Anchor::Now(now), Some(default))?;
            let from = since.checked_sub(earlier).unwrap_or(Timestamp::MIN);
            let history = of_this_machine(&asked.state, zone, from, until)?;
            Ok((history, since, until))
        }
        Some(path) => {
            let history = of_file(path, &asked.state)?;
            let begun = history.span().map_or(Timestamp::UNIX_EPOCH, |(from, _)| from);
            let (since, until) = span(asked, &Anchor::Day(begun.to_zoned(history.zone.clone())), None)?;
            Ok((history, since, until))
        }
    }
}

/// This machine's, with the cases of its record.
pub fn of_this_machine(
    state: &args::State,
    zone: TimeZone,
    from: Timestamp,
    until: Timestamp,
) -> Result<History, Failure> {
    let folder = places::state(state.folder.as_deref())?;
    let told = |error: HistoryError| {
        let hint = match () {
            () if error.is_missing() && state.folder.is_none() && !here::is_privileged() => {
                "the machine's own is read by root: sudo sophron usage; `--from demo-months` is one to look at"
            }
            () if error.is_missing() => {
                "`sophron watch` keeps it while it runs; `--from demo-months` is one to look at"
            }
            () if error.is_newer() => "a newer Sophron reads it",
            () if error.is_damaged() => "the next start of `sophron watch` sets it aside and begins a new one",
            () => "the machine's own is read by root, or by the group in `[usage] readers`",
        };
        Failure::of(Exit::Failed, error).hint(hint)
    };
    let reader = Reader::open(&sophron_history::folder(&folder)).map_err(told)?;
    let mut history = reader.read(zone, from, until).map_err(told)?;
    history.read = Some(Timestamp::now());
    let filter = Filter { since: Some(from), ..Filter::default() };
    // Cases that cannot be read are not counted: usage is told all the same.
    if let Ok(Some(files)) = trail::read(&folder, Some(from), None) {
        let records = files.bytes.iter().flat_map(|bytes| filter.pick(bytes, false));
        let opened = records.filter(|record| record.kind == Kind::Breach && record.at < until);
        history.cases = opened
            .map(|record| {
                let subject = record.subject.as_ref();
                let machine = subject
                    .and_then(|subject| subject.of.as_ref())
                    .is_some_and(|group| group.judge.word() == Judged::Machine.word());
                let of = subject.filter(|_| !machine);
                CaseAt {
                    at: record.at,
                    app: of.map(|subject| subject.app.clone()).unwrap_or_default(),
                    owner: of.map(|subject| subject.owner.clone()).unwrap_or_default(),
                    rule: record.rule.clone().unwrap_or_default(),
                }
            })
            .collect();
    }
    Ok(history)
}

/// What is usual of apps on this machine; none where there is no history that can be read.
pub fn usual(state: &args::State) -> Option<Usual> {
    let folder = places::state(state.folder.as_deref()).ok()?;
    let since = Timestamp::now().checked_sub(sophron_history::USUAL).ok()?;
    Reader::open(&sophron_history::folder(&folder)).ok()?.usual(since).ok()
}

/// Whether that is a kept history, and no recording.
pub fn is_history(path: &Path) -> bool {
    if path == Path::new(DEMO) {
        return true;
    }
    let first = || {
        let mut reader = BufReader::new(files::open_plain(path).ok()?);
        let packed = reader.fill_buf().ok()?.starts_with(&PACKED);
        let mut begins = [0; BEGINS.len()];
        match packed {
            true => zstd::stream::read::Decoder::with_buffer(reader).ok()?.read_exact(&mut begins).ok()?,
            false => reader.read_exact(&mut begins).ok()?,
        }
        Some(begins == BEGINS)
    };
    first().unwrap_or(false)
}

/// One that was kept in a file, or what a recording tells.
pub fn of_file(path: &Path, state: &args::State) -> Result<History, Failure> {
    if path == Path::new(DEMO) {
        return parse(DEMO_MONTHS, "the demo months");
    }
    let name = shown(path);
    let failed = |error: std::io::Error| Failure::new(Exit::Failed, format!("{name} cannot be read")).because(error);
    if is_history(path) {
        return parse(BufReader::new(files::open_plain(path).map_err(failed)?), &name);
    }
    if path != Path::new("demo") {
        let mut begins = [0; DATABASE.len()];
        let file = files::open_plain(path).map_err(failed)?;
        if file.take(DATABASE.len() as u64).read(&mut begins).map_err(failed)? == DATABASE.len() && begins == *DATABASE
        {
            return Err(Failure::new(Exit::Usage, format!("{name} is a database, and none is opened that is named"))
                .hint("`sophron usage export FILE` on its own machine makes a file that is read here"));
        }
    }
    let recordings = Recordings::new(&[path.to_owned()], None, None, state)?;
    let mut tally = Tally::new(Slot::Hour, recordings.zone().clone(), Limits::default());
    let told = recordings.each(|snapshot, _, _| tally.take(snapshot))?;
    let mut history = History::empty(&told.host, recordings.zone().clone());
    history.rows = tally.rows();
    Ok(history)
}

fn parse(mut reader: impl BufRead, name: &str) -> Result<History, Failure> {
    let failed = |error: std::io::Error| Failure::new(Exit::Failed, format!("{name} cannot be read")).because(error);
    let packed = reader.fill_buf().map_err(failed)?.starts_with(&PACKED);
    let mut bytes = Vec::new();
    match packed {
        true => zstd::stream::read::Decoder::with_buffer(reader).map_err(failed)?.take(LARGEST).read_to_end(&mut bytes),
        false => reader.take(LARGEST).read_to_end(&mut bytes),
    }
    .map_err(failed)?;
    file::read(bytes.split(|byte| *byte == b'\n')).map_err(|error| {
        Failure::new(Exit::Failed, format!("{name}: {error}")).hint("`sophron usage export FILE` makes one")
    })
}
