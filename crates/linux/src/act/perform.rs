//! An order carried out: fixed by a handle, announced on disk, looked at once more, done, looked at again.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use rustix::io::Errno;
use rustix::process::{Pid, test_kill_process};
use sophron_core::act::{Act, Ending, Order, Originals, Outcome, Standstill};
use sophron_core::model::{Needs, Process, ProcessId};
use sophron_core::sorted::{SortedMap, SortedSet};
use sophron_core::state::State;
use sophron_core::text::with_causes;
use sophron_core::units::scaled_duration;

use super::levers::{Levers, manager, put_back};
use super::{ActError, Ending as Ended, Lineage, Tree, resume, suspend, terminate};
use crate::guard::Guard;
use crate::handle::{Handle, HandleError};
use crate::here::Capability;
use crate::roles::{self, Roles, Tracers};
use crate::service_manager::{ManagerError, UnitName};
use crate::{Sampler, cgroups, here, locks, open_files, service_manager};

/// While a tree is caught it is guarded for that long.
const CATCHING: Duration = Duration::from_secs(15);

/// What is known of a target right before it is announced.
#[derive(Debug, Default)]
pub struct Found {
    /// What there is to put back, where it is lowered.
    pub originals: Option<Originals>,
    /// What it holds open.
    pub open: Vec<String>,
}

/// Whoever orders an act: he records it, and says whether it is still right. Targets are told by their place.
pub trait Commit {
    /// Records what is about to be done; returns when that is on disk.
    ///
    /// # Errors
    /// Why it is not: then nothing is done.
    fn announce(&mut self, target: usize, found: Found) -> Result<(), String>;

    /// What has to be read to say whether it is still right.
    fn needs(&self) -> Needs {
        Needs::PERIODIC
    }

    /// Whether it is still right, by the process as it is found once the announcement is on disk.
    ///
    /// # Errors
    /// Why it is not.
    fn still_right(&mut self, target: usize, now: Process) -> Result<(), String>;

    /// Whether it goes on, asked before every signal and while a countdown runs, by what can be asked without a look.
    ///
    /// # Errors
    /// Why it does not.
    fn goes_on(&mut self, target: usize) -> Result<(), String> {
        let _ = target;
        Ok(())
    }

    /// Whether it takes back what we did ourselves: then it is looked at no more, and somebody is resumed though that cannot
    /// be recorded, since his guard would do it anyway.
    fn takes_back(&self) -> bool {
        false
    }
}

/// Somebody who stands still, with those who see to it that he does not do so for ever. Dropped, the guards resume him.
#[derive(Debug, Default)]
pub struct Standing {
    guards: Vec<Guard>,
    tree: Option<Tree>,
}

impl Standing {
    /// The guards' own PIDs.
    pub fn guards(&self) -> impl Iterator<Item = u32> {
        self.guards.iter().map(Guard::pid)
    }

    /// Whether every guard is still on watch.
    pub fn is_guarded(&mut self) -> bool {
        self.guards.iter_mut().all(Guard::is_on_watch)
    }

    /// Those who stand still together, where they are more than one.
    pub fn tree(&self) -> Option<&Tree> {
        self.tree.as_ref()
    }

    /// Lets the guards go: they are resumed, or have ended.
    pub fn release(self) {
        self.guards.into_iter().for_each(Guard::release);
    }
}

/// What came of an order: an outcome for each target, and how long it took.
#[derive(Debug)]
pub struct Performed {
    /// In the order of the targets.
    pub outcomes: Vec<Outcome>,
    /// How long all of it took.
    pub took: Duration,
    /// Present where somebody stands still by it.
    pub standing: Option<Standing>,
}

impl Performed {
    /// The outcome of an order on one target.
    pub fn outcome(self) -> (Outcome, Duration, Option<Standing>) {
        let outcome = self.outcomes.into_iter().next().unwrap_or_else(Outcome::unfinished);
        (outcome, self.took, self.standing)
    }
}

/// The one way to act.
#[derive(Debug, Default)]
pub struct Actuator {
    /// Processes that are fixed already; others are fixed now.
    pub handles: SortedMap<ProcessId, Arc<Handle>>,
    /// A socket at which the service manager is spoken to directly.
    pub direct: Option<PathBuf>,
    /// Forks since it was decided on the act.
    pub lineage: Option<Lineage>,
    /// Whom to resume, and his guards.
    pub standing: Option<Standing>,
}

