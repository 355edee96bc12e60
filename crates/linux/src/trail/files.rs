//! The trail's files, for reading. What is read is checked by whoever reads it.

use std::fs::File;
use std::io::{BufRead, BufReader, Read};
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::Timestamp;
use rustix::fs::{Mode, OFlags};
use rustix::io::Errno;
use sophron_core::audit::{self, Checked, Fault, InForce, Record, Verified, Walk, find_time};

use super::{TrailError, folder, io_error, number};
use crate::files::trusted_folder;

/// What was read, the oldest file first.
#[derive(Debug, Clone, Default)]
pub struct Files {
    /// Where they stand.
    pub paths: Vec<PathBuf>,
    /// What is in them.
    pub bytes: Vec<Vec<u8>>,
}

impl Files {
    /// All of it, verified.
    pub fn verify(&self) -> Verified {
        audit::verify_files(self.bytes.iter().map(Vec::as_slice))
    }
}

/// The files of a state folder's trail, the oldest first; none where there is no trail.
///
/// # Errors
/// The folder cannot be read, or others could have changed it.
pub fn files(state: &Path) -> Result<Vec<PathBuf>, TrailError> {
    let path = folder(state);
    let opened = match trusted_folder(&path) {
        Ok(opened) => opened,
        Err(error) if error.is_missing() => return Ok(Vec::new()),
        Err(error) => return Err(error.into()),
    };
    let failed = |error: Errno| io_error(&path, "listed", error);
    let mut numbers = Vec::new();
    for entry in rustix::fs::Dir::read_from(&opened).map_err(failed)? {
        let entry = entry.map_err(failed)?;
        numbers.extend(entry.file_name().to_str().ok().and_then(number));
    }
    numbers.sort_unstable();
    Ok(numbers.into_iter().map(|number| path.join(super::name(number))).collect())
}

/// What the last file of a trail says by itself: it begins with what still matters of those before it.
#[derive(Debug, Default)]
pub struct Latest {
    /// What is in force.
    pub in_force: InForce,
    /// What is wrong with it, if anything is but a torn end.
    pub fault: Option<Fault>,
}

/// Reads the last file of a state folder's trail that has a record, line by line; `None` where there is no trail. `see` is
/// given every record.
///
/// # Errors
/// It cannot be read, or others could have changed it.
pub fn latest(state: &Path, mut see: impl FnMut(&Record)) -> Result<Option<Latest>, TrailError> {
    let paths = files(state)?;
    let parent = match trusted_folder(&folder(state)) {
        Err(error) if error.is_missing() => return Ok(None),
        opened => opened?,
    };
    for path in paths.into_iter().rev() {
        let Some(file) = open(&parent, &path)? else { continue };
        let mut latest = Latest::default();
        let mut walk = Walk::default();
        let mut place = 0;
        each_line(file, &path, |line| {
            place += 1;
            let record = walk.line(line).and_then(|()| {
                serde_json::from_slice::<Record>(line).map_err(|error| format!("it is not a record: {error}"))
            });
            match record {
                Ok(record) => {
                    see(&record);
                    latest.in_force.take(&record);
                    true
                }
                Err(what) => {
                    latest.fault = Some(Fault { file: 0, line: place, seq: walk.seq() + 1, what });
                    false
                }
            }
        })?;
        if place > 0 {
            return Ok(Some(latest));
        }
    }
    Ok(None)
}

/// Checks the chain of a whole trail line by line, holding none of it; `pace` is told how many bytes were read since it was
/// asked last, and may take its time. A line that is being written is no fault.
///
/// # Errors
/// It cannot be read, or others could have changed it.
pub fn walk(state: &Path, mut pace: impl FnMut(usize)) -> Result<Checked, TrailError> {
    let paths = files(state)?;
    let mut walk = Walk::default();
    if paths.is_empty() {
        return Ok(walk.end(None, Vec::new));
    }
    let parent = trusted_folder(&folder(state))?;
    for (number, path) in paths.iter().enumerate() {
        // One that is removed meanwhile, because it is old, is told of further on.
        let Some(file) = open(&parent, path)? else {
            walk = Walk::default();
            continue;
        };
        let (mut place, mut fault) = (0, None);
        each_line(file, path, |line| {
            place += 1;
            pace(line.len());
            let what = walk.line(line).err();
            fault = what.map(|what| Fault { file: number, line: place, seq: walk.seq() + 1, what });
            fault.is_none()
        })?;
        if let Some(fault) = fault {
            return Ok(walk.end(Some((fault, false)), Vec::new));
        }
    }
    Ok(walk.end(None, Vec::new))
}

