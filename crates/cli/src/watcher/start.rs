//! How a watcher begins: the lock, the trail, what an earlier run left in force, and only then the rules.

use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::SyncSender;
use std::thread::JoinHandle;

use jiff::tz::TimeZone;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;
use sophron_core::act::{Act, Order, Outcome};
use sophron_core::audit::{By, InForce, Kind, OpenHold, Record};
use sophron_core::command_lines::CommandLines;
use sophron_core::cost::Cost;
use sophron_core::dispatch::{Dispatcher, Input, Settings, Trail, Wants};
use sophron_core::happening::{Announced, CarriedOut, Happening, News, Next, Scribe, Subject, What};
use sophron_core::model::{Boot, Needs, Process, ProcessId, Snapshot};
use sophron_core::protect::Protections;
use sophron_core::rules::{RuleName, RuleSet};
use sophron_core::sorted::{SortedMap, SortedSet};
use sophron_core::text::with_causes;
use sophron_deliver::{Current, Post};
use sophron_linux::act::{Actuator, Commit, Found};
use sophron_linux::handle::Handle;
use sophron_linux::trail::{self, Keeping, Tail, TrailFile};
use sophron_linux::{Demand, Sampler, files, here, sys, terminal};

use super::answers::Answers;
use super::bus::Bus;
use super::control::RulesInUse;
use super::left::{self, Left};
use super::lookback::Lookback;
use super::open_file::{self, OpenFile};
use super::pulse::{Beat, Pulse};
use super::recorder::Recorder;
use super::recording::{Kept, Recording};
use super::reload::Reload;
use super::service::Service;
use super::workers::Workers;
use super::{Crew, Plan, SystemLog, Wake, Watcher, commissions};
use crate::exit::{Exit, Failure};

/// A person's command may be at what it announced for that long.
const AT_IT: jiff::SignedDuration = jiff::SignedDuration::from_mins(15);

