//! Whom a hand means. There is no default target, and a bare number is never enough where nobody is asked.

use std::collections::BTreeSet;
use std::io::IsTerminal;

use sophron_core::act::Act;
use sophron_core::condition::Truth;
use sophron_core::facts::Facts;
use sophron_core::groups::children;
use sophron_core::model::{CheckedPid, Process, Snapshot};

use crate::args;
use crate::commands::condition;
use crate::commands::target::{self, Target};
use crate::exit::{Exit, Failure};

/// Most processes that `--where` acts on where nobody is asked.
const MOST_UNASKED: usize = 10;

/// Every process meant, and whether it was asked for by itself.
pub(super) fn pick(args: &args::Hand, act: &Act, snapshot: &Snapshot) -> Result<Vec<(Process, bool)>, Failure> {
    let word = act.verb();
    if args.targets.is_empty() && args.covers.is_none() {
        return Err(Failure::new(Exit::Usage, format!("{word} whom? there is no default target"))
            .hint(format!("sophron {word} 51907-kqm, an app by its name, or --where 'memory > 750 MiB'")));
    }
    let asked = std::io::stdin().is_terminal() && !args.consent.yes;
    let mut picked: Vec<(Process, bool)> = Vec::new();
    let mut add = |process: &Process, root: bool| {
        if !picked.iter().any(|(known, _)| known.id == process.id) {
            picked.push((process.clone(), root));
        }
    };
    for text in &args.targets {
        match target::find(text, snapshot)? {
            Target::Process(process) => {
                let checked = text.parse::<CheckedPid>().is_ok();
                if !checked && !asked && !args.consent.dry_run {
                    let meant = process.id.checked();
                    return Err(Failure::new(
                        Exit::Refused,
                        format!("{text} alone could be a slip: nobody is asked here"),
                    )
                    .hint(format!("sophron {word} {meant}, if {} is meant", process.label())));
                }
                add(process, true);
            }
            Target::App(members) => {
                if !asked && !args.consent.yes && !args.consent.dry_run {
                    let of = if members.len() == 1 {
                        "1 process".to_owned()
                    } else {
                        format!("{} processes", members.len())
                    };
                    return Err(Failure::new(
                        Exit::Refused,
                        format!("{text} is an app, of {of} now: nobody is asked here"),
                    )
                    .hint("give checked PIDs, or --yes if all of them are meant; --dry-run shows them"));
                }
                members.iter().for_each(|member| add(member, true));
            }
        }
    }
    if let Some(text) = &args.covers {
        let covers = condition(text)?;
        let own = std::process::id();
        let covered = snapshot.processes.iter().filter(|process| process.id.pid != own && !process.has_ended());
        let covered: Vec<&Process> =
            covered.filter(|process| covers.evaluate(&Facts::new(process, &snapshot.machine)) == Truth::True).collect();
        if covered.is_empty() {
            return Err(Failure::new(Exit::Failed, "no process matches --where; what cannot be read never does")
                .hint("rates such as cpu are not known at a first look: `sophron list --where …` shows who they fit"));
        }
        if !asked && !args.consent.yes && !args.consent.dry_run {
            return Err(Failure::new(
                Exit::Refused,
                format!("--where fits {} processes: nobody is asked here", covered.len()),
            )
            .hint("add --yes if all of them are meant; --dry-run shows them"));
        }
        let most = args.at_most.unwrap_or(MOST_UNASKED);
        if !asked && covered.len() > most && !args.consent.dry_run {
            return Err(Failure::new(
                Exit::Refused,
                format!("--where fits {} processes, and at most {most} are acted on unasked", covered.len()),
            )
            .hint(format!("--at-most {} allows it; --dry-run shows them", covered.len())));
        }
        covered.into_iter().for_each(|process| add(process, true));
    }
    if args.tree {
        add_descendants(snapshot, &mut picked);
    }
    Ok(picked)
}

fn add_descendants(snapshot: &Snapshot, picked: &mut Vec<(Process, bool)>) {
    let children = children(&snapshot.processes);
    let mut known: BTreeSet<u32> = picked.iter().map(|(process, _)| process.id.pid).collect();
    let mut at = 0;
    while let Some(parent) = picked.get(at).map(|(process, _)| process.id.pid) {
        let below = children.get(&parent).into_iter().flatten().filter(|child| !child.has_ended());
        let new: Vec<(Process, bool)> =
            below.filter(|child| known.insert(child.id.pid)).map(|child| ((*child).clone(), false)).collect();
        picked.extend(new);
        at += 1;
    }
}
