//! The file that a process runs or has open, as the kernel knows it without asking its file system: that may be a user's own and never answer
//! (AT_STATX_DONT_SYNC, statx(2)).

use std::path::Path;

use rustix::fs::{AtFlags, CWD, FileType, StatxFlags, statx};

use crate::{exec, files};

/// A file, as it is known: nobody waits for it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Standing {
    /// Its device, major and minor, and its inode.
    pub device: (u32, u32),
    /// The inode.
    pub inode: u64,
    /// Bytes.
    pub size: u64,
    /// When it was last changed, seconds since 1970.
    pub changed: i64,
    /// What it is a character device of, major and minor.
    pub(crate) character_device: Option<(u32, u32)>,
    rights: (u32, u32, u32),
}

impl Standing {
    pub(crate) fn of(path: &Path, flags: AtFlags) -> Option<Standing> {
        let found = statx(CWD, path, flags | AtFlags::STATX_DONT_SYNC, StatxFlags::BASIC_STATS).ok()?;
        Some(Standing {
            device: (found.stx_dev_major, found.stx_dev_minor),
            inode: found.stx_ino,
            size: found.stx_size,
            changed: found.stx_mtime.tv_sec,
            character_device: (FileType::from_raw_mode(found.stx_mode.into()) == FileType::CharacterDevice)
                .then_some((found.stx_rdev_major, found.stx_rdev_minor)),
            rights: (found.stx_uid, found.stx_gid, found.stx_mode.into()),
        })
    }

    /// Whether nobody but root (or we) can write to it.
    pub(crate) fn is_guarded(&self) -> bool {
        files::is_guarded_file(self.rights)
    }
}

/// What the process of that PID runs; `None` where that may not be read, or it is gone, or starting another program.
pub fn of(pid: u32) -> Option<Standing> {
    exec::gate(pid).ok()?;
    Standing::of(Path::new(&format!("/proc/{pid}/exe")), AtFlags::empty())
}
