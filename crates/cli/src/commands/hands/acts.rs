//! The acts: one by one, or a tree as one; each recorded before and after.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::{Duration, Instant};

use sophron_core::audit::{ActionRecord, Kind};
use sophron_core::model::{Process, Snapshot, State};
use sophron_core::units::scaled_duration;
use sophron_linux::act::{self, ActError, Ending, Tree};
use sophron_linux::cgroups;
use sophron_linux::guard::Guard;
use sophron_linux::handle::Handle;
use sophron_linux::here;
use sophron_linux::roles;
use sophron_linux::service_manager::{ManagerError, ServiceManager, UnitName};

use super::{Chosen, Hand, Verb};
use crate::exit::{Exit, Failure};
use crate::ui;
use crate::ui::style::{Label, Styled};
use crate::watcher::act::guard_all;
use crate::watcher::drafts::DraftExt;
use crate::watcher::recorder::chain;

/// While a tree is caught it is guarded for that long.
const CATCHING: Duration = Duration::from_secs(15);

/// How long it is looked whether what was ended comes back.
const COMES_BACK: Duration = Duration::from_millis(900);

/// What came of one act: the word of the record, what was seen, and whether it was done.
pub(super) type Came = (&'static str, String, bool);

impl Hand<'_> {
    /// Does it.
    pub(super) fn act(&mut self) -> Result<Exit, Failure> {
        let all = std::mem::take(&mut self.chosen);
        let (able, refused): (Vec<Chosen>, Vec<Chosen>) = all.into_iter().partition(|chosen| chosen.refused.is_none());
        self.refused = refused.iter().map(|chosen| chosen.process.id.pid).collect();
        match self.verb {
            Verb::Lower { nice, only } => self.lower(&able, nice, only),
            Verb::Suspend { length } => self.suspend(&able, length),
            Verb::Resume => Ok(self.each(&able, ActionRecord::word("resume"), resume)),
            Verb::Terminate { force_after } => Ok(self.terminate(&able, force_after)),
            Verb::Restart => Ok(self.restart(&able)),
        }
    }

    /// One after the other: the intent on disk, everything looked at once more, the act, the outcome.
    fn each(&mut self, able: &[Chosen], action: ActionRecord, act: impl Fn(&Chosen) -> Result<Came, ActError>) -> Exit {
        let mut exit = Exit::Fine;
        for chosen in able {
            let began = Instant::now();
            let intent = match self.trail.intend(&chosen.process, &self.snapshot, action.clone()) {
                Ok(intent) => intent,
                Err(why) => {
                    say(&chosen.process, "dropped", &format!("no record, no action: {why}"), false);
                    exit = Exit::Failed;
                    continue;
                }
            };
            let came = match self.still_the_one(chosen) {
                Ok(()) => act(chosen).unwrap_or_else(|error| refusal(&error)),
                Err(why) => ("dropped", why, false),
            };
            exit = worse(exit, &came);
            self.finish(chosen, &intent, &came, began);
        }
        exit
    }

    pub(super) fn finish(&mut self, chosen: &Chosen, intent: &sophron_core::audit::Draft, came: &Came, began: Instant) {
        let (word, seen, done) = came;
        let kind = if *word == "refused" { Kind::Refused } else { Kind::Outcome };
        let took = (began.elapsed().as_secs_f64() * 1000.0).round() / 1000.0;
        self.trail.tell(intent, kind, word, seen, Some(took));
        say(&chosen.process, word, seen, *done);
    }

    fn terminate(&mut self, able: &[Chosen], force_after: Option<Duration>) -> Exit {
        let action = ActionRecord {
            force_after: force_after.map(|wait| wait.as_secs_f64()),
            tree: self.args.tree,
            ..ActionRecord::word("terminate")
        };
        let exit = if self.args.tree {
            self.terminate_tree(able, action, force_after)
        } else {
            self.each(able, action, |chosen| terminate(chosen, force_after))
        };
        self.say_who_came_back(able);
        exit
    }

    /// Each unit once, whichever of its processes were named.
    fn restart(&mut self, able: &[Chosen]) -> Exit {
        let mut exit = Exit::Fine;
        let mut units: BTreeSet<String> = BTreeSet::new();
        for chosen in able {
            // Who is of no unit that can be restarted was refused before.
            let Ok(unit) = UnitName::restartable(&chosen.process) else { continue };
            if !units.insert(unit.group.clone()) {
                continue;
            }
            let manager = self.manager_of(&unit);
            let one = std::slice::from_ref(chosen);
            exit = match self.each(one, ActionRecord::word("restart"), |_| Ok(restart(&manager, &unit))) {
                Exit::Fine => exit,
                worse => worse,
            };
        }
        exit
    }

    /// Intents of everybody known; then the tree is caught whole, and ended.
    fn terminate_tree(&mut self, able: &[Chosen], action: ActionRecord, force_after: Option<Duration>) -> Exit {
        let began = Instant::now();
        let Some((intents, ready)) = self.intend_all(able, &action) else { return Exit::Failed };
        let mut tree = self.tree(&ready);
        let mut guards = Vec::new();
        let ended = tree.terminate(force_after, &mut |new| guard_all(&mut guards, new, CATCHING));
        guards.into_iter().for_each(Guard::release);
        let members = tree.members().count();
        let spared = crate::watcher::act::spared_words(&tree);
        let mut exit = Exit::Fine;
        for (chosen, intent) in ready.iter().zip(&intents) {
            let came = match &ended {
                Ok(_) if chosen.handle.has_ended() => {
                    let forced = matches!(ended, Ok((Ending::Forced(_), _)));
                    (
                        if forced { "ended by force" } else { "ended" },
                        format!("with its tree of {members} in {}{spared}", scaled_duration(began.elapsed())),
                        true,
                    )
                }
                Ok((ending, left)) => {
                    let (word, seen, done) = ending_words(chosen, *ending);
                    (word, format!("{seen}; {left} of its tree are left{spared}"), done)
                }
                Err(error) => refusal(error),
            };
            exit = worse(exit, &came);
            self.finish(chosen, intent, &came, began);
        }
        exit
    }

    /// Intents of all of them, and those who are still the ones meant; `None` where the trail cannot be written.
    pub(super) fn intend_all<'c>(
        &mut self,
        able: &'c [Chosen],
        action: &ActionRecord,
    ) -> Option<(Vec<sophron_core::audit::Draft>, Vec<&'c Chosen>)> {
        let (mut intents, mut ready) = (Vec::new(), Vec::new());
        for chosen in able {
            match self.trail.intend(&chosen.process, &self.snapshot, action.clone()) {
                Ok(intent) => match self.still_the_one(chosen) {
                    Ok(()) => {
                        intents.push(intent);
                        ready.push(chosen);
                    }
                    Err(why) => self.finish(chosen, &intent, &("dropped", why, false), Instant::now()),
                },
                Err(why) => {
                    say(
                        &chosen.process,
                        "dropped",
                        &format!("no record, no action: {why}; nothing was done to any of them"),
                        false,
                    );
                    return None;
                }
            }
        }
        Some((intents, ready))
    }

    /// The tree of those; whoever is protected is spared, with all below it.
    pub(super) fn tree(&mut self, ready: &[&Chosen]) -> Tree {
        let mut spared: BTreeMap<u32, String> =
            self.protections.own.iter().map(|pid| (*pid, "Sophron itself".to_owned())).collect();
        spared.extend(self.protections.ancestors.iter().map(|pid| (*pid, "Sophron was started from it".to_owned())));
        // Whoever was refused, for whatever reason, is no part of it, nor what descends from him.
        spared.extend(self.refused.iter().map(|pid| (*pid, "refused".to_owned())));
        let machine = &self.snapshot.machine;
        let why = |process: &Process| {
            let reason = self.protections.reason(&sophron_core::model::Facts::new(process, machine))?;
            Some((process.id.pid, reason))
        };
        if !self.args.override_protection {
            spared.extend(self.snapshot.processes.iter().filter_map(why));
        }
        let roots: Vec<Arc<Handle>> = ready.iter().map(|chosen| Arc::clone(&chosen.handle)).collect();
        let spared = roles::sparing(spared, !self.args.override_protection);
        Tree::of(&roots, spared).with_lineage(self.lineage.take())
    }

    /// The same program of the same owner, started after it was ended.
    fn say_who_came_back(&mut self, able: &[Chosen]) {
        let ended: Vec<&Chosen> = able.iter().filter(|chosen| chosen.handle.has_ended()).collect();
        if ended.is_empty() {
            return;
        }
        let until = Instant::now() + COMES_BACK;
        let mut missing = ended;
        while Instant::now() < until && !missing.is_empty() {
            std::thread::sleep(COMES_BACK / 6);
            let Ok(now) = self.sampler.look() else { return };
            missing.retain(|chosen| match self.back(&chosen.process, &now) {
                Some(back) => {
                    let parent = now.process(back.parent).map(|parent| format!(", started by {}", parent.label()));
                    self.say_back(chosen, &format!("as {}{}", back.label(), parent.unwrap_or_default()));
                    false
                }
                None => true,
            });
        }
    }

    /// The same program of the same owner, that was not there before.
    fn back<'s>(&self, gone: &Process, now: &'s Snapshot) -> Option<&'s Process> {
        now.processes.iter().find(|process| {
            process.app == gone.app
                && process.uid == gone.uid
                && process.path == gone.path
                && process.age < gone.age
                && !process.has_ended()
                && self.snapshot.process(process.id.pid).is_none_or(|known| known.id != process.id)
        })
    }

    fn say_back(&mut self, chosen: &Chosen, seen: &str) {
        let mut draft = self.trail.drafter.plain(Kind::Outcome).doing(ActionRecord::word("terminate"));
        draft.subject = Some((&chosen.process).into());
        self.trail.tell(&draft, Kind::Outcome, "came back", seen, None);
        ui::out(format_args!("{}  {} came back {seen}\n", Styled(Label::Warning, "back"), chosen.process.app));
    }
}

