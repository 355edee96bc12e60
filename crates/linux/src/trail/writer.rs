//! The writer: takes the lock, finds the end, appends and syncs; begins a new file when one is full or old, and lets the
//! oldest go.

use std::path::PathBuf;
use std::time::Duration;

use jiff::SignedDuration;
use sophron_core::audit::{
    ActionRecord, Came, Draft, FORMAT, InForce, Kind, Link, Record, ResultRecord, Retired, StampRecord, Verb, tail,
};
use sophron_core::model::Moment;

use super::folder::{Folder, Seen, Sheet};
use super::keys::{Stamped, Stamper};
use super::{Append, Keeping, LOCK_WAIT, TrailError, io_error, name, number};

/// Space kept free behind the last record: a full disk disarms Sophron, and the offender may be what fills it.
const RESERVE: u64 = 4 * 1024 * 1024;

/// So much of a file's end is read to find its last record; more where that is longer.
const TAIL: u64 = 256 * 1024;

/// For its age at most one file goes in that time, and none sooner after the start: a clock that runs ahead for a moment
/// takes little with it.
const AGEING: Duration = Duration::from_secs(3600);

/// What stands behind the name of a file that was set aside.
const ASIDE: &str = "aside";

/// Writes to one trail.
#[derive(Debug)]
pub struct Writer<F: Folder> {
    folder: F,
    /// Where that folder is, for messages.
    place: PathBuf,
    open: Option<Open<F::Sheet>>,
    /// What host, boot and user a record of the trail's own (opened, repaired) carries.
    base: Draft,
    keeping: Keeping,
    /// The end as we last left it, to tell whether the trail was cut back or taken away.
    left: Option<Left>,
    clock: fn() -> Moment,
    /// When this writer began, and when it last let a file go for its age, on the boot-time clock.
    begun: Moment,
    aged: Duration,
}

/// Where a writer left the trail.
#[derive(Debug, Clone)]
struct Left {
    link: Link,
    number: u64,
    inode: u64,
    size: u64,
}

