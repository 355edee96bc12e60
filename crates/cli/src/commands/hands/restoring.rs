//! `sophron restore`: takes back what the record shows as ours and still in force.

use std::time::Instant;

use sophron_core::audit::{ActionRecord, Kind, OpenHold};
use sophron_linux::handle::Handle;

use super::record::Trail;
use crate::args;
use crate::exit::{Exit, Failure};
use crate::lowering::{self, Restored};
use crate::ui;
use crate::ui::style::{Label, Styled};
use crate::watcher::drafts::DraftExt;
use crate::watcher::rules_file;

pub fn run(args: &args::Restore) -> Result<Exit, Failure> {
    super::not_to_be_stopped()?;
    super::numbers_are_ours()?;
    let hand = args::Hand::of_restore(args);
    let mut trail = Trail::new(&hand, &rules_file::guidance(None)?.audit())?;
    let boot = trail.drafter.boot;
    let holds: Vec<OpenHold> = trail.in_force.holds().filter(|hold| hold.id.boot == boot).cloned().collect();
    if holds.is_empty() {
        ui::out(format_args!("nothing of ours is in force, by the record in {}\n", trail.state.display()));
        return Ok(Exit::Fine);
    }
    // By the record and not by what runs now: what has ended is settled as well.
    let is = |hold: &OpenHold, target: &String| {
        *target == hold.subject.id || *target == hold.subject.pid.to_string() || *target == hold.subject.app
    };
    let meant = |hold: &&OpenHold| args.all || args.targets.iter().any(|target| is(hold, target));
    let chosen: Vec<&OpenHold> = holds.iter().filter(meant).collect();
    for target in &args.targets {
        if !chosen.iter().any(|hold| is(hold, target)) {
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

fn restore(hold: &OpenHold, args: &args::Restore) -> (Kind, &'static str, String) {
    let handle = Handle::open(&hold.id).ok();
    let direct = args.service_manager.as_deref();
    match lowering::put_back(handle.as_ref(), hold.nice, &hold.originals, None, direct) {
        Restored::Done(what) => (Kind::Restored, "restored", what),
        Restored::Superseded => {
            (Kind::Superseded, "kept", "somebody else has changed it since: left as it is".to_owned())
        }
        Restored::Gone => (Kind::Superseded, "gone", "it has ended: nothing to put back".to_owned()),
        Restored::Refused(why) => {
            (Kind::Refused, "refused", format!("{why}: sudo sophron restore {}", hold.subject.id))
        }
    }
}