fn resume(chosen: &Chosen) -> Result<Came, ActError> {
    if !chosen.handle.threads()?.iter().any(|thread| thread.state == State::Suspended) {
        return Ok(("kept", "it was not suspended".to_owned(), true));
    }
    Ok(match act::resume(&*chosen.handle)? {
        Some(took) => ("resumed", format!("every thread, in {} ms", took.as_millis()), true),
        None if cgroups::is_frozen(chosen.process.id.pid) => {
            ("pending: frozen", "its control group is frozen: it goes on when that is thawed".to_owned(), false)
        }
        None => ("resumed", "some threads still stand: they wait in the kernel, or are traced".to_owned(), false),
    })
}

fn restart(manager: &ServiceManager, unit: &UnitName) -> Came {
    let restarted = manager.restart(unit);
    let unit = &unit.name;
    match restarted {
        Ok(done) if done.state == "active" => {
            let main = done.main.map(|pid| format!(" as process {pid}")).unwrap_or_default();
            ("restarted", format!("the unit {unit} is active again{main}, in {}", scaled_duration(done.took)), true)
        }
        Ok(done) => {
            ("failed", format!("the unit {unit} is {} after {}", done.state, scaled_duration(done.took)), false)
        }
        Err(error @ ManagerError::Refused(_)) => ("refused", format!("{error}; root may do it"), false),
        Err(error @ (ManagerError::Elsewhere { .. } | ManagerError::Foreign(..))) => {
            ("refused", error.to_string(), false)
        }
        Err(error) => ("failed", error.to_string(), false),
    }
}