impl Actuator {
    /// Does it.
    pub fn perform(mut self, order: &Order, commit: &mut dyn Commit) -> Performed {
        let began = here::monotonic();
        let mut standing = None;
        let outcomes = match (&order.act, &order.targets[..]) {
            (Act::Restore { set, originals, still }, [process]) => {
                vec![self.restore(process, *set, originals, *still, commit)]
            }
            (Act::Resume, [process]) if commit.takes_back() => vec![self.resume_ours(process, commit)],
            (_, targets) => match self.announced(targets, order, commit) {
                Ok((ready, mut outcomes)) => {
                    for (place, outcome) in self.carry_out(order, ready, &mut standing, commit) {
                        outcomes.insert(place, outcome);
                    }
                    outcomes.into_values().collect()
                }
                Err(outcomes) => outcomes,
            },
        };
        Performed { outcomes, took: here::monotonic().saturating_sub(began), standing }
    }

    fn direct(&self) -> Option<&Path> {
        self.direct.as_deref()
    }

    fn fix(&self, id: &ProcessId) -> Result<Arc<Handle>, HandleError> {
        self.handles.get(id).map(Arc::clone).map_or_else(|| Handle::open(id).map(Arc::new), Ok)
    }

    /// Everybody fixed and announced, and then looked at once more. Where one of several that are meant together cannot be
    /// recorded, nothing is done to any of them.
    fn announced<'o>(
        &self,
        targets: &'o [Process],
        order: &Order,
        commit: &mut dyn Commit,
    ) -> Result<Sorted<'o>, Vec<Outcome>> {
        let (mut ready, mut outcomes, mut tracers) = (Vec::new(), SortedMap::new(), None);
        let (minds_roles, family) = (order.heeds_roles && order.act.stands_in_the_way(), family(order));
        // Whoever is refused for his role in any case is not announced first.
        let roles = minds_roles.then(Roles::glance);
        for (place, process) in targets.iter().enumerate() {
            let handle = match self.fix(&process.id) {
                Ok(handle) => handle,
                Err(error) => {
                    outcomes.insert(place, Outcome::from(&error));
                    continue;
                }
            };
            let mut one = Ready { place, process, handle, originals: None };
            if let Some(why) = roles.as_ref().and_then(|roles| role(roles, one.process, order, &family)) {
                outcomes.insert(place, Outcome::Refused(why));
                continue;
            }
            let found = match one.found(order, self.direct()) {
                Ok(found) => found,
                Err(error) => {
                    outcomes.insert(place, refusal(&error));
                    continue;
                }
            };
            one.originals.clone_from(&found.originals);
            // A look at all processes takes about as long as the record: of one target both are done at once.
            let announce = || commit.announce(place, found);
            let (announced, seen) = match (minds_roles, targets) {
                (true, [one]) => beside(|| Tracers::look(Some(one.uid)), announce),
                _ => (announce(), None),
            };
            tracers = seen;
            if let Err(why) = announced {
                let together = if targets.len() > 1 { "; nothing was done to any of them" } else { "" };
                return Err(targets.iter().map(|_| Outcome::Unrecorded(format!("{why}{together}"))).collect());
            }
            ready.push(one);
        }
        let mut sampler = Sampler::new(Path::new("/proc"), commit.needs()).ok();
        let roles = minds_roles.then(|| Roles::with(tracers.unwrap_or_else(|| Tracers::look(None))));
        ready.retain(|one| {
            let now = match sampler.as_mut().and_then(|sampler| sampler.again(one.process.id.pid)) {
                Some(now) if now.id == one.process.id && !one.handle.has_ended() => Ok(now),
                _ if one.handle.has_ended() => Err(Outcome::Gone),
                _ => Err(Outcome::Dropped("it cannot be looked at once more".to_owned())),
            };
            // What it does for others last: that goes by the process as it is found, and not as it was judged.
            let right = now.and_then(|now| {
                commit.still_right(one.place, now.clone()).map_err(Outcome::Dropped)?;
                let role = roles.as_ref().and_then(|roles| role(roles, &now, order, &family));
                role.map_or(Ok(()), |why| Err(Outcome::Refused(why)))
            });
            right.map_err(|outcome| outcomes.insert(one.place, outcome)).is_ok()
        });
        Ok((ready, outcomes))
    }

    fn carry_out(
        &mut self,
        order: &Order,
        mut ready: Vec<Ready<'_>>,
        standing: &mut Option<Standing>,
        commit: &mut dyn Commit,
    ) -> Vec<(usize, Outcome)> {
        let together = order.whole.is_some() || order.targets.len() > 1;
        let mut outcomes = Vec::new();
        // To look at all of them once more took its time.
        ready.retain(|one| {
            let goes_on = commit.goes_on(one.place).map_err(|why| outcomes.push((one.place, Outcome::Dropped(why))));
            goes_on.is_ok()
        });
        let done = match order.act {
            _ if ready.is_empty() => Vec::new(),
            Act::Suspend { length } if together => self.suspend_together(order, &ready, length, standing),
            Act::Terminate { force_after } if order.whole.is_some() => {
                self.end_together(order, &ready, force_after, commit)
            }
            _ => ready.into_iter().map(|one| (one.place, self.one(order, one, standing, commit))).collect(),
        };
        outcomes.extend(done);
        outcomes
    }

    fn one(&self, order: &Order, one: Ready<'_>, standing: &mut Option<Standing>, commit: &mut dyn Commit) -> Outcome {
        let Ready { process, handle, originals, place } = one;
        let done = match &order.act {
            Act::Lower { nice, only } => {
                let levers = Levers::of(&handle, process, (*nice, *only), order.reach, self.direct());
                let lowered = levers.lower(originals.unwrap_or_default());
                lowered.map(|lowering| Outcome::Lowered(Box::new(lowering)))
            }
            Act::Suspend { length } => suspend_one(&handle, *length, standing),
            Act::Resume => resume_one(&handle),
            Act::Restart => Ok(self.restart(process, order.on_behalf_of)),
            Act::Terminate { force_after } => {
                let mut off = None;
                let mut goes_on = || commit.goes_on(place).map_err(|why| off = Some(why)).is_ok();
                let ending = terminate(&*handle, *force_after, &mut goes_on);
                ending.map(|ending| ended(&handle, ending, None, off))
            }
            Act::Restore { .. } => Ok(Outcome::Dropped("that is no act".to_owned())),
        };
        done.unwrap_or_else(|error| refusal(&error))
    }

    fn tree(&mut self, order: &Order, ready: &[Ready<'_>]) -> Tree {
        let roots: Vec<Arc<Handle>> = ready.iter().map(|one| Arc::clone(&one.handle)).collect();
        let Some(whole) = &order.whole else {
            // Nobody else is taken in.
            return Tree::of(&roots, |_| Some("not asked for".to_owned()));
        };
        let lineage = self.lineage.take().or_else(Lineage::listen);
        let member = |(id, above): &(ProcessId, u32)| Some((self.fix(id).ok()?, *above));
        let members: Vec<(Arc<Handle>, u32)> = whole.members.iter().filter_map(member).collect();
        let spared = roles::sparing(whole.spared.clone(), order.heeds_roles);
        Tree::of(&roots, spared).with(&members).with_lineage(lineage)
    }

    fn suspend_together(
        &mut self,
        order: &Order,
        ready: &[Ready<'_>],
        length: Duration,
        standing: &mut Option<Standing>,
    ) -> Vec<(usize, Outcome)> {
        let mut tree = self.tree(order, ready);
        let mut guards = Vec::new();
        let suspended = tree.suspend(&mut |new| Guard::all(&mut guards, new, length));
        let seen = match suspended {
            Ok(seen) => seen,
            Err(error) => {
                tree.resume();
                guards.into_iter().for_each(Guard::release);
                return ready.iter().map(|one| (one.place, refusal(&error))).collect();
            }
        };
        let more = tree.members().count().saturating_sub(ready.len());
        *standing = Some(Standing { guards, tree: Some(tree) });
        let still = standstill(seen.complete.then_some(seen.took), length, more, true);
        ready.iter().map(|one| (one.place, Outcome::Suspended(still))).collect()
    }

    /// A tree is caught whole, guarded, and ended as one.
    fn end_together(
        &mut self,
        order: &Order,
        ready: &[Ready<'_>],
        force_after: Option<Duration>,
        commit: &mut dyn Commit,
    ) -> Vec<(usize, Outcome)> {
        let mut tree = self.tree(order, ready);
        let (mut guards, mut off) = (Vec::new(), None);
        let mut goes_on = || {
            let all = ready.iter().try_for_each(|one| commit.goes_on(one.place));
            all.map_err(|why| off = Some(why)).is_ok()
        };
        let done = tree.terminate(force_after, &mut |new| Guard::all(&mut guards, new, CATCHING), &mut goes_on);
        guards.into_iter().for_each(Guard::release);
        let (ending, left) = match done {
            Ok(done) => done,
            Err(error) => return ready.iter().map(|one| (one.place, refusal(&error))).collect(),
        };
        let of_tree = Ending { tree: tree.members().count(), left, spared: tree.spared().clone(), ..Ending::default() };
        let alone = ready.len() == 1;
        let one = |one: &Ready<'_>| match ending {
            // Of several each tells of itself, of one the whole.
            Ended::Ended(_) | Ended::Forced(_) => ended(&one.handle, ending, Some(of_tree.clone()), None),
            _ if one.handle.has_ended() && !alone => Outcome::Ended(of_tree.clone()),
            _ => ended(&one.handle, ending, Some(of_tree.clone()), off.clone()),
        };
        ready.iter().map(|ready| (ready.place, one(ready))).collect()
    }

    /// The unit, through the service manager, which is asked what came of it.
    fn restart(&self, process: &Process, on_behalf_of: Option<u32>) -> Outcome {
        // His own word is enough for what is done as him.
        let his = UnitName::of(process).filter(|unit| unit.uid.is_some() && unit.uid == on_behalf_of);
        let (unit, as_him) = match (his, UnitName::restartable(process)) {
            (_, Ok(unit)) => (unit, None),
            (Some(unit), Err(_)) if here::is_root() => (unit, on_behalf_of),
            (_, Err(error)) => return Outcome::Refused(with_causes(&error)),
        };
        let restarted = match as_him {
            Some(uid) => service_manager::restart_as(uid, &unit),
            None => manager(unit.uid, self.direct()).restart(&unit),
        };
        match restarted {
            Ok(done) if done.state == "active" => {
                Outcome::Restarted { unit: unit.name, main: done.main, took: done.took }
            }
            Ok(done) => {
                let took = scaled_duration(done.took);
                Outcome::Failed(format!("the unit {} is {} after {took}", unit.name, done.state))
            }
            Err(error @ ManagerError::Refused(_)) => Outcome::Refused(format!("{error}; root may do it")),
            Err(error @ (ManagerError::Silent | ManagerError::Failed(_))) => Outcome::Failed(with_causes(&error)),
            Err(error) => Outcome::Refused(with_causes(&error)),
        }
    }

    /// Whom we suspended goes on, recorded or not; his guards are let go once he does.
    fn resume_ours(&mut self, process: &Process, commit: &mut dyn Commit) -> Outcome {
        // His guard would resume him anyway.
        let _ = commit.announce(0, Found::default());
        let outcome = match self.fix(&process.id) {
            Ok(handle) => resumed(&handle).unwrap_or_else(|error| refusal(&error)),
            Err(error) => Outcome::from(&error),
        };
        match self.standing.take() {
            Some(standing) if !matches!(outcome, Outcome::Refused(_)) => standing.release(),
            // Let go without a word: the guard resumes him if it can.
            standing => drop(standing),
        }
        outcome
    }

    /// A niceness is put back only with its record: else the next start does it.
    fn restore(
        &self,
        process: &Process,
        set: i32,
        originals: &Originals,
        still: Option<i32>,
        commit: &mut dyn Commit,
    ) -> Outcome {
        if let Err(why) = commit.announce(0, Found::default()) {
            return Outcome::Unrecorded(why);
        }
        let handle = match self.fix(&process.id) {
            Ok(handle) => Some(handle).filter(|handle| !handle.has_ended()),
            Err(error) if error.is_gone() => None,
            // It may well be there: it stays in force by the record.
            Err(error) => return Outcome::from(&error),
        };
        put_back(handle.as_deref(), set, originals, still, self.direct()).outcome()
    }
}

/// Both at once, the look on a thread of its own; where none can be had only the work is done.
fn beside<S: Send, W>(look: impl FnOnce() -> S + Send, work: impl FnOnce() -> W) -> (W, Option<S>) {
    std::thread::scope(|scope| {
        let looking = std::thread::Builder::new().name("roles".to_owned()).spawn_scoped(scope, look);
        let done = work();
        // A panic in it has been printed, and nothing was seen.
        (done, looking.ok().and_then(|looking| looking.join().ok()))
    })
}

/// Those whom it is to be done to, and what has become of the others by now.
type Sorted<'o> = (Vec<Ready<'o>>, SortedMap<usize, Outcome>);

