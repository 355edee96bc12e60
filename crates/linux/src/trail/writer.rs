//! The writer: takes the lock, finds the end, appends and syncs; begins a new file when one is full or old, and lets the
//! oldest go.

use std::path::PathBuf;

use jiff::SignedDuration;
use sophron_core::audit::{ActionRecord, Draft, FORMAT, Kind, Link, Record, ResultRecord, Retired, open_holds, tail};
use sophron_core::effects::Originals;
use sophron_core::rules::CommandLines;

use super::folder::{Folder, Seen, Sheet};
use super::keys::Stamped;
use super::{Append, Keeping, LOCK_WAIT, TrailError, io_error, name, number};

/// Space kept free behind the last record: a full disk disarms Sophron, and the offender may be what fills it.
const RESERVE: u64 = 4 * 1024 * 1024;

/// So much of a file's end is read to find its last record; more where that is longer.
const TAIL: u64 = 256 * 1024;

/// Writes to one trail.
#[derive(Debug)]
pub struct Writer<F: Folder> {
    pub(super) folder: F,
    /// Where that folder is, for messages.
    place: PathBuf,
    open: Option<Open<F::Sheet>>,
    /// What host, boot and user a record of the trail's own (opened, repaired) carries.
    base: Draft,
    keeping: Keeping,
    /// The end as we last left it, to tell whether a trail was taken away.
    left: Option<Link>,
}

/// The present file as we last left it.
#[derive(Debug)]
struct Open<S> {
    sheet: S,
    number: u64,
    inode: u64,
    size: u64,
    reserved: u64,
    link: Link,
    /// When its first record was written.
    begun: jiff::Timestamp,
}

impl<F: Folder> Writer<F> {
    /// A writer to the trail in that folder, which stands at `place`.
    pub fn new(folder: F, place: PathBuf, base: Draft, keeping: Keeping) -> Writer<F> {
        Writer { folder, place, open: None, base, keeping, left: None }
    }

    pub(super) fn path_of(&self, name: &str) -> PathBuf {
        self.place.join(name)
    }

    pub(super) fn link(&self) -> Option<Link> {
        self.open.as_ref().map(|open| open.link.clone())
    }

    pub(super) fn synced(&self) -> Result<(), TrailError> {
        self.folder.sync().map_err(|error| io_error(&self.place, "synced", error))
    }

    pub(super) fn own(&self, kind: Kind, outcome: &str, seen: &str) -> Draft {
        Draft {
            at: crate::here::now().wall,
            kind,
            action: Some(ActionRecord::word("keep the trail")),
            result: Some(ResultRecord { outcome: outcome.to_owned(), seen: seen.to_owned(), took: None }),
            ..self.base.clone()
        }
    }

    fn locked<T>(&mut self, work: impl FnOnce(&mut Self) -> Result<T, TrailError>) -> Result<T, TrailError> {
        match self.folder.lock(LOCK_WAIT) {
            Ok(true) => {}
            Ok(false) => return Err(TrailError::Locked(self.path_of("lock"))),
            Err(error) => return Err(io_error(&self.place, "locked", error)),
        }
        let done = work(self);
        if done.is_err() {
            // What stands behind the last sound record is found and cut by the next refresh.
            self.open = None;
        }
        self.folder.unlock();
        done
    }

    /// Makes sure that the open file is the present one, and that we know its end: another writer may have appended or
    /// begun a new file, and somebody may have replaced it.
    fn refresh(&mut self) -> Result<(), TrailError> {
        if let Some(open) = &self.open {
            let failed = |error| io_error(&self.place, "examined", error);
            let same = Some(Seen { inode: open.inode, size: open.size });
            if self.folder.seen(&name(open.number)).map_err(failed)? == same
                && self.folder.seen(&name(open.number + 1)).map_err(failed)?.is_none()
            {
                return Ok(());
            }
        }
        self.open = None;
        let numbers = self.numbers()?;
        let present = numbers.last().copied().unwrap_or(1);
        let before = numbers.iter().rev().nth(1).copied();
        self.begin(present, before)
    }

    fn numbers(&self) -> Result<Vec<u64>, TrailError> {
        let names = self.folder.names().map_err(|error| io_error(&self.place, "listed", error))?;
        let mut numbers: Vec<u64> = names.iter().filter_map(|name| number(name)).collect();
        numbers.sort_unstable();
        Ok(numbers)
    }

