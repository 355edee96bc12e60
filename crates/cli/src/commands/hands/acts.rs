//! The acts: one by one, or a tree as one; each recorded before and after, and carried out by the one actuator.

use std::sync::Arc;
use std::time::{Duration, Instant};

use sophron_core::act::{self, Act, Order, Outcome, Whole};
use sophron_core::dispatch::children;
use sophron_core::facts::Facts;
use sophron_core::happening::{Announced, CarriedOut, Happening, What};
use sophron_core::model::{Process, Snapshot};
use sophron_core::sorted::{SortedMap, SortedSet};
use sophron_core::state::State;
use sophron_linux::act::{Actuator, Commit, Found, Performed};
use sophron_linux::here;
use sophron_linux::service_manager::UnitName;

use super::ending::{Asked, ending, figure};
use super::record::Trail;
use super::{Chosen, Hand};
use crate::exit::{Exit, Failure};
use crate::ui;
use crate::ui::style::{Label, Styled};
use crate::watcher::commissions::announced;

/// How long it is looked whether what was ended comes back.
const COMES_BACK: Duration = Duration::from_millis(900);

impl Hand<'_> {
    /// Does it.
    pub(super) fn go(&mut self) -> Result<Exit, Failure> {
        let all = std::mem::take(&mut self.chosen);
        let (able, refused): (Vec<Chosen>, Vec<Chosen>) = all.into_iter().partition(|chosen| chosen.refused.is_none());
        self.refused = refused.iter().map(|chosen| chosen.process.id.pid).collect();
        match self.act.clone() {
            Act::Lower { only, .. } => self.lower(&able, only),
            Act::Suspend { length } => self.suspend(&able, length),
            Act::Terminate { .. } => {
                let exit = if self.args.tree { self.as_one(&able) } else { self.each(&able) };
                self.say_who_came_back(&able);
                self.end_with_memory();
                Ok(exit)
            }
            Act::Restart => {
                let exit = self.each(&one_of_each_unit(able));
                self.end_with_memory();
                Ok(exit)
            }
            Act::Resume | Act::Restore { .. } => {
                let stood = able.iter().any(|chosen| chosen.process.state == State::Suspended);
                let exit = self.each(&able);
                let undo = stood.then(|| format!("sophron suspend {}", ids(&able)));
                ending(None, undo.as_deref(), &[]);
                Ok(exit)
            }
        }
    }

    /// What cannot be undone ends with the memory that the machine has of it.
    fn end_with_memory(&mut self) {
        let after = self.sampler.look().ok();
        let machine = after.and_then(|after| figure(Asked::Memory, &self.snapshot.machine, &after.machine));
        ending(machine.as_deref(), None, &[]);
    }

    /// One after the other.
    fn each(&mut self, able: &[Chosen]) -> Exit {
        let mut exit = Exit::Fine;
        for chosen in able {
            let Some(order) = self.order(std::slice::from_ref(chosen), able) else { continue };
            let (outcome, took, _) = self.perform(&order, &[chosen], false).outcome();
            exit = worse(exit, &outcome);
            self.finish(chosen, outcome, took, None);
        }
        exit
    }

    /// All of them, and what descends from them, as one.
    fn as_one(&mut self, able: &[Chosen]) -> Exit {
        let Some(order) = self.order(able, able) else { return Exit::Fine };
        let all: Vec<&Chosen> = able.iter().collect();
        let performed = self.perform(&order, &all, false);
        let mut exit = Exit::Fine;
        for (chosen, outcome) in able.iter().zip(performed.outcomes) {
            exit = worse(exit, &outcome);
            self.finish(chosen, outcome, performed.took, None);
        }
        exit
    }

    /// On those, as one where they are several; who else is meant says how far a lowering may reach.
    pub(super) fn order(&self, able: &[Chosen], meant: &[Chosen]) -> Option<Order> {
        let first = &able.first()?.process;
        let meant = |process: &Process| meant.iter().any(|chosen| chosen.process.id == process.id);
        let whole = self.args.tree && matches!(self.act, Act::Terminate { .. } | Act::Suspend { .. });
        Some(Order {
            targets: able.iter().map(|chosen| chosen.process.clone()).collect(),
            whole: whole.then(|| Whole { spared: self.spared(), members: Vec::new() }),
            heeds_roles: !self.args.override_protection,
            ..Order::among(&self.snapshot.processes, first, self.act.clone(), meant)
        })
    }

    /// Has it done. `takes_back`: what we did ourselves is undone.
    pub(super) fn perform(&mut self, order: &Order, chosen: &[&Chosen], takes_back: bool) -> Performed {
        let handles = chosen.iter().map(|chosen| (chosen.process.id, Arc::clone(&chosen.handle))).collect();
        let lineage = if order.whole.is_some() { self.lineage.take() } else { None };
        let direct = self.args.service_manager.clone();
        let actuator = Actuator { handles, direct, lineage, standing: None };
        let (trail, snapshot, tree) = (&mut self.trail, &self.snapshot, self.args.tree);
        actuator.perform(order, &mut ByHand { trail, order, snapshot, tree, takes_back })
    }

    /// Whoever is protected, ours or refused is no part of a tree, with all below it.
    fn spared(&self) -> SortedMap<u32, String> {
        let mut spared: SortedMap<u32, String> =
            self.protections.own.iter().map(|pid| (*pid, "Sophron itself".to_owned())).collect();
        spared.extend(self.protections.ancestors.iter().map(|pid| (*pid, "Sophron was started from it".to_owned())));
        // Whoever was refused, for whatever reason, is no part of it, nor what descends from him.
        spared.extend(self.refused.iter().map(|pid| (*pid, "refused".to_owned())));
        let machine = &self.snapshot.machine;
        let why = |process: &Process| {
            let reason = self.protections.reason(&Facts::new(process, machine))?;
            Some((process.id.pid, reason))
        };
        if !self.args.override_protection {
            spared.extend(self.snapshot.processes.iter().filter_map(why));
        }
        spared
    }

    /// Records what came of it, and says it.
    pub(super) fn finish(&mut self, chosen: &Chosen, outcome: Outcome, took: Duration, remark: Option<String>) {
        say(&chosen.process, &outcome, remark.as_deref());
        let act = self.act.clone();
        // What could not be announced is nothing to tell.
        if !matches!(outcome, Outcome::Unrecorded(_)) {
            self.record(&chosen.process, act, outcome, Some(took), remark);
        }
    }

    pub(super) fn record(
        &mut self,
        process: &Process,
        act: Act,
        outcome: Outcome,
        took: Option<Duration>,
        remark: Option<String>,
    ) {
        let because = self.trail.because.clone();
        let out = CarriedOut { tree: self.args.tree, took, remark, because, ..CarriedOut::of(act, outcome) };
        self.trail.tell(&Happening::about(here::now().wall, process, What::Came(out)));
    }

    /// The same program of the same owner, started after it was ended.
    fn say_who_came_back(&mut self, able: &[Chosen]) {
        let mut missing: Vec<&Chosen> = able.iter().filter(|chosen| chosen.handle.has_ended()).collect();
        let until = Instant::now() + COMES_BACK;
        while Instant::now() < until && !missing.is_empty() {
            std::thread::sleep(COMES_BACK / 6);
            let Ok(now) = self.sampler.look() else { return };
            missing.retain(|chosen| match self.back(&chosen.process, &now) {
                Some(back) => {
                    let parent = now.process(back.parent).map(|parent| format!(", started by {}", parent.label()));
                    let seen = format!("as {}{}", back.label(), parent.unwrap_or_default());
                    let back = Styled(Label::Warning, "back");
                    ui::out(format_args!("{back}  {} came back {seen}\n", chosen.process.app));
                    self.record(&chosen.process, self.act.clone(), Outcome::CameBack(seen), None, None);
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
}

/// Their checked PIDs, as they are typed.
pub(super) fn ids(able: &[Chosen]) -> String {
    able.iter().map(|chosen| chosen.process.id.checked().to_string()).collect::<Vec<_>>().join(" ")
}

/// A unit is restarted once, whichever of its processes were named. Who is of none that can be was refused before.
fn one_of_each_unit(able: Vec<Chosen>) -> Vec<Chosen> {
    let mut units: SortedSet<String> = SortedSet::new();
    let new = |chosen: &Chosen| UnitName::restartable(&chosen.process).map(|unit| unit.group);
    able.into_iter().filter(|chosen| new(chosen).is_ok_and(|group| units.insert(group))).collect()
}

/// A person's intent, and identity and owner once more after it is on disk.
pub(super) struct ByHand<'a> {
    pub trail: &'a mut Trail,
    pub order: &'a Order,
    pub snapshot: &'a Snapshot,
    pub tree: bool,
    pub takes_back: bool,
}

impl Commit for ByHand<'_> {
    fn announce(&mut self, target: usize, found: Found) -> Result<(), String> {
        let process = self.order.targets.get(target).ok_or("there is no such target")?;
        let announcement = Announced {
            tree: self.tree,
            because: self.trail.because.clone(),
            children: children(self.snapshot, process.id.pid),
            ..Announced::default()
        };
        let what = What::Announced(Box::new(self.order.act.clone()), Box::new(announcement));
        self.trail.intend(&announced(&Happening::about(here::now().wall, process, what), found))
    }

    fn still_right(&mut self, target: usize, now: Process) -> Result<(), String> {
        act::same(self.order.targets.get(target).ok_or("there is no such target")?, &now)
    }

    fn takes_back(&self) -> bool {
        self.takes_back
    }
}

pub(super) fn worse(exit: Exit, outcome: &Outcome) -> Exit {
    match outcome {
        outcome if outcome.is_success() => exit,
        Outcome::Refused(_) if exit == Exit::Fine => Exit::Refused,
        _ => Exit::Failed,
    }
}

/// `12:04:11  ended  labelpress 51907-kqm (ines)  in 0.4 s`.
pub(super) fn say(process: &Process, outcome: &Outcome, remark: Option<&str>) {
    let at = ui::when::clock(here::now().wall);
    let seen = match outcome {
        Outcome::Suspended(still) => format!("{}; until {}", outcome.seen(), ui::when::clock(still.over)),
        Outcome::StillThere(_) => format!(
            "{}; --force-after 10s ends it by force: sophron terminate {} --force-after 10s",
            outcome.seen(),
            process.id.checked()
        ),
        other => other.seen(),
    };
    let remark = remark.map(|remark| format!("; {remark}")).unwrap_or_default();
    let line = format!("{}  {}  {seen}{remark}", outcome.came(), process.label());
    let width = ui::table::terminal_width();
    ui::out(match outcome.is_success() {
        true => ui::paragraph::under(&at, 10, &line, width),
        false => ui::paragraph::styled(&at, 10, &line, width, Label::Warning),
    });
}
