//! What holds the terminal that Sophron was started from: ending that would end Sophron, or the person's session.

use std::fs;
use std::path::Path;

use sophron_core::model::{Boot, ProcessId};
use sophron_core::sorted::SortedSet;

use crate::exec;
use crate::handle::start_time;
use crate::proc::stat;

/// The leader of our session, and every process that holds the other end of our terminal: a terminal window, a
/// multiplexer's server, a remote login. A job that merely runs in the terminal is not among them.
///
/// Processes whose descriptors may not be read are left out: those are another user's, and not ours to act on.
pub fn holders(boot: Boot) -> SortedSet<ProcessId> {
    let Some((session, terminal)) = own_session() else { return SortedSet::new() };
    let mut holders = SortedSet::new();
    let login = fs::read_to_string("/proc/self/loginuid").ok().and_then(|text| text.trim().parse::<u32>().ok());
    if let Some(login) = login.filter(|uid| *uid != u32::MAX) {
        holders.extend(remote_logins(Path::new("/run/systemd/sessions"), login, boot));
    }
    holders.extend(identity(session, boot));
    let Some(index) = pty_index(terminal) else { return holders };
    for entry in fs::read_dir("/proc").into_iter().flatten().flatten() {
        let Some(pid) = entry.file_name().to_str().and_then(|name| name.parse::<u32>().ok()) else { continue };
        if exec::gate(pid).is_ok() && holds_pty(&entry.path(), index) {
            holders.extend(identity(pid, boot));
        }
    }
    holders
}

/// The leaders of that user's other remote logins, and whoever holds their terminals: ending those would throw the person
/// out. Logins are told by the login service's files (one for each session, `UID=`, `REMOTE=1`, `LEADER=`).
pub(crate) fn remote_logins(sessions: &Path, login_uid: u32, boot: Boot) -> SortedSet<ProcessId> {
    let mut leaders = SortedSet::new();
    for entry in fs::read_dir(sessions).into_iter().flatten().flatten() {
        let text = fs::read_to_string(entry.path()).unwrap_or_default();
        let value = |key: &str| text.lines().find_map(|line| line.strip_prefix(key)).map(str::trim);
        let is_theirs = value("UID=").and_then(|uid| uid.parse().ok()) == Some(login_uid);
        if is_theirs && value("REMOTE=") == Some("1") {
            leaders.extend(value("LEADER=").and_then(|pid| pid.parse::<u32>().ok()));
        }
    }
    // The leader hands the terminal to a child of its own.
    let mut found: SortedSet<ProcessId> = leaders.iter().filter_map(|pid| identity(*pid, boot)).collect();
    for entry in fs::read_dir("/proc").into_iter().flatten().flatten().filter(|_| !leaders.is_empty()) {
        let Some(pid) = entry.file_name().to_str().and_then(|name| name.parse::<u32>().ok()) else { continue };
        let line = exec::read(pid, "stat").unwrap_or_default();
        if stat::parse(&line).is_some_and(|stat| leaders.contains(&stat.parent)) {
            found.extend(identity(pid, boot));
        }
    }
    found
}

fn own_session() -> Option<(u32, u32)> {
    let line = fs::read("/proc/self/stat").ok()?;
    stat::parse(&line).map(|stat| (stat.session, stat.terminal))
}

fn identity(pid: u32, boot: Boot) -> Option<ProcessId> {
    Some(ProcessId { pid, start: start_time(pid)?, boot })
}

/// Major and minor of a device number as `stat` field 7 has it (proc_pid_stat(5)).
fn device(number: u32) -> (u32, u32) {
    ((number >> 8) & 0xfff, (number & 0xff) | ((number >> 12) & 0xf_ff00))
}

/// The number N of `/dev/pts/N` from a device number: majors 136 to 143 (pts(4)).
fn pty_index(number: u32) -> Option<u32> {
    let (major, minor) = device(number);
    (136..=143).contains(&major).then(|| (major - 136) * 256 + minor)
}

/// A terminal's name from its device number: `pts/3`, `tty2`, or the number itself; empty for none.
pub(crate) fn name(number: u32) -> String {
    match (pty_index(number), device(number)) {
        (Some(index), _) => format!("pts/{index}"),
        (None, (0, _)) => String::new(),
        (None, (4, minor)) => format!("tty{minor}"),
        (None, (major, minor)) => format!("{major}:{minor}"),
    }
}

/// A master end shows `tty-index: N` in its fdinfo (proc_pid_fdinfo(5)).
fn holds_pty(process: &Path, index: u32) -> bool {
    let wanted = format!("tty-index:\t{index}");
    fs::read_dir(process.join("fd")).into_iter().flatten().flatten().any(|entry| {
        let is_master = fs::read_link(entry.path()).is_ok_and(|target| target.ends_with("ptmx"));
        let info = process.join("fdinfo").join(entry.file_name());
        is_master && fs::read_to_string(info).is_ok_and(|info| info.lines().any(|line| line == wanted))
    })
}

#[cfg(test)]
mod tests {
    #[test]
    fn remote_logins_of_one_user() {
        let sessions = tempfile::tempdir().unwrap();
        let own = std::process::id();
        let file = |name: &str, text: String| std::fs::write(sessions.path().join(name), text).unwrap();
        file("1", format!("UID=1001\nREMOTE=1\nLEADER={own}\n"));
        let found = super::remote_logins(sessions.path(), 1001, sophron_core::model::Boot(1));
        assert!(found.iter().any(|id| id.pid == own));
        assert!(super::remote_logins(sessions.path(), 1002, sophron_core::model::Boot(1)).is_empty());
        file("1", format!("UID=1001\nREMOTE=0\nLEADER={own}\n"));
        assert!(super::remote_logins(sessions.path(), 1001, sophron_core::model::Boot(1)).is_empty());
    }

    #[test]
    fn pty_numbers() {
        assert_eq!(super::pty_index(0x8803), Some(3));
        assert_eq!(super::pty_index(0x8901), Some(257));
        assert_eq!(super::pty_index(0x0401), None);
    }
}
