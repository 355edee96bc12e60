//! The running watcher: sample → judge → decide → act → record → show, once a tick.
//!
//! One thread owns the state. Acts and undos run on threads of their own and report back through one channel, on
//! which signals and news of the trail arrive as well.

pub mod act;
pub mod control;
mod deciding;
pub mod drafts;
mod effect;
mod events;
mod hands;
mod left;
mod lookback;
mod memory;
mod outcome;
pub mod recorder;
mod recording;
pub mod rules_file;
mod run;
mod start;
mod throttle;
mod tick;
mod undo;
mod workers;

use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::path::PathBuf;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use sophron_core::audit::{Draft, Kind};
use sophron_core::condition::Condition;
use sophron_core::decide::Ledger;
use sophron_core::effects::{Effects, Undo};
use sophron_core::judge::{Case, Closing, Judge};
use sophron_core::model::{Moment, Needs, Process, ProcessId, Snapshot};
use sophron_core::protect::Protections;
use sophron_core::rules::RuleSet;
use sophron_linux::guard::Guard;
use sophron_linux::handle::Handle;
use sophron_linux::trail::Stamped;
use sophron_linux::{Sampler, here};

use crate::exit::Failure;
use crate::ui::events::EventLine;
use crate::ui::style::Label;
use act::Verdicts;
use drafts::{DraftExt, Drafter};
use recorder::{Recorder, TrailNews};
pub use start::{foreign, keeping};
use workers::{Report, Workers};

/// After a hand has acted on a process, rules stand back from it for this long.
const STAND_BACK: Duration = Duration::from_secs(15 * 60);

/// How long an ending watcher waits for acts that are under way.
const LAST_WAIT: Duration = Duration::from_secs(15);

/// What a watcher is to do.
pub struct Plan {
    pub rules: RuleSet,
    /// Where the rules came from, for messages.
    pub origin: String,
    /// Every protection that binds, with its file.
    pub protections: Vec<(Condition, String)>,
    pub state: PathBuf,
    /// The folder of its control socket, where that is not the usual one.
    pub control: Option<PathBuf>,
    /// Where the judged snapshots are written.
    pub record: Option<PathBuf>,
    /// Let no rule act.
    pub shadow: bool,
    /// End after that time.
    pub length: Option<Duration>,
    /// If given, only these processes are judged.
    pub only: Option<BTreeSet<ProcessId>>,
    /// A socket at which the service manager is spoken to directly.
    pub service_manager: Option<PathBuf>,
    /// The socket of the system log, where it is not the usual one.
    pub system_log: Option<PathBuf>,
    /// Whether the state folder is the usual one.
    pub own_state: bool,
}

/// What reaches the watcher's thread from outside.
pub enum Wake {
    Signal,
    Acted(Box<act::Done>),
    Undone(Box<undo::Done>),
    Trail(TrailNews),
    /// An older file of the trail is not what it was: what was found.
    Unsound(String),
    /// The older files of the trail could not be checked, and why.
    Unchecked(String),
    /// The lookback cannot be written, and why; or it can again.
    Lookback(Option<String>),
    Memory(sophron_core::judge::MemoryWish, Option<u64>, Duration),
    Ran(run::Done),
    Asked(control::Asked),
}

/// A process fixed by a handle, and the rules that want it fixed.
struct Fixed {
    handle: Arc<Handle>,
    rules: BTreeSet<usize>,
    /// When that began, and what it had read from and written to disks by then.
    disk: Option<(Duration, (u64, u64))>,
}

