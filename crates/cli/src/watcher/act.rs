//! One act of a rule, on a thread of its own: intent on disk, everything looked at once more, the act, what came of it.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::process::Command;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use sophron_core::audit::{Draft, Kind, ResultRecord};
use sophron_core::condition::Truth;
use sophron_core::effects::Originals;
use sophron_core::model::{Facts, Machine, Needs, Process, ProcessId};
use sophron_core::protect::Protections;
use sophron_core::rules::{Action, RuleSet};
use sophron_core::units::scaled_duration;
use sophron_linux::act::{self, ActError, Ending, Lineage, Only, Tree};
use sophron_linux::guard::{Guard, MOST_TARGETS};
use sophron_linux::handle::Handle;
use sophron_linux::roles::{self, Roles};
use sophron_linux::service_manager::UnitName;
use sophron_linux::{Sampler, here, locks};

use super::drafts::{DraftExt, holds_open};
use super::recorder::{Recorder, chain};
use crate::lowering::{self, Reach};

/// A guard outlives the suspension by this much: the watcher resumes first, and the guard only if it does not.
const GUARD_MARGIN: Duration = Duration::from_secs(2);

/// While a tree is caught it is guarded for that long.
const CATCHING: Duration = Duration::from_secs(15);

/// Which cases were in breach at the latest tick.
#[derive(Debug, Default)]
pub struct Verdicts {
    pub tick: u64,
    pub breached: BTreeSet<u64>,
}

/// A tree that is meant whole.
pub struct TreeMeant {
    /// Whom that spares, and why.
    pub spared: BTreeMap<u32, String>,
    /// Its members as they were judged, each behind the one that it descends from, by PID.
    pub members: Vec<(Arc<Handle>, u32)>,
}

/// What is to be done, with everything that has to be looked at again before.
pub struct Request {
    pub case: u64,
    pub rules: Arc<RuleSet>,
    /// The rule, by its place in the file.
    pub rule: usize,
    pub action: Action,
    /// The process as it was judged.
    pub subject: Process,
    pub machine: Machine,
    pub protections: Protections,
    pub handle: Arc<Handle>,
    /// How far a lowering may reach.
    pub reach: Reach,
    /// Where the whole tree below it is meant.
    pub tree: Option<TreeMeant>,
    /// Who else is of the unit that is started anew.
    pub mates: Vec<Process>,
    /// Whether the rule's `where` must still cover it.
    pub by_where: bool,
    /// The tick at which the step fell due.
    pub tick: u64,
    pub verdicts: Arc<Mutex<Verdicts>>,
    /// The intent, with subject, evidence and action.
    pub intent: Draft,
}

/// What came of an act.
pub struct Done {
    pub case: u64,
    pub subject: Process,
    pub action: Action,
    pub outcome: Outcome,
    /// What was seen, for people.
    pub seen: String,
}

/// The outcome of an act.
pub enum Outcome {
    Lowered {
        nice: i32,
        originals: Originals,
    },
    Suspended {
        guard: Guard,
        until: Duration,
        /// Whether others may come to wait for a file lock that it holds.
        holds_locks: bool,
    },
    Ended {
        by_force: bool,
    },
    /// Its unit was started anew.
    Restarted,
    StillThere,
    Pending,
    /// Nothing was done: it was not possible.
    Refused,
    /// Nothing was done: it was no longer right.
    Dropped,
    /// Nothing was done: it could not be recorded. The step stays due.
    Unrecorded,
    /// Whoever was at it ended midway: what was done is not known.
    Failed,
}

impl Outcome {
    /// Its word, in the record and in the event line.
    pub fn word(&self) -> &'static str {
        match self {
            Outcome::Lowered { .. } => "lowered",
            Outcome::Suspended { .. } => "suspended",
            Outcome::Ended { by_force: false } => "ended",
            Outcome::Ended { by_force: true } => "ended by force",
            Outcome::Restarted => "restarted",
            Outcome::StillThere => "still there",
            Outcome::Pending => "pending in the kernel",
            Outcome::Refused => "refused",
            Outcome::Dropped | Outcome::Unrecorded => "dropped",
            Outcome::Failed => "failed",
        }
    }
}

