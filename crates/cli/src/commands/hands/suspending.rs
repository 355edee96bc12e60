//! Suspending by hand: guarded, counted down, resumed by this very command, whatever becomes of its terminal.

use std::io::IsTerminal;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use sophron_core::act::{Act, Order, Outcome};
use sophron_core::units::scaled_duration;
use sophron_linux::handle::Handle;
use sophron_linux::locks;

use super::acts::{ids, say, worse};
use super::ending::{ending, meanwhile, said};
use super::{Chosen, Hand};
use crate::exit::{Exit, Failure};
use crate::ui;

/// How often it is looked whether somebody waits, or has resumed them.
const LOOK: Duration = Duration::from_millis(100);

impl Hand<'_> {
    pub(super) fn suspend(&mut self, able: &[Chosen], length: Duration) -> Result<Exit, Failure> {
        let enough = listen()?;
        let Some(order) = self.order(able, able) else { return Ok(Exit::Fine) };
        let all: Vec<&Chosen> = able.iter().collect();
        let performed = self.perform(&order, &all, false);
        let until = Instant::now() + length;
        let mut exit = Exit::Fine;
        let mut still: Vec<&Chosen> = Vec::new();
        let mut more = 0;
        for (chosen, outcome) in able.iter().zip(performed.outcomes) {
            exit = worse(exit, &outcome);
            if let Outcome::Suspended(standstill) = &outcome {
                still.push(chosen);
                more = standstill.more;
            }
            self.finish(chosen, outcome, performed.took, None);
        }
        let Some(standing) = performed.standing else { return Ok(exit) };
        if more > 0 {
            ui::out(format_args!("{more} more that they started meanwhile stand still with them\n"));
        }
        let members: Vec<Arc<Handle>> = match standing.tree() {
            Some(tree) => tree.members().cloned().collect(),
            None => still.iter().map(|chosen| Arc::clone(&chosen.handle)).collect(),
        };
        let undo = format!("Ctrl-C here, or elsewhere: sophron resume {}", ids(able));
        said("undo", Some(&undo).filter(|_| !members.is_empty()).map(String::as_str));
        let before = self.snapshot.machine.clone();
        // From here on, not from before it stood still.
        let began = self.sampler.look();
        count_down(&members, until, &enough);
        let meanwhile = began.and_then(|_| self.sampler.look()).ok().and_then(|now| meanwhile(&before, &now.machine));
        if let Some(tree) = standing.tree() {
            tree.resume();
        }
        for chosen in still {
            let order = Order::on(chosen.process.clone(), Act::Resume);
            let (outcome, took, _) = self.perform(&order, &[chosen], true).outcome();
            say(&chosen.process, &outcome, None);
            self.record(&chosen.process, Act::Resume, outcome, Some(took), None);
        }
        standing.release();
        ending(meanwhile.as_deref(), None, &[]);
        Ok(exit)
    }
}

/// Ctrl-C and a polite end resume at once; a terminal that goes away changes nothing.
fn listen() -> Result<Arc<AtomicBool>, Failure> {
    let failed = |error| Failure::new(Exit::Failed, "signals cannot be set up").because(error);
    let (enough, unheard) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicBool::new(false)));
    for signal in [SIGINT, SIGTERM] {
        signal_hook::flag::register(signal, Arc::clone(&enough)).map_err(failed)?;
    }
    signal_hook::flag::register(SIGHUP, unheard).map_err(failed)?;
    Ok(enough)
}

/// Stays until the time is over, the person has had enough, somebody else needs them, or nobody is left to resume.
fn count_down(members: &[Arc<Handle>], until: Instant, enough: &AtomicBool) {
    let shown = std::io::stderr().is_terminal() && std::io::stdout().is_terminal();
    let pids: Vec<u32> = members.iter().map(|member| member.id().pid).collect();
    let first = locks::waiting_for(&pids, LOOK * 10);
    // Who holds no lock now takes none while it stands still.
    let watched = first.as_ref().is_none_or(|_| pids.iter().any(|pid| locks::holds_any(*pid) != Some(false)));
    let waiting = first.map_or(0, |waiting| waiting.len());
    let mut said = Duration::MAX;
    loop {
        let left = until.saturating_duration_since(Instant::now());
        if left.is_zero() {
            return;
        }
        if enough.load(Ordering::SeqCst) {
            ui::out("resumed early, as asked\n");
            return;
        }
        let now = if watched { locks::waiting_for(&pids, LOOK) } else { None };
        if now.is_some_and(|now| now.len() > waiting) {
            ui::out("somebody waits for a file lock that they hold: resumed at once\n");
            return;
        }
        if members.iter().all(|member| member.has_ended()) {
            return;
        }
        let stands = |member: &Arc<Handle>| {
            member
                .threads()
                .is_ok_and(|threads| threads.iter().any(|thread| thread.state == sophron_core::state::State::Suspended))
        };
        if !members.iter().any(stands) {
            ui::out("somebody else has resumed them\n");
            return;
        }
        let whole = Duration::from_secs(left.as_secs() + 1);
        if shown && whole != said {
            said = whole;
            ui::err(format_args!("\u{1b}[2Kresumes in {}; Ctrl-C resumes now\r", scaled_duration(whole)));
        }
        std::thread::sleep(LOOK.min(left));
    }
}
