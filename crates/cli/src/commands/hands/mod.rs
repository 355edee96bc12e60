//! Acting by hand: lower, suspend, resume, terminate, restore. The same actuator as rules use, the same record.
//!
//! The order: targets are found, each is fixed by a handle, protection and rights are looked at, the list is shown, the
//! person is asked; the record is synced; everything is looked at once more; the act; what the kernel shows afterwards.

mod acts;
mod ending;
mod left;
mod lowering;
mod preview;
mod record;
mod restoring;
mod suspending;
mod targets;

use std::io::IsTerminal;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use sophron_core::act::Act;
use sophron_core::command_lines::CommandLines;
use sophron_core::facts::Facts;
use sophron_core::model::{Needs, Process, Snapshot};
use sophron_core::protect::Protections;
use sophron_core::sorted::{SortedMap, SortedSet};
use sophron_linux::act::Lineage;
use sophron_linux::handle::Handle;
use sophron_linux::here::{self, Capability};
use sophron_linux::roles::Roles;
use sophron_linux::service_manager::{ManagerError, UnitName};
use sophron_linux::{Sampler, sys, terminal};

pub use left::run as resume_the_left;
pub use restoring::run as restore;

use crate::args;
use crate::exit::{Exit, Failure};
use crate::ui;
use crate::watcher::rules_file;
use record::Trail;

/// How long names that come late are waited for.
const NAMES: Duration = Duration::from_secs(2);

/// Which right acting on another user's process takes.
fn capability(act: &Act) -> Capability {
    if matches!(act, Act::Lower { .. }) { Capability::SysNice } else { Capability::Kill }
}

/// One target, fixed.
struct Chosen {
    process: Process,
    handle: Arc<Handle>,
    /// Asked for by itself, and not as a descendant.
    root: bool,
    /// Why nothing is done to it.
    refused: Option<String>,
}

/// A hand at work.
struct Hand<'a> {
    act: Act,
    args: &'a args::Hand,
    snapshot: Snapshot,
    sampler: Sampler,
    protections: Protections,
    chosen: Vec<Chosen>,
    trail: Trail,
    lineage: Option<Lineage>,
    /// Who was refused, by PID.
    refused: SortedSet<u32>,
}

pub fn run(act: Act, args: &args::Hand) -> Result<Exit, Failure> {
    not_to_be_stopped()?;
    numbers_are_ours()?;
    let guidance = rules_file::guidance(args.rules.as_deref())?;
    guidance.binding(args.override_protection)?;
    let failed = |error| Failure::of(Exit::Failed, error);
    // Before the first look: who leaves a tree from now on is known all the same.
    let lineage = if args.tree { Lineage::listen() } else { None };
    let full = guidance.audit().command_lines == CommandLines::Full;
    let mut sampler = Sampler::new(Path::new("/proc"), Needs::PERIODIC).map_err(failed)?.with_unmasked(full);
    let mut snapshot = Snapshot::default();
    sampler.sample(&mut snapshot).map_err(failed)?;
    // On a slow machine names come late; whoever acts waits for them a little.
    let give_up = Instant::now() + NAMES;
    while snapshot.processes.iter().any(|process| process.app_unread()) && Instant::now() < give_up {
        std::thread::sleep(NAMES / 20);
        sampler.sample(&mut snapshot).map_err(failed)?;
    }
    let picked = targets::pick(args, &act, &snapshot)?;
    // Fixed before the question: whoever gets one of these numbers later is never touched, and nobody is added.
    let mut chosen = Vec::new();
    for (process, root) in picked {
        match Handle::open(&process.id) {
            Ok(handle) => chosen.push(Chosen { process, handle: Arc::new(handle), root, refused: None }),
            Err(error) => ui::err(format_args!("sophron: {}: {error}\n", process.label())),
        }
    }
    if chosen.is_empty() {
        return Err(Failure::new(Exit::Failed, "none of them is there any more"));
    }
    let holders = terminal::holders(snapshot.machine.boot);
    let protections = guidance.protections_now(&snapshot, holders);
    let trail = Trail::new(&args.state, args.because.as_deref(), &guidance.audit())?;
    let mut hand =
        Hand { act, args, snapshot, sampler, protections, chosen, trail, lineage, refused: SortedSet::new() };
    hand.refuse();
    ui::out(preview::render(&hand));
    let able = hand.chosen.iter().filter(|chosen| chosen.refused.is_none()).count();
    if args.consent.dry_run {
        ui::out("dry run: nothing was done\n");
        return Ok(if able > 0 { Exit::Fine } else { Exit::Refused });
    }
    if able == 0 {
        return Ok(Exit::Refused);
    }
    if !args.consent.yes && std::io::stdin().is_terminal() && !ask(&hand.act, able)? {
        ui::out("nothing was done\n");
        return Ok(Exit::Fine);
    }
    hand.trail.open()?;
    let refused = hand.chosen.len() > able;
    let done = hand.go()?;
    Ok(if refused && done == Exit::Fine { Exit::Refused } else { done })
}