/// Every whole line of a file, newline included, as long as `take` wants more.
fn each_line(file: File, path: &Path, mut take: impl FnMut(&[u8]) -> bool) -> Result<(), TrailError> {
    let mut reader = BufReader::with_capacity(256 * 1024, file);
    let mut line = Vec::new();
    loop {
        line.clear();
        reader.read_until(b'\n', &mut line).map_err(|error| io_error(path, "read", error))?;
        if !line.ends_with(b"\n") || !take(&line) {
            return Ok(());
        }
    }
}

/// One that was removed meanwhile is none.
fn open(parent: &impl AsFd, path: &Path) -> Result<Option<File>, TrailError> {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC | OFlags::NONBLOCK;
    match rustix::fs::openat(parent, path.file_name().unwrap_or_default(), flags, Mode::empty()) {
        Ok(fd) => Ok(Some(File::from(fd))),
        Err(Errno::NOENT) => Ok(None),
        Err(error) => Err(io_error(path, "opened", error)),
    }
}

/// The whole trail of a state folder; `None` where there is none yet. With `since` only records from that time on are read,
/// and the files before are not even opened; and of files that begin after `until` only what was recorded while the clock was
/// behind what it had been, which may be of an earlier time.
///
/// # Errors
/// It cannot be read, or others could have changed it.
pub fn read(state: &Path, since: Option<Timestamp>, until: Option<Timestamp>) -> Result<Option<Files>, TrailError> {
    let mut paths = files(state)?;
    if paths.is_empty() {
        return Ok(None);
    }
    let parent = trusted_folder(&folder(state))?;
    // The file in which a time is reached: the last one whose first record is earlier.
    let begins_before = |path: &PathBuf, time: Timestamp| -> Result<bool, TrailError> {
        let mut head = vec![0; 64 * 1024];
        let read = match open(&parent, path)? {
            Some(mut file) => file.read(&mut head).map_err(|error| io_error(path, "read", error))?,
            None => 0,
        };
        let line = head[..read].split_inclusive(|byte| *byte == b'\n').next().unwrap_or_default();
        Ok(find_time(line, time) > 0)
    };
    let reached = |paths: &[PathBuf], time: Timestamp| -> Result<usize, TrailError> {
        let (mut low, mut high) = (0, paths.len());
        while low < high {
            let middle = low + (high - low) / 2;
            match begins_before(&paths[middle], time)? {
                true => low = middle + 1,
                false => high = middle,
            }
        }
        Ok(low.saturating_sub(1))
    };
    if let Some(since) = since {
        paths.drain(..reached(&paths, since)?);
    }
    let last = until.map_or(Ok(paths.len()), |until| {
        // Of the very moment as well.
        reached(&paths, until.checked_add(Duration::from_nanos(1)).unwrap_or(until))
    })?;
    let mut all = Files::default();
    for (place, path) in paths.into_iter().enumerate() {
        let Some(mut file) = open(&parent, &path)? else { continue };
        let mut bytes = Vec::new();
        if place <= last {
            file.read_to_end(&mut bytes).map_err(|error| io_error(&path, "read", error))?;
        } else {
            each_line(file, &path, |line| {
                if audit::clock_was_behind(line) {
                    bytes.extend_from_slice(line);
                }
                true
            })?;
        }
        if let (Some(since), true) = (since, all.paths.is_empty()) {
            bytes.drain(..find_time(&bytes, since));
        }
        all.paths.push(path);
        all.bytes.push(bytes);
    }
    Ok(Some(all))
}
