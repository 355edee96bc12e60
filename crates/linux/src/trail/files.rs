//! The trail's files, for reading. What is read is checked by whoever reads it.

use std::fs::File;
use std::io::Read;
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use rustix::fs::{Mode, OFlags};
use rustix::io::Errno;
use sophron_core::audit::{self, Verified, find_time};

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

/// The whole trail of a state folder; `None` where there is none yet. With `since` only records from that time on are read,
/// and the files before are not even opened.
///
/// # Errors
/// It cannot be read, or others could have changed it.
pub fn read(state: &Path, since: Option<Timestamp>) -> Result<Option<Files>, TrailError> {
    let mut paths = files(state)?;
    if paths.is_empty() {
        return Ok(None);
    }
    let parent = trusted_folder(&folder(state))?;
    let open = |path: &Path| -> Result<Option<File>, TrailError> {
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC | OFlags::NONBLOCK;
        let name = path.file_name().unwrap_or_default();
        match rustix::fs::openat(parent.as_fd(), name, flags, Mode::empty()) {
            Ok(fd) => Ok(Some(File::from(fd))),
            // One that was removed meanwhile is none.
            Err(Errno::NOENT) => Ok(None),
            Err(error) => Err(io_error(path, "opened", error)),
        }
    };
    let whole = |path: &Path, file: &mut File| -> Result<Vec<u8>, TrailError> {
        let mut bytes = Vec::new();
        file.read_to_end(&mut bytes).map_err(|error| io_error(path, "read", error))?;
        Ok(bytes)
    };
    if let Some(since) = since {
        // The file in which that time is reached: the last one whose first record is earlier.
        let mut first = 0;
        let (mut low, mut high) = (0, paths.len());
        while low < high {
            let middle = low + (high - low) / 2;
            let mut head = vec![0; 64 * 1024];
            let read = match open(&paths[middle])? {
                Some(mut file) => file.read(&mut head).map_err(|error| io_error(&paths[middle], "read", error))?,
                None => 0,
            };
            let line = head[..read].split_inclusive(|byte| *byte == b'\n').next().unwrap_or_default();
            if find_time(line, since) > 0 {
                first = middle;
                low = middle + 1;
            } else {
                high = middle;
            }
        }
        paths.drain(..first);
    }
    let mut all = Files::default();
    for path in paths {
        let Some(mut file) = open(&path)? else { continue };
        let mut bytes = whole(&path, &mut file)?;
        if let (Some(since), true) = (since, all.paths.is_empty()) {
            bytes.drain(..find_time(&bytes, since));
        }
        all.paths.push(path);
        all.bytes.push(bytes);
    }
    Ok(Some(all))
}
