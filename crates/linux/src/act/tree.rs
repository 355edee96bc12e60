//! A tree of processes, caught whole: suspended to a fixed point, so that it can fork no more, and then ended together.
//!
//! One look at a tree that keeps forking always misses somebody. Suspended members start nobody: so every look suspends
//! those that are new, until two looks in a row find nobody new and every thread standing still.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;
use std::time::{Duration, Instant};
use std::{fmt, fs, io};

use rustix::process::Signal;
use sophron_core::model::{Boot, ProcessId};
use sophron_core::order::{InOrder, IntoMap};
use sophron_core::sorted::SortedMap;
use sophron_core::state::State;

use super::terminate::answer;
use super::{ActError, Ending, LOOK_AGAIN, Lineage};
use crate::everybody::of_each;
use crate::exec;
use crate::handle::{Handle, HandleError, is_gone, start_time};
use crate::proc::stat;
use crate::proc::status::parse_parent;

/// A tree that is not caught within that time is reported as it is.
const LONGEST: Duration = Duration::from_secs(5);

/// So often whoever was started in answer to the polite signal is told to end as well.
const ROUNDS: usize = 3;

/// How long a forced end is waited for.
const FORCE_PATIENCE: Duration = Duration::from_secs(6);

/// Processes that belong together, each fixed by its handle.
#[derive(Debug)]
pub struct Tree {
    boot: Boot,
    roots: BTreeSet<u32>,
    members: BTreeMap<u32, Arc<Handle>>,
    /// Never taken in, nor what descends from them.
    spared: Spared,
    /// Forks as they happen, where that may be listened to.
    lineage: Option<Lineage>,
    /// Why the last look may have missed somebody.
    unread: Option<io::Error>,
}

/// Who is never taken into a tree, nor what descends from him; asked as members are found.
pub(super) struct Spared {
    ask: Box<dyn FnMut(u32) -> Option<String> + Send>,
    /// Who would have been of it, and why he is not.
    met: SortedMap<u32, String>,
}

impl Spared {
    pub fn has(&mut self, pid: u32) -> bool {
        let why = (self.ask)(pid);
        let spared = why.is_some();
        if let Some(why) = why {
            self.met.insert(pid, why);
        }
        spared
    }
}

impl fmt::Debug for Spared {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.met.fmt(f)
    }
}

/// Puts processes under guard before they are suspended.
pub type GuardThem<'a> = dyn FnMut(&[Arc<Handle>]) -> io::Result<()> + 'a;

/// What came of suspending a tree.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Suspended {
    /// Members that live.
    pub members: usize,
    /// Whether every thread of every member stands still, and nobody new was found twice.
    pub complete: bool,
    /// How long it took.
    pub took: Duration,
}

/// One process as one look shows it.
struct Seen {
    pid: u32,
    parent: u32,
    /// None of whom is in the middle of an exec.
    start: Option<u64>,
}

impl Tree {
    /// The tree below those processes; `spared` says by PID who is never taken in, and why.
    pub fn of(roots: &[Arc<Handle>], spared: impl FnMut(u32) -> Option<String> + Send + 'static) -> Tree {
        let boot = roots.first().map_or(Boot::default(), |root| root.id().boot);
        let members: BTreeMap<u32, Arc<Handle>> = roots.iter().map(|root| (root.id().pid, Arc::clone(root))).into_map();
        Tree {
            boot,
            roots: members.keys().copied().collect(),
            members,
            spared: Spared { ask: Box::new(spared), met: SortedMap::new() },
            lineage: None,
            unread: None,
        }
    }

    /// The same with others that are known to descend from them, though they may stand below somebody else by now: each with
    /// whom it descends from, by PID, and behind that one.
    #[must_use]
    pub fn with(mut self, others: &[(Arc<Handle>, u32)]) -> Tree {
        let mut spared = BTreeSet::new();
        for (other, above) in others {
            let pid = other.id().pid;
            if self.members.contains_key(&pid) {
                continue;
            }
            if spared.contains(above) || self.spared.has(pid) {
                spared.insert(pid);
            } else {
                self.members.insert(pid, Arc::clone(other));
            }
        }
        self
    }

    /// Who would have been of it and was spared, by PID, each with the reason.
    pub fn spared(&self) -> &SortedMap<u32, String> {
        &self.spared.met
    }

    /// The same with what was seen of forks since the lineage began to listen: who left the tree since then, because his
    /// parent ended, belongs to it all the same.
    #[must_use]
    pub fn with_lineage(mut self, lineage: Option<Lineage>) -> Tree {
        self.lineage = lineage;
        if let Some(lineage) = self.lineage.as_mut() {
            lineage.follow(self.members.keys().copied(), &mut self.spared);
        }
        self
    }

    /// Everybody in it so far, ended ones included.
    pub fn members(&self) -> impl Iterator<Item = &Arc<Handle>> {
        self.members.values()
    }

