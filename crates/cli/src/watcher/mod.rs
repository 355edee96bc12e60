//! The running watcher: a loop, threads and a socket around the dispatcher, in which everything is decided.
//!
//! One thread owns the state. It samples, hands the dispatcher what comes in, and has done what the dispatcher commands: acts
//! and undos run on threads of their own and report back through one channel, on which signals and news of the trail arrive
//! as well. What happens goes to the trail, and on the bus to whoever listens.

pub mod answers;
mod bus;
pub mod commissions;
pub mod control;
mod desk;
pub mod errand;
mod figures;
mod group_memory;
mod hands;
pub mod helpers;
pub mod left;
mod lookback;
mod open_file;
pub mod post;
mod program;
mod pulse;
pub mod recorder;
mod recording;
mod reload;
mod requests;
pub mod rules_file;
mod service;
mod start;
mod usage;
mod work;
mod workers;

use std::fs::File;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, SyncSender, sync_channel};
use std::sync::{Arc, PoisonError};
use std::time::Duration;

use sophron_core::audit::ToldRecord;
use sophron_core::condition::Condition;
use sophron_core::cost::Cost;
use sophron_core::dispatch::{Asking, Call, Dispatcher, Done, Incoming, Input, Trail, Wants};
use sophron_core::happening::{Happening, News, Scribe};
use sophron_core::judge::MemoryWish;
use sophron_core::model::{ProcessId, Snapshot};
use sophron_core::rules::RuleSet;
use sophron_core::sorted::{SortedMap, SortedSet};
use sophron_core::text::counted;
use sophron_deliver::desk::Desk;
use sophron_deliver::{Current, Post};
use sophron_linux::act::Standing;
use sophron_linux::handle::Handle;
use sophron_linux::trail::Stamped;
use sophron_linux::{Sampler, here};

use crate::exit::Failure;
use bus::Bus;
use commissions::LeaveNow;
use helpers::Helpers;
use recorder::{Recorder, TrailNews};
pub use start::{foreign, keeping, sampler, scribe};
use workers::Workers;

/// How long an ending watcher waits for acts that are under way.
const LAST_WAIT: Duration = Duration::from_secs(15);

/// How long channels have for a last try, all together.
const LAST_TELLING: Duration = Duration::from_secs(2);

/// Most that waits for the watcher's thread to take it; whoever has more to tell waits with it, so that nothing is lost.
const MOST_WAITING: usize = 256;

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
    /// Where the rules are read anew from, if they can be.
    pub rules_file: Option<PathBuf>,
    /// Whose they are.
    pub owner: String,
    /// Whether a service manager has started it.
    pub service: bool,
    /// End after that time.
    pub length: Option<Duration>,
    /// If given, only these processes are judged.
    pub only: Option<SortedSet<ProcessId>>,
    /// A socket at which the service manager is spoken to directly.
    pub service_manager: Option<PathBuf>,
    /// The socket of the system log, where it is not the usual one.
    pub system_log: Option<PathBuf>,
    /// Whether the state folder is the usual one.
    pub own_state: bool,
    /// Whether who cannot be asked at his desk is asked by what `show` shows.
    pub asks_here: bool,
    /// Once it is set the watch ends with the sample after next: what came of everything is seen by then.
    pub enough: Arc<AtomicBool>,
}

