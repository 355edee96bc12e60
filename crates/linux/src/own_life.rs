//! Sophron's own life: it is to be there when the machine is in trouble, and to cost next to nothing.

use std::fs;
use std::process::Command;
use std::sync::{Mutex, OnceLock, PoisonError};

use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
use sophron_core::sorted::SortedSet;

use crate::here;

/// How much the kernel is to spare us when memory runs out (`/proc/self/oom_score_adj`, proc_pid_oom_score_adj(5)).
const SPARED: &str = "-500";

/// As root, the niceness to run at: a machine that is overloaded has to be watched.
const NICE: i32 = -5;

/// Most descriptors that are asked for.
const MOST_FILES: u64 = 65_536;

/// What was so when we were started: what a rule's program gets.
#[derive(Debug, Clone, Copy)]
pub struct Before {
    pub(crate) nice: i32,
    pub(crate) spared: i32,
    pub(crate) files: Option<u64>,
}

static BEFORE: OnceLock<Before> = OnceLock::new();

/// What was so when we were started. What a service manager spares is the watcher, and no program of a rule's.
pub(crate) fn before() -> Before {
    *BEFORE.get_or_init(|| Before {
        nice: rustix::process::getpriority_process(None).unwrap_or(0),
        spared: fs::read("/proc/self/oom_score_adj")
            .ok()
            .and_then(|score| crate::proc::number(&score))
            .map_or(0, |score: i32| score.max(0)),
        files: getrlimit(Resource::Nofile).current,
    })
}

/// As many descriptors as we may have; and as root spared by the kernel when memory runs out, and ahead of others on the cores.
/// To be called before any thread is started, since each has a niceness of its own. What was not granted, in words.
pub fn prepare() -> Vec<String> {
    before();
    let mut wanting = Vec::new();
    let files = getrlimit(Resource::Nofile);
    let most = files.maximum.unwrap_or(u64::MAX).min(MOST_FILES);
    if files.current.is_some_and(|current| current < most)
        && let Err(error) = setrlimit(Resource::Nofile, Rlimit { current: Some(most), ..files })
    {
        wanting.push(format!("it may have no more than {} files open: {error}", files.current.unwrap_or_default()));
    }
    if here::is_root() {
        if let Err(error) = fs::write("/proc/self/oom_score_adj", SPARED) {
            wanting.push(format!(
                "the kernel may end it when memory runs out: its score stays as it is: {error} (that takes CAP_SYS_RESOURCE)"
            ));
        }
        if before().nice > NICE
            && let Err(error) = rustix::process::setpriority_process(None, NICE)
        {
            wanting.push(format!("it runs at niceness {}: {error} (that takes CAP_SYS_NICE)", before().nice));
        }
    }
    wanting
}

/// Our own program again, as the helper of that name: nothing of ours goes with it but what it is told.
pub fn helper(word: &str) -> Command {
    let mut start = Command::new("/proc/self/exe");
    start.arg(word).env_clear().current_dir("/");
    start
}

/// Helpers that were started for an act, by PID: rules never judge them.
static HELPERS: Mutex<SortedSet<u32>> = Mutex::new(SortedSet::new());

pub(crate) fn helper_began(pid: u32) {
    HELPERS.lock().unwrap_or_else(PoisonError::into_inner).insert(pid);
}

pub(crate) fn helper_ended(pid: u32) {
    HELPERS.lock().unwrap_or_else(PoisonError::into_inner).remove(&pid);
}

/// Those there are.
pub fn helpers() -> Vec<u32> {
    HELPERS.lock().unwrap_or_else(PoisonError::into_inner).iter().copied().collect()
}

/// Has this thread run at the niceness that we were started with (setpriority(2), which on Linux is a thread's): its work waits for
/// that of the others.
pub fn stand_back() {
    // It would only have been milder.
    let _ = rustix::process::setpriority_process(None, before().nice);
}

/// Descriptors that are needed for everything else: reading, acting, recording, telling, and those who ask.
const RESERVED: u64 = 64;

/// Descriptors that may be kept open, of processes and their files.
pub(crate) fn to_keep() -> usize {
    let files = getrlimit(Resource::Nofile).current.unwrap_or(MOST_FILES).min(MOST_FILES);
    usize::try_from(files.saturating_sub(RESERVED)).unwrap_or(usize::MAX)
}

/// How many of them may be handles of processes that rules keep an eye on; half is for the sampler, and the rest in reserve.
pub fn most_handles() -> usize {
    to_keep() / 4
}