struct Watcher<'s> {
    rules: Arc<RuleSet>,
    shadow: bool,
    only: Option<BTreeSet<ProcessId>>,
    direct: Option<PathBuf>,
    recording: Option<recording::Recording>,
    lookback: Option<lookback::Lookback>,
    /// What came of acts since the last sample.
    outcomes: Vec<sophron_core::recording::Outcome>,
    /// Where stamps are told as well, and whether it was said that nobody listens there.
    system_log: (PathBuf, bool),
    /// The control socket, while it listens.
    control: Option<PathBuf>,
    /// Lowerings whose effect is being measured.
    effects_due: Vec<effect::Due>,
    sampler: Sampler,
    /// The sample of the last tick, refreshed in place.
    snapshot: Snapshot,
    /// What each rule's conditions read.
    needs: Vec<Needs>,
    judge: Judge,
    effects: Effects,
    protections: Protections,
    recorder: Recorder,
    drafter: Drafter,
    fixed: BTreeMap<ProcessId, Fixed>,
    guards: BTreeMap<ProcessId, Guard>,
    /// Processes with an act or an undo under way.
    busy: BTreeSet<ProcessId>,
    /// Lowerings that go along with another case's greater one, which is under way.
    joining: BTreeMap<ProcessId, Vec<(u64, i32)>>,
    /// Processes on which a suspension of ours was in force since the last tick.
    touched: BTreeSet<ProcessId>,
    standing_back: BTreeMap<ProcessId, Duration>,
    /// Of those suspended by us who holds file locks: others may come to wait for them.
    lock_holders: BTreeSet<ProcessId>,
    /// Suspensions by hand, and when they are over: whoever made them may not be there any more to end them.
    by_hand: BTreeMap<ProcessId, (Duration, Draft)>,
    /// Threads for acts, for taking back, for what rules run, and for what is read beside.
    acts: Workers,
    undos: Workers,
    programs: Workers,
    aside: Workers,
    hands: hands::Hands,
    /// The case that is being closed, which the judge has forgotten already, and its rule.
    closing_case: Option<(u64, String)>,
    /// Cases whose process ended while the outcome of an act on it is awaited.
    closing: Vec<(Case, Closing)>,
    ledger: Ledger,
    throttle: throttle::Throttle,
    zone: TimeZone,
    /// From when on exact memory of a group may be read; `None` while it is.
    memory_from: Option<Duration>,
    /// Rules whose program runs.
    running: BTreeSet<usize>,
    ended_by_us: BTreeSet<ProcessId>,
    verdicts: Arc<Mutex<Verdicts>>,
    last: Option<Moment>,
    ticks: u64,
    /// Rules whose unreadable fields have been said, and those whose subjects' names are late.
    said_unreadable: BTreeSet<usize>,
    said_late: BTreeSet<usize>,
    wake: Sender<Wake>,
    show: &'s mut dyn FnMut(EventLine),
    /// Held for as long as the watcher runs.
    _lock: File,
}

/// Runs the rules until a signal comes or the time is over.
///
/// # Errors
/// It could not begin: nothing was touched then.
pub fn run(plan: Plan, show: &mut dyn FnMut(EventLine)) -> Result<(), Failure> {
    let (wake, incoming) = channel();
    let length = plan.length;
    let (mut watcher, writer) = Watcher::begin(plan, wake, show)?;
    watcher.work(&incoming, length.map(|length| here::monotonic() + length));
    watcher.end(&incoming);
    let log = watcher.system_log.0.clone();
    drop(watcher);
    // The recorder's thread ends once everything is written and signed; a panic in it has been printed.
    let _ = writer.join();
    for news in incoming.try_iter() {
        if let Wake::Trail(TrailNews::Stamped(stamped)) = news {
            // Nobody is left to be told that nobody listens.
            let _ = sophron_linux::system_log::note(&log, &stamp_line(&stamped));
        }
    }
    Ok(())
}

/// What the system log is told of a stamp.
fn stamp_line(stamped: &Stamped) -> String {
    format!("audit stamp {}: record {}, hash {}", stamped.number, stamped.seq, stamped.hash)
}