/// A target that is fixed and announced.
struct Ready<'o> {
    place: usize,
    process: &'o Process,
    handle: Arc<Handle>,
    originals: Option<Originals>,
}

impl Ready<'_> {
    fn found(&self, order: &Order, direct: Option<&Path>) -> Result<Found, ActError> {
        let originals = match order.act {
            // Written with the intent: whatever happens next, the trail knows what to put back.
            Act::Lower { nice, only } => {
                Some(Levers::of(&self.handle, self.process, (nice, only), order.reach, direct).originals()?)
            }
            _ => None,
        };
        // What is refused in any case is not announced first.
        let signals = matches!(order.act, Act::Suspend { .. } | Act::Terminate { .. });
        let pid = Pid::from_raw(self.process.id.pid.cast_signed()).filter(|_| signals);
        if pid.is_some_and(|pid| test_kill_process(pid) == Err(Errno::PERM)) {
            return Err(ActError::NotPermitted(Capability::Kill));
        }
        Ok(Found { originals, open: open_files::names(self.process.id.pid) })
    }
}

/// Everybody who is meant along with it, by PID.
fn family(order: &Order) -> SortedSet<u32> {
    let targets = order.targets.iter().map(|process| process.id.pid);
    let mates = order.mates.iter().map(|mate| mate.id.pid);
    let members = order.whole.iter().flat_map(|whole| whole.members.iter().map(|(id, _)| id.pid));
    targets.chain(mates).chain(members).collect()
}

