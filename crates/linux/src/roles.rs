//! What a process does for others, by what it holds and not by what it is called: whom suspending or ending it would hurt.
//! Rules never suspend or terminate these; a hand has to insist.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use std::{fs, io};

use rustix::fs::{AtFlags, OFlags};
use sophron_core::model::{Needs, Process, Unit, unit_of};
use sophron_core::sorted::{SortedMap, SortedSet};
use sophron_core::text::with_causes;

use crate::everybody::of_each;
use crate::handle::{self, is_gone, started};
use crate::here::Users;
use crate::inspect::{details, restart};
use crate::proc::status::parse_person;
use crate::proc::{cgroup, number};
use crate::program::Standing;
use crate::{Sampler, exec, living, locks};

/// How long it is looked at what a process has open.
const OPEN_FILES: Duration = Duration::from_millis(150);

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

/// Of these, those that are held by being there.
const BY_BEING_THERE: [&str; 2] = ["/var/lib/pacman/db.lck", "/run/zypp.pid"];

/// Units of the machine that everybody else stands on, by what they do.
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

/// Units of a user's own manager that his desktop stands on, with the programs that they run. The unit is only the user's
/// word: it counts together with a program that is proven.
const OF_A_DESKTOP: [(&str, &str, &[&str]); 6] = [
    ("dbus.service", "the message bus", &["dbus-daemon", "dbus-broker", "dbus-broker-launch"]),
    ("dbus-broker.service", "the message bus", &["dbus-broker", "dbus-broker-launch"]),
    ("pipewire.service", "sound", &["pipewire"]),
    ("pipewire-pulse.service", "sound", &["pipewire", "pipewire-pulse"]),
    ("wireplumber.service", "sound", &["wireplumber"]),
    ("pulseaudio.service", "sound", &["pulseaudio"]),
];

/// How long those that wait for a file lock are waited for.
const LOCKS: Duration = Duration::from_secs(1);

/// What is said of somebody who cannot be read, though he is there.
const UNREAD: &str = "what it is cannot be seen now, and unknown protects";

/// Why suspending or ending it would hurt others; none where nothing of that kind is seen. What of it may not be read is another
/// user's, and not this user's to act on.
pub fn role(process: &Process) -> Option<String> {
    Roles::with(Tracers::look(Some(process.uid))).of(process, &SortedSet::new())
}

/// Whom not to touch for what they do for others: what is asked of many is looked at once.
#[derive(Debug)]
pub struct Roles {
    tracers: Tracers,
    /// The locks were not to be had in time: nobody waits for them again.
    late: Cell<bool>,
    users: RefCell<Users>,
}

/// Whether anybody traced anybody when that was last looked at.
static ANY_TRACER: AtomicBool = AtomicBool::new(false);

/// Who traces whom, by a look at all processes.
#[derive(Debug, Default)]
pub(crate) struct Tracers {
    /// A thread's ID, and the processes that it traces.
    traced: HashMap<u32, Vec<u32>>,
    /// Why that could not be seen.
    unread: Option<String>,
}

impl Tracers {
    /// Of a user who is asked about alone those that he started himself are left out: tracing them serves nobody else. To ask the
    /// kernel who started them takes a quarter of the time.
    pub fn look(of: Option<u32>) -> Tracers {
        let (pairs, error) = of_each(|files, pid, another: &mut bool| {
            // Whoever follows on a process of his is likely to be his as well.
            if !*another && of.is_some_and(|uid| handle::started_by(pid) == Some(uid)) {
                return Ok(None);
            }
            let status = files.of(pid, "status")?;
            *another = of.is_none() || parse_person(status) != of;
            let line = status.split(|byte| *byte == b'\n').find_map(|line| line.strip_prefix(b"TracerPid:\t"));
            let tracer = line.and_then(number).filter(|tracer| *tracer != 0);
            Ok(tracer.map(|tracer| (tracer, pid)))
        });
        let mut seen = Tracers { traced: HashMap::new(), unread: error.and_then(|error| cannot_be_seen(&error)) };
        for (tracer, traced) in pairs {
            seen.traced.entry(tracer).or_default().push(traced);
        }
        ANY_TRACER.store(!seen.traced.is_empty(), Ordering::Relaxed);
        seen
    }
}

