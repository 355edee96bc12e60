//! Where and as whom Sophron runs: host, boot, user, login user, clocks.

use std::collections::HashMap;
use std::fs;
use std::path::Path;
use std::time::Duration;

use jiff::Timestamp;
use rustix::time::{ClockId, clock_gettime};
use sophron_core::audit::{By, Who};
use sophron_core::model::{Boot, Moment};
use sophron_core::text;

/// The machine's name (uname(2)), made harmless.
pub fn host() -> String {
    text::clean(rustix::system::uname().nodename().to_bytes())
}

/// This boot (`sys/kernel/random/boot_id` under the /proc root).
///
/// # Errors
/// The file cannot be read or holds no boot ID.
pub fn boot(proc: &Path) -> std::io::Result<Boot> {
    let text = fs::read_to_string(proc.join("sys/kernel/random/boot_id"))?;
    text.parse().map_err(|error| std::io::Error::new(std::io::ErrorKind::InvalidData, format!("boot_id: {error}")))
}

/// Now, on the three clocks.
pub fn now() -> Moment {
    Moment { wall: Timestamp::now(), monotonic: read(ClockId::Monotonic), boottime: read(ClockId::Boottime) }
}

/// CLOCK_MONOTONIC.
pub fn monotonic() -> Duration {
    read(ClockId::Monotonic)
}

/// CPU time that this thread has used.
pub fn thread_time() -> Duration {
    read(ClockId::ThreadCPUTime)
}

fn read(clock: ClockId) -> Duration {
    let time = clock_gettime(clock);
    let nanoseconds = u32::try_from(time.tv_nsec).unwrap_or_default();
    // To the microsecond, as recordings have it: a rehearsal of a recording then sees the very same intervals.
    Duration::new(u64::try_from(time.tv_sec).unwrap_or_default(), nanoseconds - nanoseconds % 1000)
}

/// The effective user ID.
pub fn uid() -> u32 {
    rustix::process::geteuid().as_raw()
}

/// Whether Sophron runs as root, and so trusts no environment.
pub fn is_root() -> bool {
    uid() == 0
}

/// On whose behalf Sophron acts: the user it runs as, and the one that logged in (`/proc/self/loginuid`).
pub fn who(users: &mut Users, by: By) -> Who {
    let login = fs::read_to_string("/proc/self/loginuid").ok().and_then(|text| text.trim().parse::<u32>().ok());
    let login_uid = login.filter(|uid| *uid != u32::MAX);
    Who { uid: uid(), user: users.name(uid()), login_uid, by: Some(by) }
}

/// Names of users, from `/etc/passwd` (passwd(5)). Directory services are not asked: they can hang.
#[derive(Debug, Default)]
pub struct Users {
    names: Option<HashMap<u32, String>>,
    /// Ranges of subordinate user IDs: the first, how many, and whose they are.
    subordinate: Vec<(u32, u32, u32)>,
}

impl Users {
    /// The user's name, or the number where it has none.
    pub fn name(&mut self, uid: u32) -> String {
        self.known().get(&uid).cloned().unwrap_or_else(|| uid.to_string())
    }

    /// The same, but of a subordinate user ID the name of the user whose it is (`/etc/subuid`, subuid(5)), and his ID: his
    /// containers run as those. Nobody is taken for root.
    pub fn whose(&mut self, uid: u32) -> (String, Option<u32>) {
        if !self.known().contains_key(&uid) {
            let of =
                self.subordinate.iter().find(|(first, count, _)| uid.checked_sub(*first).is_some_and(|at| at < *count));
            if let Some((.., person)) = of.copied() {
                return (self.name(person), Some(person));
            }
        }
        (self.name(uid), None)
    }

    /// Whether `/etc/passwd` has a user of that name, or of that number.
    pub fn has(&mut self, name: &str) -> bool {
        let number = name.parse::<u32>().ok();
        self.known().iter().any(|(uid, known)| known == name || Some(*uid) == number)
    }

    /// Whose a user ID is: his own, or one of his subordinate ones.
    pub(crate) fn person(&mut self, uid: u32) -> u32 {
        self.whose(uid).1.unwrap_or(uid)
    }