/// Does it.
pub fn perform(request: Request, recorder: &Recorder) -> Done {
    let began = here::monotonic();
    let (outcome, seen) = attempt(&request, recorder);
    let kind = if matches!(outcome, Outcome::Refused) { Kind::Refused } else { Kind::Outcome };
    let result = ResultRecord {
        outcome: outcome.word().to_owned(),
        seen: seen.clone(),
        took: Some(((here::monotonic() - began).as_secs_f64() * 1000.0).round() / 1000.0),
    };
    recorder.note(Draft { result: Some(result), ..request.intent.as_kind(kind) });
    Done { case: request.case, subject: request.subject, action: request.action, outcome, seen }
}

/// What is told, and recorded, where whoever does it ends midway.
pub fn unfinished(request: &Request, recorder: Recorder) -> impl FnOnce() -> Done + Send + use<> {
    let (case, subject, action) = (request.case, request.subject.clone(), request.action);
    let intent = request.intent.clone();
    move || {
        let seen = "whoever was at it ended midway: what was done is not known".to_owned();
        recorder.note(intent.as_kind(Kind::Outcome).came_of_it(Outcome::Failed.word(), seen.clone()));
        Done { case, subject, action, outcome: Outcome::Failed, seen }
    }
}

fn attempt(request: &Request, recorder: &Recorder) -> (Outcome, String) {
    let mut intent = request.intent.clone();
    let mut originals = Originals::default();
    if let Action::Lower { nice } = request.action {
        match lowering::originals(&request.handle, &request.subject, nice, Only::Both, &request.reach) {
            Ok(found) => originals = found,
            Err(error) => return refusal(&error),
        }
        // Written with the intent: whatever happens next, the trail knows what to put back.
        if let Some(action) = intent.action.as_mut() {
            action.nice = Some(nice);
            action.originals = Some(originals.clone());
        }
    }
    if let Some(subject) = intent.subject.as_mut() {
        subject.open = holds_open(request.subject.id.pid);
    }
    if let Err(why) = recorder.commit(intent) {
        return (Outcome::Unrecorded, format!("no record, no action: {why}"));
    }
    if let Err(why) = look_again(request) {
        return (Outcome::Dropped, why);
    }
    if matches!(request.action, Action::Suspend { .. } | Action::Terminate { .. } | Action::Restart)
        && let Some((who, role)) = role(request)
    {
        return (Outcome::Refused, format!("{who}: {role}"));
    }
    let done = match request.action {
        Action::Alert | Action::Run => return (Outcome::Dropped, "that is no act".to_owned()),
        Action::Restart => Ok(restart(request)),
        Action::Lower { nice } => lower(request, nice, originals),
        Action::Suspend { length } => suspend(request, length),
        Action::Terminate { force_after } => terminate(request, force_after),
    };
    done.unwrap_or_else(|error| refusal(&error))
}

/// Whom it would hurt, by what the process does for others; where a unit is started anew, or a tree ended, by what any of its
/// processes does. Of a tree that is ended members with a role are spared.
fn role(request: &Request) -> Option<(String, String)> {
    let roles = Roles::look();
    let mut family: BTreeSet<u32> = request.mates.iter().map(|mate| mate.id.pid).collect();
    family.extend(request.tree.iter().flat_map(|tree| &tree.members).map(|(member, _)| member.id().pid));
    if let Some(role) = roles.of(&request.subject, &family) {
        return Some(("protected by its role".to_owned(), role));
    }
    let mates = request.mates.iter().filter(|mate| mate.id != request.subject.id);
    mates
        .into_iter()
        .find_map(|mate| Some((format!("{} of its unit is protected", mate.label()), roles.of(mate, &family)?)))
}

fn refusal(error: &ActError) -> (Outcome, String) {
    let outcome = if matches!(error, ActError::Gone) { Outcome::Dropped } else { Outcome::Refused };
    (outcome, chain(error))
}