impl Roles {
    /// A look at all processes.
    pub fn look() -> Roles {
        Roles::with(Tracers::look(None))
    }

    /// The same for whoever looks once more before he acts: who traces whom is looked at only where somebody did, last time.
    pub(crate) fn glance() -> Roles {
        if ANY_TRACER.load(Ordering::Relaxed) { Roles::look() } else { Roles::with(Tracers::default()) }
    }

    pub(crate) fn with(tracers: Tracers) -> Roles {
        Roles { tracers, late: Cell::new(false), users: RefCell::default() }
    }

    /// Whether another user has started it: a user's own processes that wait for him are nobody whom he serves. Who cannot
    /// be read may be one.
    fn is_anothers(&self, pid: u32, uid: u32) -> bool {
        match fs::read(format!("/proc/{pid}/status")) {
            Ok(status) => {
                let mut users = self.users.borrow_mut();
                let own = users.person(uid);
                parse_person(&status).is_none_or(|person| users.person(person) != own)
            }
            Err(error) => !is_gone(&error),
        }
    }

    /// Why suspending or ending it would hurt others than its `family`, which is meant along with it. In which control group it is, is
    /// read here: a sample reads that where a rule names it.
    pub fn of(&self, process: &Process, family: &SortedSet<u32>) -> Option<String> {
        let pid = process.id.pid;
        let folder = match living::open_folder(pid) {
            Ok(folder) => folder,
            Err(error) => return cannot_be_seen(&error),
        };
        let groups = fs::read(folder.join("cgroup"));
        if let Some(unread) = groups.as_ref().err().and_then(cannot_be_seen) {
            return Some(unread);
        }
        let group = groups.ok().and_then(|groups| cgroup::parse_path(&groups));
        let unit = group.as_deref().and_then(unit_of);
        if let Some(why) = unit.and_then(|unit| by_unit(process, unit)) {
            return Some(why);
        }
        if let Some(held) = held(process, &folder).unwrap_or_else(|error| cannot_be_seen(&error)) {
            return Some(held);
        }
        if let Some(unread) = &self.tracers.unread {
            return Some(unread.clone());
        }
        let patience = if self.late.get() { Duration::ZERO } else { LOCKS };
        match locks::waiting_for(&[pid], patience) {
            Some(waiters) => {
                let served = |waiter: &&u32| !family.contains(waiter) && self.is_anothers(**waiter, process.uid);
                if let Some(waiter) = waiters.iter().find(served) {
                    return Some(format!("it holds a file lock that process {waiter} waits for"));
                }
            }
            // Whoever takes so many locks that they cannot be read is not protected by them.
            None => self.late.set(true),
        }
        if let Some(policy) =
            details(pid).policy.filter(|policy| policy.starts_with("real-time") || *policy == "deadline")
        {
            return Some(format!("it runs with a {policy} policy: something counts on its being in time"));
        }
        let stands_still = |traced: u32| !family.contains(&traced) && self.is_anothers(traced, process.uid);
        if let Some(traced) = self.traced_by(pid, stands_still) {
            return Some(format!("it traces process {traced}, which would stand still with it"));
        }
        let unit = unit?;
        restart(Path::new("/"), unit.name, unit.is_a_claim())
            .filter(|restart| restart.watchdog && !unit.is_a_claim())
            .map(|_| format!("the service manager watches that its unit {} answers, and would end it", unit.name))
    }

    /// A process of those that it traces: TracerPid is the thread that does.
    fn traced_by(&self, pid: u32, of: impl Fn(u32) -> bool) -> Option<u32> {
        if self.tracers.traced.is_empty() {
            return None;
        }
        living::threads(&PathBuf::from(format!("/proc/{pid}")))?
            .filter_map(|thread| self.tracers.traced.get(&thread))
            .flatten()
            .copied()
            .find(|traced| of(*traced))
    }
}