/// Whom it would hurt, by what the process does for others; where a unit is started anew by what any of its processes does.
fn role(roles: &Roles, process: &Process, order: &Order, family: &SortedSet<u32>) -> Option<String> {
    if let Some(role) = roles.of(process, family) {
        return Some(format!("protected by its role: {role}"));
    }
    let mates = order.mates.iter().filter(|mate| mate.id != process.id);
    mates.into_iter().find_map(|mate| {
        let role = roles.of(mate, family)?;
        Some(format!("{} of its unit is protected: {role}", mate.label()))
    })
}

fn suspend_one(handle: &Arc<Handle>, length: Duration, standing: &mut Option<Standing>) -> Result<Outcome, ActError> {
    let mut guards = Vec::new();
    Guard::all(&mut guards, std::slice::from_ref(handle), length).map_err(ActError::Unguarded)?;
    let still = |took| standstill(took, length, 0, locks::holds_any(handle.id().pid) != Some(false));
    match suspend(&**handle) {
        Ok(took) => {
            *standing = Some(Standing { guards, tree: None });
            // Who stands still takes no more locks than it has.
            Ok(Outcome::Suspended(still(took)))
        }
        Err(error) => {
            guards.into_iter().for_each(Guard::release);
            Err(error)
        }
    }
}