impl Watcher {
    /// Everything that can fail before a process is touched.
    pub(super) fn begin(plan: Plan, wake: SyncSender<Wake>, bus: Bus) -> Result<(Watcher, JoinHandle<()>), Failure> {
        // A watcher stopped by Ctrl-Z could hold the trail's lock and would leave the machine unwatched.
        sys::block_stop_signals()
            .map_err(|error| Failure::new(Exit::Failed, "signals cannot be set up").because(error))?;
        if !here::proc_is_ours() {
            return Err(foreign());
        }
        let (lock, made) = lock(&plan.state)?;
        let latest = trail::latest(&plan.state, |_| {}).map_err(unarmed)?.unwrap_or_default();
        let boot = here::boot(Path::new("/proc"))
            .map_err(|error| Failure::new(Exit::Failed, "the boot ID cannot be read").because(error))?;
        // Before anything else: whoever an earlier run has left suspended, and nobody guards any more, goes on.
        let left = left::resume(&latest.in_force, boot);
        let scribe = scribe(boot, By::Watcher, plan.rules.audit.command_lines);
        let recording = plan.record.as_deref().map(|path| Recording::create(path, plan.rules.every)).transpose()?;
        let own_folder = made || plan.own_state;
        let keeping = Keeping { own_folder, ..keeping(&plan.rules.audit)? };
        let opened = scribe.plain(here::now().wall, Kind::TrailOpened);
        let mut file = TrailFile::open(&plan.state, opened, keeping).map_err(unarmed)?;
        let latest = match &latest.fault {
            // Who ends for that leaves the machine unwatched: it is watched on, and nothing is done until a person has looked.
            Some(fault) => {
                let why = format!("it was not sound at record {}: {}", fault.seq, fault.what);
                file.begin_beside(&why, latest.in_force).map_err(unarmed)?;
                trail::latest(&plan.state, |_| {}).map_err(unarmed)?.unwrap_or_default()
            }
            None => latest,
        };
        let (news, post) = (wake.clone(), Arc::new(Post::default()));
        let told = move |found| {
            // The watcher listens until the recorder ends.
            let _ = news.send(Wake::Trail(found));
        };
        let (written, stamp) = (Arc::clone(&post), plan.rules.audit.stamp);
        let (recorder, writer) =
            Recorder::start(Box::new(file), stamp, told, move || written.look()).map_err(threadless)?;
        let ends = Tail::at_end(&plan.state);
        announce(&plan, &recorder, &scribe)?;
        listen(wake.clone(), plan.service)?;
        let (origin, state, control) = (plan.origin.clone(), plan.state.clone(), plan.control.clone());
        let shadow = plan.shadow;
        let (rules_file, service) = (plan.rules_file.clone(), plan.service);
        let rules = Arc::new(plan.rules.clone());
        let next_case = latest.in_force.highest_case.saturating_add(1);
        let mut watcher = assemble(plan, &rules, next_case, (wake, bus), (recorder, scribe), lock)?;
        watcher.kept.recording = recording;
        watcher.own_folder = own_folder;
        watcher.post = post;
        watcher.figures = watcher.begin_figures(&rules, &latest.in_force, ends.clone());
        watcher.begin_to_tell(&rules, &latest.in_force, (&state, ends));
        watcher.begin_at_desks(&rules, &latest.in_force, shadow);
        watcher.greet(&rules, shadow, &origin, &state);
        watcher.say_what_channels_want(&rules);
        watcher.have_an_eye_on_it();
        match super::control::listen(control.as_deref(), watcher.wake.clone(), Arc::clone(&watcher.beat)) {
            Ok(path) => watcher.control = Some(path),
            Err(why) => watcher.say(News::CannotBeAsked(why)),
        }
        if rules.rules.iter().any(sophron_core::rules::Rule::asks) {
            watcher.listen_for_answers();
        }
        if let Some(path) = rules_file {
            match Reload::start(path, service, watcher.wake.clone()) {
                Ok(reload) => watcher.reload = Some(reload),
                Err(error) => watcher.say(News::CannotBeAsked(format!("rules are not read anew: {error}"))),
            }
        }
        watcher.check_the_rest(&state, latest.in_force.clone());
        watcher.kept.lookback = Lookback::start(state.clone(), &rules, watcher.own_folder, watcher.wake.clone());
        watcher.tell_who_was_left(left);
        watcher.remember(&latest.in_force);
        watcher.close_what_was_announced(&latest.in_force.announced());
        watcher.put_back(latest.in_force.holds());
        watcher.go_on_with_what_is_open(&state, &latest.in_force);
        Ok((watcher, writer))
    }

    /// Who says it where no tick is over in time.
    fn have_an_eye_on_it(&mut self) {
        let (scribe, recorder, publish) = (self.scribe.clone(), self.recorder.clone(), self.bus.beside());
        let log = self.system_log.socket.clone();
        let say = move |why: String| {
            // A log that does not take it is no reason to wait.
            let _ = sophron_linux::system_log::note(&log, &format!("blind: {why}"));
            let happening = Happening::news(here::now().wall, News::Blind(why));
            publish(&Arc::new(happening.clone()));
            scribe.record(&happening).into_iter().for_each(|record| recorder.note(record));
        };
        match Pulse::start(Arc::clone(&self.beat), say) {
            Ok(looks) => self.looks = Some(looks),
            Err(error) => {
                self.say(News::Exposed(format!("nobody would say that it hangs: no thread can be started: {error}")))
            }
        }
    }

    /// The cases of the run before go on, and rules stand back as was said.
    fn go_on_with_what_is_open(&mut self, state: &Path, in_force: &InForce) {
        match open_file::read(state) {
            Ok(None) => {}
            Ok(Some(mut open)) => {
                open.recall(in_force.acts(), self.scribe.boot, here::now());
                self.step(Input::Earlier(Box::new(open), self.scribe.boot));
            }
            Err(why) => self.say(News::Forgotten(why)),
        }
        let wake = self.wake.clone();
        // Whoever ends needs not to be told.
        let failed = move |why| drop(wake.try_send(Wake::NotKept(why)));
        match OpenFile::start(state, failed) {
            Ok(file) => self.open_file = Some(file),
            Err(error) => self.say(News::NotKept(error.to_string())),
        }
        // By now the file is another one.
        self.kept_open = u64::MAX;
        self.keep_what_is_open(None);
    }

