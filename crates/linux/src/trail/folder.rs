//! What a trail needs of a file system: a folder and its files. The disk is one; tests have another that forgets what was
//! not synced.

use std::fs::File;
use std::io::{self, Write};
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use rustix::fs::{AtFlags, FallocateFlags, FlockOperation, Gid, Mode, OFlags};
use rustix::io::Errno;

use crate::files::{PathError, check_owner, give, made_folder, private_folder};

const LOCK_NAME: &str = "lock";
const OWNER_ONLY: Mode = Mode::RUSR.union(Mode::WUSR);

/// A file: which one it is, and how long.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Seen {
    /// Its inode.
    pub inode: u64,
    /// Its size, bytes.
    pub size: u64,
}

/// A folder of a trail. Names are plain file names.
pub trait Folder: Send {
    /// Its open files.
    type Sheet: Sheet;

    /// The names in it.
    ///
    /// # Errors
    /// It cannot be read.
    fn names(&self) -> io::Result<Vec<String>>;

    /// A file by its name; `None` where there is none. Links are not followed.
    ///
    /// # Errors
    /// It cannot be examined.
    fn seen(&self, name: &str) -> io::Result<Option<Seen>>;

    /// Opens a file, or makes it, for reading and appending. `shared`: readers may read it, if there are any.
    ///
    /// # Errors
    /// It cannot be opened, or others could have changed it.
    fn open(&self, name: &str, shared: bool) -> io::Result<Self::Sheet>;

    /// Removes a file.
    ///
    /// # Errors
    /// It cannot be removed.
    fn remove(&self, name: &str) -> io::Result<()>;

    /// Puts a file in another's place.
    ///
    /// # Errors
    /// It cannot be renamed.
    fn rename(&self, from: &str, to: &str) -> io::Result<()>;

    /// Makes names last: files made, removed and renamed.
    ///
    /// # Errors
    /// It cannot be synced.
    fn sync(&self) -> io::Result<()>;

    /// Takes the lock of all writers; `false` when it is not to be had in that time.
    ///
    /// # Errors
    /// It cannot be locked at all.
    fn lock(&self, wait: Duration) -> io::Result<bool>;

    /// Gives it back.
    fn unlock(&self);
}

/// An open file of a trail.
pub trait Sheet: Send {
    /// Which it is, and how long.
    ///
    /// # Errors
    /// It cannot be examined.
    fn seen(&self) -> io::Result<Seen>;

    /// Appends.
    ///
    /// # Errors
    /// Not all could be written.
    fn append(&mut self, bytes: &[u8]) -> io::Result<()>;

    /// Makes what was written last.
    ///
    /// # Errors
    /// It may not last.
    fn sync(&self) -> io::Result<()>;

    /// Cuts it.
    ///
    /// # Errors
    /// It could not be cut.
    fn cut(&self, length: u64) -> io::Result<()>;

    /// Reads exactly that.
    ///
    /// # Errors
    /// It could not be read.
    fn read_at(&self, bytes: &mut [u8], offset: u64) -> io::Result<()>;

    /// Overwrites it with zeros.
    ///
    /// # Errors
    /// It could not be overwritten.
    fn blank(&self) -> io::Result<()>;

    /// Keeps space behind its end where the file system can do that.
    fn reserve(&self, from: u64, length: u64);

    /// Gives back what is kept behind its end, of a file of that size to which nothing is added any more.
    fn give_back(&self, size: u64);
}

/// A folder on a disk.
#[derive(Debug)]
pub struct Disk {
    path: PathBuf,
    folder: OwnedFd,
    lock: OwnedFd,
    readers: Option<u32>,
}

impl Disk {
    /// Opens, or makes, the folder; it and each folder above must be safe. `readers` is the ID of a group that may read. The
    /// folder above is given to them only where it is Sophron's own, or is made here: any other is not ours to open.
    ///
    /// # Errors
    /// It cannot be made, or is not safe.
    pub fn open(path: &Path, readers: Option<u32>, above_is_ours: bool) -> Result<Disk, PathError> {
        let above = path.parent().map(|above| Ok((above, made_folder(above)?))).transpose()?;
        let folder = private_folder(path)?;
        if let Some(group) = readers {
            give(&folder, path, group, Mode::RWXU | Mode::RGRP | Mode::XGRP)?;
            // The way there: what else stands beside it they can neither list nor read.
            if let Some((above, (opened, _))) = above.filter(|(_, (_, made))| *made || above_is_ours) {
                give(&opened, above, group, Mode::RWXU | Mode::XGRP)?;
            }
        }
        let flags = OFlags::RDWR | OFlags::CREATE | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let lock = rustix::fs::openat(&folder, LOCK_NAME, flags, OWNER_ONLY)
            .map_err(|error| PathError::of(&path.join(LOCK_NAME), "opened", error.into()))?;
        Ok(Disk { path: path.to_owned(), folder, lock, readers })
    }
}

