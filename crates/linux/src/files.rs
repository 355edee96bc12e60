//! Safe ways to files: every folder on the way is opened without following links and checked on the open descriptor.

use std::fs::File;
use std::io::{self, Read, Write};
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Component, Path, PathBuf};

use rustix::fs::{CWD, FileType, FlockOperation, Mode, OFlags, Stat};
use rustix::io::Errno;

use crate::here;

/// Why a path is not used.
#[derive(Debug, thiserror::Error)]
pub enum PathError {
    /// Others could change what stands there.
    #[error("{path} {why}")]
    Unsafe {
        /// The file or folder.
        path: PathBuf,
        /// What is wrong with it, and how to mend it.
        why: String,
    },
    /// It cannot be opened, read or made.
    #[error("{path} cannot be {what}")]
    Io {
        /// The file or folder.
        path: PathBuf,
        /// What was tried.
        what: &'static str,
        /// Why not.
        #[source]
        source: io::Error,
    },
}

impl PathError {
    /// One that names a file and what was tried.
    pub(crate) fn of(path: &Path, what: &'static str, source: io::Error) -> Self {
        PathError::io(path, what, source)
    }

    fn io(path: &Path, what: &'static str, source: impl Into<io::Error>) -> Self {
        PathError::Io { path: path.to_owned(), what, source: source.into() }
    }

    /// Whether there is simply nothing at that path.
    /// Whether there is no such thing.
    pub fn is_missing(&self) -> bool {
        matches!(self, PathError::Io { source, .. } if source.kind() == io::ErrorKind::NotFound)
    }
}

const FOLDER: OFlags = OFlags::DIRECTORY.union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);

/// Reads a whole file that decides what Sophron does. It, and each folder above it, must belong to root (or to us) and
/// be writable by nobody else; links are not followed.
///
/// # Errors
/// It is missing, not a file, larger than `limit` bytes, or others could change it.
pub fn read_trusted(path: &Path, limit: u64) -> Result<Vec<u8>, PathError> {
    read(path, limit, |_| Ok(()))
}

/// Whether a file is one that [`read_trusted`] would read.
///
/// # Errors
/// As there.
pub fn check_trusted(path: &Path) -> Result<(), PathError> {
    read(path, 0, |_| Ok(())).map(|_| ())
}

/// Reads a whole file that nobody but its owner can read either.
///
/// # Errors
/// As [`read_trusted`], or others could read it.
pub fn read_secret(path: &Path, limit: u64) -> Result<Vec<u8>, PathError> {
    read(path, limit, |stat| match stat.st_mode & 0o077 {
        0 => Ok(()),
        _ => {
            let mend = format!("can be read by others; mend it with: chmod 600 {}", path.display());
            Err(unsafe_path(path, &mend))
        }
    })
}

fn read(path: &Path, limit: u64, check: impl Fn(&Stat) -> Result<(), PathError>) -> Result<Vec<u8>, PathError> {
    let path = absolute(path)?;
    let (folder, name) = split(&path)?;
    let (parent, _) = open_folder(folder, Missing::Fails)?;
    // Without NONBLOCK a named pipe in that place would keep us waiting for a writer.
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC | OFlags::NONBLOCK;
    let fd = rustix::fs::openat(&parent, name, flags, Mode::empty()).map_err(|error| opening(&path, error))?;
    let stat = rustix::fs::fstat(&fd).map_err(|error| PathError::io(&path, "examined", error))?;
    match FileType::from_raw_mode(stat.st_mode) {
        FileType::RegularFile => {}
        FileType::Directory => return Err(PathError::io(&path, "read", io::Error::from(io::ErrorKind::IsADirectory))),
        _ => return Err(PathError::io(&path, "read", io::Error::other("it is not a regular file"))),
    }
    check_owner(&path, &stat)?;
    check(&stat)?;
    let mut bytes = Vec::new();
    File::from(fd).take(limit + 1).read_to_end(&mut bytes).map_err(|error| PathError::io(&path, "read", error))?;
    Ok(bytes)
}

/// Whether nobody but root (or we) can write to a file, by its owner, group and mode.
pub(crate) fn is_guarded_file(rights: (u32, u32, u32)) -> bool {
    is_safe(rights)
}

/// Whether nobody but root (or we) can change what a folder holds, by itself and those above it.
pub(crate) fn is_guarded_folder(path: &Path) -> bool {
    path.is_absolute() && open_folder(path, Missing::Fails).is_ok()
}

/// Opens a folder of ours, making what is missing of it owner-only. Each folder on the way is checked.
///
/// # Errors
/// It cannot be made, a link or a file stands in the way, or others could change it.
pub fn private_folder(path: &Path) -> Result<OwnedFd, PathError> {
    Ok(made_folder(path)?.0)
}

/// The same, and whether it was made just now.
///
/// # Errors
/// As [`private_folder`].
pub fn made_folder(path: &Path) -> Result<(OwnedFd, bool), PathError> {
    open_folder(&absolute(path)?, Missing::IsMade)
}