fn standstill(took: Option<Duration>, length: Duration, more: usize, holds_locks: bool) -> Standstill {
    let now = here::now();
    let over = now.wall.checked_add(length).unwrap_or(now.wall);
    Standstill { took, until: now.monotonic + length, over, holds_locks, more }
}

fn resume_one(handle: &Handle) -> Result<Outcome, ActError> {
    if !handle.threads()?.iter().any(|thread| thread.state == State::Suspended) {
        return Ok(Outcome::NotSuspended);
    }
    resumed(handle)
}

fn resumed(handle: &Handle) -> Result<Outcome, ActError> {
    Ok(match resume(handle)? {
        Some(took) => Outcome::Resumed(Some(took)),
        None => frozen_or(handle.id().pid, Outcome::Resumed(None)),
    })
}

/// As what an ending is told; `off` says why it was called off.
fn ended(handle: &Handle, ending: Ended, of_tree: Option<Ending>, off: Option<String>) -> Outcome {
    let with = |took, forced| Ending { took, forced, ..of_tree.clone().unwrap_or_default() };
    match ending {
        Ended::Ended(took) => Outcome::Ended(with(took, false)),
        Ended::Forced(took) => Outcome::Ended(with(took, true)),
        Ended::StillThere => frozen_or(handle.id().pid, Outcome::StillThere(of_tree)),
        Ended::CalledOff => Outcome::CalledOff(off.unwrap_or_default(), of_tree),
        Ended::NotAsked => Outcome::Dropped(off.unwrap_or_default()),
        Ended::PendingInTheKernel => frozen_or(handle.id().pid, Outcome::PendingInTheKernel(of_tree)),
    }
}

/// A control group that is frozen takes neither a polite end nor a resume.
fn frozen_or(pid: u32, otherwise: Outcome) -> Outcome {
    if cgroups::is_frozen(pid) { Outcome::PendingFrozen } else { otherwise }
}

fn refusal(error: &ActError) -> Outcome {
    if matches!(error, ActError::Gone) { Outcome::Gone } else { Outcome::Refused(with_causes(error)) }
}
