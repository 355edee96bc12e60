//! What a process does for others, by what it holds and not by what it is called: whom suspending or ending it would hurt.
//! Rules never suspend or terminate these; a hand has to insist.

use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use sophron_core::model::Process;

use crate::inspect::{details, restart};
use crate::jobs;

/// Locks of package managers: ending their holder leaves half an upgrade.
const PACKAGE_LOCKS: [&str; 9] = [
    "/var/lib/dpkg/lock",
    "/var/lib/dpkg/lock-frontend",
    "/var/lib/apt/lists/lock",
    "/var/cache/apt/archives/lock",
    "/var/lib/rpm/.rpm.lock",
    "/usr/lib/sysimage/rpm/.rpm.lock",
    "/var/lib/pacman/db.lck",
    "/lib/apk/db/lock",
    "/run/zypp.pid",
];

/// Units that everybody else stands on, by what they do. A unit comes from the control group, which no ordinary user
/// can choose.
const UNITS: [(&str, &[&str]); 9] = [
    ("the message bus", &["dbus.service", "dbus-broker.service"]),
    ("the journal", &["systemd-journald.service", "rsyslog.service"]),
    ("the devices", &["systemd-udevd.service"]),
    ("logins", &["systemd-logind.service", "polkit.service", "elogind.service"]),
    (
        "the network",
        &[
            "NetworkManager.service",
            "systemd-networkd.service",
            "systemd-resolved.service",
            "wpa_supplicant.service",
            "iwd.service",
        ],
    ),
    (
        "the disks",
        &["udisks2.service", "multipathd.service", "iscsid.service", "lvm2-lvmpolld.service", "dm-event.service"],
    ),
    ("remote logins", &["sshd.service", "ssh.service"]),
    ("the screen", &["gdm.service", "sddm.service", "lightdm.service", "greetd.service", "display-manager.service"]),
    ("sound", &["pipewire.service", "pipewire-pulse.service", "wireplumber.service", "pulseaudio.service"]),
];

/// Why suspending or ending it would hurt others; `None` where nothing of that kind is seen. What of it may not be read
/// is another user's, and not this user's to act on.
pub fn role(process: &Process) -> Option<String> {
    let pid = process.id.pid;
    let unit = process.unit.as_deref().unwrap_or_default();
    if let Some((what, _)) = UNITS.iter().find(|(_, units)| units.contains(&unit)) {
        return Some(format!("its unit {unit} serves {what}"));
    }
    let group = process.group.as_deref().unwrap_or_default();
    if group.contains("/user@") && group.ends_with("/init.scope") {
        return Some("it is the user's service manager: the whole desktop ends with it".to_owned());
    }
    if let Some(held) = held(pid) {
        return Some(held);
    }
    if let Some(waiter) = jobs::waiting_for(&[pid]).first() {
        return Some(format!("it holds a file lock that process {waiter} waits for"));
    }
    if let Some(policy) = details(pid).policy.filter(|policy| policy.starts_with("real-time") || *policy == "deadline")
    {
        return Some(format!("it runs with a {policy} policy: something counts on its being in time"));
    }
    if let Some(traced) = traced_by(pid) {
        return Some(format!("it traces process {traced}, which would stand still with it"));
    }
    let of_a_user = group.contains("/user@");
    restart(Path::new("/"), unit, of_a_user)
        .filter(|restart| restart.watchdog)
        .map(|_| format!("the service manager watches that its unit {unit} answers, and would end it"))
}

/// By what it has open.
fn held(pid: u32) -> Option<String> {
    let (mut screen, mut input) = (false, false);
    for entry in fs::read_dir(format!("/proc/{pid}/fd")).ok()?.flatten() {
        let Ok(link) = fs::read_link(entry.path()) else { continue };
        let name = link.as_os_str().as_bytes();
        if name == b"/dev/fuse" {
            return Some("it serves a mounted file system: whoever looks into that would hang".to_owned());
        }
        if let Some(lock) = PACKAGE_LOCKS.iter().find(|lock| lock.as_bytes() == name) {
            return Some(format!("it holds the lock of the package manager ({lock}): half an upgrade would be left"));
        }
        screen |= name.starts_with(b"/dev/dri/card");
        input |= name.starts_with(b"/dev/input/event");
    }
    (screen && input).then(|| "it draws the screen and reads the keyboard: the desktop hangs with it".to_owned())
}

/// A process that it traces: `/proc/PID/status` TracerPid is the thread that does.
fn traced_by(pid: u32) -> Option<u32> {
    let threads = fs::read_dir(format!("/proc/{pid}/task")).ok()?.flatten();
    let wanted: Vec<String> =
        threads.filter_map(|thread| Some(format!("TracerPid:\t{}\n", thread.file_name().to_str()?))).collect();
    fs::read_dir("/proc").ok()?.flatten().find_map(|entry| {
        let traced = entry.file_name().to_str()?.parse().ok()?;
        let status = fs::read_to_string(entry.path().join("status")).ok()?;
        wanted.iter().any(|wanted| status.contains(wanted)).then_some(traced)
    })
}

#[cfg(test)]
mod tests {
    use sophron_core::model::{Boot, ProcessId};

    use super::*;

    #[test]
    fn units_and_open_files_tell_a_role() {
        let mut process = Process::unread(ProcessId { pid: std::process::id(), start: 1, boot: Boot(1) });
        assert_eq!(role(&process), None, "a test serves nobody");
        process.names_mut().unit = Some("dbus.service".to_owned());
        assert_eq!(role(&process).as_deref(), Some("its unit dbus.service serves the message bus"));
        process.names_mut().unit = Some(String::new());
        process.names_mut().group = Some("/user.slice/user-1001.slice/user@1001.service/init.scope".to_owned());
        assert!(role(&process).unwrap().contains("the user's service manager"));
    }
}
