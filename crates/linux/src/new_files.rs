//! New files, wherever a person wants them. With root's rights a folder on the way may be another user's, who puts a link there: so each is
//! opened through the one before it, and no link is followed but root's own, or one's own.

use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io::{self, Write};
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::path::{Component, Path, PathBuf};

use rustix::fs::{AtFlags, CWD, Mode, OFlags, RenameFlags};
use rustix::io::Errno;

use crate::files::PathError;
use crate::here;

const FOLDER: OFlags = OFlags::PATH.union(OFlags::DIRECTORY).union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);

/// No way has more links.
const MOST_LINKS: usize = 40;

/// Who may read it.
pub const OWNER_ONLY: Mode = Mode::RUSR.union(Mode::WUSR);
/// The owner writes, everybody reads.
pub const FOR_ALL: Mode = OWNER_ONLY.union(Mode::RGRP).union(Mode::ROTH);

/// Makes a new file that only its owner may read. Nothing that is there already is overwritten.
///
/// # Errors
/// Something is there already, a link of somebody else's stands on the way, or it cannot be made.
pub fn create(path: &Path) -> Result<File, PathError> {
    let (folder, name) = folder_of(path, "made")?;
    make(&folder, &name, OWNER_ONLY).map_err(|error| PathError::of(path, "made", error.into()))
}

/// The same with these contents: whoever sees it sees all of it.
///
/// # Errors
/// As [`create`], or it cannot be written.
pub fn write(path: &Path, bytes: &[u8], mode: Mode) -> Result<(), PathError> {
    let failed = |error: io::Error| PathError::of(path, "written", error);
    let (folder, name) = folder_of(path, "written")?;
    let mut next = OsString::from(".");
    next.push(&name);
    next.push(format!(".{}", std::process::id()));
    let mut file = make(&folder, &next, mode).map_err(|error| failed(error.into()))?;
    let written = file.write_all(bytes).and_then(|()| file.sync_all());
    let written = written.and_then(|()| {
        match rustix::fs::renameat_with(&folder, &next, &folder, &name, RenameFlags::NOREPLACE) {
            // Not every file system can do that.
            Err(Errno::INVAL | Errno::NOSYS) => rustix::fs::linkat(&folder, &next, &folder, &name, AtFlags::empty()),
            done => done,
        }
        .map_err(io::Error::from)
    });
    // Where it was renamed there is nothing left.
    let _ = rustix::fs::unlinkat(&folder, &next, AtFlags::empty());
    written.map_err(failed)
}

fn make(folder: &OwnedFd, name: &OsStr, mode: Mode) -> Result<File, Errno> {
    let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    Ok(File::from(rustix::fs::openat(folder, name, flags, mode)?))
}

/// The folder that a file is to be in, and its name in there.
fn folder_of(path: &Path, what: &'static str) -> Result<(OwnedFd, OsString), PathError> {
    let failed = |error: io::Error| PathError::of(path, what, error);
    let whole = std::path::absolute(path).map_err(failed)?;
    let (above, name) =
        whole.parent().zip(whole.file_name()).ok_or_else(|| failed(io::ErrorKind::IsADirectory.into()))?;
    let mut links = 0;
    let mut ahead: Vec<OsString> = Vec::new();
    let push = |ahead: &mut Vec<OsString>, way: &Path| {
        let parts = way.components().rev().filter(|part| !matches!(part, Component::CurDir | Component::Prefix(_)));
        ahead.extend(parts.map(|part| part.as_os_str().to_owned()));
    };
    push(&mut ahead, above);
    let root = || rustix::fs::openat(CWD, "/", FOLDER, Mode::empty()).map_err(|error| failed(error.into()));
    let (mut folder, mut so_far) = (root()?, PathBuf::from("/"));
    while let Some(part) = ahead.pop() {
        if part == "/" {
            (folder, so_far) = (root()?, PathBuf::from("/"));
            continue;
        }
        match rustix::fs::openat(&folder, &part, FOLDER, Mode::empty()) {
            Ok(next) => {
                folder = next;
                so_far.push(&part);
            }
            Err(error @ (Errno::LOOP | Errno::NOTDIR)) => {
                let target = rustix::fs::readlinkat(&folder, &part, Vec::new()).map_err(|_| failed(error.into()))?;
                so_far.push(&part);
                let whose = rustix::fs::statat(&folder, &part, AtFlags::SYMLINK_NOFOLLOW);
                let whose = whose.map_err(|error| failed(error.into()))?.st_uid;
                if whose != 0 && whose != here::uid() {
                    let why = format!("is a link of user {whose}'s, and is not followed; give the real path");
                    return Err(PathError::Unsafe { path: so_far, why });
                }
                links += 1;
                if links > MOST_LINKS {
                    return Err(failed(Errno::LOOP.into()));
                }
                so_far.pop();
                push(&mut ahead, Path::new(OsStr::from_bytes(target.to_bytes())));
            }
            Err(error) => return Err(failed(error.into())),
        }
    }
    Ok((folder, name.to_owned()))
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::{PermissionsExt, lchown, symlink};

    use super::*;

    /// Into folders of whoever it may be, through links of one's own, and through nobody else's.
    #[test]
    fn no_link_of_anothers_is_followed() {
        let stage = tempfile::tempdir().unwrap();
        let real = stage.path().join("real");
        std::fs::create_dir(&real).unwrap();
        symlink("real/../real", stage.path().join("own")).unwrap();
        write(&stage.path().join("own/report.html"), b"all of it", OWNER_ONLY).unwrap();
        let report = real.join("report.html");
        assert_eq!(std::fs::read(&report).unwrap(), b"all of it");
        assert_eq!(std::fs::metadata(&report).unwrap().permissions().mode() & 0o777, 0o600);
        assert!(write(&report, b"other", OWNER_ONLY).is_err() && create(&report).is_err());
        assert_eq!(std::fs::read_dir(&real).unwrap().count(), 1, "nothing is left beside it");
        if !here::is_root() {
            return;
        }
        let link = stage.path().join("anothers");
        symlink(&real, &link).unwrap();
        lchown(&link, Some(2_000_000_001), None).unwrap();
        for path in [link.join("x"), link.join("../anothers/x")] {
            let refused = [create(&path).unwrap_err(), write(&path, b"", FOR_ALL).unwrap_err()];
            assert!(
                refused.iter().all(|error| error.to_string().contains("a link of user 2000000001's")),
                "{refused:?}"
            );
        }
        // What is another's is no obstacle by itself.
        std::os::unix::fs::chown(&real, Some(2_000_000_001), None).unwrap();
        create(&real.join("y")).unwrap();
    }
}
