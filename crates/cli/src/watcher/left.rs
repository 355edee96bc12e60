//! What an earlier run has left behind: processes that are still suspended though nobody guards them any more, since even a
//! guard ends when all of a service is killed at once; and a trail whose older files nobody has looked at since.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::time::{Duration, Instant};

use rustix::process::Signal;
use sophron_core::audit::{Fault, InForce, Kind, Record};
use sophron_core::groups::children;
use sophron_core::model::{Boot, Needs, ProcessId, State};
use sophron_linux::handle::Handle;
use sophron_linux::{Sampler, here, trail};

use super::recorder::chain;

/// The command of a suspension by hand is given that long beyond its time.
pub const HAND_MARGIN: Duration = Duration::from_secs(5);

/// And that of an ending.
const ENDING: Duration = Duration::from_secs(60);

/// The check of the older files works for this share of the time.
const MILD: u32 = 9;
const PIECE: usize = 256 * 1024;

/// One process that was left suspended, or may have been.
pub struct Left {
    pub id: ProcessId,
    /// The record that tells of it.
    pub record: Record,
    pub kind: Kind,
    pub word: &'static str,
    pub seen: &'static str,
    /// A command may still be counting down: nothing is done before that time, on the monotonic clock.
    pub not_before: Option<Duration>,
}

/// Resumes at once whoever the trail shows as suspended by us, or as told to be.
pub fn resume(in_force: &InForce, boot: Boot) -> Vec<Left> {
    let now = here::now();
    let mut left: BTreeMap<ProcessId, Left> = BTreeMap::new();
    let verb = |record: &Record| record.action.as_ref().map(|action| action.verb.clone()).unwrap_or_default();
    let announced = in_force.announced();
    let announced = announced.iter().filter(|record| matches!(verb(record).as_str(), "suspend" | "terminate"));
    for record in in_force.suspended().chain(announced.copied()) {
        let Some(id) = record.identity().filter(|id| id.boot == boot) else { continue };
        let seconds = record.action.as_ref().and_then(|action| action.seconds.or(action.force_after)).unwrap_or(0.0);
        let margin = if verb(record) == "terminate" { ENDING } else { HAND_MARGIN };
        let length = Duration::try_from_secs_f64(seconds).unwrap_or_default() + margin;
        let passed = Duration::try_from(now.wall.duration_since(record.at)).unwrap_or(Duration::ZERO);
        let under_way = record.is_by_hand() && passed < length;
        if under_way {
            let not_before = Some(now.monotonic + length - passed);
            left.insert(id, Left { not_before, ..one(id, record, false) });
            continue;
        }
        let is_told = record.kind != Kind::Intent;
        let whole = record.action.as_ref().is_some_and(|action| action.tree);
        for member in if whole { tree(id, record) } else { BTreeSet::from([id]) } {
            let Ok(handle) = Handle::open(&member) else {
                if is_told {
                    left.insert(member, one(member, record, false));
                }
                continue;
            };
            let stands = handle.threads().is_ok_and(|all| all.iter().any(|thread| thread.state == State::Suspended));
            // Who runs is recorded as well, where the trail has him suspended.
            if stands && handle.signal(Signal::CONT).is_ok() || is_told {
                left.insert(member, Left { kind: Kind::Restored, word: "resumed", ..one(member, record, stands) });
            }
        }
    }
    left.into_values().collect()
}

fn one(id: ProcessId, record: &Record, stood: bool) -> Left {
    let mut record = record.clone();
    if record.identity() != Some(id)
        && let Some(subject) = &mut record.subject
    {
        (subject.pid, subject.start, subject.id) = (id.pid, id.start, id.checked().to_string());
    }
    let seen = if stood { "an earlier run had left it suspended" } else { "it is not suspended any more" };
    Left { id, record, kind: Kind::Superseded, word: "gone", seen, not_before: None }
}

/// A tree that was being caught: its root, all that descend from it, and those that are named.
fn tree(root: ProcessId, record: &Record) -> BTreeSet<ProcessId> {
    let mut all = BTreeSet::from([root]);
    let snapshot = Sampler::new(Path::new("/proc"), Needs::NONE).and_then(|mut sampler| sampler.look());
    let Ok(snapshot) = snapshot else { return all };
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
    all
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
    let checked = checked.map_err(|error| chain(&error))?;
    let fault =
        |fault: Fault| format!("it is not sound at record {}: {}; see `sophron audit verify`", fault.seq, fault.what);
    Ok(checked.fault.map(fault))
}
