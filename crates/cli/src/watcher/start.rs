//! How a watcher begins: the lock, the trail, what an earlier run left in force, and only then the rules.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::mpsc::Sender;
use std::sync::{Arc, Mutex};
use std::thread::JoinHandle;
use std::time::Duration;

use jiff::tz::TimeZone;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;
use sophron_core::audit::{ActionRecord, By, InForce, Kind, OpenHold, Record};
use sophron_core::decide::Ledger;
use sophron_core::effects::Effects;
use sophron_core::judge::Judge;
use sophron_core::model::{Cost, Needs, Snapshot};
use sophron_core::protect::Protections;
use sophron_core::rules::{Action, Rule, RuleSet};
use sophron_core::subject::Judged;
use sophron_core::units::exact_duration;
use sophron_linux::handle::Handle;
use sophron_linux::trail::{self, Keeping, Latest, TrailFile};
use sophron_linux::{Sampler, files, here, sys, terminal};

use super::act::{Verdicts, own_processes};
use super::drafts::{DraftExt, Drafter};
use super::left::{self, Left};
use super::recorder::Recorder;
use super::recording::Recording;
use super::workers::Workers;
use super::{Plan, STAND_BACK, Wake, Watcher};
use crate::exit::{Exit, Failure};
use crate::lowering::{self, Restored};
use crate::ui::events::EventLine;
use crate::ui::style::Label;