/// What reaches the watcher's thread from outside.
pub enum Wake {
    Signal,
    /// The signal to read the rules anew.
    Reread,
    Acted(Box<Done>, Option<Standing>),
    Ran(Box<Call>, sophron_core::act::Outcome),
    Trail(TrailNews),
    /// An older file of the trail is not what it was: what was found.
    Unsound(String),
    /// The older files of the trail could not be checked, and why.
    Unchecked(String),
    /// The lookback cannot be written, and why; or it can again.
    Lookback(Option<String>),
    /// The same of the history of usage.
    Usage(Option<String>),
    /// What is usual of apps here, by that history.
    Usual(Arc<sophron_core::usage::Usual>),
    Memory(Box<MemoryWish>, Option<(u64, usize)>, Duration),
    /// What became of messages to people.
    Told(ToldRecord),
    /// It is recorded that somebody is asked.
    Asks(Box<Asking>),
    /// That could not be recorded, and why.
    NotAsked(u64, String),
    /// Whether a question is shown.
    Shown(u64, Result<String, String>),
    /// An answer, and to whom what becomes of it is said.
    Answer(Incoming, Option<answers::Reply>),
    /// The rules were read anew.
    Rules(Box<reload::Reading>),
    /// The channels that were have ended: others may begin.
    TellAnew(Box<sophron_core::audit::InForce>),
    /// The lookback that was has ended, and another begun.
    Keeps(Option<lookback::Lookback>),
    /// What is open cannot be kept, and why.
    NotKept(String),
    /// Figures cannot be given, and why.
    Figures(String),
    Asked(control::Asked),
}

/// A process fixed by a handle.
struct Fixed {
    handle: Arc<Handle>,
    /// When that was, and what it had read from and written to disks by then.
    disk: Option<(Duration, (u64, u64))>,
}

/// Threads for acts, for taking back, for what rules run, for what is asked, and for what is read beside.
struct Crew {
    acts: Workers,
    undos: Workers,
    programs: Workers,
    asks: Workers,
    aside: Workers,
}

/// Where stamps are told as well, and whether it was said that nobody listens there.
struct SystemLog {
    socket: PathBuf,
    said: bool,
}

struct Watcher {
    dispatcher: Dispatcher,
    wants: Wants,
    every: Duration,
    cost: Cost,
    direct: Option<PathBuf>,
    sampler: Sampler,
    /// The sample of the last tick, refreshed in place.
    snapshot: Snapshot,
    fixed: SortedMap<ProcessId, Fixed>,
    most_fixed: usize,
    /// Who stands still by us, with the guards.
    standing: SortedMap<ProcessId, Standing>,
    leave: LeaveNow,
    crew: Crew,
    recorder: Recorder,
    scribe: Scribe,
    bus: Bus,
    kept: recording::Kept,
    hands: hands::Hands,
    post: Arc<Post>,
    desk: Option<Desk>,
    /// Those who wait to hear what becomes of their answers, and where answers are given.
    answering: SortedMap<u64, answers::Reply>,
    answers: Option<answers::Answers>,
    helpers: Helpers,
    pulse: figures::Shared,
    /// When the last tick was over, and who looks at that.
    beat: Arc<pulse::Beat>,
    looks: Option<pulse::Pulse>,
    figures: Option<figures::Giver>,
    system_log: SystemLog,
    /// The control socket, while it listens, and those who wait for an answer.
    control: Option<PathBuf>,
    asked: SortedMap<u64, (ProcessId, Sender<control::Reply>)>,
    /// Those who have said something about standing back.
    said: SortedMap<u64, Sender<control::Reply>>,
    state: PathBuf,
    /// Whether that is Sophron's own folder, so that readers may be let through it.
    own_folder: bool,
    /// What is usual of apps here, where a rule asks.
    usual: Option<Arc<sophron_core::usage::Usual>>,
    shadow: bool,
    rule_set: Arc<RuleSet>,
    rules: control::RulesInUse,
    /// The protections that bind, for telling whether they have changed.
    protected_by: String,
    /// Which version of the rules file was not used.
    refused: Option<String>,
    current: Current,
    reload: Option<reload::Reload>,
    service: service::Service,
    is_service: bool,
    open_file: Option<open_file::OpenFile>,
    /// The state that was kept last, by its revision.
    kept_open: u64,
    folder: Option<PathBuf>,
    /// When it ends by itself, where it was told to.
    until: Option<jiff::Timestamp>,
    asks_here: bool,
    wake: SyncSender<Wake>,
    /// Held for as long as anything is done in its name.
    lock: Arc<File>,
}