/// By the unit: outside of what users make as they like it tells by itself, there only beside what proves it.
fn by_unit(process: &Process, unit: Unit<'_>) -> Option<String> {
    if !unit.is_a_claim() {
        return by_unit_alone(unit);
    }
    // A user can move what is his into that group, but not make it a child of the machine's first process.
    if unit.name == "init.scope" && process.parent == 1 {
        return Some("it is the user's service manager: the whole desktop ends with it".to_owned());
    }
    let (_, what, programs) = OF_A_DESKTOP.iter().find(|(name, ..)| *name == unit.name)?;
    if process.app_unread() {
        return Some(UNREAD.to_owned());
    }
    let runs = programs.contains(&process.app.as_str()) && process.app_proven();
    runs.then(|| format!("its unit {} serves {what}", unit.name))
}

/// By the unit where nothing else is known of the process: what users make as they like it tells nothing then.
fn by_unit_alone(unit: Unit<'_>) -> Option<String> {
    if unit.is_a_claim() {
        return None;
    }
    let (what, _) = UNITS.iter().find(|(_, units)| units.contains(&unit.name))?;
    Some(format!("its unit {} serves {what}", unit.name))
}

/// Whom a tree spares, found as its members are found: those known before, and whoever has a role. Each is asked once.
pub(crate) fn sparing(known: SortedMap<u32, String>, roles: bool) -> impl FnMut(u32) -> Option<String> + Send {
    let mut found: SortedMap<u32, Option<String>> = known.into_iter().map(|(pid, why)| (pid, Some(why))).collect();
    let began = crate::here::now().boottime;
    let ticks = u128::from(rustix::param::clock_ticks_per_second());
    let mut tools: Option<(Sampler, Roles)> = None;
    let mut ask = move |pid: u32| {
        // Whoever was born since has had no time to serve anybody, and must not have any to flee.
        let start = match started(pid) {
            Ok(start) => start,
            // Who starts another program serves nobody by what he has open; else nobody who forks would ever be caught.
            Err(error) if exec::is_busy(&error) => {
                let group = cgroup::parse_path(&fs::read(format!("/proc/{pid}/cgroup")).ok()?)?;
                return by_unit_alone(unit_of(&group)?);
            }
            Err(error) => return cannot_be_seen(&error),
        };
        if u128::from(start) * 1000 > began.as_millis() * ticks {
            return None;
        }
        let (sampler, roles) = match &mut tools {
            Some(tools) => tools,
            none => match Sampler::new(Path::new("/proc"), Needs::IDENTITY) {
                Ok(sampler) => none.insert((sampler, Roles::look())),
                Err(error) => return Some(format!("{}: unknown protects", with_causes(&error))),
            },
        };
        match sampler.again(pid) {
            Some(process) => roles.of(&process, &SortedSet::new()),
            None => started(pid).map_or_else(|error| cannot_be_seen(&error), |_| Some(UNREAD.to_owned())),
        }
    };
    move |pid| match found.get(&pid) {
        Some(known) => known.clone(),
        None => found.entry(pid).or_insert(if roles { ask(pid) } else { None }).clone(),
    }
}

/// What cannot be seen for want of descriptors or memory may be there, so it protects. Of whom is gone there is nothing to see, and
/// what may not be read is another user's.
fn cannot_be_seen(error: &io::Error) -> Option<String> {
    let known = is_gone(error) || error.kind() == io::ErrorKind::PermissionDenied;
    (!known).then(|| format!("what it does for others cannot be seen now ({error}), and unknown protects"))
}