impl<'s> Watcher<'s> {
    /// Everything that can fail before a process is touched.
    pub(super) fn begin(
        plan: Plan,
        wake: Sender<Wake>,
        show: &'s mut dyn FnMut(EventLine),
    ) -> Result<(Watcher<'s>, JoinHandle<()>), Failure> {
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
        sound(&latest, &plan.state)?;
        let sampler = Sampler::new(Path::new("/proc"), base_needs(&plan.rules))
            .map_err(|error| Failure::of(Exit::Failed, error))?;
        let sampler = if plan.rules.rules.iter().any(|rule| rule.judge == Judged::Tree) {
            sampler.with_descent()
        } else {
            sampler
        };
        let who = here::who(&mut here::Users::default(), By::Watcher);
        let drafter = Drafter { host: here::host(), boot, who };

        let every = plan.rules.every;
        let recording = plan.record.as_deref().map(|path| Recording::create(path, every)).transpose()?;
        let next_case = latest.in_force.highest_case + 1;
        let keeping = Keeping { own_folder: made || plan.own_state, ..keeping(&plan.rules.audit)? };
        let file = TrailFile::open(&plan.state, drafter.plain(Kind::TrailOpened), keeping).map_err(unarmed)?;
        let news = wake.clone();
        let (recorder, writer) = Recorder::start(Box::new(file), plan.rules.audit.stamp, move |found| {
            // The watcher listens until the recorder ends.
            let _ = news.send(Wake::Trail(found));
        })
        .map_err(threadless)?;
        announce(&plan, &recorder, &drafter)?;
        listen(wake.clone())?;
        let workers = |name, least, most| Workers::start(name, least, most).map_err(threadless);

        let rules = Arc::new(plan.rules);
        let protections = Protections {
            conditions: plan.protections,
            own: own_processes(std::iter::empty()),
            terminal: terminal::holders(boot),
            ancestors: BTreeSet::new(),
        };
        let mut watcher = Watcher {
            judge: Judge::new(Arc::clone(&rules), next_case),
            needs: rules.rules.iter().map(|rule| Needs::of(&rule.fields())).collect(),
            snapshot: Snapshot::default(),
            rules,
            shadow: plan.shadow,
            only: plan.only,
            direct: plan.service_manager,
            control: None,
            system_log: (plan.system_log.unwrap_or_else(|| sophron_linux::system_log::SOCKET.into()), false),
            recording,
            lookback: None,
            outcomes: Vec::new(),
            effects_due: Vec::new(),
            sampler,
            effects: Effects::default(),
            protections,
            recorder,
            drafter,
            fixed: BTreeMap::new(),
            guards: BTreeMap::new(),
            busy: BTreeSet::new(),
            joining: BTreeMap::new(),
            touched: BTreeSet::new(),
            standing_back: BTreeMap::new(),
            lock_holders: BTreeSet::new(),
            by_hand: BTreeMap::new(),
            acts: workers("act", 2, 16)?,
            undos: workers("undo", 1, 4)?,
            programs: workers("run", 1, 8)?,
            aside: workers("aside", 1, 1)?,
            closing_case: None,
            hands: super::hands::Hands::of(&plan.state),
            closing: Vec::new(),
            ledger: Ledger::default(),
            throttle: super::throttle::Throttle::default(),
            zone: TimeZone::system(),
            memory_from: Some(Duration::ZERO),
            running: BTreeSet::new(),
            ended_by_us: BTreeSet::new(),
            verdicts: Arc::new(Mutex::new(Verdicts::default())),
            last: None,
            ticks: 0,
            said_unreadable: BTreeSet::new(),
            said_late: BTreeSet::new(),
            wake,
            show,
            _lock: lock,
        };
        watcher.greet(&plan.origin, &plan.state);
        match super::control::listen(plan.control.as_deref(), watcher.wake.clone()) {
            Ok(path) => watcher.control = Some(path),
            Err(why) => watcher.say("watching", Label::Notice, format!("cannot be asked: {why}")),
        }
        watcher.check_the_rest(&plan.state, latest.in_force.clone());
        watcher.lookback = super::lookback::Lookback::start(plan.state, watcher.rules.lookback, watcher.wake.clone());
        watcher.tell_who_was_left(left);
        watcher.remember(&latest.in_force);
        watcher.close_what_was_announced(&latest.in_force.announced());
        watcher.put_back(latest.in_force.holds());
        Ok((watcher, writer))
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
            self.say_unchecked(&error.to_string());
        }
    }

    /// What an earlier run did counts on: the cap on acts, budgets, and whom rules stand back from.
    fn remember(&mut self, in_force: &InForce) {
        let now = here::now();
        let age = |record: &Record| Duration::try_from(now.wall.duration_since(record.at)).unwrap_or(Duration::ZERO);
        let (mut steps, mut cases) = (BTreeSet::new(), BTreeSet::new());
        for act in in_force.acts() {
            let Some(action) = &act.action else { continue };
            // A step counts once, on however many processes it acts; a case counts once towards a budget.
            if action.verb != "run" && steps.insert((act.case, action.step)) {
                self.ledger.remember(now.monotonic.saturating_sub(age(act)), &action.verb);
            }
            if let (Some(rule), Some(subject)) = (&act.rule, &act.subject)
                && cases.insert((act.case, rule.clone()))
                && let Some(likeness) = subject.likeness()
            {
                self.judge.remember(rule, likeness, now.boottime.saturating_sub(age(act)));
            }
        }
        for (id, at) in in_force.hands().filter(|(id, _)| id.boot == self.drafter.boot) {
            let age = Duration::try_from(now.wall.duration_since(at)).unwrap_or(Duration::ZERO);
            if age < STAND_BACK {
                self.standing_back.insert(id, now.monotonic + STAND_BACK - age);
            }
        }
        if let Some(loss) = in_force.loss() {
            self.recorder.doubt(true);
            self.say_doubt(loss.result.as_ref().map_or("it was lost", |result| &result.seen).to_owned().as_str());
        }
    }

    /// Whom an earlier run had left suspended.
    fn tell_who_was_left(&mut self, all: Vec<Left>) {
        for left in all {
            if let Some(until) = left.not_before {
                let draft = self.left_by_hand(&left.record);
                self.by_hand.insert(left.id, (until, draft));
                continue;
            }
            let mut draft = self.drafter.plain(left.kind).doing(ActionRecord::word("resume"));
            (draft.case, draft.rule) = (left.record.case, left.record.rule.clone());
            draft.subject.clone_from(&left.record.subject);
            self.recorder.note(draft.came_of_it(left.word, left.seen));
            if left.kind == Kind::Restored {
                let subject = left.record.subject.as_ref();
                let who = subject.map(|subject| format!("{} {} ({})", subject.app, subject.id, subject.owner));
                self.tell("resumed", Label::Warning, left.record.case, who.unwrap_or_default(), left.seen.to_owned());
            }
        }
    }

    fn greet(&mut self, origin: &str, state: &Path) {
        let rules = self.rules.rules.len();
        let armed = self.rules.rules.iter().filter(|rule| rule.armed).count();
        let acting = match (self.shadow, armed) {
            (true, _) | (_, 0) => "all in shadow: nothing is acted upon".to_owned(),
            (false, armed) if armed == rules => "all armed".to_owned(),
            (false, armed) => format!("{armed} armed, the others in shadow"),
        };
        let rules = if rules == 1 { "1 rule".to_owned() } else { format!("{rules} rules") };
        let every = exact_duration(self.rules.every);
        let trail = trail::folder(state);
        let host = self.drafter.host.clone();
        self.say("watching", Label::Notice, format!("{host} every {every}; {rules}, {acting}"));
        self.say("watching", Label::Faint, format!("rules: {origin}; record: {}", trail.display()));
        if !self.rules.settle.is_zero() && armed > 0 && !self.shadow {
            let until = crate::ui::when::clock_after(here::now().wall, self.rules.settle);
            self.say("watching", Label::Faint, format!("settling: nothing is done before {until}"));
        }
        if !here::is_privileged() {
            let user = self.drafter.who.user.clone();
            self.say(
                "watching",
                Label::Notice,
                format!("as {user}: acts on processes of {user}; on the others it only alerts"),
            );
        }
    }

    /// Acts that an earlier run announced and of which it told no outcome: what is found now is told.
    fn close_what_was_announced(&self, intents: &[&Record]) {
        // A person's command may still be at it.
        let now = here::now().wall;
        let is_over = |intent: &&&Record| {
            !intent.is_by_hand() || now.duration_since(intent.at) > jiff::SignedDuration::from_mins(15)
        };
        for intent in intents.iter().filter(is_over) {
            let Some(id) = intent.identity() else { continue };
            let mut draft = self.drafter.plain(Kind::Outcome);
            (draft.case, draft.rule) = (intent.case, intent.rule.clone());
            (draft.subject, draft.action) = (intent.subject.clone(), intent.action.clone());
            // The originals stand in the intent; what is in force is decided by that.
            let found = found(&id, self.drafter.boot);
            let seen = format!("its writer ended before it could tell (record {}); found: {found}", intent.seq);
            self.recorder.note(draft.came_of_it("unknown", seen));
        }
    }

    /// Puts back what an earlier run lowered and could not undo: it was killed, or the machine's disk was full.
    fn put_back<'h>(&mut self, holds: impl Iterator<Item = &'h OpenHold>) {
        // What a hand has lowered stays until a hand restores it.
        let boot = self.drafter.boot;
        for hold in holds.filter(|hold| hold.id.boot == boot && hold.rule.is_some()) {
            let action = ActionRecord::word("restore");
            let mut draft = self.drafter.plain(Kind::Intent).doing(action);
            draft.case = Some(hold.case);
            draft.rule.clone_from(&hold.rule);
            draft.subject = Some(hold.subject.clone());
            if self.recorder.commit_undo(draft.clone()).is_err() {
                return;
            }
            let handle = Handle::open(&hold.id).ok();
            let direct = self.direct.as_deref();
            let (kind, word, seen) = match lowering::put_back(handle.as_ref(), hold.nice, &hold.originals, None, direct)
            {
                Restored::Done(what) => {
                    (Kind::Restored, "restored", format!("{what}: an earlier watcher left it lowered"))
                }
                Restored::Superseded => {
                    (Kind::Superseded, "kept", "somebody else has changed it since: left as it is".to_owned())
                }
                Restored::Gone => (Kind::Superseded, "gone", "it has ended".to_owned()),
                Restored::Refused(why) => (Kind::Refused, "refused", format!("niceness not put back: {why}")),
            };
            self.recorder.note(draft.as_kind(kind).came_of_it(word, seen.clone()));
            if kind != Kind::Superseded {
                let who = format!("{} {} ({})", hold.subject.app, hold.subject.id, hold.subject.owner);
                (self.show)(EventLine {
                    at: here::now().wall,
                    word,
                    label: Label::Notice,
                    case: Some(hold.case),
                    who,
                    text: seen,
                });
            }
        }
    }
}