/// Lets a group read what stands in a folder of ours. The folder above is given to it only where that is Sophron's own: what else
/// stands there it can neither list nor read.
///
/// # Errors
/// It cannot be given.
pub fn give_to_group(path: &Path, group: u32, above_is_ours: bool) -> Result<(), PathError> {
    let path = absolute(path)?;
    let folder = private_folder(&path)?;
    give(&folder, &path, group, Mode::RWXU | Mode::RGRP | Mode::XGRP)?;
    if let Some(above) = path.parent().filter(|_| above_is_ours) {
        give(&private_folder(above)?, above, group, Mode::RWXU | Mode::XGRP)?;
    }
    Ok(())
}

/// Lets a group read a file of ours.
///
/// # Errors
/// It cannot be given.
pub fn give_to_group_file(path: &Path, group: u32) -> Result<(), PathError> {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let fd = rustix::fs::openat(CWD, path, flags, Mode::empty()).map_err(|error| opening(path, error))?;
    give(&fd, path, group, Mode::RUSR | Mode::WUSR | Mode::RGRP)
}

/// Gives a file or folder to a group, with these rights.
pub(crate) fn give(of: &OwnedFd, path: &Path, group: u32, mode: Mode) -> Result<(), PathError> {
    let given = rustix::fs::fchown(of, None, Some(rustix::fs::Gid::from_raw(group)));
    let given = given.and_then(|()| rustix::fs::fchmod(of, mode));
    given.map_err(|error| PathError::of(path, "given to its readers", error.into()))
}

/// Opens an existing folder; each folder on the way is checked.
///
/// # Errors
/// It is missing, a link or a file stands in the way, or others could change it.
pub fn trusted_folder(path: &Path) -> Result<OwnedFd, PathError> {
    Ok(open_folder(&absolute(path)?, Missing::Fails)?.0)
}

/// Opens a plain file that somebody names, for reading: nothing that could keep its reader waiting.
///
/// # Errors
/// It cannot be opened, or is a folder, a pipe or a device.
pub fn open_plain(path: &Path) -> io::Result<File> {
    let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
    let file = File::from(rustix::fs::openat(CWD, path, flags, Mode::empty())?);
    if file.metadata()?.is_file() { Ok(file) } else { Err(io::Error::other("it is not a file")) }
}

/// Puts a file in the place of another, so that whoever reads it sees either whole. Everybody may read it.
///
/// # Errors
/// Its folder is missing or others could change it, or it cannot be written.
pub fn replace(path: &Path, bytes: &[u8]) -> Result<(), PathError> {
    put(path, bytes, Mode::RUSR | Mode::WUSR | Mode::RGRP | Mode::ROTH, false)
}

/// The same for a file that only its owner may read, and that is on disk then.
///
/// # Errors
/// As [`replace`], or it cannot be synced.
pub fn replace_durably(path: &Path, bytes: &[u8]) -> Result<(), PathError> {
    put(path, bytes, Mode::RUSR | Mode::WUSR, true)
}

fn put(path: &Path, bytes: &[u8], mode: Mode, durably: bool) -> Result<(), PathError> {
    let path = absolute(path)?;
    let (folder, name) = split(&path)?;
    let folder = private_folder(folder)?;
    let next = format!(".{}.next", name.to_string_lossy());
    let written = |error: io::Error| PathError::io(&path, "written", error);
    // One that was being written when we were killed.
    let _ = rustix::fs::unlinkat(&folder, &next, rustix::fs::AtFlags::empty());
    let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let fd = rustix::fs::openat(&folder, &next, flags, mode).map_err(|error| written(error.into()))?;
    // Whatever the umask is.
    rustix::fs::fchmod(&fd, mode).map_err(|error| written(error.into()))?;
    let mut file = File::from(fd);
    file.write_all(bytes).map_err(written)?;
    if durably {
        file.sync_data().map_err(written)?;
    }
    rustix::fs::renameat(&folder, &next, &folder, name).map_err(|error| written(error.into()))?;
    if durably {
        rustix::fs::fsync(&folder).map_err(|error| written(error.into()))?;
    }
    Ok(())
}

/// Takes the lock file of a folder, and writes our PID into it; the lock lasts as long as the file is open. `Err` with
/// the PID found in it when another process holds it.
///
/// # Errors
/// The file cannot be made or locked.
pub fn try_lock(folder: &OwnedFd, path: &Path, name: &str) -> Result<Result<File, String>, PathError> {
    let path = path.join(name);
    let flags = OFlags::RDWR | OFlags::CREATE | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let fd = rustix::fs::openat(folder, name, flags, Mode::RUSR | Mode::WUSR).map_err(|error| opening(&path, error))?;
    let mut file = File::from(fd);
    match rustix::fs::flock(&file, FlockOperation::NonBlockingLockExclusive) {
        Ok(()) => {
            file.set_len(0).map_err(|error| PathError::io(&path, "written", error))?;
            write!(file, "{}", std::process::id()).map_err(|error| PathError::io(&path, "written", error))?;
            Ok(Ok(file))
        }
        Err(Errno::WOULDBLOCK) => {
            let mut pid = String::new();
            // Who it is helps, but is not needed.
            let _ = file.take(16).read_to_string(&mut pid);
            Ok(Err(pid))
        }
        Err(error) => Err(PathError::io(&path, "locked", error)),
    }
}