    /// Those who are asked may answer by command.
    pub(super) fn listen_for_answers(&mut self) {
        match Answers::listen(self.folder.as_deref(), self.wake.clone()) {
            Ok(answers) => self.answers = Some(answers),
            Err(why) => self.say(News::CannotBeAsked(why)),
        }
    }

    /// The rest of the trail is checked beside, mildly: what is in force stands in its last file.
    fn check_the_rest(&mut self, state: &Path, in_force: InForce) {
        let (state, wake) = (state.to_owned(), self.wake.clone());
        let check = move || {
            let found = match left::check(&state) {
                Ok(found) => found.filter(|found| !in_force.has_accepted(found)).map(Wake::Unsound),
                Err(why) => Some(Wake::Unchecked(why)),
            };
            if let Some(found) = found {
                // The watcher may have ended meanwhile.
                let _ = wake.send(found);
            }
        };
        if let Err(error) = std::thread::Builder::new().name("check".to_owned()).spawn(check) {
            self.say(News::Unchecked(error.to_string()));
        }
    }

    /// What an earlier run did counts on: the cap on acts, budgets, whom rules stand back from, and a loss that nobody has
    /// taken note of.
    fn remember(&mut self, in_force: &InForce) {
        self.dispatcher.remember(in_force, here::now(), self.scribe.boot);
        if let Some(loss) = in_force.loss() {
            self.recorder.doubt(true);
            let what = loss.result.as_ref().map_or("it was lost".to_owned(), |result| result.seen.clone());
            self.step(Input::Trail(Trail::Doubted(what, false)));
        }
    }

    /// Whom an earlier run had left suspended.
    fn tell_who_was_left(&mut self, all: Vec<Left>) {
        for left in all {
            match left.happening("an earlier run had left it suspended") {
                Some(happening) => self.tell(happening),
                None => {
                    if let left::Found::NotBefore(until) = left.found {
                        self.dispatcher.remember_suspension_by_hand(left.process, until);
                    }
                }
            }
        }
    }

    fn greet(&mut self, rules: &RuleSet, shadow: bool, origin: &str, state: &Path) {
        let armed = if shadow { 0 } else { rules.rules.iter().filter(|rule| rule.armed).count() };
        let host = self.scribe.host.clone();
        self.say(News::Watching { host, every: rules.every, rules: rules.rules.len(), armed });
        let trail = trail::folder(state).display().to_string();
        self.say(News::Places { rules: origin.to_owned(), trail });
        if !rules.settle.is_zero() && armed > 0 {
            let now = here::now().wall;
            self.say(News::Settling(now.checked_add(rules.settle).unwrap_or(now)));
        }
        match here::is_privileged() {
            true => {
                for part in rules.protect.iter().flat_map(sophron_core::rules::by_name_alone) {
                    self.say(News::ByNameAlone(part));
                }
            }
            false => self.say(News::AsUser(self.scribe.who.user.clone())),
        }
    }

    /// Acts that an earlier run announced and of which it told no outcome: what is found now is recorded.
    fn close_what_was_announced(&self, intents: &[&Record]) {
        // A person's command may still be at it.
        let now = here::now().wall;
        let is_over = |intent: &&&Record| !intent.is_by_hand() || now.duration_since(intent.at) > AT_IT;
        for intent in intents.iter().filter(is_over) {
            let (Some(id), Some(subject)) = (intent.identity(), &intent.subject) else { continue };
            let act = intent.action.as_ref().and_then(sophron_core::audit::ActionRecord::act);
            let outcome = Outcome::Untold { record: intent.seq, found: found(&id, self.scribe.boot) };
            let about = (intent.case, intent.rule.as_deref().map(RuleName::from));
            let happening = came(&subject.process(id.boot), about, act, outcome, None);
            if let Some(record) = self.scribe.record(&happening) {
                self.recorder.note(record);
            }
        }
    }