fn terminate(chosen: &Chosen, force_after: Option<Duration>) -> Result<Came, ActError> {
    Ok(ending_words(chosen, act::terminate(&*chosen.handle, force_after)?))
}

fn ending_words(chosen: &Chosen, ending: Ending) -> Came {
    match ending {
        Ending::Ended(took) => ("ended", format!("in {}", scaled_duration(took)), true),
        Ending::Forced(took) => {
            ("ended by force", format!("after {}: it did not answer the polite signal", scaled_duration(took)), true)
        }
        Ending::StillThere | Ending::PendingInTheKernel if cgroups::is_frozen(chosen.process.id.pid) => {
            ("pending: frozen", "its control group is frozen: it ends when that is thawed".to_owned(), false)
        }
        Ending::StillThere => (
            "still there",
            format!(
                "it does not answer the polite signal; --force-after 10s ends it by force: sophron terminate {} --force-after 10s",
                chosen.process.id.checked()
            ),
            false,
        ),
        Ending::PendingInTheKernel => {
            ("pending in the kernel", "it waits in the kernel, and ends when it comes back".to_owned(), false)
        }
    }
}

pub(super) fn refusal(error: &ActError) -> Came {
    match error {
        ActError::Gone => ("already gone", chain(error), true),
        _ => ("refused", chain(error), false),
    }
}

pub(super) fn worse(exit: Exit, came: &Came) -> Exit {
    match (came.0, came.2) {
        (_, true) => exit,
        ("refused", _) if exit == Exit::Fine => Exit::Refused,
        _ => Exit::Failed,
    }
}

/// `12:04:11  ended  labelpress 51907-kqm (ines)  in 0.4 s`.
pub(super) fn say(process: &Process, word: &str, seen: &str, done: bool) {
    let at = ui::when::clock(here::now().wall);
    let line = format!("{word}  {}  {seen}", process.label());
    let width = ui::table::terminal_width();
    ui::out(match done {
        true => ui::paragraph::under(&at, 10, &line, width),
        false => ui::paragraph::styled(&at, 10, &line, width, Label::Warning),
    });
}