/// What has become of a process, in words.
fn found(id: &sophron_core::model::ProcessId, boot: sophron_core::model::Boot) -> String {
    if id.boot != boot {
        return "the machine was started anew since".to_owned();
    }
    let now = Sampler::new(Path::new("/proc"), Needs::PERIODIC).ok().and_then(|mut sampler| sampler.again(id.pid));
    match now.filter(|process| process.id == *id) {
        Some(process) => format!("{}, nice {}", process.state.word(), process.nice),
        None => "it has ended".to_owned(),
    }
}

/// What every tick reads: what the rules name, what a record says of a process, and what the choice of a lever and its
/// effect rest on.
fn base_needs(rules: &RuleSet) -> Needs {
    let needs = Needs::of(&rules.fields()).and(Needs::IDENTITY);
    let lowers = |rule: &Rule| rule.ladder.iter().any(|step| matches!(step.action, Action::Lower { .. }));
    if rules.rules.iter().any(lowers) { needs.with(Cost::Stat).with(Cost::Cgroup).with(Cost::Machine) } else { needs }
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

/// A torn end is the writer's to mend; anything worse is the person's to look at.
fn sound(latest: &Latest, state: &Path) -> Result<(), Failure> {
    match &latest.fault {
        Some(fault) => Err(Failure::new(
            Exit::Failed,
            format!("the audit trail is not sound at record {}: {}; the watcher does not arm", fault.seq, fault.what),
        )
        .hint(format!("look at it with `sophron audit verify`, then move {} away", trail::folder(state).display()))),
        None => Ok(()),
    }
}

fn threadless(error: std::io::Error) -> Failure {
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
        command_lines: audit.command_lines,
        ..Keeping::default()
    })
}