    /// Opens a file, mends its end, and gives it its first records if it has none. `before` is the file that it follows.
    fn begin(&mut self, number: u64, before: Option<u64>) -> Result<(), TrailError> {
        let file = name(number);
        let path = self.path_of(&file);
        let sheet = self.folder.open(&file, true).map_err(|error| io_error(&path, "opened", error))?;
        // The folder's entry for a new file has to last as well.
        self.synced()?;
        let Seen { inode, size } = sheet.seen().map_err(|error| io_error(&path, "examined", error))?;
        let (link, torn) = read_tail(&sheet, size, &path)?;
        let has_records = link.is_some();
        let link = match (link, before) {
            (Some(link), _) => link,
            (None, Some(before)) => self.end_of(before)?,
            (None, None) => Link::default(),
        };
        let begun = first_time(&sheet, size).unwrap_or_else(|| crate::here::now().wall);
        let mut open = Open { sheet, number, inode, size, reserved: size, link, begun };
        let mut own = Vec::new();
        if let Some(torn) = &torn {
            let keep = size - torn.bytes;
            open.sheet.cut(keep).map_err(|error| io_error(&path, "repaired", error))?;
            open.size = keep;
            own.push(self.own(Kind::Repaired, "cut a torn last line off", &torn.cut));
        }
        self.open = Some(open);
        if !has_records {
            let mut head = self.head(before)?;
            head.append(&mut own);
            own = head;
        }
        if !own.is_empty() {
            self.write(&own)?;
        }
        Ok(())
    }

    /// The first records of a file: that it begins, what is still in force, and the key of the next stamp.
    fn head(&mut self, before: Option<u64>) -> Result<Vec<Draft>, TrailError> {
        let format = format!("format {FORMAT}, sophron {}", env!("CARGO_PKG_VERSION"));
        let Some(before) = before else {
            let seen = match &self.left {
                // Whoever took the earlier one away cannot take this away as well.
                Some(left) => {
                    format!(
                        "{format}; the trail before it was taken away after record {} with the hash {}",
                        left.seq, left.hash
                    )
                }
                None => format,
            };
            return Ok(vec![self.own(Kind::TrailOpened, "opened", &seen), self.begin_a_key()?]);
        };
        let records = self.records_of(before)?;
        let highest = records.iter().filter_map(|record| record.case).max();
        let stamp = records.iter().rev().find_map(|record| record.stamp.clone());
        let seen = format!("{format}; follows {}", name(before));
        let opened = self.own(Kind::TrailOpened, "opened", &seen);
        let mut head = vec![Draft { case: highest, stamp, ..opened }];
        for hold in open_holds(&records) {
            let carried = self.own(Kind::Carried, "in force", "still in force from an earlier file");
            let action = ActionRecord {
                nice: Some(hold.nice),
                originals: Some(Originals { ..hold.originals.clone() }),
                ..ActionRecord::word("lower")
            };
            head.push(Draft {
                boot: hold.id.boot.to_string(),
                case: (hold.case > 0).then_some(hold.case),
                rule: hold.rule.clone(),
                subject: Some(hold.subject.clone()),
                action: Some(action),
                ..carried
            });
        }
        Ok(head)
    }

    fn records_of(&self, number: u64) -> Result<Vec<Record>, TrailError> {
        let path = self.path_of(&name(number));
        let failed = |error| io_error(&path, "read", error);
        let sheet = self.folder.open(&name(number), true).map_err(failed)?;
        let size = sheet.seen().map_err(failed)?.size;
        let mut bytes = vec![0; usize::try_from(size).unwrap_or(0)];
        sheet.read_at(&mut bytes, 0).map_err(failed)?;
        let lines = bytes.split(|byte| *byte == b'\n').filter(|line| !line.is_empty());
        let records = lines.map(serde_json::from_slice::<Record>).collect::<Result<_, _>>();
        records.map_err(|error| TrailError::Unsound { path, why: error.to_string() })
    }

    fn end_of(&self, number: u64) -> Result<Link, TrailError> {
        let path = self.path_of(&name(number));
        let failed = |error| io_error(&path, "read", error);
        let sheet = self.folder.open(&name(number), true).map_err(failed)?;
        let size = sheet.seen().map_err(failed)?.size;
        let (link, torn) = read_tail(&sheet, size, &path)?;
        match (link, torn) {
            (Some(link), None) => Ok(link),
            _ => Err(TrailError::Unsound {
                path,
                why: "another file follows it, and its last line is not whole".to_owned(),
            }),
        }
    }

    /// What is in the present file.
    pub(super) fn present_bytes(&self) -> Result<Vec<u8>, TrailError> {
        let Some(open) = &self.open else { return Ok(Vec::new()) };
        let mut bytes = vec![0; usize::try_from(open.size).unwrap_or(0)];
        open.sheet
            .read_at(&mut bytes, 0)
            .map_err(|error| io_error(&self.path_of(&name(open.number)), "read", error))?;
        Ok(bytes)
    }

    pub(super) fn write(&mut self, drafts: &[Draft]) -> Result<(), TrailError> {
        let place = self.place.clone();
        let Some(open) = self.open.as_mut() else {
            return Err(io_error(&place, "opened", std::io::Error::from(std::io::ErrorKind::NotFound)));
        };
        open.write(drafts, &place.join(name(open.number)))?;
        self.left = Some(open.link.clone());
        Ok(())
    }

    /// A file that is full or old is followed by a new one; then the oldest may go.
    fn turn_over(&mut self) -> Result<(), TrailError> {
        let Some(open) = &self.open else { return Ok(()) };
        let now = crate::here::now().wall;
        let limit = SignedDuration::try_from(self.keeping.piece_age).unwrap_or(SignedDuration::MAX);
        if open.size < self.keeping.piece && now.duration_since(open.begun) < limit {
            return Ok(());
        }
        let number = open.number;
        self.open = None;
        self.begin(number + 1, Some(number))?;
        self.retire(now)
    }