    fn known(&mut self) -> &HashMap<u32, String> {
        if self.names.is_none() {
            let passwd = fs::read("/etc/passwd").unwrap_or_default();
            let names: HashMap<u32, String> = passwd.split(|byte| *byte == b'\n').filter_map(parse_passwd).collect();
            let subordinate = fs::read_to_string("/etc/subuid").unwrap_or_default();
            self.subordinate = subordinate.lines().filter_map(|line| parse_subordinate(line, &names)).collect();
            self.names = Some(names);
        }
        self.names.get_or_insert_default()
    }
}

/// `ines:100000:65536`: the user by name or number, the first ID, and how many.
fn parse_subordinate(line: &str, names: &HashMap<u32, String>) -> Option<(u32, u32, u32)> {
    let mut fields = line.split(':');
    let (whose, first, count) = (fields.next()?, fields.next()?.parse().ok()?, fields.next()?.trim().parse().ok()?);
    let by_name = names.iter().find(|(_, name)| *name == whose).map(|(uid, _)| *uid);
    let person = by_name.or_else(|| whose.parse().ok()).filter(|person| *person != 0)?;
    Some((first, count, person))
}

/// Our own resident memory, bytes (`/proc/self/statm` resident, proc_pid_statm(5)).
pub fn own_memory() -> Option<u64> {
    let statm = fs::read_to_string("/proc/self/statm").ok()?;
    let pages: u64 = statm.split_ascii_whitespace().nth(1)?.parse().ok()?;
    pages.checked_mul(rustix::param::page_size() as u64)
}

/// The user and the group of an account, by its name (`/etc/passwd`, passwd(5)).
pub fn account(name: &str) -> Option<(u32, u32)> {
    let passwd = fs::read("/etc/passwd").ok()?;
    let mut accounts = passwd.split(|byte| *byte == b'\n').filter_map(|line| {
        let fields: Vec<&[u8]> = line.split(|byte| *byte == b':').collect();
        let [known, _, user, group, ..] = fields.as_slice() else { return None };
        (*known == name.as_bytes()).then(|| Some((crate::proc::number(user)?, crate::proc::number(group)?))).flatten()
    });
    accounts.next()
}

/// The group of a user (`/etc/passwd`, passwd(5)).
pub fn group_of(uid: u32) -> Option<u32> {
    let passwd = fs::read("/etc/passwd").ok()?;
    let mut accounts = passwd.split(|byte| *byte == b'\n').filter_map(|line| {
        let fields: Vec<&[u8]> = line.split(|byte| *byte == b':').collect();
        let [_, _, user, group, ..] = fields.as_slice() else { return None };
        (crate::proc::number::<u32>(user)? == uid).then(|| crate::proc::number(group))?
    });
    accounts.next()
}

/// Whether all four of a process's user IDs are that one (`Uid` of `/proc/PID/status`, proc_pid_status(5)).
pub fn is_wholly(pid: u32, uid: u32) -> bool {
    let status = fs::read(format!("/proc/{pid}/status")).unwrap_or_default();
    crate::proc::status::parse_uids(&status).is_some_and(|all| all == [uid; 4])
}

/// As whom the user of a process had logged in (`/proc/PID/loginuid`, proc_pid_loginuid(5)).
pub fn login_of(pid: u32) -> Option<u32> {
    let login = fs::read_to_string(format!("/proc/{pid}/loginuid")).ok()?;
    login.trim().parse().ok().filter(|login| *login != u32::MAX)
}

/// A word that nobody guesses: 128 bits in hex (getrandom(2)).
///
/// # Errors
/// The kernel has none.
pub fn nonce() -> std::io::Result<String> {
    let mut bytes = [0_u8; 16];
    rustix::rand::getrandom(&mut bytes, rustix::rand::GetRandomFlags::empty())?;
    Ok(text::hex(&bytes))
}

fn parse_passwd(line: &[u8]) -> Option<(u32, String)> {
    let mut fields = line.split(|byte| *byte == b':');
    let name = fields.next().filter(|name| !name.is_empty())?;
    let uid = crate::proc::number(fields.nth(1)?)?;
    Some((uid, text::clean(name)))
}

/// Whether `/proc` numbers processes as the system calls do: not where it shows another PID namespace than our own
/// (pid_namespaces(7)). There each number would mean two processes. By `NSpid` of `/proc/self/status`, which has a number
/// for each namespace from that of the mount down to ours.
pub fn proc_is_ours() -> bool {
    let status = fs::read_to_string("/proc/self/status").unwrap_or_default();
    let numbers = status.lines().find_map(|line| line.strip_prefix("NSpid:"));
    let own = std::process::id().to_string();
    numbers.is_some_and(|numbers| numbers.split_whitespace().eq([own.as_str()]))
}

