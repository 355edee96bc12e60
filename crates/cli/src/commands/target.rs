//! What a command is told to look at: a checked PID, a PID, or an app.

use sophron_core::model::{CheckedPid, CheckedPidError, Process, Snapshot};
use sophron_core::order::InOrder;
use sophron_core::text::{clean, nearest};

use crate::exit::{Exit, Failure};

/// A target found in a snapshot.
pub enum Target<'s> {
    /// One process.
    Process(&'s Process),
    /// The processes of an app, of every owner.
    App(Vec<&'s Process>),
}

impl Target<'_> {
    /// The process meant; of an app the heaviest.
    pub fn heaviest(&self) -> &Process {
        match self {
            Target::Process(process) => process,
            Target::App(members) => {
                let heavier = |a: &&&Process, b: &&&Process| {
                    let cpu = |process: &Process| process.cpu.unwrap_or(0.0);
                    cpu(a).total_cmp(&cpu(b)).then(a.memory.cmp(&b.memory)).then(b.id.pid.cmp(&a.id.pid))
                };
                // An app that was found has a process.
                members.iter().max_by(heavier).copied().unwrap_or(members[0])
            }
        }
    }
}

/// Finds it, or says why not. Check letters that do not fit are refused: that process is not the one meant.
pub fn find<'s>(text: &str, snapshot: &'s Snapshot) -> Result<Target<'s>, Failure> {
    let shown = clean(text.as_bytes());
    match text.parse::<CheckedPid>() {
        Ok(checked) => {
            return match snapshot.process(checked.pid) {
                Some(process) if checked.fits(&process.id) => Ok(Target::Process(process)),
                found => Err(misfit(&shown, found, snapshot)),
            };
        }
        Err(CheckedPidError::Mistyped(_)) => {
            let pid = text.split('-').next().and_then(|digits| digits.parse().ok());
            return Err(misfit(&shown, pid.and_then(|pid| snapshot.process(pid)), snapshot));
        }
        Err(_) => {}
    }
    if let Ok(pid) = text.parse::<u32>() {
        return snapshot.process(pid).map(Target::Process).ok_or_else(|| {
            let failure = Failure::new(Exit::Failed, format!("there is no process {pid}"));
            if snapshot.machine.hidden {
                failure.hint("processes of other users are hidden from you (hidepid): run it as root")
            } else {
                failure.hint("it may have ended: `sophron list` shows who is there")
            }
        });
    }
    // Whose program is not known yet is of no app.
    let known = snapshot.processes.iter().filter(|process| !process.app_unread() && !process.has_ended());
    let members: Vec<&Process> = known.filter(|process| process.app == text).collect();
    if !members.is_empty() {
        return Ok(Target::App(members));
    }
    let unread = snapshot.processes.iter().filter(|process| process.app_unread()).count();
    if unread > 0 {
        let seen = format!(
            "no app that is known is called {shown}; of {unread} processes it could not be read in time what they run"
        );
        return Err(Failure::new(Exit::Failed, seen).hint("try again, or give a checked PID"));
    }
    let failure = Failure::new(Exit::Failed, format!("no app is called {shown}"));
    let apps = snapshot.processes.iter().map(|process| process.app.as_str());
    Err(match nearest(text, apps) {
        Some(near) => failure.hint(format!("the nearest is {near}")),
        None => failure.hint("a target is a checked PID as 51907-kqm, a PID, or an app as `sophron list` shows it"),
    })
}

/// The letters do not fit the number: says whom they would fit, since one of both was mistyped.
fn misfit(shown: &str, found: Option<&Process>, snapshot: &Snapshot) -> Failure {
    let what = match found {
        Some(process) => format!("{shown} does not fit: the process with that number is {}", process.label()),
        None => format!("{shown} is no process: the letters do not fit the number, or it has ended"),
    };
    let failure = Failure::new(Exit::Refused, what);
    let Some((_, letters)) = shown.rsplit_once('-') else { return failure };
    let fits = |process: &&Process| process.id.checked().to_string().ends_with(&format!("-{letters}"));
    let mut fitting: Vec<&Process> = snapshot.processes.iter().filter(fits).collect();
    // Of those with the same letters, the one meant differs in a digit or two.
    fitting.order_by_key(|process| {
        let digits = process.id.pid.to_string();
        let typed = shown.split('-').next().unwrap_or_default();
        typed.len().abs_diff(digits.len()) * 8 + typed.bytes().zip(digits.bytes()).filter(|(a, b)| a != b).count()
    });
    match fitting.first() {
        Some(process) => failure.hint(format!("the letters would fit {}", process.label())),
        None => failure.hint("`sophron list` shows who is there"),
    }
}