#[derive(Clone, Copy, PartialEq)]
enum Missing {
    Fails,
    IsMade,
}

fn absolute(path: &Path) -> Result<PathBuf, PathError> {
    std::path::absolute(path).map_err(|error| PathError::io(path, "found", error))
}

fn split(path: &Path) -> Result<(&Path, &std::ffi::OsStr), PathError> {
    path.parent()
        .zip(path.file_name())
        .ok_or_else(|| PathError::io(path, "read", io::Error::from(io::ErrorKind::IsADirectory)))
}

/// Walks from `/` down, one component at a time, each through the descriptor of the one before.
fn open_folder(path: &Path, missing: Missing) -> Result<(OwnedFd, bool), PathError> {
    let mut made = false;
    let mut so_far = PathBuf::from("/");
    let mut fd = rustix::fs::openat(CWD, "/", OFlags::PATH | FOLDER, Mode::empty())
        .map_err(|error| PathError::io(&so_far, "opened", error))?;
    check_folder(&so_far, &fd)?;
    for component in path.components() {
        let name = match component {
            Component::RootDir | Component::CurDir | Component::Prefix(_) => continue,
            Component::ParentDir => return Err(unsafe_path(path, "goes through `..`; give it without")),
            Component::Normal(name) => name,
        };
        so_far.push(name);
        let open = || rustix::fs::openat(&fd, name, OFlags::PATH | FOLDER, Mode::empty());
        made = false;
        let next = match open() {
            Err(Errno::NOENT) if missing == Missing::IsMade => {
                match rustix::fs::mkdirat(&fd, name, Mode::RWXU) {
                    // Somebody else was faster: what he made is checked like any other.
                    done @ (Ok(()) | Err(Errno::EXIST)) => {
                        made = done.is_ok();
                        open()
                    }
                    Err(error) => return Err(PathError::io(&so_far, "made", error)),
                }
            }
            other => other,
        };
        fd = next.map_err(|error| opening(&so_far, error))?;
        check_folder(&so_far, &fd)?;
    }
    // A descriptor that only names the folder cannot be synced or listed.
    let opened = rustix::fs::openat(&fd, ".", OFlags::RDONLY | FOLDER, Mode::empty());
    opened.map(|opened| (opened, made)).map_err(|error| PathError::io(path, "opened", error))
}

fn opening(path: &Path, error: Errno) -> PathError {
    let link = std::fs::read_link(path).ok();
    match (error, link) {
        (Errno::LOOP | Errno::NOTDIR, Some(target)) => unsafe_path(
            path,
            &format!("is a link, and links are not followed; give the real path, {}", target.display()),
        ),
        (error, _) => PathError::io(path, "opened", error),
    }
}

fn check_folder(path: &Path, fd: impl AsFd) -> Result<(), PathError> {
    let stat = rustix::fs::fstat(fd).map_err(|error| PathError::io(path, "examined", error))?;
    // In a sticky folder of root's, as /tmp, nobody can rename or remove what belongs to another.
    let sticky = stat.st_mode & libc::S_ISVTX != 0;
    if sticky && stat.st_uid == 0 { Ok(()) } else { check_owner(path, &stat) }
}

/// Whether an open file belongs to root (or to us) and can be written by nobody else.
///
/// # Errors
/// Others could change it.
pub(crate) fn check_owner(path: &Path, stat: &Stat) -> Result<(), PathError> {
    let us = here::uid();
    if stat.st_uid != 0 && stat.st_uid != us {
        let whose = if us == 0 { "not to root" } else { "neither to root nor to you" };
        return Err(unsafe_path(path, &format!("belongs to user {}, {whose}; its owner could change it", stat.st_uid)));
    }
    if !is_safe((stat.st_uid, stat.st_gid, stat.st_mode)) {
        let mend = format!("can be written by others; mend it with: chmod go-w {}", path.display());
        return Err(unsafe_path(path, &mend));
    }
    Ok(())
}

/// Owner, group and mode: root's or ours, and nobody else's to write.
fn is_safe((owner, group, mode): (u32, u32, u32)) -> bool {
    let us = here::uid();
    // Where each user has a group of his own, group-writable files are his alone.
    let own_group = us != 0 && owner == us && group == us;
    let forbidden = if own_group { 0o002 } else { 0o022 };
    (owner == 0 || owner == us) && mode & forbidden == 0
}

fn unsafe_path(path: &Path, why: &str) -> PathError {
    PathError::Unsafe { path: path.to_owned(), why: why.to_owned() }
}
