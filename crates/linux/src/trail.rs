//! The trail on disk: one writer at a time, every append synced before it counts, nothing after a failure.
//!
//! Files stand in `audit/` of the state folder, owner-only: the records in `000001.jsonl`, and `lock`.

use std::fs::File;
use std::io::{self, Read};
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use rustix::fs::{FallocateFlags, FlockOperation, Mode, OFlags};
use rustix::io::Errno;
use sophron_core::audit::{ActionRecord, Draft, Kind, Link, ResultRecord, tail};

use crate::files::{PathError, check_owner, private_folder, trusted_folder};
use crate::here;

/// How long a writer waits for the lock.
pub const LOCK_WAIT: Duration = Duration::from_secs(2);

/// Space kept free behind the last record: a full disk disarms Sophron, and the offender may be what fills it.
const RESERVE: u64 = 4 * 1024 * 1024;

const FILE_NAME: &str = "000001.jsonl";
const LOCK_NAME: &str = "lock";
const TAIL: u64 = 256 * 1024;
const OWNER_ONLY: Mode = Mode::RUSR.union(Mode::WUSR);

/// Why a record could not be written, or the trail not be read.
#[derive(Debug, thiserror::Error)]
pub enum TrailError {
    /// The folder is not usable.
    #[error("the audit trail's folder is not usable")]
    Folder(#[from] PathError),
    /// Another writer holds the lock.
    #[error("another writer holds {0} for longer than 2 s")]
    Locked(PathBuf),
    /// The file cannot be opened, read, written or synced.
    #[error("the audit trail {path} cannot be {what}")]
    Io {
        /// The file.
        path: PathBuf,
        /// What was tried.
        what: &'static str,
        /// Why not.
        #[source]
        source: io::Error,
    },
    /// What is there cannot be continued.
    #[error(
        "the audit trail {path} cannot be continued: {why}; look at it with `sophron audit verify`, then move it away"
    )]
    Unsound {
        /// The file.
        path: PathBuf,
        /// Why.
        why: String,
    },
    /// A record cannot be written as JSON.
    #[error("a record cannot be written as JSON")]
    Json(#[from] serde_json::Error),
}

/// Something that takes records and returns only when they are safe.
pub trait Append: Send {
    /// Appends the drafts, in order, and syncs them. Either all of them are in the trail afterwards, or an error.
    ///
    /// # Errors
    /// They may not be in the trail: nothing that rests on them may be done.
    fn append(&mut self, drafts: &[Draft]) -> Result<(), TrailError>;
}

/// The trail of one state folder, opened for writing.
#[derive(Debug)]
pub struct TrailFile {
    folder: OwnedFd,
    lock: OwnedFd,
    path: PathBuf,
    open: Option<Open>,
    /// What host, boot and user a record of the trail's own (opened, repaired) carries.
    base: Draft,
}

/// The file as we last left it.
#[derive(Debug)]
struct Open {
    file: File,
    inode: u64,
    size: u64,
    reserved: u64,
    link: Link,
}

impl TrailFile {
    /// Opens, or begins, the trail of a state folder. `base` is a draft with host, boot and user filled in.
    ///
    /// # Errors
    /// The folder or its lock cannot be made or is not safe.
    pub fn open(state: &Path, base: Draft) -> Result<TrailFile, TrailError> {
        let audit = state.join("audit");
        let folder = private_folder(&audit)?;
        let flags = OFlags::RDWR | OFlags::CREATE | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let lock = rustix::fs::openat(&folder, LOCK_NAME, flags, OWNER_ONLY)
            .map_err(|error| io_error(&audit.join(LOCK_NAME), "opened", error))?;
        Ok(TrailFile { folder, lock, path: audit.join(FILE_NAME), open: None, base })
    }

    fn locked<T>(&mut self, work: impl FnOnce(&mut Self) -> Result<T, TrailError>) -> Result<T, TrailError> {
        let give_up = Instant::now() + LOCK_WAIT;
        loop {
            match rustix::fs::flock(&self.lock, FlockOperation::NonBlockingLockExclusive) {
                Ok(()) => break,
                Err(Errno::WOULDBLOCK | Errno::INTR) if Instant::now() < give_up => {
                    std::thread::sleep(Duration::from_millis(2));
                }
                Err(Errno::WOULDBLOCK | Errno::INTR) => {
                    return Err(TrailError::Locked(self.path.with_file_name(LOCK_NAME)));
                }
                Err(error) => return Err(io_error(&self.path, "locked", error)),
            }
        }
        let done = work(self);
        // Unlocking fails only for a descriptor that is not open.
        let _ = rustix::fs::flock(&self.lock, FlockOperation::Unlock);
        done
    }