/// Runs the rules until a signal comes or the time is over. `show` is given what happens, on a thread of its own, and says
/// whether somebody took it; the number of lines that nobody did is returned.
///
/// # Errors
/// It could not begin: nothing was touched then.
pub fn run(plan: Plan, show: impl FnMut(&Happening) -> bool + Send + 'static) -> Result<u64, Failure> {
    // Before any thread is started: each has a niceness of its own.
    sophron_linux::sys::share_one_heap();
    let wanting = sophron_linux::own_life::prepare();
    let (wake, incoming) = sync_channel(MOST_WAITING);
    let (length, enough) = (plan.length, Arc::clone(&plan.enough));
    let (service, untold) = if plan.service { service::Service::begin() } else { Default::default() };
    let mut bus = Bus::default();
    bus.listen("lines", bus::has_a_line, show).map_err(start::threadless)?;
    let (mut watcher, writer) = Watcher::begin(plan, wake, bus)?;
    watcher.service = service;
    wanting.into_iter().chain(untold).for_each(|what| watcher.say(News::Exposed(what)));
    watcher.work(&incoming, length.map(|length| here::monotonic() + length), &enough);
    watcher.end(&incoming);
    watcher.post.end(LAST_TELLING);
    watcher.desk.take().into_iter().for_each(|desk| desk.end(LAST_TELLING));
    watcher.figures.take().into_iter().for_each(figures::Giver::end);
    let (log, bus) = (watcher.system_log.socket.clone(), std::mem::take(&mut watcher.bus));
    // Whoever is still at work has a recorder, and nobody else watches here before he is done.
    let _lock = Arc::clone(&watcher.lock);
    drop(watcher);
    // The recorder's thread ends once everything is written and signed; a panic in it has been printed.
    while !writer.is_finished() {
        if let Ok(Wake::Trail(TrailNews::Stamped(stamped))) = incoming.recv_timeout(Duration::from_millis(20)) {
            // Nobody is left to be told that nobody listens.
            let _ = sophron_linux::system_log::note(&log, &stamp_line(&stamped));
        }
    }
    for news in incoming.try_iter() {
        if let Wake::Trail(TrailNews::Stamped(stamped)) = news {
            let _ = sophron_linux::system_log::note(&log, &stamp_line(&stamped));
        }
    }
    Ok(bus.end())
}

/// What the system log is told of a stamp.
fn stamp_line(stamped: &Stamped) -> String {
    format!("audit stamp {}: record {}, hash {}", stamped.number, stamped.seq, stamped.hash)
}

impl Watcher {
    fn work(&mut self, incoming: &Receiver<Wake>, mut end: Option<Duration>, enough: &AtomicBool) {
        let (mut next_tick, mut ticks) = (here::monotonic(), 0_u8);
        loop {
            let now = here::monotonic();
            if enough.swap(false, Ordering::Relaxed) {
                let soon = now + self.every * 2;
                end = Some(end.map_or(soon, |end| end.min(soon)));
            }
            if end.is_some_and(|end| now >= end) {
                return;
            }
            if now >= next_tick {
                // What the start has run, what the first look at everybody has, and then the first looks, is needed no more.
                if matches!(ticks, 0 | 1 | 3) {
                    // It would only have taken less memory.
                    let _ = sophron_linux::sys::let_go_of_code();
                    sophron_linux::sys::give_back_heap();
                }
                ticks = ticks.saturating_add(1);
                self.tick();
                self.note_pulse(now);
                self.beat.tick_is_over(self.every);
                self.tell_manager();
                self.mind_own_cost();
                next_tick = (next_tick + self.every).max(now);
            }
            self.step(Input::Time);
            self.keep_what_is_open(None);
            let soonest = self.dispatcher.next_wake().into_iter().chain(end).fold(next_tick, Duration::min);
            match incoming.recv_timeout(soonest.saturating_sub(here::monotonic())) {
                Ok(Wake::Signal) => return,
                Ok(wake) => self.take(wake),
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => return,
            }
        }
    }