/// By what it has open. A descriptor that only looks (`O_PATH`) serves nobody: anybody may have one of anything.
fn held(process: &Process, folder: &Path) -> io::Result<Option<String>> {
    let (mut screen, mut input, began) = (false, false, Instant::now());
    for entry in fs::read_dir(folder.join("fd"))?.flatten() {
        // Who has so much open is protected by what was seen of it; what a desktop stands on was opened first.
        if began.elapsed() > OPEN_FILES {
            break;
        }
        let Ok(link) = fs::read_link(entry.path()) else { continue };
        let name = link.as_os_str().as_bytes();
        let package_lock = PACKAGE_LOCKS.iter().find(|lock| lock.as_bytes() == name);
        let (card, keys) = (name.starts_with(b"/dev/dri/card"), name.starts_with(b"/dev/input/event"));
        if name != b"/dev/fuse" && package_lock.is_none() && !card && !keys {
            continue;
        }
        // Anybody can have a file of that name, in a folder that he has mounted for himself, and only root a device.
        let device = if card {
            SCREEN
        } else if keys {
            INPUT
        } else {
            FILE_SYSTEMS
        };
        if package_lock.is_none() && !device.is(&entry.path()) {
            continue;
        }
        let Some(open) = Open::of(folder, &entry.file_name())?.filter(|open| !open.only_looks) else { continue };
        if name == b"/dev/fuse" && serves_a_mount(process.uid, &fs::read("/proc/self/mountinfo")?) {
            return Ok(Some("it serves a mounted file system: whoever looks into that would hang".to_owned()));
        }
        // Only root has any business with it; some are held by being there.
        if let Some(lock) =
            package_lock.filter(|lock| process.uid == 0 && (open.locked || BY_BEING_THERE.contains(lock)))
        {
            return Ok(Some(format!(
                "it holds the lock of the package manager ({lock}): half an upgrade would be left"
            )));
        }
        screen |= card;
        input |= keys;
    }
    Ok((screen && input).then(|| "it draws the screen and reads the keyboard: the desktop hangs with it".to_owned()))
}

/// A kind of character device, by its number (devices.txt of the kernel); without a minor any of them.
struct Device {
    major: u32,
    minor: Option<u32>,
}

const SCREEN: Device = Device { major: 226, minor: None };
const INPUT: Device = Device { major: 13, minor: None };
const FILE_SYSTEMS: Device = Device { major: 10, minor: Some(229) };

impl Device {
    fn is(&self, open: &Path) -> bool {
        let number = Standing::of(open, AtFlags::empty()).and_then(|file| file.character_device);
        number.is_some_and(|(major, minor)| major == self.major && self.minor.is_none_or(|wanted| wanted == minor))
    }
}

/// How a file is held open (`fdinfo/FD` in the folder of a process, proc_pid_fdinfo(5)).
struct Open {
    /// It was opened with `O_PATH`.
    only_looks: bool,
    /// A lock is held by it.
    locked: bool,
}

impl Open {
    /// `None` where it is closed by now.
    fn of(folder: &Path, descriptor: &OsStr) -> io::Result<Option<Open>> {
        match fs::read(folder.join("fdinfo").join(descriptor)) {
            Ok(text) => Ok(Some(Open::parse(&text))),
            Err(error) if is_gone(&error) => Ok(None),
            Err(error) => Err(error),
        }
    }

    fn parse(text: &[u8]) -> Open {
        let flags = text.split(|byte| *byte == b'\n').find_map(|line| line.strip_prefix(b"flags:\t"));
        let flags = flags.and_then(|flags| std::str::from_utf8(flags).ok());
        let flags = flags.and_then(|flags| u32::from_str_radix(flags.trim(), 8).ok()).unwrap_or(0);
        let only_looks = flags & OFlags::PATH.bits() != 0;
        Open { only_looks, locked: locks::has_lock(text) }
    }
}

/// Whether that user has mounted a file system of his own making that others see into: of root's every one, of another's
/// those that he was allowed to let others into (mount option `allow_other`, fuse(4)).
fn serves_a_mount(uid: u32, mountinfo: &[u8]) -> bool {
    mountinfo.split(|byte| *byte == b'\n').any(|line| {
        let line = String::from_utf8_lossy(line);
        let Some((_, about)) = line.split_once(" - ") else { return false };
        let mut about = about.split(' ');
        let kind = about.next().unwrap_or_default();
        let mut options = about.nth(1).unwrap_or_default().split(',');
        let is_fuse = matches!(kind, "fuse" | "fuseblk") || kind.starts_with("fuse.");
        let owned = options.clone().any(|option| option.strip_prefix("user_id=") == Some(uid.to_string().as_str()));
        is_fuse && owned && (uid == 0 || options.any(|option| option == "allow_other"))
    })
}