    /// Looks once for descendants that are not in it yet, and takes them in. A member that has ended keeps its place:
    /// who came from it while it lived belongs to the tree, whoever his parent is now.
    pub fn look(&mut self) -> Vec<Arc<Handle>> {
        let seen = all(&mut self.unread);
        let started: HashMap<u32, Option<u64>> = seen.iter().map(|process| (process.pid, process.start)).collect();
        let mut new = Vec::new();
        loop {
            let before = new.len();
            for process in &seen {
                if self.members.contains_key(&process.pid) {
                    continue;
                }
                // The number of a member that is gone may be somebody else's: then it has started at another time.
                let is_child = self.members.get(&process.parent).is_some_and(|parent| {
                    let start = parent.id().start;
                    match started.get(&process.parent) {
                        Some(Some(now)) if start != 0 => {
                            *now == start && process.start.is_none_or(|child| child >= start)
                        }
                        None if start != 0 => false,
                        // When it started is not known, or was not: while it lives its number is its own.
                        _ => !parent.has_ended(),
                    }
                });
                if is_child
                    && !self.spared.has(process.pid)
                    && let Some(handle) = self.fix_child(process)
                {
                    self.members.insert(process.pid, Arc::clone(&handle));
                    new.push(handle);
                }
            }
            new.extend(self.strays());
            if new.len() == before {
                return new;
            }
        }
    }

    /// Those who left the tree when their parent ended.
    fn strays(&mut self) -> Vec<Arc<Handle>> {
        let Some(lineage) = self.lineage.as_mut() else { return Vec::new() };
        let found = lineage.descendants(&mut self.spared).iter().copied();
        let unknown: Vec<u32> = found.filter(|pid| !self.members.contains_key(pid)).collect();
        let mut strays = Vec::new();
        for pid in unknown {
            if self.spared.has(pid) {
                continue;
            }
            let Some(start) = start_time(pid) else { continue };
            let Some(handle) = self.fix(&ProcessId { pid, start, boot: self.boot }) else { continue };
            let Some(lineage) = self.lineage.as_mut() else { continue };
            // If it ended before it was held, its end has been told by now, and the number is somebody else's.
            if lineage.descendants(&mut self.spared).contains(&pid) {
                self.members.insert(pid, Arc::clone(&handle));
                strays.push(handle);
            }
        }
        strays
    }

    /// A child of a member fixed. Of whom is in the middle of an exec nobody can say when he started: that he is its child, once he is held.
    fn fix_child(&mut self, child: &Seen) -> Option<Arc<Handle>> {
        let Some(start) = child.start else {
            let handle = Handle::of_number(child.pid, self.boot).ok()?;
            let status = fs::read(format!("/proc/{}/status", child.pid)).unwrap_or_default();
            return (parse_parent(&status) == Some(child.parent) && !handle.has_ended()).then(|| Arc::new(handle));
        };
        self.fix(&ProcessId { pid: child.pid, start, boot: self.boot })
    }

    /// A member fixed; none where it is gone, or cannot be fixed now, which is remembered.
    fn fix(&mut self, id: &ProcessId) -> Option<Arc<Handle>> {
        match Handle::open(id) {
            Ok(handle) => Some(Arc::new(handle)),
            Err(HandleError::Denied { source, .. }) => {
                self.unread = Some(source);
                None
            }
            Err(_) => None,
        }
    }

    /// Suspends everybody in it, and everybody that they start meanwhile. `guard` is given those that come next, and
    /// only when it has them on watch are they suspended.
    ///
    /// # Errors
    /// A member is another user's, or could not be guarded, or it could not be seen who belongs to it. Those suspended so far are
    /// for the caller to resume.
    pub fn suspend(&mut self, guard: &mut GuardThem<'_>) -> Result<Suspended, ActError> {
        let began = Instant::now();
        let first: Vec<Arc<Handle>> = self.members.values().map(Arc::clone).collect();
        guard(&first).map_err(ActError::Unguarded)?;
        for member in &first {
            stop(member)?;
        }
        let mut quiet = 0;
        while quiet < 2 && began.elapsed() < LONGEST {
            let new = self.look();
            if !new.is_empty() {
                guard(&new).map_err(ActError::Unguarded)?;
            }
            for member in &new {
                stop(member)?;
            }
            let still = self.members.values().all(|member| stands_still(member));
            quiet = if new.is_empty() && still && self.unread.is_none() { quiet + 1 } else { 0 };
            if quiet == 0 {
                std::thread::sleep(LOOK_AGAIN);
            }
        }
        if let Some(error) = self.unread.take() {
            return Err(ActError::NotWhole(error));
        }
        let alive = self.members.values().filter(|member| !member.has_ended()).count();
        Ok(Suspended { members: alive, complete: quiet >= 2, took: began.elapsed() })
    }

    /// Resumes everybody in it.
    pub fn resume(&self) {
        signal_all(self.members.values(), Signal::CONT);
    }