/// Between the decision and the act the intent was written, which may have taken seconds. Identity, owner, `where`,
/// protection, and the breach if a tick has passed, must still be what they were.
fn look_again(request: &Request) -> Result<(), String> {
    let rule = &request.rules.rules[request.rule];
    let mut sampler =
        Sampler::new(Path::new("/proc"), Needs::of(&request.rules.fields())).map_err(|error| chain(&error))?;
    let mut now = sampler.again(request.subject.id.pid).ok_or("it has ended meanwhile")?;
    if now.id != request.subject.id || request.handle.has_ended() {
        return Err("it has ended meanwhile".to_owned());
    }
    if now.uid != request.subject.uid {
        return Err(format!("its owner is {} now", now.owner));
    }
    // What it is called was known; where it could not be read again at once, the same file under the same name is it.
    if now.app_unread && now.path == request.subject.path && now.name == request.subject.name {
        now.names = Arc::clone(&request.subject.names);
    }
    // A rate needs two samples, and what is costly or counted over all is read with a sample: those of the tick stand.
    let judged = &request.subject;
    (now.cpu, now.waited, now.faults) = (judged.cpu, judged.waited, judged.faults);
    (now.disk_read, now.disk_write, now.files) = (judged.disk_read, judged.disk_write, judged.files);
    (now.memory_private, now.memory_proportional) = (judged.memory_private, judged.memory_proportional);
    (now.children, now.instances) = (judged.children, judged.instances);
    let facts = Facts::new(&now, &request.machine);
    if request.by_where && rule.covers.as_ref().is_some_and(|covers| covers.evaluate(&facts) != Truth::True) {
        return Err("the rule no longer covers it".to_owned());
    }
    if let Some(reason) = request.protections.reason(&facts) {
        return Err(format!("it is protected now: {reason}"));
    }
    let verdicts = request.verdicts.lock().unwrap_or_else(PoisonError::into_inner);
    if verdicts.tick != request.tick && !verdicts.breached.contains(&request.case) {
        return Err("it is no longer in breach".to_owned());
    }
    Ok(())
}

type Attempt = Result<(Outcome, String), ActError>;

fn lower(request: &Request, nice: i32, originals: Originals) -> Attempt {
    let (mut seen, _) = lowering::lower(&request.handle, nice, Only::Both, &originals, &request.reach)?;
    if !act::may_raise(originals.was) {
        seen.push_str("; cannot be undone without root");
    }
    Ok((Outcome::Lowered { nice, originals }, seen))
}

fn suspend(request: &Request, length: Duration) -> Attempt {
    let guard = match start_guard(&[request.handle.as_ref()], length) {
        Ok(guard) => guard,
        Err(error) => return Ok((Outcome::Refused, format!("no guard could be started: {error}"))),
    };
    let until = here::monotonic() + length;
    match act::suspend(&*request.handle) {
        Ok(took) => {
            let seen = match took {
                Some(took) => format!("every thread, in {} ms", took.as_millis()),
                None => "some threads wait in the kernel and are suspended when they come back".to_owned(),
            };
            // Who stands still takes no more locks than it has.
            let holds_locks = locks::holds_any(request.subject.id.pid) != Some(false);
            Ok((Outcome::Suspended { guard, until, holds_locks }, seen))
        }
        Err(error) => {
            guard.release();
            Err(error)
        }
    }
}

/// Puts processes under guard for that long: a process of its own, which outlives us.
pub fn start_guard(targets: &[&Handle], length: Duration) -> std::io::Result<Guard> {
    let mut program = Command::new("/proc/self/exe");
    program.arg("guard").env_clear().current_dir("/");
    Guard::start(program, targets, length + GUARD_MARGIN)
}

/// The same for any number: one guard takes a limited number.
pub fn guard_all(guards: &mut Vec<Guard>, targets: &[Arc<Handle>], length: Duration) -> std::io::Result<()> {
    for targets in targets.chunks(MOST_TARGETS) {
        let targets: Vec<&Handle> = targets.iter().map(AsRef::as_ref).collect();
        guards.push(start_guard(&targets, length)?);
    }
    Ok(())
}

