//! `sophron restore`: takes back what the record shows as ours and still in force.

use std::time::Instant;

use sophron_core::audit::{self, ActionRecord, Kind, OpenHold};
use sophron_linux::act::{self, ActError};
use sophron_linux::handle::Handle;
use sophron_linux::service_manager::ServiceManager;

use super::record::Trail;
use crate::args;
use crate::exit::{Exit, Failure};
use crate::ui;
use crate::ui::style::{Label, Styled};
use crate::watcher::drafts::DraftExt;
use crate::watcher::recorder::chain;

pub fn run(args: &args::Restore) -> Result<Exit, Failure> {
    let hand = args::Hand::of_restore(args);
    let mut trail = Trail::new(&hand)?;
    let boot = trail.drafter.boot;
    let holds: Vec<OpenHold> =
        audit::open_holds(&trail.before).into_iter().filter(|hold| hold.id.boot == boot).collect();
    if holds.is_empty() {
        ui::out(format_args!("nothing of ours is in force, by the record in {}\n", trail.state.display()));
        return Ok(Exit::Fine);
    }
    let meant = |hold: &&OpenHold| {
        args.all
            || args.targets.iter().any(|target| {
                *target == hold.subject.id || *target == hold.subject.pid.to_string() || *target == hold.subject.app
            })
    };
    let chosen: Vec<&OpenHold> = holds.iter().filter(meant).collect();
    for target in &args.targets {
        let of = |hold: &&&OpenHold| {
            *target == hold.subject.id || *target == hold.subject.pid.to_string() || *target == hold.subject.app
        };
        if chosen.iter().find(of).is_none() {
            let names: Vec<String> =
                holds.iter().map(|hold| format!("{} {}", hold.subject.app, hold.subject.id)).collect();
            return Err(Failure::new(
                Exit::Failed,
                format!("nothing of ours is in force on {}", sophron_core::text::clean(target.as_bytes())),
            )
            .hint(format!("lowered by us are {}", names.join(", "))));
        }
    }
    trail.open()?;
    let mut exit = Exit::Fine;
    for hold in chosen {
        let began = Instant::now();
        let mut draft = trail.drafter.plain(Kind::Intent).doing(ActionRecord::word("restore"));
        draft.case = Some(hold.case).filter(|case| *case != 0);
        draft.subject = Some(hold.subject.clone());
        let who = format!("{} {} ({})", hold.subject.app, hold.subject.id, hold.subject.owner);
        if let Err(why) = trail.write(&draft) {
            ui::out(format_args!("{}  {who}  no record, no action: {why}\n", Styled(Label::Warning, "dropped")));
            exit = Exit::Failed;
            continue;
        }
        let (kind, word, seen) = restore(hold, args);
        if kind == Kind::Refused {
            exit = Exit::Refused;
        }
        trail.tell(&draft, kind, word, &seen, Some((began.elapsed().as_secs_f64() * 1000.0).round() / 1000.0));
        let label = if kind == Kind::Refused { Label::Warning } else { Label::Notice };
        ui::out(format_args!("{}  {who}  {seen}\n", Styled(label, word)));
    }
    Ok(exit)
}

/// The unit's weight, where it is still what we set; what came of it in words.
fn weight_back(hold: &OpenHold, args: &args::Restore) -> Option<Result<String, String>> {
    let weight = hold.originals.weight.as_ref()?;
    let direct = args.service_manager.as_deref();
    let manager = direct.map_or_else(|| ServiceManager::of_user(weight.uid), ServiceManager::at);
    match manager.cpu_weight(&weight.unit) {
        Ok(now) if now == Some(weight.set) => Some(match manager.set_cpu_weight(&weight.unit, weight.was) {
            Ok(()) => Ok(format!("CPU weight of its unit {} → {}", weight.set, weight.was.unwrap_or(100))),
            Err(error) => Err(chain(&error)),
        }),
        Ok(_) => None,
        Err(error) => Some(Err(chain(&error))),
    }
}

fn restore(hold: &OpenHold, args: &args::Restore) -> (Kind, &'static str, String) {
    let weight = weight_back(hold, args);
    if let Some(Err(why)) = &weight {
        return (Kind::Refused, "refused", format!("the CPU weight of its unit is not put back: {why}"));
    }
    let weight = weight.and_then(Result::ok);
    let handle = match Handle::open(&hold.id) {
        Ok(handle) => handle,
        Err(_) => return (Kind::Superseded, "gone", "it has ended: nothing to put back".to_owned()),
    };
    let was = hold.originals.session;
    let session = was.filter(|_| act::session_value(&handle) == Some(hold.nice));
    let of_session = session.map(|was| act::set_session_value(&handle, was));
    let put_back = match of_session {
        Some(Err(error)) => Err(error),
        _ => act::restore(&handle, hold.nice, &hold.originals, None),
    };
    match put_back {
        Ok(done) if done.restored + done.disks == 0 && session.is_none() && weight.is_none() => {
            (Kind::Superseded, "kept", "somebody else has changed it since: left as it is".to_owned())
        }
        Ok(done) => {
            let mut what = Vec::new();
            if done.restored > 0 {
                what.push(format!("nice {} → {}, {} threads", hold.nice, hold.originals.was, done.restored));
            }
            if done.disks > 0 {
                what.push(format!("disk as before, {} threads", done.disks));
            }
            what.extend(weight);
            what.extend(session.map(|was| format!("its session's value {} → {was}", hold.nice)));
            (Kind::Restored, "restored", what.join("; "))
        }
        Err(ActError::Gone) => (Kind::Superseded, "gone", "it has ended: nothing to put back".to_owned()),
        Err(error) => {
            let id = &hold.subject.id;
            (Kind::Refused, "refused", format!("{}: sudo sophron restore {id}", chain(&error)))
        }
    }
}
