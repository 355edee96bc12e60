//! What an earlier run has left behind: processes that are still suspended though nobody guards them any more, since even a
//! guard ends when all of a service is killed at once; and a trail whose older files nobody has looked at since.

use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use sophron_core::act::{Act, Order, Outcome, Verb};
use sophron_core::audit::{Fault, InForce, Kind, Record};
use sophron_core::dispatch::HAND_MARGIN;
use sophron_core::groups::children;
use sophron_core::happening::Happening;
use sophron_core::model::{Boot, Moment, Needs, Process, ProcessId};
use sophron_core::rules::RuleName;
use sophron_core::sorted::{SortedMap, SortedSet};
use sophron_core::state::State;
use sophron_core::text::with_causes;
use sophron_linux::act::{self, Actuator, Commit};
use sophron_linux::handle::Handle;
use sophron_linux::{SampleError, Sampler, here, trail};

/// The command of an ending by hand is given that long.
const ENDING: Duration = Duration::from_secs(60);

/// The check of the older files works for this share of the time.
const MILD: u32 = 9;
const PIECE: usize = 256 * 1024;

/// One process that was left suspended, or may have been.
pub struct Left {
    pub process: Process,
    /// The case and the rule that it was done for.
    pub case: Option<u64>,
    pub rule: Option<RuleName>,
    pub found: Found,
}

impl Left {
    /// What is told of it; nothing where a command may still be at it.
    pub fn happening(&self, remark: &str) -> Option<Happening> {
        let Found::Resumed(outcome) = &self.found else { return None };
        let remark = matches!(outcome, Outcome::Resumed(_)).then(|| remark.to_owned());
        let about = (self.case, self.rule.clone());
        Some(super::start::came(&self.process, about, Act::Resume, outcome.clone(), remark))
    }
}

/// How it was found.
pub enum Found {
    /// What came of resuming it.
    Resumed(Outcome),
    /// A command may still be counting down: nothing is done before that time, on the monotonic clock.
    NotBefore(Duration),
}

/// Resumes at once whoever the trail shows as suspended by us, or as told to be.
pub fn resume(in_force: &InForce, boot: Boot) -> Vec<Left> {
    let now = here::now();
    let mut left: SortedMap<ProcessId, Left> = SortedMap::new();
    let announced = in_force.announced();
    let announced = announced.iter().filter(|record| matches!(record.verb(), Some(Verb::Suspend | Verb::Terminate)));
    for record in in_force.suspended().chain(announced.copied()) {
        let (Some(id), Some(subject)) = (record.identity().filter(|id| id.boot == boot), &record.subject) else {
            continue;
        };
        let one = |id: ProcessId, found| {
            let process = Process { id, ..subject.process(boot) };
            let rule = record.rule.as_deref().map(RuleName::from);
            Left { process, case: record.case, rule, found }
        };
        if let Some(until) = until(record, now) {
            left.insert(id, one(id, Found::NotBefore(until)));
            continue;
        }
        let is_told = record.kind != Kind::Intent;
        let whole = record.action.as_ref().is_some_and(|action| action.tree);
        let members = match whole.then(|| tree(id, record)) {
            None => SortedSet::from([id]),
            Some(Ok(members)) => members,
            Some(Err(error)) => {
                let why = format!("who belongs to its tree cannot be seen: {}", with_causes(&error));
                left.insert(id, one(id, Found::Resumed(Outcome::Refused(why))));
                continue;
            }
        };
        for member in members {
            let Some(outcome) = go_on(&one(member, Found::NotBefore(Duration::ZERO)).process) else {
                // Of whom it is only announced, and who runs, there is nothing to tell.
                if is_told {
                    left.insert(member, one(member, Found::Resumed(Outcome::NotSuspended)));
                }
                continue;
            };
            if is_told || outcome != Outcome::Gone {
                left.insert(member, one(member, Found::Resumed(outcome)));
            }
        }
    }
    left.into_values().collect()
}