/// The unit, through the service manager, which is asked what came of it.
fn restart(request: &Request) -> (Outcome, String) {
    let unit = match UnitName::restartable(&request.subject) {
        Ok(unit) => unit,
        Err(error) => return (Outcome::Refused, chain(&error)),
    };
    match request.reach.manager(&unit).restart(&unit) {
        Ok(done) if done.state == "active" => {
            (Outcome::Restarted, format!("{} is active again, in {}", unit.name, scaled_duration(done.took)))
        }
        Ok(done) => {
            (Outcome::StillThere, format!("{} is {} after {}", unit.name, done.state, scaled_duration(done.took)))
        }
        Err(error) => (Outcome::Refused, chain(&error)),
    }
}

/// A tree is caught whole, guarded, and ended as one.
fn terminate_tree(request: &Request, meant: &TreeMeant, force_after: Option<Duration>) -> Attempt {
    let lineage = Lineage::listen();
    let root = [Arc::clone(&request.handle)];
    let mut tree =
        Tree::of(&root, roles::sparing(meant.spared.clone(), true)).with(&meant.members).with_lineage(lineage);
    let mut guards = Vec::new();
    let ended = tree.terminate(force_after, &mut |new| guard_all(&mut guards, new, CATCHING));
    guards.into_iter().for_each(Guard::release);
    let (ending, left) = ended?;
    let (outcome, seen) = ending_words(ending);
    let rest = if left > 0 { format!("; {left} of its tree are left") } else { String::new() };
    Ok((outcome, format!("{seen}, with its tree of {}{rest}{}", tree.members().count(), spared_words(&tree))))
}

/// Whom a tree has left alone: `; 51907-kqm of it is left alone: it serves a mounted file system`.
pub fn spared_words(tree: &Tree) -> String {
    let one = |(pid, why): (&u32, &String)| format!("; process {pid} of it is left alone: {why}");
    tree.spared().iter().take(3).map(one).collect()
}

fn terminate(request: &Request, force_after: Option<Duration>) -> Attempt {
    if let Some(meant) = &request.tree {
        return terminate_tree(request, meant, force_after);
    }
    Ok(ending_words(act::terminate(&*request.handle, force_after)?))
}

fn ending_words(ending: Ending) -> (Outcome, String) {
    match ending {
        Ending::Ended(took) => (Outcome::Ended { by_force: false }, format!("in {}", scaled_duration(took))),
        Ending::Forced(took) => {
            let seen = format!("after {}: it did not answer the polite signal", scaled_duration(took));
            (Outcome::Ended { by_force: true }, seen)
        }
        Ending::StillThere => {
            (Outcome::StillThere, "no answer to the polite signal, and the rule asks for no force".to_owned())
        }
        Ending::PendingInTheKernel => {
            (Outcome::Pending, "it waits in the kernel, and ends when it comes back".to_owned())
        }
    }
}

/// The processes that must never be acted on because they are ours.
pub fn own_processes(guards: impl Iterator<Item = u32>) -> BTreeSet<u32> {
    guards.chain([std::process::id()]).collect()
}

/// Fixes a process by a handle, or says why it cannot be.
pub fn fix_by_handle(id: &ProcessId) -> Result<Arc<Handle>, String> {
    Handle::open(id).map(Arc::new).map_err(|error| chain(&error))
}

#[cfg(test)]
mod tests {
    use std::process::{Child, Stdio};
    use std::sync::mpsc::{Receiver, Sender, channel};

    use sophron_core::audit::{ActionRecord, Who};
    use sophron_core::model::Boot;
    use sophron_linux::trail::{Append, TrailError};

    use super::*;
    use crate::watcher::drafts::Drafter;

    /// A disk that takes its time: it says when a sync has begun, and ends it when it is told to.
    struct SlowDisk {
        begun: Sender<Kind>,
        go: Receiver<Result<(), TrailError>>,
    }

    impl Append for SlowDisk {
        fn append(&mut self, drafts: &[Draft]) -> Result<(), TrailError> {
            for draft in drafts {
                let _ = self.begun.send(draft.kind);
            }
            self.go.recv().unwrap_or(Ok(()))
        }
    }

