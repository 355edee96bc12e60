//! What processes have open: `/proc/PID/fd` (proc_pid_fd(5)). The owner's or root's to read.

use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::Path;
use std::time::{Duration, Instant};

use sophron_core::checkup::HeldFile;
use sophron_core::text;

use crate::living;
use crate::patience::within;

/// Most that are named at once.
const MOST_NAMED: usize = 16;

/// How long they are waited for: one on a disk that does not answer hangs whoever asks.
const PATIENCE: Duration = Duration::from_millis(40);

/// What a process holds open, as far as that may be read: the names of files and sockets, each once, at most 16.
pub fn names(pid: u32) -> Vec<String> {
    let files = within(PATIENCE, move || of(pid)).flatten().unwrap_or_default();
    let mut names: Vec<String> = files.into_iter().map(|file| file.name).collect();
    names.sort_unstable();
    names.dedup();
    names.truncate(MOST_NAMED);
    names
}

/// One open file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OpenFile {
    /// Its number in the process.
    pub number: u32,
    /// What it is: a path, or as the kernel names it, `pipe:[4711]`.
    pub name: String,
    /// What kind of thing it is.
    pub kind: FileKind,
    /// Deleted, and only held by whoever has it open.
    pub deleted: bool,
    /// What it takes on its disk, bytes; 0 for all but plain files.
    pub size: u64,
    /// The device number of its file system.
    pub device: u64,
}

/// What kind of thing is open.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileKind {
    /// A plain file.
    Plain,
    /// A pipe.
    Pipe,
    /// A socket.
    Socket,
    /// A terminal or another device.
    Device,
    /// A folder, or something of the kernel's own.
    Other,
}

/// Everything that a process has open; `None` where that may not be read.
pub fn of(pid: u32) -> Option<Vec<OpenFile>> {
    let entries = fs::read_dir(living::open_folder(pid).ok()?.join("fd")).ok()?;
    let files = entries.flatten().filter_map(|entry| {
        let number = entry.file_name().to_str()?.parse().ok()?;
        one(&entry.path(), number)
    });
    Some(files.collect())
}

/// One open file of a process.
pub fn one_of(pid: u32, number: u32) -> Option<OpenFile> {
    one(&living::open_folder(pid).ok()?.join(format!("fd/{number}")), number)
}

fn one(entry: &Path, number: u32) -> Option<OpenFile> {
    let link = fs::read_link(entry).ok()?;
    let bytes = link.as_os_str().as_bytes();
    // What is on a disk stands with its whole path; asking a network file system for more could hang.
    let cut = bytes.strip_suffix(b" (deleted)");
    let mut file = OpenFile {
        number,
        name: text::clean(cut.unwrap_or(bytes)),
        kind: FileKind::Other,
        deleted: false,
        size: 0,
        device: 0,
    };
    match bytes {
        pipe if pipe.starts_with(b"pipe:") => file.kind = FileKind::Pipe,
        socket if socket.starts_with(b"socket:") => file.kind = FileKind::Socket,
        path if path.starts_with(b"/") => {
            let found = fs::metadata(entry).ok()?;
            let kind = found.file_type();
            file.kind = match () {
                () if kind.is_file() => FileKind::Plain,
                () if kind.is_fifo() => FileKind::Pipe,
                () if kind.is_char_device() || kind.is_block_device() => FileKind::Device,
                () => FileKind::Other,
            };
            file.device = found.dev();
            if kind.is_file() {
                (file.size, file.deleted) = (found.blocks() * 512, found.nlink() == 0);
            }
        }
        _ => {}
    }
    Some(file)
}

/// Deleted files of at least that size that processes still hold, as far as there is time to look.
pub fn held(pids: impl Iterator<Item = u32>, at_least: u64, give_up: Instant) -> Vec<HeldFile> {
    let mut held = Vec::new();
    for pid in pids {
        if Instant::now() >= give_up {
            break;
        }
        let entries = living::open_folder(pid).and_then(|folder| fs::read_dir(folder.join("fd")));
        let Ok(entries) = entries else { continue };
        for entry in entries.flatten() {
            // Most links tell by themselves that their file is still there.
            let deleted =
                fs::read_link(entry.path()).is_ok_and(|link| link.as_os_str().as_bytes().ends_with(b" (deleted)"));
            let file = if deleted { one(&entry.path(), 0) } else { None };
            if let Some(file) = file.filter(|file| file.deleted && file.size >= at_least) {
                held.push(HeldFile { pid, path: file.name, size: file.size, number: file.device });
            }
        }
    }
    held
}

/// Which end of a pipe.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum End {
    /// That of those who write.
    Writing,
    /// That of those who read.
    Reading,
    /// Any: of a socket.
    Any,
}

/// Who else has that end of a pipe, or that socket, as the kernel names it (`pipe:[4711]`), as far as there is time to look.
pub fn others_with(name: &str, end: End, but: u32, pids: impl Iterator<Item = u32>, give_up: Instant) -> Vec<u32> {
    let mut others = Vec::new();
    for pid in pids.filter(|pid| *pid != but) {
        if Instant::now() >= give_up {
            break;
        }
        let Ok(folder) = living::open_folder(pid) else { continue };
        let has = |entry: fs::DirEntry| {
            let is_it = fs::read_link(entry.path()).is_ok_and(|link| link.as_os_str() == name);
            is_it && is_that(end, &folder.join("fdinfo").join(entry.file_name()))
        };
        if fs::read_dir(folder.join("fd")).into_iter().flatten().flatten().any(has) {
            others.push(pid);
        }
    }
    others
}

/// By the line `flags:` (octal) of `fdinfo`; where that cannot be read it may be.
fn is_that(end: End, info: &Path) -> bool {
    let info = fs::read_to_string(info).unwrap_or_default();
    let flags = info.lines().find_map(|line| u32::from_str_radix(line.strip_prefix("flags:")?.trim(), 8).ok());
    match (end, flags.map(|flags| flags & 3)) {
        (End::Writing, Some(mode)) => mode != 0,
        (End::Reading, Some(mode)) => mode != 1,
        _ => true,
    }
}