/// A right beyond a user's own (capabilities(7)).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Capability {
    /// Signals to processes of others.
    Kill,
    /// Priorities of others, and bringing niceness down.
    SysNice,
    /// Reading what others' processes have open.
    SysPtrace,
    /// Writing files that belong to others.
    DacOverride,
}

impl std::fmt::Display for Capability {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Capability::Kill => "CAP_KILL",
            Capability::SysNice => "CAP_SYS_NICE",
            Capability::SysPtrace => "CAP_SYS_PTRACE",
            Capability::DacOverride => "CAP_DAC_OVERRIDE",
        })
    }
}

/// Whether Sophron has that right: its bit in `/proc/self/status` CapEff.
pub fn has(capability: Capability) -> bool {
    let bit = match capability {
        Capability::DacOverride => 1,
        Capability::Kill => 5,
        Capability::SysPtrace => 19,
        Capability::SysNice => 23,
    };
    effective_capabilities().is_some_and(|set| set & 1 << bit != 0)
}

fn effective_capabilities() -> Option<u64> {
    let status = fs::read_to_string("/proc/self/status").unwrap_or_default();
    let effective = status.lines().find_map(|line| line.strip_prefix("CapEff:"));
    effective.and_then(|hex| u64::from_str_radix(hex.trim(), 16).ok())
}

/// Whether Sophron has rights beyond its user's: root, or capabilities (`/proc/self/status` CapEff, capabilities(7)).
pub fn is_privileged() -> bool {
    is_root() || effective_capabilities().is_some_and(|set| set != 0)
}

/// What would help to read what may not be read of processes, in words; `None` where nothing would. Of others', and of those
/// who do not let themselves be examined, CAP_SYS_PTRACE does (proc(5), ptrace(2)).
pub fn what_helps_to_read() -> Option<&'static str> {
    const PTRACE: u64 = 1 << 19;
    match (effective_capabilities(), is_root()) {
        (Some(set), _) if set & PTRACE != 0 => None,
        (_, false) => Some("root may"),
        _ => Some("that takes CAP_SYS_PTRACE"),
    }
}

/// The ID of a group by its name (`/etc/group`, group(5)), or by its number.
pub fn group(name: &str) -> Option<u32> {
    if let Ok(number) = name.parse() {
        return Some(number);
    }
    let groups = fs::read_to_string("/etc/group").ok()?;
    let fields = |line: &str| -> Option<u32> {
        let mut fields = line.split(':');
        (fields.next() == Some(name)).then(|| fields.nth(1)?.parse().ok()).flatten()
    };
    groups.lines().find_map(fields)
}

/// What a process has read from and written to disks so far, bytes (`/proc/PID/io` read_bytes and write_bytes,
/// proc_pid_io(5)). `None` where that may not be read.
pub fn disk_counters(pid: u32) -> Option<(u64, u64)> {
    crate::proc::status::parse_io(&crate::exec::read(pid, "io").ok()?)
}

/// Whether the CPU clocks of processes move on every core as they run. Cores that keep no ticks while one task runs
/// (`nohz_full`) tell of it only when it stops.
pub fn clocks_tick() -> bool {
    let without = fs::read_to_string("/sys/devices/system/cpu/nohz_full").unwrap_or_default();
    !without.contains(|c: char| c.is_ascii_digit())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_subordinate_user_id_is_counted_to_whose_it_is() {
        let names = HashMap::from([(1001, "ines".to_owned()), (0, "root".to_owned()), (100_500, "postbox".to_owned())]);
        let ranges = ["ines:100000:65536", "1002:200000:10", "root:300000:10", "nonsense", "ines:x:1"];
        let subordinate = ranges.iter().filter_map(|line| parse_subordinate(line, &names)).collect();
        let mut users = Users { names: Some(names), subordinate };
        assert_eq!(users.whose(100_999), ("ines".to_owned(), Some(1001)));
        assert_eq!(users.whose(200_009), ("1002".to_owned(), Some(1002)));
        // One that is a user's own, one past the range, and root's: nobody is taken for root.
        for (uid, name) in [(100_500, "postbox"), (200_010, "200010"), (300_000, "300000")] {
            assert_eq!((users.whose(uid), users.person(uid)), ((name.to_owned(), None), uid));
        }
    }
}
