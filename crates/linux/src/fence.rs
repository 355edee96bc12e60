//! A fence around a process of our own that talks to strangers: whoever takes it over can do next to nothing. No rights of root's, none
//! to be had again, nothing to be started, hardly anything to be read, nothing to be written, and no way to anybody but whom it is for.

use std::io;

use landlock::{
    ABI, Access, AccessFs, AccessNet, CompatLevel, Compatible, NetPort, PathBeneath, PathFd, RestrictionStatus,
    Ruleset, RulesetAttr, RulesetCreatedAttr, RulesetError, RulesetStatus, Scope,
};
use rustix::process::{
    DumpableBehavior, Gid, Resource, Rlimit, Signal, Uid, set_dumpable_behavior, set_parent_process_death_signal,
    setrlimit,
};
use rustix::thread::{
    CapabilitySet, CapabilitySets, clear_ambient_capability_set, set_capabilities, set_no_new_privs, set_thread_groups,
    set_thread_res_gid, set_thread_res_uid, set_thread_uid,
};
use serde::{Deserialize, Serialize};

/// What is fenced off as far as the kernel can: files since Linux 5.13, ports since 6.7, signals and abstract sockets since 6.12
/// (landlock(7)).
const LANDLOCK: ABI = ABI::V6;

/// Where the names of machines are asked for: TCP's port of the Domain Name System.
const NAMES: u16 = 53;

/// What finding the address of a name takes (resolver(5), nsswitch.conf(5), ld.so(8)): nothing else can be read.
const RESOLVER: [&str; 16] = [
    "/etc/resolv.conf",
    "/etc/hosts",
    "/etc/host.conf",
    "/etc/nsswitch.conf",
    "/etc/gai.conf",
    "/etc/services",
    "/etc/ld.so.cache",
    "/run/systemd/resolve",
    "/run/resolvconf",
    "/run/NetworkManager",
    "/lib",
    "/lib32",
    "/lib64",
    "/usr/lib",
    "/usr/lib32",
    "/usr/lib64",
];

/// Most of everything that it may use: descriptors, bytes of memory, seconds on a core, processes and threads of its user.
const LIMITS: [(Resource, u64); 7] = [
    (Resource::Core, 0),
    (Resource::Fsize, 0),
    (Resource::Nofile, 64),
    (Resource::As, 1 << 30),
    (Resource::Data, 128 << 20),
    (Resource::Cpu, 60),
    (Resource::Memlock, 0),
];

/// Most processes and threads of a user who does nothing else.
const MOST_THREADS: u64 = 256;

/// What a process inside may do.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fence {
    /// As which user and group; as whom it was started, if not given.
    pub user: Option<(u32, u32)>,
    /// Whether it may find the addresses of names.
    pub resolves: bool,
    /// To which port it may connect, beside that where names are asked for.
    pub port: Option<u16>,
    /// Whether it stays when whoever started it is gone, to end what it has begun; then it has a person's whole share of processes to
    /// start threads from.
    pub outlives: bool,
}

impl Fence {
    /// Goes inside, for good. To be called while there is one thread. What the kernel could not fence off, in words.
    ///
    /// # Errors
    /// Rights could not be given up: whoever asked for it has to end.
    pub fn enter(&self) -> io::Result<Option<String>> {
        Ok(self.enter_with(|| ())?.1)
    }

    /// The same; `open` is done as that user, before the last of it: what is opened then can be used from inside.
    ///
    /// # Errors
    /// As [`Fence::enter`].
    pub fn enter_with<T>(&self, open: impl FnOnce() -> T) -> io::Result<(T, Option<String>)> {
        set_no_new_privs(true)?;
        for (resource, most) in LIMITS {
            limit(resource, most)?;
        }
        if let Some((user, group)) = self.user {
            limit(Resource::Nproc, if self.outlives { u64::MAX } else { MOST_THREADS })?;
            let (user, group) = (Uid::from_raw(user), Gid::from_raw(group));
            set_thread_groups(&[])?;
            set_thread_res_gid(group, group, group)?;
            set_thread_res_uid(user, user, user)?;
        }
        clear_ambient_capability_set()?;
        let none = CapabilitySet::empty();
        set_capabilities(None, CapabilitySets { effective: none, permitted: none, inheritable: none })?;
        if crate::here::is_root() || set_thread_uid(Uid::ROOT).is_ok() {
            return Err(io::Error::other("the rights of root cannot be given up"));
        }
        // What follows is undone by a change of user: it comes last.
        set_dumpable_behavior(DumpableBehavior::NotDumpable)?;
        if !self.outlives {
            set_parent_process_death_signal(Some(Signal::KILL))?;
        }
        let opened = open();
        let wanting = match self.landlock() {
            Ok(status) if status.ruleset == RulesetStatus::FullyEnforced => None,
            Ok(status) => Some(format!("the kernel fences it off {}", halfway(&status))),
            Err(error) => Some(format!("the kernel does not fence it off: {error}")),
        };
        Ok((opened, wanting))
    }

    fn landlock(&self) -> Result<RestrictionStatus, RulesetError> {
        let files = AccessFs::from_all(LANDLOCK);
        let ruleset = Ruleset::default().handle_access(files)?.handle_access(AccessNet::from_all(LANDLOCK))?;
        let mut fence = ruleset.scope(Scope::from_all(LANDLOCK))?.create()?;
        for path in RESOLVER.iter().filter(|_| self.resolves) {
            // What is not there cannot be read either way.
            let Ok(place) = PathFd::new(path) else { continue };
            let readable = if std::path::Path::new(path).is_dir() {
                AccessFs::ReadFile | AccessFs::ReadDir
            } else {
                AccessFs::ReadFile.into()
            };
            fence = fence.add_rule(PathBeneath::new(place, readable))?;
        }
        let names = self.resolves.then_some(NAMES);
        for port in self.port.into_iter().chain(names) {
            fence = fence.add_rule(NetPort::new(port, AccessNet::ConnectTcp))?;
        }
        fence.restrict_self()
    }
}

/// What this kernel cannot fence off, in words.
pub fn wanting() -> Option<&'static str> {
    let all = || -> Result<_, RulesetError> {
        let ruleset = Ruleset::default().set_compatibility(CompatLevel::HardRequirement);
        let ruleset =
            ruleset.handle_access(AccessFs::from_all(LANDLOCK))?.handle_access(AccessNet::from_all(LANDLOCK))?;
        ruleset.scope(Scope::from_all(LANDLOCK))?.create()
    };
    all().is_err().then_some("the kernel cannot fence off files, ports and signals from those who deliver messages (landlock(7), whole since Linux 6.12): they have no rights all the same")
}

fn halfway(status: &RestrictionStatus) -> &'static str {
    match status.ruleset {
        RulesetStatus::NotEnforced => "from nothing: its rights are gone all the same",
        _ => "in part: it is older than what is asked of it",
    }
}

fn limit(resource: Resource, most: u64) -> io::Result<()> {
    let before = rustix::process::getrlimit(resource);
    let most = before.maximum.unwrap_or(u64::MAX).min(most);
    Ok(setrlimit(resource, Rlimit { current: Some(most), maximum: Some(most) })?)
}