    /// Puts back what an earlier run lowered and could not undo: it was killed, or the machine's disk was full.
    fn put_back<'h>(&mut self, holds: impl Iterator<Item = &'h OpenHold>) {
        // What a hand has lowered stays until a hand restores it.
        let boot = self.scribe.boot;
        for hold in holds.filter(|hold| hold.id.boot == boot && hold.rule.is_some()) {
            let act = Act::Restore { set: hold.nice, originals: hold.originals.clone(), still: None };
            let order = Order::on(hold.subject.process(boot), act.clone());
            let about = (Some(hold.case), hold.rule.as_deref().map(RuleName::from));
            let mut commit = Mending { recorder: &self.recorder, scribe: &self.scribe, order: &order, about: &about };
            let actuator = Actuator { direct: self.direct.clone(), ..Actuator::default() };
            let (outcome, ..) = actuator.perform(&order, &mut commit).outcome();
            if matches!(outcome, Outcome::Unrecorded(_)) {
                return;
            }
            let remark =
                matches!(outcome, Outcome::Restored(_)).then(|| "an earlier watcher left it lowered".to_owned());
            let happening = came(&order.targets[0], about.clone(), act, outcome, remark);
            self.tell(happening);
        }
    }
}

/// What an earlier run has left in force is taken back as any other: with its record.
struct Mending<'a> {
    recorder: &'a Recorder,
    scribe: &'a Scribe,
    order: &'a Order,
    about: &'a (Option<u64>, Option<RuleName>),
}

impl Commit for Mending<'_> {
    fn announce(&mut self, target: usize, found: Found) -> Result<(), String> {
        let process = self.order.targets.get(target).ok_or("there is no such target")?;
        let what = What::Announced(Box::new(self.order.act.clone()), Box::<Announced>::default());
        let happening = commissions::announced(&of(process, self.about.clone(), what), found);
        self.recorder.commit_undo(self.scribe.record(&happening).ok_or("there is no record of that")?)
    }

    fn still_right(&mut self, _: usize, _: Process) -> Result<(), String> {
        Ok(())
    }

    fn takes_back(&self) -> bool {
        true
    }
}

fn of(process: &Process, (case, rule): (Option<u64>, Option<RuleName>), what: What) -> Happening {
    let subject = Subject::process(process);
    Happening { at: here::now().wall, rule, case: case.filter(|case| *case != 0), subject, what, next: Next::Unsaid }
}

pub(super) fn came(
    process: &Process,
    about: (Option<u64>, Option<RuleName>),
    act: impl Into<Option<Act>>,
    outcome: Outcome,
    remark: Option<String>,
) -> Happening {
    of(process, about, What::Came(CarriedOut { remark, ..CarriedOut::of(act, outcome) }))
}

/// What every record of this program has in common.
pub fn scribe(boot: Boot, by: By, command_lines: CommandLines) -> Scribe {
    let who = here::who(&mut here::Users::default(), by);
    Scribe { host: here::host(), boot, who, zone: TimeZone::system(), command_lines }
}

/// A sampler of this machine that reads what those rules want, on demand; `whole` has all of it read of whoever ran, as for a recording.
///
/// # Errors
/// There is no /proc to read.
pub fn sampler(wants: &Wants, whole: bool) -> Result<Sampler, Failure> {
    let sampler = Sampler::new(Path::new("/proc"), wants.of_everybody());
    let sampler = sampler.map_err(|error| Failure::of(Exit::Failed, error))?.on_demand(demand(wants, whole));
    let sampler = if wants.trees() { sampler.with_descent() } else { sampler };
    Ok(if wants.passing() { sampler.with_passing() } else { sampler })
}

/// How samples for them are read.
pub fn demand(wants: &Wants, whole: bool) -> Demand {
    Demand { unnamed: wants.none_by_others(), whole, for_acts: wants.for_acts() }
}