/// A hand that was stopped by Ctrl-Z half-way would hold the trail's lock, and no watcher could act. Every thread that is
/// begun from here on is as deaf to it.
pub(super) fn not_to_be_stopped() -> Result<(), Failure> {
    sys::block_stop_signals().map_err(|error| Failure::new(Exit::Failed, "signals cannot be set up").because(error))
}

/// Where /proc numbers other processes than the system calls do nothing is touched.
fn numbers_are_ours() -> Result<(), Failure> {
    if here::proc_is_ours() { Ok(()) } else { Err(crate::watcher::foreign()) }
}

/// In a terminal the person has the last word.
fn ask(act: &Act, able: usize) -> Result<bool, Failure> {
    let them = if able == 1 { "it".to_owned() } else { format!("these {able}") };
    ui::out(format_args!("{} {them}? type yes to go on: ", act.verb()));
    let mut answer = String::new();
    // Nothing is held while a person thinks: the terminal may stop us here.
    let _ = sys::allow_stop_signals();
    let read = std::io::stdin().read_line(&mut answer);
    not_to_be_stopped()?;
    read.map_err(|error| Failure::new(Exit::Failed, "the answer cannot be read").because(error))?;
    Ok(answer.trim().eq_ignore_ascii_case("yes"))
}

/// Only a service can be restarted; of anything else nobody knows how it was started, but by its command line.
fn no_unit(act: &Act, process: &Process) -> Option<String> {
    if *act != Act::Restart {
        return None;
    }
    match UnitName::restartable(process) {
        Ok(_) => return None,
        Err(error @ ManagerError::Claim { .. }) => return Some(error.to_string()),
        Err(_) => {}
    }
    let started = process
        .command
        .as_deref()
        .filter(|command| !command.is_empty())
        .map(|command| format!("; its command line is: {command}"));
    let of = process
        .unit
        .as_deref()
        .filter(|unit| !unit.is_empty())
        .map_or("no unit".to_owned(), |unit| format!("the unit {unit}"));
    Some(format!(
        "it belongs to {of}, which no service manager starts: end it, and start it as it was started{}",
        started.unwrap_or_default()
    ))
}

impl Hand<'_> {
    /// Whom it must not, cannot or need not touch, each with the reason and what would help.
    fn refuse(&mut self) {
        let machine = &self.snapshot.machine;
        let stands_still = self.act.stands_in_the_way();
        let roles = stands_still.then(Roles::look);
        // What is meant along with it may wait for it.
        let family: SortedSet<u32> = self.chosen.iter().map(|chosen| chosen.process.id.pid).collect();
        for chosen in &mut self.chosen {
            let process = &chosen.process;
            let id = process.id.checked();
            let never = process.id.pid == 1 || process.kernel;
            let resuming = self.act == Act::Resume;
            let protected = self.protections.reason(&Facts::new(process, machine)).filter(|_| !resuming);
            let own = process.uid == here::uid();
            let role = roles.as_ref().and_then(|roles| roles.of(process, &family));
            let protected = protected.or(role);
            chosen.refused = if process.has_ended() {
                Some("it has ended already, and waits for its parent to collect it".to_owned())
            } else if let Some(why) = protected.filter(|_| never || !self.args.override_protection) {
                let way =
                    if never { "; nothing overrides that" } else { "; --override-protection does it all the same" };
                Some(format!("protected: {why}{way}"))
            } else if let Some(why) = no_unit(&self.act, process) {
                Some(why)
            } else if !own && !here::is_root() && self.act != Act::Restart && !here::has(capability(&self.act)) {
                let (verb, right) = (self.act.verb(), capability(&self.act));
                Some(format!("it is {}'s; root may do it, or who has {right}: sudo sophron {verb} {id}", process.owner))
            } else {
                None
            };
        }
        self.spare_what_hangs_on_the_spared();
    }

    /// A tree ends at whoever is refused: what descends from him is not taken along either, unless it was asked for by
    /// itself. Descendants stand behind their parents in the list.
    fn spare_what_hangs_on_the_spared(&mut self) {
        let mut spared: SortedMap<u32, String> = SortedMap::new();
        for chosen in &mut self.chosen {
            if chosen.refused.is_none()
                && !chosen.root
                && let Some(parent) = spared.get(&chosen.process.parent)
            {
                chosen.refused = Some(format!("it hangs on {parent}, which is left alone"));
            }
            if chosen.refused.is_some() {
                spared.insert(chosen.process.id.pid, chosen.process.label());
            }
        }
    }
}
