//! `sophron restore`: takes back what the record shows as ours and still in force.

use sophron_core::act::{Act, Order, Outcome};
use sophron_core::audit::OpenHold;
use sophron_core::happening::{CarriedOut, Happening, What};
use sophron_core::model::Snapshot;
use sophron_linux::act::Actuator;
use sophron_linux::here;

use super::acts::ByHand;
use super::ending::ending;
use super::record::Trail;
use crate::args;
use crate::exit::{Exit, Failure};
use crate::ui;
use crate::ui::style::{Label, Styled};
use crate::watcher::rules_file;

pub fn run(args: &args::Restore) -> Result<Exit, Failure> {
    super::not_to_be_stopped()?;
    super::numbers_are_ours()?;
    let mut trail = Trail::new(&args.state, args.because.as_deref(), &rules_file::guidance(None)?.audit())?;
    let boot = trail.scribe.boot;
    let holds: Vec<OpenHold> = trail.in_force.holds().filter(|hold| hold.id.boot == boot).cloned().collect();
    if holds.is_empty() {
        ui::out(format_args!("nothing of ours is in force, by the record in {}\n", trail.state.display()));
        return Ok(Exit::Fine);
    }
    let chosen = choose(args, &holds)?;
    trail.open()?;
    let mut exit = Exit::Fine;
    for hold in chosen {
        exit = match restore(args, &mut trail, hold) {
            Outcome::Refused(_) => Exit::Refused,
            Outcome::Unrecorded(_) => Exit::Failed,
            _ => exit,
        };
    }
    ending(None, None, &[]);
    Ok(exit)
}

/// By the record and not by what runs now: what has ended is settled as well.
fn choose<'a>(args: &args::Restore, holds: &'a [OpenHold]) -> Result<Vec<&'a OpenHold>, Failure> {
    let is = |hold: &OpenHold, target: &String| {
        *target == hold.subject.id || *target == hold.subject.pid.to_string() || *target == hold.subject.app
    };
    let meant = |hold: &&OpenHold| args.all || args.targets.iter().any(|target| is(hold, target));
    let chosen: Vec<&OpenHold> = holds.iter().filter(meant).collect();
    let unknown = args.targets.iter().find(|target| !chosen.iter().any(|hold| is(hold, target)));
    let Some(target) = unknown else { return Ok(chosen) };
    let names: Vec<String> = holds.iter().map(|hold| format!("{} {}", hold.subject.app, hold.subject.id)).collect();
    let seen = format!("nothing of ours is in force on {}", sophron_core::text::clean(target.as_bytes()));
    Err(Failure::new(Exit::Failed, seen).hint(format!("lowered by us are {}", names.join(", "))))
}

/// One of them: done, said and recorded.
fn restore(args: &args::Restore, trail: &mut Trail, hold: &OpenHold) -> Outcome {
    let act = Act::Restore { set: hold.nice, originals: hold.originals.clone(), still: None };
    let order = Order::on(hold.subject.process(trail.scribe.boot), act.clone());
    let actuator = Actuator { direct: args.service_manager.clone(), ..Actuator::default() };
    let snapshot = Snapshot::default();
    let mut by_hand = ByHand { trail, order: &order, snapshot: &snapshot, tree: false, takes_back: true };
    let (outcome, took, _) = actuator.perform(&order, &mut by_hand).outcome();
    let help = match &outcome {
        Outcome::Refused(_) => format!(": sudo sophron restore {}", hold.subject.id),
        _ => String::new(),
    };
    let who = hold.subject.label();
    let label = if outcome.is_success() { Label::Notice } else { Label::Warning };
    ui::out(format_args!("{}  {who}  {}{help}\n", Styled(label, outcome.came()), outcome.seen()));
    if matches!(outcome, Outcome::Unrecorded(_)) {
        return outcome;
    }
    let because = trail.because.clone();
    let out = CarriedOut { took: Some(took), because, ..CarriedOut::of(act, outcome.clone()) };
    let happening = Happening::about(here::now().wall, &order.targets[0], What::Came(out));
    trail.tell(&Happening { case: Some(hold.case).filter(|case| *case != 0), ..happening });
    outcome
}