#[cfg(test)]
mod tests {
    use sophron_core::model::{Basis, Boot, ProcessId};

    use super::*;

    #[test]
    fn units_and_open_files_tell_a_role() {
        let mut process = Process::unread(ProcessId { pid: std::process::id(), start: 1, boot: Boot(1) });
        assert_eq!(role(&process), None, "a test serves nobody");
        let mut of = |group: &str, change: fn(&mut Process)| {
            process.names_mut().group = Some(group.to_owned());
            change(&mut process);
            by_unit(&process, unit_of(process.group.as_deref()?)?)
        };
        let said = of("/system.slice/dbus.service", |_| {});
        assert_eq!(said.as_deref(), Some("its unit dbus.service serves the message bus"));
        let user = "/user.slice/user-1001.slice/user@1001.service";
        assert_eq!(of(&format!("{user}/init.scope"), |_| {}), None, "anybody may move there what is his");
        let said = of(&format!("{user}/init.scope"), |process| process.parent = 1);
        assert!(said.unwrap().contains("the user's service manager"));
        let bus = format!("{user}/session.slice/dbus.service");
        assert_eq!(of(&bus, |process| rests_on(process, Basis::proven(false))), None, "by its own word");
        assert!(of(&bus, |process| rests_on(process, Basis::proven(true))).unwrap().contains("the message bus"));
        assert_eq!(of(&bus, |process| rests_on(process, Basis::Unread)).as_deref(), Some(UNREAD));
        assert_eq!(of("/system.slice/x.scope/system.slice/dbus.service", |_| {}), None, "a container's own");
    }

    fn rests_on(process: &mut Process, basis: Basis) {
        let names = process.names_mut();
        (names.app, names.app_rests_on) = ("dbus-daemon".to_owned(), basis);
    }

    /// Who serves others is told by the mount, not by an open device.
    #[test]
    fn a_mount_that_others_see_into_is_served() {
        let mounts = b"36 29 0:31 / /run/user/1001/doc rw,nosuid - fuse.portal portal rw,user_id=1001,group_id=1001\n\
            37 29 0:32 / /mnt/plants rw,nosuid - fuse.seeds seeds rw,user_id=1002,group_id=1002,default_permissions,allow_other\n\
            38 29 0:33 / /mnt/key rw - fuseblk /dev/sdb1 rw,user_id=0,group_id=0,blksize=4096\n\
            39 29 0:34 / /mnt/x rw - ext4 /dev/sdc1 rw,user_id=1003,allow_other\n\
            40 29 0:35 / /sys/fs/fuse/connections rw - fusectl fusectl rw,user_id=1004,allow_other\n";
        let serves = [0, 1001, 1002, 1003, 1004, 100].map(|uid| serves_a_mount(uid, mounts));
        assert_eq!(serves, [true, false, true, false, false, false]);
        assert!(!serves_a_mount(0, b"") && !serves_a_mount(0, b"38 29 0:33 / /x rw fuseblk"));
    }

    #[test]
    fn a_look_is_no_hold() {
        let open = |text: &[u8]| {
            let open = Open::parse(text);
            (open.only_looks, open.locked)
        };
        assert_eq!(open(b"pos:\t0\nflags:\t012000000\nmnt_id:\t26\nino:\t3\n"), (true, false));
        assert_eq!(
            open(b"pos:\t0\nflags:\t0100002\nlock:\t1: POSIX  ADVISORY  WRITE 9 00:14:3 0 EOF\n"),
            (false, true)
        );
        assert_eq!(open(b"pos:\t0\nflags:\t0100000\n"), (false, false));
    }
}