    /// How it does, for those who read figures: what the tick that began then took.
    fn note_pulse(&self, began: Duration) {
        let sampled = self.snapshot.moment.wall;
        let mut pulse = self.pulse.lock().unwrap_or_else(PoisonError::into_inner);
        // A tick at which nothing could be seen leaves the sample before it.
        if pulse.sampled != Some(sampled) {
            (pulse.sampled, pulse.samples) = (Some(sampled), pulse.samples + 1);
        }
        pulse.spent += here::monotonic().saturating_sub(began);
        pulse.can_act = !self.dispatcher.is_disarmed();
    }

    /// Who costs too much looks less often, and says so.
    fn mind_own_cost(&mut self) {
        let Ok(used) = sophron_linux::sys::process_cpu_time(std::process::id()) else { return };
        if let Some(changed) = self.cost.note(used, here::monotonic()) {
            self.every = changed.every;
            self.service.paces(self.every);
            self.step(Input::Every(changed));
        }
    }

    fn take(&mut self, wake: Wake) {
        match wake {
            Wake::Signal => {}
            Wake::Reread => self.reread(reload::Reason::Signal, None),
            Wake::Rules(reading) => self.take_rules(*reading),
            Wake::TellAnew(in_force) => self.tell_anew(&in_force),
            Wake::Keeps(lookback) => self.kept.lookback = lookback,
            Wake::NotKept(why) => self.say(News::NotKept(why)),
            Wake::Acted(done, standing) => {
                if let (Some(target), Some(standing)) = (done.commission.target(), standing) {
                    self.standing.insert(target.id, standing);
                }
                self.step(Input::Acted(done));
            }
            Wake::Ran(call, outcome) => self.step(Input::Ran(call, outcome)),
            Wake::Memory(wish, exact, from) => self.step(Input::Memory(wish, exact, from)),
            Wake::Asked(asked) => self.ask(asked),
            Wake::Told(told) => self.say(News::Told(told)),
            Wake::Asks(asking) => self.ask_at_desk(*asking),
            Wake::NotAsked(question, why) => self.step(Input::NotRecorded(question, why)),
            Wake::Shown(question, came) => {
                let here = |_| self.asks_here.then(|| "in these lines".to_owned());
                let came = came.or_else(|why| here(()).ok_or(why));
                self.step(Input::Shown(question, came));
            }
            Wake::Answer(incoming, reply) => self.answer_comes(incoming, reply),
            Wake::Figures(why) => self.say(News::NoFigures(why)),
            Wake::Lookback(why) => self.say(News::Lookback(why)),
            Wake::Usage(why) => self.say(News::Usage(why)),
            Wake::Usual(usual) => self.usual = Some(usual),
            Wake::Unchecked(why) => self.say(News::Unchecked(why)),
            Wake::Unsound(what) => {
                self.recorder.doubt(true);
                self.step(Input::Trail(Trail::Doubted(what, true)));
            }
            Wake::Trail(news) => self.take_news(news),
        }
    }

    fn take_news(&mut self, news: TrailNews) {
        match news {
            TrailNews::Lost(why) => self.step(Input::Trail(Trail::Lost(why))),
            TrailNews::Back => self.step(Input::Trail(Trail::Back)),
            TrailNews::Doubted(what) => {
                self.step(Input::Trail(Trail::Doubted(what, false)));
            }
            TrailNews::Stamped(stamped) => self.log_stamp(&stamped),
            TrailNews::Unstamped(why) => self.say(News::Unsigned(why)),
            TrailNews::LostRecords(count) => self.say(News::RecordsLost(count)),
        }
    }

    /// A stamp is told to the system log as well, which may be sent elsewhere.
    fn log_stamp(&mut self, stamped: &Stamped) {
        let told = sophron_linux::system_log::note(&self.system_log.socket, &stamp_line(stamped));
        if let (Err(error), false) = (told, std::mem::replace(&mut self.system_log.said, true)) {
            self.say(News::Unlogged(error.to_string()));
        }
    }