/// Everything put together.
fn assemble(
    plan: Plan,
    rules: &Arc<RuleSet>,
    next_case: u64,
    (wake, bus): (SyncSender<Wake>, Bus),
    (recorder, scribe): (Recorder, Scribe),
    lock: std::fs::File,
) -> Result<Watcher, Failure> {
    let workers = |name, least, most| Workers::start(name, least, most).map_err(threadless);
    let wants = Wants::of(rules);
    let sampler = sampler(&wants, plan.record.is_some())?.with_unmasked(scribe.command_lines == CommandLines::Full);
    let settings = Settings {
        shadow: plan.shadow,
        assumed: false,
        own: Some(std::process::id()),
        only: plan.only,
        zone: TimeZone::system(),
    };
    let protections = Protections {
        conditions: plan.protections,
        own: [std::process::id()].into(),
        terminal: terminal::holders(scribe.boot),
        service: here::uid(),
        to_read: here::what_helps_to_read(),
        ancestors: SortedSet::new(),
    };
    let protected_by = format!("{:?}", protections.conditions);
    let in_use = RulesInUse {
        origin: plan.origin,
        digest: plan.rules.digest.clone(),
        loaded: here::now().wall,
        owner: plan.owner,
        by: "at the start".to_owned(),
        refused: None,
    };
    Ok(Watcher {
        dispatcher: Dispatcher::new(settings, Arc::clone(rules), protections, next_case),
        every: rules.every,
        cost: Cost::new(rules.every),
        direct: plan.service_manager,
        sampler,
        wants,
        snapshot: Snapshot::default(),
        fixed: SortedMap::new(),
        most_fixed: sophron_linux::own_life::most_handles(),
        standing: SortedMap::new(),
        leave: commissions::LeaveNow::default(),
        crew: Crew {
            acts: workers("act", 2, 16)?,
            undos: workers("undo", 1, 4)?,
            programs: workers("run", 1, 8)?,
            asks: workers("ask", 1, 4)?,
            aside: workers("aside", 1, 1)?,
        },
        recorder,
        scribe,
        bus,
        kept: Kept::default(),
        hands: super::hands::Hands::of(&plan.state),
        post: Arc::default(),
        desk: None,
        answering: SortedMap::new(),
        answers: None,
        helpers: super::helpers::Helpers::default(),
        pulse: super::figures::begun(),
        beat: Beat::of_this_thread(rules.every),
        looks: None,
        figures: None,
        system_log: SystemLog {
            socket: plan.system_log.unwrap_or_else(|| sophron_linux::system_log::SOCKET.into()),
            said: false,
        },
        control: None,
        asked: SortedMap::new(),
        said: SortedMap::new(),
        state: plan.state,
        own_folder: plan.own_state,
        usual: None,
        shadow: plan.shadow,
        rule_set: Arc::clone(rules),
        rules: in_use,
        protected_by,
        refused: None,
        current: Current::of(rules),
        reload: None,
        service: Service::default(),
        is_service: plan.service,
        open_file: None,
        kept_open: 0,
        folder: plan.control,
        asks_here: plan.asks_here,
        until: plan.length.and_then(|length| jiff::Timestamp::now().checked_add(length).ok()),
        wake,
        lock: Arc::new(lock),
    })
}

/// What has become of a process, in words.
fn found(id: &ProcessId, boot: Boot) -> String {
    if id.boot != boot {
        return "the machine was started anew since".to_owned();
    }
    match Handle::open(id) {
        Ok(_) => {}
        Err(error) if error.is_gone() => return "it has ended".to_owned(),
        Err(error) => return format!("what became of it cannot be seen: {}", with_causes(&error)),
    }
    let now = Sampler::new(Path::new("/proc"), Needs::PERIODIC).ok().and_then(|mut sampler| sampler.again(id.pid));
    match now.filter(|process| process.id == *id) {
        Some(process) => format!("{}, nice {}", process.state.word(), process.nice),
        None => "it is there, and cannot be read".to_owned(),
    }
}

