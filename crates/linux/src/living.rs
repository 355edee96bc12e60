//! A process whose main thread has exited while others run: its own files in /proc are empty then, and those of a thread that
//! lives, below `task`, tell what there is to tell.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use crate::exec;
use crate::proc::{number, stat};

/// The folder in which the files of a process tell of it.
pub(crate) fn folder(root: &Path, pid: u32) -> PathBuf {
    let own = root.join(pid.to_string());
    // Who is in the middle of an exec has one thread, and his `stat` may hang its reader.
    let starting = fs::read(own.join("statm")).is_ok_and(|statm| exec::is_under_way(&statm));
    if starting { own } else { by_stat(own) }
}

/// The same, of a process that is in the middle of no exec: then what an exec holds up may be read there.
///
/// # Errors
/// It is, or it is gone.
pub(crate) fn open_folder(pid: u32) -> io::Result<PathBuf> {
    exec::gate(pid)?;
    Ok(by_stat(PathBuf::from(format!("/proc/{pid}"))))
}

fn by_stat(own: PathBuf) -> PathBuf {
    let line = fs::read(own.join("stat")).unwrap_or_default();
    let gone = stat::parse(&line).is_some_and(|stat| has_exited(stat.state) && stat.threads > 1);
    match gone.then(|| thread(&own)).flatten() {
        Some(thread) => own.join("task").join(thread.to_string()),
        None => own,
    }
}

/// The threads of the process whose folder that is, by their numbers; `None` where it is gone.
pub(crate) fn threads(folder: &Path) -> Option<impl Iterator<Item = u32>> {
    let entries = fs::read_dir(folder.join("task")).ok()?.flatten();
    Some(entries.filter_map(|entry| number(entry.file_name().as_encoded_bytes())))
}

/// A thread that lives, of the process whose folder that is.
pub(crate) fn thread(folder: &Path) -> Option<u32> {
    let lives = |thread: &u32| {
        let line = fs::read(folder.join("task").join(thread.to_string()).join("stat")).unwrap_or_default();
        stat::parse(&line).is_some_and(|stat| !has_exited(stat.state))
    };
    threads(folder)?.find(lives)
}

/// By the letter of a thread's state (proc_pid_stat(5), field 3).
pub(crate) fn has_exited(state: u8) -> bool {
    matches!(state, b'Z' | b'X')
}