    /// Undoes what is in force, waits for what is under way, and records the end. A second signal ends the waiting.
    fn end(&mut self, incoming: &Receiver<Wake>) {
        let give_up = here::monotonic() + LAST_WAIT;
        self.looks.take().into_iter().for_each(pulse::Pulse::end);
        self.service.stopping();
        self.step(Input::End);
        while !self.dispatcher.is_settled() {
            match incoming.recv_timeout(give_up.saturating_sub(here::monotonic())) {
                Ok(Wake::Signal) | Err(_) => break,
                Ok(wake) => self.take(wake),
            }
        }
        self.answers.take().into_iter().for_each(answers::Answers::end);
        if let Some(socket) = self.control.take() {
            // Whoever asks from now on finds nobody.
            let _ = std::fs::remove_file(socket);
        }
        self.keep_what_is_open(None);
        self.open_file.take().into_iter().for_each(open_file::OpenFile::end);
        let ours = self.dispatcher.last_of_ours();
        if let Some(why) = self.kept.end(ours) {
            self.say(News::Unrecorded(why));
        }
        self.tell(self.dispatcher.last_words(here::now()));
        // People are told of it as well, once it is on disk. A trail that was lost is begun anew at the first try.
        if !self.post.is_empty() {
            let _ = self.recorder.settle().or_else(|_| self.recorder.settle());
        }
    }

    /// About the watcher itself.
    fn say(&mut self, news: News) {
        self.tell(Happening::news(here::now().wall, news));
    }

    /// To the trail, and to whoever listens.
    fn tell(&mut self, happening: Happening) {
        if let Some(message) = post::beside(&happening, &self.scribe.host) {
            self.post.beside(&message);
        }
        if let Some(record) = self.scribe.record(&happening) {
            self.recorder.note(record);
        }
        self.publish(Arc::new(happening));
    }

    /// To whoever listens, and to the person whose program it is about.
    fn publish(&mut self, happening: Arc<Happening>) {
        self.bus.publish(&happening);
        if let Some(desk) = &self.desk {
            desk.happened(&happening);
        }
    }

    fn answer_comes(&mut self, incoming: Incoming, reply: Option<answers::Reply>) {
        let ticket = self.answering.keys().next_back().map_or(1, |last| last + 1);
        self.answering.extend(reply.map(|reply| (ticket, reply)));
        self.step(Input::Answer(Box::new(Incoming { ticket, ..incoming })));
    }
}

impl Watcher {
    /// Has the rules read anew.
    pub(super) fn reread(&mut self, reason: reload::Reason, reply: Option<Sender<control::Reply>>) {
        match &self.reload {
            Some(reload) => {
                self.service.reloading();
                reload.ask(reason, reply);
            }
            None => {
                let why = "the rules of this watcher stand in no file".to_owned();
                // Whoever asked may have gone.
                let _ = reply.map(|reply| reply.send(control::Reply::Refused(why)));
            }
        }
    }

    /// After a tick, and only while what happens can be recorded.
    fn tell_manager(&mut self) {
        if !self.recorder.lives() {
            return;
        }
        let (every, dispatcher) = (self.every, &self.dispatcher);
        self.service.ticked(every, || {
            let open = dispatcher.judge().cases().count();
            let acting = if dispatcher.is_disarmed() { "disarmed; " } else { "" };
            format!("{acting}{}, {} open", counted(self.rule_set.rules.len(), "rule"), counted(open, "case"))
        });
    }

    /// What changed that the next run has to know; and who waits for that to be on disk.
    fn keep_what_is_open(&mut self, then: Option<open_file::Then>) {
        let revision = self.dispatcher.revision();
        match &self.open_file {
            Some(file) if revision != self.kept_open || then.is_some() => {
                self.kept_open = revision;
                file.put(self.dispatcher.open(here::now(), self.scribe.boot), then);
            }
            Some(_) => {}
            None => then.into_iter().for_each(|then| then(Err("no thread could be started for it".to_owned()))),
        }
    }
}