/// One watcher a state folder; whether that was made for it.
fn lock(state: &Path) -> Result<(std::fs::File, bool), Failure> {
    let trouble = |error: files::PathError| {
        let exit = if matches!(error, files::PathError::Unsafe { .. }) { Exit::Refused } else { Exit::Failed };
        Failure::of(exit, error).hint("name another state folder with --state DIR")
    };
    let (folder, made) = files::made_folder(state).map_err(trouble)?;
    let lock = files::try_lock(&folder, state, "watch.lock").map_err(trouble)?.map_err(|pid| {
        Failure::new(Exit::Failed, format!("another watcher (PID {}) runs on {}", pid.trim(), state.display()))
            .hint("one watcher a state folder: end that one first, or name another folder with --state DIR")
    })?;
    Ok((lock, made))
}

/// Numbers that mean two processes are not acted on.
pub fn foreign() -> Failure {
    Failure::new(
        Exit::Refused,
        "/proc shows the processes of another PID namespace: each number would mean two processes",
    )
    .hint("start it where /proc is its own, as `unshare --mount-proc` makes it; looking is possible all the same")
}

pub(super) fn threadless(error: std::io::Error) -> Failure {
    Failure::new(Exit::Failed, "no thread can be started: the watcher does not arm, and has touched nothing")
        .because(error)
}

/// How the trail is kept, by the rules file.
pub fn keeping(audit: &sophron_core::rules::Audit) -> Result<Keeping, Failure> {
    let group = |name: &String| {
        here::group(name).ok_or_else(|| {
            let shown = sophron_core::text::clean(name.as_bytes());
            Failure::new(Exit::Failed, format!("there is no group `{shown}` that could read the audit trail"))
                .hint("`readers` in [audit] of the rules file names a group of this machine")
        })
    };
    Ok(Keeping {
        piece: audit.piece,
        keep: audit.keep,
        most: audit.most,
        readers: audit.readers.as_ref().map(group).transpose()?,
        ..Keeping::default()
    })
}

fn unarmed(error: trail::TrailError) -> Failure {
    Failure::of(Exit::Failed, error).hint("no record, no action: the watcher does not arm, and has touched nothing")
}

/// The first records. If they cannot be written, nothing begins.
fn announce(plan: &Plan, recorder: &Recorder, scribe: &Scribe) -> Result<(), Failure> {
    let names = plan.rules.rules.iter().map(|rule| rule.name.clone()).collect();
    let (origin, digest, owner) = (plan.origin.clone(), plan.rules.digest.clone(), plan.owner.clone());
    let news = [
        News::Started { version: env!("CARGO_PKG_VERSION"), shadow: plan.shadow },
        News::RulesLoaded { origin, names, digest, owner, before: None },
    ];
    for draft in news.into_iter().filter_map(|news| scribe.record(&Happening::news(here::now().wall, news))) {
        recorder.commit_undo(draft).map_err(|why| {
            Failure::new(Exit::Failed, format!("the audit trail cannot be written: {why}"))
                .hint("no record, no action: the watcher does not arm, and has touched nothing")
        })?;
    }
    Ok(())
}

/// Signals that end a watcher arrive as any other event. A terminal that goes away does not end it silently; of a service, which has
/// none, that signal means something else.
fn listen(wake: SyncSender<Wake>, service: bool) -> Result<(), Failure> {
    let mut signals = Signals::new([SIGINT, SIGTERM, SIGHUP])
        .map_err(|error| Failure::new(Exit::Failed, "signals cannot be set up").because(error))?;
    let hear = move || {
        for signal in signals.forever() {
            let rereads = service && signal == SIGHUP;
            if wake.send(if rereads { Wake::Reread } else { Wake::Signal }).is_err() {
                return;
            }
        }
    };
    std::thread::Builder::new().name("signals".to_owned()).spawn(hear).map_err(threadless)?;
    Ok(())
}
