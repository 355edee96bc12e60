//! Whom a hand means. There is no default target, and a bare number is never enough where nobody is asked.

use std::io::IsTerminal;

use sophron_core::act::{Act, Verb};
use sophron_core::condition::Truth;
use sophron_core::facts::Facts;
use sophron_core::groups::children;
use sophron_core::model::{CheckedPid, Process, Snapshot};
use sophron_core::sorted::SortedSet;
use sophron_core::text::processes;

use crate::args;
use crate::commands::condition;
use crate::commands::target::{self, Target};
use crate::exit::{Exit, Failure};

/// Most processes that `--where` acts on where nobody is asked.
pub(super) const MOST_UNASKED: usize = 10;

/// Every process meant, and whether it was asked for by itself.
pub(super) fn pick(args: &args::Hand, act: &Act, snapshot: &Snapshot) -> Result<Vec<(Process, bool)>, Failure> {
    let word = act.verb();
    if args.targets.is_empty() && args.covers.is_none() {
        return Err(Failure::new(Exit::Usage, format!("{word} whom? there is no default target"))
            .hint(format!("sophron {word} 51907-kqm, an app by its name, or --where 'memory > 750 MiB'")));
    }
    let asked = std::io::stdin().is_terminal() && !args.consent.yes;
    let mut meant: Vec<&Process> = Vec::new();
    for text in &args.targets {
        meant.extend(named(args, text, &word, asked, snapshot)?);
    }
    if let Some(text) = &args.covers {
        meant.extend(fitting(args, text, asked, snapshot)?);
    }
    let mut known = SortedSet::new();
    let once = meant.into_iter().filter(|process| known.insert(process.id));
    let mut picked: Vec<(Process, bool)> = once.map(|process| (process.clone(), true)).collect();
    if args.tree {
        add_descendants(snapshot, &mut picked);
    }
    Ok(picked)
}

fn refused(what: String, hint: impl Into<String>) -> Failure {
    Failure::new(Exit::Refused, what).hint(hint)
}

/// By a checked PID, a bare one or an app.
fn named<'s>(
    args: &args::Hand,
    text: &str,
    word: &Verb,
    asked: bool,
    snapshot: &'s Snapshot,
) -> Result<Vec<&'s Process>, Failure> {
    match target::find(text, snapshot)? {
        Target::Process(process) => {
            let checked = text.parse::<CheckedPid>().is_ok();
            if !checked && !asked && !args.consent.dry_run {
                let hint = format!("sophron {word} {}, if {} is meant", process.id.checked(), process.label());
                return Err(refused(format!("{text} alone could be a slip: nobody is asked here"), hint));
            }
            Ok(vec![process])
        }
        Target::App(members) => {
            if !asked && !args.consent.yes && !args.consent.dry_run {
                let what = format!("{text} is an app, of {} now: nobody is asked here", processes(members.len()));
                return Err(refused(
                    what,
                    "give checked PIDs, or --yes if all of them are meant; --dry-run shows them",
                ));
            }
            Ok(members)
        }
    }
}

/// By `--where`.
fn fitting<'s>(
    args: &args::Hand,
    text: &str,
    asked: bool,
    snapshot: &'s Snapshot,
) -> Result<Vec<&'s Process>, Failure> {
    let covers = condition(text)?;
    let own = std::process::id();
    let others = snapshot.processes.iter().filter(|process| process.id.pid != own && !process.has_ended());
    let fits = |process: &&Process| covers.evaluate(&Facts::new(process, &snapshot.machine)) == Truth::True;
    let covered: Vec<&Process> = others.filter(fits).collect();
    if covered.is_empty() {
        return Err(Failure::new(Exit::Failed, "no process matches --where; what cannot be read never does")
            .hint("rates such as cpu are not known at a first look: `sophron list --where …` shows who they fit"));
    }
    if asked || args.consent.dry_run {
        return Ok(covered);
    }
    let fits = format!("--where fits {}", processes(covered.len()));
    if !args.consent.yes {
        let hint = "add --yes if all of them are meant; --dry-run shows them";
        return Err(refused(format!("{fits}: nobody is asked here"), hint));
    }
    let most = args.at_most.unwrap_or(MOST_UNASKED);
    if covered.len() > most {
        let hint = format!("--at-most {} allows it; --dry-run shows them", covered.len());
        return Err(refused(format!("{fits}, and at most {most} are acted on unasked"), hint));
    }
    Ok(covered)
}

fn add_descendants(snapshot: &Snapshot, picked: &mut Vec<(Process, bool)>) {
    let children = children(&snapshot.processes);
    let mut known: SortedSet<u32> = picked.iter().map(|(process, _)| process.id.pid).collect();
    let mut at = 0;
    while let Some(parent) = picked.get(at).map(|(process, _)| process.id.pid) {
        let below = children.get(&parent).into_iter().flatten().filter(|child| !child.has_ended());
        let new: Vec<(Process, bool)> =
            below.filter(|child| known.insert(child.id.pid)).map(|child| ((*child).clone(), false)).collect();
        picked.extend(new);
        at += 1;
    }
}