    /// Makes sure that the open file is the one in the folder, and that we know its end: another writer may have
    /// appended, and somebody may have replaced it.
    fn refresh(&mut self) -> Result<(), TrailError> {
        let there = rustix::fs::statat(&self.folder, FILE_NAME, rustix::fs::AtFlags::SYMLINK_NOFOLLOW);
        match (there, &self.open) {
            (Ok(stat), Some(open)) if stat.st_ino == open.inode && stat.st_size as u64 == open.size => return Ok(()),
            (Ok(_) | Err(Errno::NOENT), _) => {}
            (Err(error), _) => return Err(io_error(&self.path, "examined", error)),
        }
        self.open = None;
        let flags = OFlags::RDWR | OFlags::CREATE | OFlags::APPEND | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let fd = rustix::fs::openat(&self.folder, FILE_NAME, flags, OWNER_ONLY)
            .map_err(|error| io_error(&self.path, "opened", error))?;
        // The folder's entry for a new file has to last as well.
        rustix::fs::fsync(&self.folder).map_err(|error| io_error(&self.path, "synced", error))?;
        let stat = rustix::fs::fstat(&fd).map_err(|error| io_error(&self.path, "examined", error))?;
        check_owner(&self.path, &stat)?;
        let (inode, size) = (stat.st_ino, stat.st_size as u64);
        let file = File::from(fd);
        let (link, repair) = read_tail(&file, size, &self.path)?;
        let mut open = Open { file, inode, size, reserved: size, link };
        let mut own = Vec::new();
        if let Some(repair) = repair {
            let keep = size - (repair.cut_bytes);
            open.file.set_len(keep).map_err(|error| io_error(&self.path, "repaired", error))?;
            open.size = keep;
            own.push(self.own(Kind::Repaired, "cut a torn last line off", &repair.cut));
        }
        if open.link.seq == 0 {
            let seen = format!("format {}, sophron {}", sophron_core::audit::FORMAT, env!("CARGO_PKG_VERSION"));
            own.insert(0, self.own(Kind::TrailOpened, "opened", &seen));
        }
        if !own.is_empty() {
            open.write(&own, &self.path)?;
        }
        self.open = Some(open);
        Ok(())
    }

    fn own(&self, kind: Kind, outcome: &str, seen: &str) -> Draft {
        Draft {
            at: here::now().wall,
            kind,
            action: Some(ActionRecord::word("keep the trail")),
            result: Some(ResultRecord { outcome: outcome.to_owned(), seen: seen.to_owned(), took: None }),
            ..self.base.clone()
        }
    }
}

impl Append for TrailFile {
    fn append(&mut self, drafts: &[Draft]) -> Result<(), TrailError> {
        self.locked(|trail| {
            trail.refresh()?;
            let path = trail.path.clone();
            let written = match trail.open.as_mut() {
                Some(open) => open.write(drafts, &path),
                None => Err(io_error(&path, "opened", Errno::BADF)),
            };
            if written.is_err() {
                // What stands behind the last sound record is found and cut by the next refresh.
                trail.open = None;
            }
            written
        })
    }
}

impl Open {
    fn write(&mut self, drafts: &[Draft], path: &Path) -> Result<(), TrailError> {
        let mut link = self.link.clone();
        let mut lines = String::new();
        for draft in drafts {
            lines.push_str(&link.seal(draft)?);
        }
        self.reserve(lines.len() as u64);
        let before = self.size;
        let wrote = io::Write::write_all(&mut self.file, lines.as_bytes());
        if let Err(error) = wrote {
            // Half a line would be a torn tail; we still hold the lock and can take it back.
            let _ = self.file.set_len(before);
            return Err(io_error(path, "written", error));
        }
        rustix::fs::fdatasync(&self.file).map_err(|error| io_error(path, "synced", error))?;
        self.size += lines.len() as u64;
        self.link = link;
        Ok(())
    }

    /// Keeps space behind the last record. A file system that cannot reserve, or has no space left to, still takes
    /// records as long as it can.
    fn reserve(&mut self, coming: u64) {
        if self.size + coming + RESERVE / 2 > self.reserved {
            let _ = rustix::fs::fallocate(&self.file, FallocateFlags::KEEP_SIZE, self.size, coming + RESERVE);
            self.reserved = self.size + coming + RESERVE;
        }
    }
}

struct Torn {
    cut: String,
    cut_bytes: u64,
}

fn read_tail(file: &File, size: u64, path: &Path) -> Result<(Link, Option<Torn>), TrailError> {
    let mut length = size.min(TAIL);
    loop {
        let mut bytes = vec![0; length as usize];
        file.read_exact_at(&mut bytes, size - length).map_err(|error| io_error(path, "read", error))?;
        // A window that does not reach the line before the last may begin inside the last one.
        let whole_lines = bytes.iter().filter(|byte| **byte == b'\n').count();
        if whole_lines < 2 && length < size {
            length = size;
            continue;
        }
        let (link, repair) = tail(&bytes).map_err(|why| TrailError::Unsound { path: path.to_owned(), why })?;
        let torn = repair.map(|repair| Torn { cut_bytes: length - repair.keep as u64, cut: repair.cut });
        return Ok((link, torn));
    }
}

/// The whole trail of a state folder; `None` where there is none yet.
///
/// # Errors
/// It cannot be read, or others could have changed it.
pub fn read(state: &Path) -> Result<Option<Vec<u8>>, TrailError> {
    let path = state.join("audit").join(FILE_NAME);
    let folder = match trusted_folder(&state.join("audit")) {
        Ok(folder) => folder,
        Err(error) if error.is_missing() => return Ok(None),
        Err(error) => return Err(error.into()),
    };
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC | OFlags::NONBLOCK;
    let fd = match rustix::fs::openat(folder.as_fd(), FILE_NAME, flags, Mode::empty()) {
        Ok(fd) => fd,
        Err(Errno::NOENT) => return Ok(None),
        Err(error) => return Err(io_error(&path, "opened", error)),
    };
    let mut bytes = Vec::new();
    File::from(fd).read_to_end(&mut bytes).map_err(|error| io_error(&path, "read", error))?;
    Ok(Some(bytes))
}

/// The file of a state folder's trail, for messages.
pub fn path(state: &Path) -> PathBuf {
    state.join("audit").join(FILE_NAME)
}

fn io_error(path: &Path, what: &'static str, source: impl Into<io::Error>) -> TrailError {
    TrailError::Io { path: path.to_owned(), what, source: source.into() }
}