/// Until when a person's command may still be at it (monotonic).
fn until(record: &Record, now: Moment) -> Option<Duration> {
    let seconds = record.action.as_ref().and_then(|action| action.seconds.or(action.force_after)).unwrap_or(0.0);
    let margin = if record.verb() == Some(&Verb::Terminate) { ENDING } else { HAND_MARGIN };
    let length = Duration::try_from_secs_f64(seconds).unwrap_or_default() + margin;
    let passed = Duration::try_from(now.wall.duration_since(record.at)).unwrap_or(Duration::ZERO);
    (record.is_by_hand() && passed < length).then(|| now.monotonic + length - passed)
}

/// What came of resuming it; none where it did not stand still.
fn go_on(process: &Process) -> Option<Outcome> {
    let handle = match Handle::open(&process.id) {
        Ok(handle) => handle,
        // Whoever is there and cannot be fixed now may still stand: the next start looks again.
        Err(error) => return Some(Outcome::from(&error)),
    };
    match handle.threads() {
        Ok(threads) if threads.iter().any(|thread| thread.state == State::Suspended) => {}
        Ok(_) => return None,
        Err(_) if handle.has_ended() => return Some(Outcome::Gone),
        Err(error) => return Some(Outcome::Refused(format!("whether it stands still cannot be seen: {error}"))),
    }
    let order = Order::on(process.clone(), Act::Resume);
    let handles = SortedMap::from([(process.id, Arc::new(handle))]);
    let actuator = Actuator { handles, ..Actuator::default() };
    Some(actuator.perform(&order, &mut Later).outcome().0)
}

/// Nothing is recorded before somebody goes on again: it is once the trail is open.
struct Later;

impl Commit for Later {
    fn announce(&mut self, _: usize, _: act::Found) -> Result<(), String> {
        Err("the trail is not open yet".to_owned())
    }

    fn still_right(&mut self, _: usize, _: Process) -> Result<(), String> {
        Ok(())
    }

    fn takes_back(&self) -> bool {
        true
    }
}

/// A tree that was being caught: its root, all that descend from it, and those that are named.
///
/// # Errors
/// It cannot be seen who they are.
fn tree(root: ProcessId, record: &Record) -> Result<SortedSet<ProcessId>, SampleError> {
    let mut all = SortedSet::from([root]);
    let snapshot = Sampler::new(Path::new("/proc"), Needs::NONE)?.look()?;
    let named: Vec<&str> =
        record.subject.iter().flat_map(|subject| &subject.of).flat_map(|of| &of.ids).map(String::as_str).collect();
    let is_named = |id: &ProcessId| named.contains(&id.checked().to_string().as_str());
    all.extend(snapshot.processes.iter().map(|process| process.id).filter(is_named));
    let below = children(&snapshot.processes);
    let mut next: Vec<ProcessId> = all.iter().copied().collect();
    while let Some(parent) = next.pop() {
        let new = below.get(&parent.pid).into_iter().flatten().map(|child| child.id).filter(|id| !all.contains(id));
        let new: Vec<ProcessId> = new.collect();
        all.extend(&new);
        next.extend(new);
    }
    Ok(all)
}

/// Checks the whole chain, mildly; what is wrong with it, if anything is.
///
/// # Errors
/// Why it could not be read: that says nothing about it.
pub fn check(state: &Path) -> Result<Option<String>, String> {
    // Of this thread alone. Where it may not be, the pauses have to do.
    let _ = rustix::process::setpriority_process(None, 19);
    let (mut read, mut began) = (0, Instant::now());
    let checked = trail::walk(state, |bytes| {
        read += bytes;
        if read >= PIECE {
            std::thread::sleep(began.elapsed() * MILD);
            (read, began) = (0, Instant::now());
        }
    });
    let checked = checked.map_err(|error| with_causes(&error))?;
    let fault =
        |fault: Fault| format!("it is not sound at record {}: {}; see `sophron audit verify`", fault.seq, fault.what);
    Ok(checked.fault.map(fault))
}