impl Folder for Disk {
    type Sheet = DiskSheet;

    fn names(&self) -> io::Result<Vec<String>> {
        let entries = rustix::fs::Dir::read_from(&self.folder)?;
        let name = |entry: rustix::fs::DirEntry| entry.file_name().to_str().ok().map(str::to_owned);
        let mut names = Vec::new();
        for entry in entries {
            names.extend(name(entry?));
        }
        Ok(names)
    }

    fn seen(&self, name: &str) -> io::Result<Option<Seen>> {
        match rustix::fs::statat(&self.folder, name, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(stat) => Ok(Some(Seen { inode: stat.st_ino, size: stat.st_size as u64 })),
            Err(Errno::NOENT) => Ok(None),
            Err(error) => Err(error.into()),
        }
    }

    fn open(&self, name: &str, shared: bool) -> io::Result<DiskSheet> {
        let flags = OFlags::RDWR | OFlags::CREATE | OFlags::APPEND | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let fd = rustix::fs::openat(&self.folder, name, flags, OWNER_ONLY)?;
        let stat = rustix::fs::fstat(&fd)?;
        check_owner(&self.path.join(name), &stat).map_err(io::Error::other)?;
        if let Some(group) = self.readers.filter(|group| shared && *group != stat.st_gid) {
            rustix::fs::fchown(&fd, None, Some(Gid::from_raw(group)))?;
            rustix::fs::fchmod(&fd, OWNER_ONLY | Mode::RGRP)?;
        }
        Ok(DiskSheet(File::from(fd)))
    }

    fn remove(&self, name: &str) -> io::Result<()> {
        Ok(rustix::fs::unlinkat(&self.folder, name, AtFlags::empty())?)
    }

    fn rename(&self, from: &str, to: &str) -> io::Result<()> {
        Ok(rustix::fs::renameat(&self.folder, from, &self.folder, to)?)
    }

    fn sync(&self) -> io::Result<()> {
        Ok(rustix::fs::fsync(&self.folder)?)
    }

    fn lock(&self, wait: Duration) -> io::Result<bool> {
        let give_up = Instant::now() + wait;
        loop {
            match rustix::fs::flock(&self.lock, FlockOperation::NonBlockingLockExclusive) {
                Ok(()) => return Ok(true),
                Err(Errno::WOULDBLOCK | Errno::INTR) if Instant::now() < give_up => {
                    std::thread::sleep(Duration::from_millis(2));
                }
                Err(Errno::WOULDBLOCK | Errno::INTR) => return Ok(false),
                Err(error) => return Err(error.into()),
            }
        }
    }

    fn unlock(&self) {
        // Unlocking fails only for a descriptor that is not open.
        let _ = rustix::fs::flock(&self.lock, FlockOperation::Unlock);
    }
}

/// A file on a disk.
#[derive(Debug)]
pub struct DiskSheet(File);

impl Sheet for DiskSheet {
    fn seen(&self) -> io::Result<Seen> {
        let stat = rustix::fs::fstat(&self.0)?;
        Ok(Seen { inode: stat.st_ino, size: stat.st_size as u64 })
    }

    fn append(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.0.write_all(bytes)
    }

    fn sync(&self) -> io::Result<()> {
        Ok(rustix::fs::fdatasync(self.0.as_fd())?)
    }

    fn cut(&self, length: u64) -> io::Result<()> {
        self.0.set_len(length)
    }

    fn read_at(&self, bytes: &mut [u8], offset: u64) -> io::Result<()> {
        self.0.read_exact_at(bytes, offset)
    }

    fn blank(&self) -> io::Result<()> {
        // Opened for appending, a file cannot be written in its middle: it is emptied, and as much is appended.
        let size = self.0.metadata()?.len();
        self.0.set_len(0)?;
        (&self.0).write_all(&vec![0; usize::try_from(size).unwrap_or(0)])?;
        self.0.sync_all()
    }

    fn reserve(&self, from: u64, length: u64) {
        // A file system that cannot reserve, or has no space left to, still takes records as long as it can.
        let _ = rustix::fs::fallocate(&self.0, FallocateFlags::KEEP_SIZE, from, length);
    }

    fn give_back(&self, size: u64) {
        // Some file systems give it back when the file is cut to the size that it has, others for a hole behind its end.
        let _ = self.0.set_len(size);
        let hole = FallocateFlags::KEEP_SIZE | FallocateFlags::PUNCH_HOLE;
        let _ = rustix::fs::fallocate(&self.0, hole, size, 1 << 30);
    }
}