/// The trail is not as it was left.
struct Loss {
    seen: String,
    /// What is still in force, by what was left of it.
    in_force: InForce,
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
        Writer::with_clock(folder, place, base, keeping, crate::here::now)
    }

    /// The same by another clock.
    pub fn with_clock(folder: F, place: PathBuf, base: Draft, keeping: Keeping, clock: fn() -> Moment) -> Writer<F> {
        let begun = clock();
        Writer { folder, place, open: None, base, keeping, left: None, clock, begun, aged: begun.boottime }
    }

    pub(super) fn path_of(&self, name: &str) -> PathBuf {
        self.place.join(name)
    }

    pub(super) fn link(&self) -> Option<Link> {
        self.open.as_ref().map(|open| open.link.clone())
    }

    /// The keys of stamps beside it.
    pub(super) fn stamper(&self) -> Stamper<'_, F> {
        Stamper { folder: &self.folder, place: &self.place }
    }

    pub(super) fn synced(&self) -> Result<(), TrailError> {
        self.folder.sync().map_err(|error| io_error(&self.place, "synced", error))
    }

    pub(super) fn own(&self, kind: Kind, outcome: Came, seen: &str) -> Draft {
        Draft {
            at: (self.clock)().wall,
            kind,
            action: Some(ActionRecord::word(Verb::KeepTheTrail)),
            result: Some(ResultRecord { outcome, seen: seen.to_owned(), took: None }),
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
        if let Some(left) = self.left.clone()
            && !self.still_has(&numbers, &left)?
        {
            return self.set_aside(&numbers, &left);
        }
        let present = numbers.last().copied().unwrap_or(1);
        let before = numbers.iter().rev().nth(1).copied();
        self.begin(present, before, None)
    }

    /// Whether the last record that we wrote is still in the trail: others may have written behind it.
    fn still_has(&self, numbers: &[u64], left: &Left) -> Result<bool, TrailError> {
        let end = format!("\"{}\"}}\n", left.link.hash);
        let failed = |number: u64| move |error| io_error(&self.path_of(&name(number)), "read", error);
        for number in numbers.iter().rev().copied() {
            let sheet = self.folder.open(&name(number), true).map_err(failed(number))?;
            let seen = sheet.seen().map_err(failed(number))?;
            if number == left.number && seen.inode == left.inode && seen.size >= left.size {
                let mut bytes = vec![0; end.len()];
                sheet.read_at(&mut bytes, left.size.saturating_sub(end.len() as u64)).map_err(failed(number))?;
                return Ok(bytes == end.as_bytes());
            }
            // Put back from a copy, or only grown beyond another file: looked for.
            let bytes = self.bytes_of(number)?;
            let begins = format!("{{\"seq\":{},", left.link.seq);
            let mut lines = bytes.split_inclusive(|byte| *byte == b'\n');
            if let Some(line) = lines.find(|line| line.starts_with(begins.as_bytes())) {
                return Ok(line.ends_with(end.as_bytes()));
            }
        }
        Ok(false)
    }

    /// What is left of a trail that was cut back is kept under other names, and a new one tells of it. What was to be
    /// written now is not: nothing may be done on the strength of a trail that somebody has changed.
    fn set_aside(&mut self, numbers: &[u64], left: &Left) -> Result<(), TrailError> {
        let last = numbers.last().copied();
        let (in_force, _) = last.and_then(|number| self.told_by(number).ok()).unwrap_or_default();
        let found = last.and_then(|number| self.end_of(number).ok()).map(|link| link.seq);
        let aside = self.rename_aside(numbers)?;
        let Link { seq, hash, .. } = &left.link;
        // Enough of it to tell it by, and little enough to be read.
        let hash = hash.get(..12).unwrap_or(hash);
        let seen = match found {
            Some(found) => format!(
                "record {seq} (hash {hash}…) was written to it and is gone; it ends with record {found} now, and was set aside as {}",
                aside.display()
            ),
            None => format!("it was taken away after record {seq} (hash {hash}…)"),
        };
        self.begin(1, None, Some(Loss { seen: seen.clone(), in_force }))?;
        Err(TrailError::Lost(seen))
    }

    /// Keeps files under other names: what they have in common.
    fn rename_aside(&mut self, numbers: &[u64]) -> Result<PathBuf, TrailError> {
        let failed = |error| io_error(&self.place, "set aside", error);
        let names = self.folder.names().map_err(failed)?;
        let taken = |count: &u64| names.iter().any(|name| name.ends_with(&format!(".{ASIDE}-{count}")));
        let count = (1..).find(|count| !taken(count)).unwrap_or(u64::MAX);
        for number in numbers {
            let file = name(*number);
            self.folder.rename(&file, &format!("{file}.{ASIDE}-{count}")).map_err(failed)?;
        }
        self.synced()?;
        Ok(self.path_of(&format!("*.{ASIDE}-{count}")))
    }

    /// A trail that is not sound, so that nothing can be added to it, is kept under other names, and a new one begun that tells of
    /// it, and what is in force by the sound part of it. Until a person has taken note nothing is to be done on the strength of that.
    ///
    /// # Errors
    /// It cannot be set aside, or no new one be begun.
    pub fn begin_beside(&mut self, why: &str, in_force: InForce) -> Result<(), TrailError> {
        self.locked(|trail| {
            let numbers = trail.numbers()?;
            let aside = trail.rename_aside(&numbers)?;
            let seen = format!("{why}; it was set aside as {}", aside.display());
            trail.begin(1, None, Some(Loss { seen, in_force }))?;
            if let Some(open) = &trail.open {
                let (link, number) = (open.link.clone(), open.number);
                trail.left = Some(Left { link, number, inode: open.inode, size: open.size });
            }
            Ok(())
        })
    }

    fn numbers(&self) -> Result<Vec<u64>, TrailError> {
        let names = self.folder.names().map_err(|error| io_error(&self.place, "listed", error))?;
        let mut numbers: Vec<u64> = names.iter().filter_map(|name| number(name)).collect();
        numbers.sort_unstable();
        Ok(numbers)
    }

    /// Opens a file, mends its end, and gives it its first records if it has none. `before` is the file that it follows.
    fn begin(&mut self, number: u64, before: Option<u64>, loss: Option<Loss>) -> Result<(), TrailError> {
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
        let begun = first_time(&sheet, size).unwrap_or_else(|| (self.clock)().wall);
        let mut open = Open { sheet, number, inode, size, reserved: size, link, begun };
        let mut own = Vec::new();
        if let Some(torn) = &torn {
            let keep = size - torn.bytes;
            open.sheet.cut(keep).map_err(|error| io_error(&path, "repaired", error))?;
            open.size = keep;
            own.push(self.own(Kind::Repaired, Came::CutOff, &torn.cut));
        }
        self.open = Some(open);
        if !has_records {
            let mut head = self.head(before, loss)?;
            head.append(&mut own);
            own = head;
        }
        if !own.is_empty() {
            self.write(&own)?;
        }
        Ok(())
    }

    /// The first records of a file: that it begins, with what still matters of the file before it, and the key of the next
    /// stamp.
    fn head(&mut self, before: Option<u64>, loss: Option<Loss>) -> Result<Vec<Draft>, TrailError> {
        let format = format!("format {FORMAT}, sophron {}", env!("CARGO_PKG_VERSION"));
        let opened = |writer: &Self, seen: &str, in_force: &InForce, stamp| {
            let boot = writer.base.boot.parse().unwrap_or_default();
            let (case, carried) = (Some(in_force.highest_case).filter(|case| *case > 0), in_force.carried(boot));
            Draft { case, stamp, carried, ..writer.own(Kind::TrailOpened, Came::Opened, seen) }
        };
        if let Some(before) = before {
            let (in_force, stamp) = self.told_by(before)?;
            return Ok(vec![opened(self, &format!("{format}; follows {}", name(before)), &in_force, stamp)]);
        }
        let Some(loss) = loss else {
            return Ok(vec![opened(self, &format, &InForce::default(), None), self.begin_a_key()?]);
        };
        let lost = self.own(Kind::TrailLost, Came::Lost, &loss.seen);
        Ok(vec![opened(self, &format, &loss.in_force, None), self.begin_a_key()?, lost])
    }

    fn bytes_of(&self, number: u64) -> Result<Vec<u8>, TrailError> {
        let path = self.path_of(&name(number));
        let failed = |error| io_error(&path, "read", error);
        let sheet = self.folder.open(&name(number), true).map_err(failed)?;
        let size = sheet.seen().map_err(failed)?.size;
        let mut bytes = vec![0; usize::try_from(size).unwrap_or(0)];
        sheet.read_at(&mut bytes, 0).map_err(failed)?;
        Ok(bytes)
    }

    /// What is in force by a file, and its last stamp; of a torn last line nothing is.
    fn told_by(&self, number: u64) -> Result<(InForce, Option<StampRecord>), TrailError> {
        let (mut in_force, mut stamp) = (InForce::default(), None);
        for line in self.bytes_of(number)?.split_inclusive(|byte| *byte == b'\n').filter(|line| line.ends_with(b"\n")) {
            let record = self.parsed(number, line)?;
            in_force.take(&record);
            stamp = record.stamp.or(stamp);
        }
        Ok((in_force, stamp))
    }

    fn parsed(&self, number: u64, line: &[u8]) -> Result<Record, TrailError> {
        let unsound =
            |why: serde_json::Error| TrailError::Unsound { path: self.path_of(&name(number)), why: why.to_string() };
        serde_json::from_slice(line).map_err(unsound)
    }

    /// The first and the last record of a file.
    fn ends_of(&self, number: u64) -> Result<Option<(Record, Record)>, TrailError> {
        let bytes = self.bytes_of(number)?;
        let mut lines = bytes.split(|byte| *byte == b'\n').filter(|line| !line.is_empty());
        let Some(first) = lines.next() else { return Ok(None) };
        let last = lines.next_back().unwrap_or(first);
        Ok(Some((self.parsed(number, first)?, self.parsed(number, last)?)))
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
        self.left = Some(Left { link: open.link.clone(), number: open.number, inode: open.inode, size: open.size });
        Ok(())
    }

    /// A file that is full or old is followed by a new one; then the oldest may go.
    fn turn_over(&mut self) -> Result<(), TrailError> {
        let Some(open) = &self.open else { return Ok(()) };
        let now = (self.clock)();
        let limit = SignedDuration::try_from(self.keeping.piece_age).unwrap_or(SignedDuration::MAX);
        if open.size < self.keeping.piece && now.wall.duration_since(open.begun) < limit {
            return Ok(());
        }
        let number = open.number;
        open.sheet.give_back(open.size);
        self.open = None;
        self.begin(number + 1, Some(number), None)?;
        self.retire(now)
    }

    fn retire(&mut self, now: Moment) -> Result<(), TrailError> {
        let numbers = self.numbers()?;
        let failed = |error| io_error(&self.place, "examined", error);
        let mut sizes = Vec::new();
        for number in &numbers {
            sizes.push(self.folder.seen(&name(*number)).map_err(failed)?.map_or(0, |seen| seen.size));
        }
        let mut total: u64 = sizes.iter().sum();
        // The wall clock may have been set: what has passed since the beginning counts by the boot-time clock too.
        let passed = now.boottime.saturating_sub(self.begun.boottime);
        let by_boot = self.begun.wall.checked_add(passed).unwrap_or(now.wall);
        let oldest = SignedDuration::try_from(self.keeping.keep).ok();
        let oldest = oldest.and_then(|keep| now.wall.min(by_boot).checked_sub(keep).ok());
        let mut may_age = now.boottime.saturating_sub(self.aged) >= AGEING;
        // The present file and the one that it follows always stay.
        for (number, size) in numbers.iter().zip(sizes).take(numbers.len().saturating_sub(2)) {
            let Some((first, last)) = self.ends_of(*number)? else { break };
            let outdated = may_age && oldest.is_some_and(|oldest| last.reached() < oldest);
            if total <= self.keeping.most && !outdated {
                break;
            }
            if total <= self.keeping.most {
                (self.aged, may_age) = (now.boottime, false);
            }
            let file = name(*number);
            let seen = format!("{file}, records {} to {}, is removed", first.seq, last.seq);
            let retired = Retired { file: file.clone(), records: [first.seq, last.seq], hash: last.hash.clone() };
            let draft = Draft { retired: Some(retired), ..self.own(Kind::Retired, Came::Removed, &seen) };
            // Told before it is done, as everything, and signed: who only can write the files cannot tell the same.
            self.write(&[draft])?;
            self.write_stamp()?;
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
            trail.write(drafts)
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