    fn request(child: &Child, condition: &str) -> Request {
        let mut sampler = Sampler::new(Path::new("/proc"), Needs::PERIODIC).unwrap();
        let machine = sampler.look().unwrap().machine;
        let subject = sampler.again(child.id()).unwrap();
        let text = format!(
            "format = 1\n[[rule]]\nname = 'a'\nwhere = '{condition}'\nbreach = 'memory > 0 B'\nlasting = '0s'\narmed = true\n"
        );
        let drafter = Drafter {
            host: "mossgate-desk-03".to_owned(),
            boot: Boot(7),
            who: Who { uid: 0, user: "root".to_owned(), login_uid: None, by: None },
        };
        Request {
            case: 1,
            rules: Arc::new(sophron_core::rules::load(text.as_bytes()).unwrap()),
            rule: 0,
            action: Action::Terminate { force_after: None },
            handle: Arc::new(Handle::open(&subject.id).unwrap()),
            subject,
            machine,
            protections: Protections::default(),
            reach: Reach::default(),
            tree: None,
            mates: Vec::new(),
            by_where: true,
            tick: 1,
            verdicts: Arc::new(Mutex::new(Verdicts { tick: 1, breached: BTreeSet::new() })),
            intent: drafter.plain(Kind::Intent).doing(ActionRecord::word("terminate")),
        }
    }

    /// Performs on a real process; `during` runs while the intent's sync is under way and says how it ends.
    fn performed(
        change: impl FnOnce(&mut Request),
        during: impl FnOnce(&mut Child) -> Result<(), TrailError>,
    ) -> (Done, bool) {
        let mut child = Command::new("sleep").arg("60").stdin(Stdio::null()).spawn().unwrap();
        let mut request = request(&child, "not kernel");
        change(&mut request);
        let (begun, begins) = channel();
        let (goes, go) = channel();
        let (recorder, writer) =
            Recorder::start(Box::new(SlowDisk { begun, go }), Duration::from_secs(900), |_| {}).unwrap();
        let act = std::thread::spawn(move || perform(request, &recorder));
        assert_eq!(begins.recv_timeout(Duration::from_secs(20)), Ok(Kind::Intent));
        goes.send(during(&mut child)).unwrap();
        drop(goes);
        let done = act.join().unwrap();
        writer.join().unwrap();
        let lives = matches!(child.try_wait(), Ok(None));
        let _ = child.kill();
        let _ = child.wait();
        (done, lives)
    }

    #[test]
    fn no_signal_precedes_the_return_of_the_sync() {
        let (done, lives) = performed(
            |_| {},
            |child| {
                std::thread::sleep(Duration::from_millis(300));
                assert!(matches!(child.try_wait(), Ok(None)), "signalled before its intent was on disk");
                Ok(())
            },
        );
        assert!(matches!(done.outcome, Outcome::Ended { by_force: false }) && !lives, "{}", done.seen);
    }

    #[test]
    fn no_record_no_action() {
        let (done, lives) = performed(|_| {}, |_| Err(TrailError::Locked("audit/lock".into())));
        assert!(matches!(done.outcome, Outcome::Unrecorded) && lives, "{}", done.seen);
        assert!(done.seen.starts_with("no record, no action"), "{}", done.seen);
    }

    #[test]
    fn what_is_no_longer_right_after_the_sync_is_not_done() {
        type Change = fn(&mut Request);
        let changes: [(&str, Change); 5] = [
            ("another process", |request| request.subject.id.start += 1),
            ("its owner", |request| request.subject.uid += 1),
            ("no longer covers", |request| {
                let rules = "format = 1\n[[rule]]\nname = 'a'\nwhere = 'kernel'\nbreach = 'cpu > 0%'\nlasting = '0s'\n";
                request.rules = Arc::new(sophron_core::rules::load(rules.as_bytes()).unwrap());
            }),
            ("is protected now", |request| {
                request.protections.own.insert(request.subject.id.pid);
            }),
            ("no longer in breach", |request| request.tick = 0),
        ];
        for (why, change) in changes {
            let (done, lives) = performed(change, |_| Ok(()));
            assert!(matches!(done.outcome, Outcome::Dropped) && lives, "{why}: {}", done.seen);
        }
    }
}