    /// Its members, whoever descends from others before them, and strays first of all. A process group that has lost its last
    /// parent outside of it is hung up by the kernel, with whoever else is in it, if somebody in it is stopped at that moment
    /// (setpgid(2)): when a parent goes on, and ends, none below it may stand still any more.
    fn children_first(&self) -> Vec<&Arc<Handle>> {
        let seen = all(&mut None);
        let parents: HashMap<u32, u32> = seen.iter().map(|process| (process.pid, process.parent)).collect();
        let depth = |pid: u32| {
            let above = |pid: &u32| parents.get(pid).copied().filter(|parent| self.members.contains_key(parent));
            let line = std::iter::successors(Some(pid), above).take(self.members.len());
            let (mut top, mut depth) = (pid, 0);
            line.for_each(|pid| (top, depth) = (pid, depth + 1));
            if self.roots.contains(&top) { depth } else { usize::MAX }
        };
        let mut members: Vec<(usize, &Arc<Handle>)> =
            self.members.iter().map(|(pid, member)| (depth(*pid), member)).collect();
        members.order_by_key(|(depth, _)| std::cmp::Reverse(*depth));
        members.into_iter().map(|(_, member)| member).collect()
    }

    /// Ends it whole: suspended first, told to end, resumed so that it can, and by force only as asked. With how many are
    /// left.
    ///
    /// # Errors
    /// A member is another user's, or it could not be seen who belongs to it: nothing was ended.
    pub fn terminate(
        &mut self,
        force_after: Option<Duration>,
        guard: &mut GuardThem<'_>,
        goes_on: &mut dyn FnMut() -> bool,
    ) -> Result<(Ending, usize), ActError> {
        let began = Instant::now();
        if let Err(error) = self.suspend(guard) {
            self.resume();
            return Err(error);
        }
        if !goes_on() {
            self.resume();
            return Ok((Ending::NotAsked, self.left()));
        }
        signal_all(self.members.values(), Signal::TERM);
        signal_all(self.children_first(), Signal::CONT);
        let mut rounds = 0;
        loop {
            let ends = |at_most| Ok(self.wait_for_ends(at_most).then(|| began.elapsed()));
            match answer(force_after, goes_on, ends)? {
                // Who answers by starting others has not answered: two looks have to agree that nobody is left.
                Some(ended @ Ending::Ended(_)) => {
                    let mut new = self.look();
                    if new.is_empty() {
                        std::thread::sleep(LOOK_AGAIN);
                        new = self.look();
                    }
                    if new.is_empty() {
                        return Ok((ended, 0));
                    }
                    if rounds == ROUNDS || !goes_on() {
                        return Ok((Ending::StillThere, self.left()));
                    }
                    rounds += 1;
                    signal_all(&new, Signal::TERM);
                }
                Some(ending) => return Ok((ending, self.left())),
                None => break,
            }
        }
        // Who answers the polite signal by starting others is caught like the rest.
        let give_up = Instant::now() + FORCE_PATIENCE;
        loop {
            self.look();
            if !goes_on() {
                return Ok((Ending::CalledOff, self.left()));
            }
            signal_all(self.children_first(), Signal::KILL);
            if self.wait_for_ends(Duration::from_millis(50)) && self.look().is_empty() && self.unread.is_none() {
                return Ok((Ending::Forced(began.elapsed()), 0));
            }
            if Instant::now() >= give_up {
                return Ok((Ending::PendingInTheKernel, self.left()));
            }
        }
    }

    fn left(&self) -> usize {
        self.members.values().filter(|member| !member.has_ended()).count()
    }

    fn wait_for_ends(&self, at_most: Duration) -> bool {
        let give_up = Instant::now() + at_most;
        self.members
            .values()
            .all(|member| member.wait_for_end(give_up.saturating_duration_since(Instant::now())).unwrap_or(true))
    }
}

/// Who has ended needs no signal.
fn signal_all<'a>(members: impl IntoIterator<Item = &'a Arc<Handle>>, signal: Signal) {
    for member in members {
        let _ = member.signal(signal);
    }
}

fn stop(member: &Handle) -> Result<(), ActError> {
    match member.signal(Signal::STOP).map_err(ActError::from) {
        Err(ActError::Gone) | Ok(()) => Ok(()),
        Err(error) => Err(error),
    }
}

fn stands_still(member: &Handle) -> bool {
    let still = |state: State| matches!(state, State::Suspended | State::Traced | State::Zombie);
    match member.threads() {
        Ok(threads) => threads.iter().all(|thread| still(thread.state)),
        // In the middle of an exec he has one thread, and stops before it is in its new program.
        Err(error) => is_gone(&error) || exec::is_busy(&error),
    }
}

/// Every process, in one look; and why somebody may be missing.
fn all(unread: &mut Option<io::Error>) -> Vec<Seen> {
    let (seen, error) = of_each(|files, pid, (): &mut ()| match files.guarded(pid, "stat") {
        Ok(line) => {
            let stat = stat::parse(line);
            Ok(stat.map(|stat| Seen { pid, parent: stat.parent, start: Some(stat.start) }))
        }
        Err(error) if exec::is_busy(&error) => {
            let parent = parse_parent(files.of(pid, "status")?);
            Ok(parent.map(|parent| Seen { pid, parent, start: None }))
        }
        Err(error) => Err(error),
    });
    *unread = error;
    seen
}