impl Watcher<'_> {
    fn work(&mut self, incoming: &Receiver<Wake>, end: Option<Duration>) {
        let mut next_tick = here::monotonic();
        loop {
            let now = here::monotonic();
            if end.is_some_and(|end| now >= end) {
                return;
            }
            if now >= next_tick {
                self.tick();
                next_tick = (next_tick + self.rules.every).max(now);
            }
            self.resume_what_is_over();
            let soonest = self.next_resume().into_iter().chain(end).fold(next_tick, Duration::min);
            match incoming.recv_timeout(soonest.saturating_sub(here::monotonic())) {
                Ok(Wake::Signal) => return,
                Ok(wake) => self.take(wake),
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => return,
            }
        }
    }

    fn take(&mut self, wake: Wake) {
        match wake {
            Wake::Signal => {}
            Wake::Acted(done) => self.acted(*done),
            Wake::Undone(done) => self.undone(*done),
            Wake::Memory(wish, bytes, from) => {
                self.memory_from = Some(from);
                if let Some(bytes) = bytes {
                    self.judge.memory_read(&wish, bytes);
                }
            }
            Wake::Ran(done) => self.ran(done),
            Wake::Asked(asked) => self.answer(&asked),
            Wake::Lookback(Some(why)) => {
                self.say("lookback", Label::Notice, format!("this machine's last days are not kept: {why}"));
            }
            Wake::Lookback(None) => self.say("lookback", Label::Faint, "kept again".to_owned()),
            Wake::Trail(TrailNews::Lost(why)) => {
                self.say(
                    "disarmed",
                    Label::Critical,
                    format!("the audit trail cannot be written, so nothing is acted upon: {why}"),
                );
            }
            Wake::Unchecked(why) => self.say_unchecked(&why),
            Wake::Unsound(what) => {
                self.recorder.doubt(true);
                self.recorder.note(self.drafter.plain(Kind::TrailLost).came_of_it("not sound", what.clone()));
                self.say_doubt(&what);
            }
            Wake::Trail(TrailNews::Doubted(what)) => {
                self.hands.begin_anew();
                self.say_doubt(&what);
            }
            Wake::Trail(TrailNews::Stamped(stamped)) => self.log_stamp(&stamped),
            Wake::Trail(TrailNews::Unstamped(why)) => {
                self.say("unsigned", Label::Warning, format!("the audit trail cannot be signed: {why}"));
            }
            Wake::Trail(TrailNews::Back) => {
                self.say("armed", Label::Notice, "the audit trail can be written again".to_owned());
            }
        }
    }

    /// The trail can be written, and yet nobody should act on the strength of it.
    fn say_doubt(&mut self, what: &str) {
        let line = format!(
            "the audit trail is not what it was: {what}; nothing is acted upon until a person has taken note of that: sophron audit accept"
        );
        self.say("disarmed", Label::Critical, line);
    }

    fn say_unchecked(&mut self, why: &str) {
        self.say("unchecked", Label::Notice, format!("the older files of the audit trail could not be checked: {why}"));
    }

    /// A stamp is told to the system log as well, which may be sent elsewhere.
    fn log_stamp(&mut self, stamped: &Stamped) {
        let (socket, said) = &mut self.system_log;
        let told = sophron_linux::system_log::note(socket, &stamp_line(stamped));
        if let (Err(error), false) = (told, std::mem::replace(said, true)) {
            let line = format!("the system log does not take the trail's stamps: {error}");
            self.say("unlogged", Label::Faint, line);
        }
    }

    /// Suspensions that are over are resumed by us; the guard is there in case we are not.
    fn resume_what_is_over(&mut self) {
        let now = here::monotonic();
        let over: Vec<ProcessId> = self
            .effects
            .suspended()
            .filter(|(id, suspended)| suspended.until <= now && !self.busy.contains(id))
            .map(|(id, _)| *id)
            .collect();
        for id in over {
            let case = self.effects.cases_of(&id).first().copied();
            self.begin_undo(id, Undo::Resume, case);
        }
    }

    fn next_resume(&self) -> Option<Duration> {
        self.effects.suspended().filter(|(id, _)| !self.busy.contains(id)).map(|(_, suspended)| suspended.until).min()
    }

    /// Takes an effect back on a thread of its own. The process is busy until then.
    fn begin_undo(&mut self, id: ProcessId, undo: Undo, case: Option<u64>) {
        let handle = self.handle_of(&id);
        if handle.is_none() && !undo.outlives_the_process() {
            let _ = self.effects.forget(&id);
            return;
        }
        let known = case.and_then(|number| self.judge.case(number));
        let (draft, subject) = match known {
            Some(case) if case.subject.id == id => {
                (self.drafter.of_case(Kind::Intent, case, self.judge.rule_of(case)), case.subject.clone())
            }
            known => {
                let rule = known.map(|case| self.judge.rule_of(case).name.clone()).or_else(|| self.closing_rule(case?));
                let Some(subject) = self.sampler.again(id.pid).filter(|process| process.id == id) else {
                    let _ = self.effects.forget(&id);
                    return;
                };
                let mut draft = self.drafter.plain(Kind::Intent);
                draft.case = case;
                draft.rule = rule;
                draft.subject = Some((&subject).into());
                (draft, subject)
            }
        };
        self.take_back(subject, draft, handle, undo);
    }

    fn take_back(&mut self, subject: Process, draft: Draft, handle: Option<Arc<Handle>>, undo: Undo) {
        let id = subject.id;
        let guard = if undo == Undo::Resume { self.guards.remove(&id) } else { None };
        self.busy.insert(id);
        let request = undo::Request { undo, subject, handle, guard, draft, direct: self.direct.clone() };
        let (recorder, unfinished) = (self.recorder.clone(), request.unfinished());
        let report = Report::new(self.wake.clone(), move || Wake::Undone(Box::new(unfinished)));
        self.undos.give(move || report.tell(Wake::Undone(Box::new(undo::perform(request, &recorder)))));
    }

    /// The rule of a case that is closed while its effects are taken back.
    fn closing_rule(&self, case: u64) -> Option<String> {
        let (number, rule) = self.closing_case.as_ref()?;
        (*number == case).then(|| rule.clone())
    }

    fn handle_of(&self, id: &ProcessId) -> Option<Arc<Handle>> {
        let fixed = self.fixed.get(id).map(|fixed| Arc::clone(&fixed.handle));
        fixed.or_else(|| Handle::open(id).ok().map(Arc::new))
    }

    /// Undoes what is in force, waits for what is under way, and records the end.
    fn end(&mut self, incoming: &Receiver<Wake>) {
        let give_up = here::monotonic() + LAST_WAIT;
        self.say("ending", Label::Faint, "undoing what is in force".to_owned());
        self.settle(incoming, give_up);
        let in_force = self.effects.processes();
        let first = |id: &ProcessId| self.effects.cases_of(id).first().copied();
        let cases: BTreeMap<ProcessId, u64> = in_force.iter().filter_map(|id| Some((*id, first(id)?))).collect();
        let mut later = Vec::new();
        for (id, undo) in self.effects.let_go_of_all() {
            // One at a time for each process: resumed first, then its niceness.
            if self.busy.contains(&id) {
                later.push((id, undo));
            } else {
                self.begin_undo(id, undo, cases.get(&id).copied());
            }
        }
        self.settle(incoming, give_up);
        for (id, undo) in later {
            self.begin_undo(id, undo, cases.get(&id).copied());
        }
        self.settle(incoming, give_up);
        let open = self.judge.cases().count();
        let seen = format!("{open} cases open, {} processes undone", in_force.len());
        self.end_the_recording();
        if let Some(socket) = self.control.take() {
            // Whoever asks from now on finds nobody.
            let _ = std::fs::remove_file(socket);
        }
        self.recorder.note(self.drafter.plain(Kind::WatcherEnded).came_of_it("ended", seen));
        let cases = if open == 1 { "1 case open".to_owned() } else { format!("{open} cases open") };
        self.say("ended", Label::Faint, cases);
    }

    /// Waits until nothing is under way; a second signal ends the waiting.
    fn settle(&mut self, incoming: &Receiver<Wake>, give_up: Duration) {
        while !self.busy.is_empty() || !self.running.is_empty() {
            match incoming.recv_timeout(give_up.saturating_sub(here::monotonic())) {
                Ok(Wake::Signal) | Err(_) => return,
                Ok(wake) => self.take(wake),
            }
        }
    }

    /// A line about the watcher itself.
    fn say(&mut self, word: &'static str, label: Label, text: String) {
        (self.show)(EventLine { at: Timestamp::now(), word, label, case: None, who: String::new(), text });
    }

    /// A line about a process, or a group.
    fn tell(&mut self, word: &'static str, label: Label, case: Option<u64>, who: String, text: String) {
        (self.show)(EventLine { at: Timestamp::now(), word, label, case, who, text });
    }
}