    fn retire(&mut self, now: jiff::Timestamp) -> Result<(), TrailError> {
        let numbers = self.numbers()?;
        let failed = |error| io_error(&self.place, "examined", error);
        let mut sizes = Vec::new();
        for number in &numbers {
            sizes.push(self.folder.seen(&name(*number)).map_err(failed)?.map_or(0, |seen| seen.size));
        }
        let mut total: u64 = sizes.iter().sum();
        let oldest = SignedDuration::try_from(self.keeping.keep).ok().and_then(|keep| now.checked_sub(keep).ok());
        // The present file and the one that it follows always stay.
        for (number, size) in numbers.iter().zip(sizes).take(numbers.len().saturating_sub(2)) {
            let records = self.records_of(*number)?;
            let (Some(first), Some(last)) = (records.first(), records.last()) else { break };
            let outdated = oldest.is_some_and(|oldest| last.reached() < oldest);
            if total <= self.keeping.most && !outdated {
                break;
            }
            let file = name(*number);
            let seen = format!("{file}, records {} to {}, is removed", first.seq, last.seq);
            let retired = Retired { file: file.clone(), records: [first.seq, last.seq], hash: last.hash.clone() };
            let draft = Draft { retired: Some(retired), ..self.own(Kind::Retired, "removed", &seen) };
            // Told before it is done, as everything.
            self.write(&[draft])?;
            self.folder.remove(&file).map_err(|error| io_error(&self.place, "cleared", error))?;
            self.synced()?;
            total -= size;
        }
        Ok(())
    }
}

impl<F: Folder> Append for Writer<F> {
    fn append(&mut self, drafts: &[Draft]) -> Result<(), TrailError> {
        self.locked(|trail| {
            trail.refresh()?;
            trail.turn_over()?;
            match trail.keeping.command_lines {
                CommandLines::Masked => trail.write(drafts),
                way => trail.write(&drafts.iter().map(|draft| worded(draft, way)).collect::<Vec<_>>()),
            }
        })
    }

    fn stamp(&mut self) -> Result<Option<Stamped>, TrailError> {
        self.locked(|trail| {
            trail.refresh()?;
            trail.write_stamp()
        })
    }
}

impl<S: Sheet> Open<S> {
    fn write(&mut self, drafts: &[Draft], path: &std::path::Path) -> Result<(), TrailError> {
        let mut link = self.link.clone();
        let mut lines = String::new();
        for draft in drafts {
            lines.push_str(&link.seal(draft)?);
        }
        let coming = lines.len() as u64;
        if self.size + coming + RESERVE / 2 > self.reserved {
            self.sheet.reserve(self.size, coming + RESERVE);
            self.reserved = self.size + coming + RESERVE;
        }
        if let Err(error) = self.sheet.append(lines.as_bytes()) {
            // Half a line would be a torn tail; we still hold the lock and can take it back.
            let _ = self.sheet.cut(self.size);
            return Err(io_error(path, "written", error));
        }
        self.sheet.sync().map_err(|error| io_error(path, "synced", error))?;
        self.size += coming;
        self.link = link;
        Ok(())
    }
}

/// The draft with as much of the command line as is wanted; drafts have it masked.
fn worded(draft: &Draft, way: CommandLines) -> Draft {
    let mut draft = draft.clone();
    if let Some(subject) = &mut draft.subject {
        let unmasked = || {
            let boot = draft.boot.parse().ok()?;
            crate::here::command_line(&subject.identity(boot))
        };
        subject.command = match way {
            CommandLines::Full => unmasked().or_else(|| subject.command.take()),
            CommandLines::Masked => subject.command.take(),
            CommandLines::PathOnly => None,
        };
    }
    draft
}

struct Torn {
    cut: String,
    bytes: u64,
}

fn read_tail(
    sheet: &impl Sheet,
    size: u64,
    path: &std::path::Path,
) -> Result<(Option<Link>, Option<Torn>), TrailError> {
    let mut length = size.min(TAIL);
    loop {
        let mut bytes = vec![0; length as usize];
        sheet.read_at(&mut bytes, size - length).map_err(|error| io_error(path, "read", error))?;
        // A window that does not reach the line before the last may begin inside the last one.
        let whole_lines = bytes.iter().filter(|byte| **byte == b'\n').count();
        if whole_lines < 2 && length < size {
            length = size;
            continue;
        }
        let (link, repair) = tail(&bytes).map_err(|why| TrailError::Unsound { path: path.to_owned(), why })?;
        let torn = repair.map(|repair| Torn { bytes: length - repair.keep as u64, cut: repair.cut });
        return Ok((link, torn));
    }
}

/// When the first record of a file was written.
fn first_time(sheet: &impl Sheet, size: u64) -> Option<jiff::Timestamp> {
    let mut bytes = vec![0; size.min(TAIL) as usize];
    sheet.read_at(&mut bytes, 0).ok()?;
    let line = bytes.split(|byte| *byte == b'\n').next()?;
    serde_json::from_slice::<Record>(line).ok().map(|record| record.at)
}