fn unarmed(error: trail::TrailError) -> Failure {
    Failure::of(Exit::Failed, error).hint("no record, no action: the watcher does not arm, and has touched nothing")
}

/// The first records. If they cannot be written, nothing begins.
fn announce(plan: &Plan, recorder: &Recorder, drafter: &Drafter) -> Result<(), Failure> {
    let started = format!("sophron {}{}", env!("CARGO_PKG_VERSION"), if plan.shadow { ", all in shadow" } else { "" });
    let names: Vec<&str> = plan.rules.rules.iter().map(|rule| rule.name.as_str()).collect();
    let loaded = format!("{}: {}; SHA-256 {}", plan.origin, names.join(", "), plan.rules.digest);
    let records = [
        drafter.plain(Kind::WatcherStarted).came_of_it("started", started),
        drafter.plain(Kind::RulesLoaded).came_of_it("loaded", loaded),
    ];
    for draft in records {
        recorder.commit_undo(draft).map_err(|why| {
            Failure::new(Exit::Failed, format!("the audit trail cannot be written: {why}"))
                .hint("no record, no action: the watcher does not arm, and has touched nothing")
        })?;
    }
    Ok(())
}

/// Signals that end a watcher arrive as any other event. A terminal that goes away does not end it silently.
fn listen(wake: Sender<Wake>) -> Result<(), Failure> {
    let mut signals = Signals::new([SIGINT, SIGTERM, SIGHUP])
        .map_err(|error| Failure::new(Exit::Failed, "signals cannot be set up").because(error))?;
    let hear = move || {
        for _ in signals.forever() {
            if wake.send(Wake::Signal).is_err() {
                return;
            }
        }
    };
    std::thread::Builder::new().name("signals".to_owned()).spawn(hear).map_err(threadless)?;
    Ok(())
}
