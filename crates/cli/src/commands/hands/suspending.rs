//! Suspending by hand: guarded, counted down, resumed by this very command, whatever becomes of its terminal.

use std::io::IsTerminal;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use sophron_core::audit::{ActionRecord, Draft, Kind};
use sophron_core::units::scaled_duration;
use sophron_linux::act::{self, Tree};
use sophron_linux::handle::Handle;
use sophron_linux::locks;

use super::acts::{refusal, say, worse};
use super::{Chosen, Hand};
use crate::exit::{Exit, Failure};
use crate::ui;
use crate::watcher::act::guard_all;
use crate::watcher::drafts::DraftExt;

/// How often it is looked whether somebody waits, or has resumed them.
const LOOK: Duration = Duration::from_millis(100);

impl Hand<'_> {
    pub(super) fn suspend(&mut self, able: &[Chosen], length: Duration) -> Result<Exit, Failure> {
        let enough = listen()?;
        let action =
            ActionRecord { seconds: Some(length.as_secs_f64()), tree: self.args.tree, ..ActionRecord::word("suspend") };
        let began = Instant::now();
        let Some((intents, ready)) = self.intend_all(able, &action) else { return Ok(Exit::Failed) };
        let mut guards = Vec::new();
        let handles: Vec<Arc<Handle>> = ready.iter().map(|chosen| Arc::clone(&chosen.handle)).collect();
        // Without --tree nobody else is taken in.
        let mut tree =
            if self.args.tree { self.tree(&ready) } else { Tree::of(&handles, |_| Some("not asked for".to_owned())) };
        let suspended = tree.suspend(&mut |new| guard_all(&mut guards, new, length));
        let mut exit = Exit::Fine;
        let until = Instant::now() + length;
        match &suspended {
            Ok(seen) => {
                for (chosen, intent) in ready.iter().zip(&intents) {
                    let rest = if seen.complete {
                        "every thread"
                    } else {
                        "some threads wait in the kernel and stand still when they come back"
                    };
                    let seen =
                        format!("{rest}; until {}", ui::when::clock_after(sophron_linux::here::now().wall, length));
                    self.finish(chosen, intent, &("suspended", seen, true), began);
                }
                let extra = tree.members().count().saturating_sub(ready.len());
                if extra > 0 {
                    ui::out(format_args!("{extra} more that they started meanwhile stand still with them\n"));
                }
                count_down(&tree, until, &enough);
            }
            Err(error) => {
                for (chosen, intent) in ready.iter().zip(&intents) {
                    let came = refusal(error);
                    exit = worse(exit, &came);
                    self.finish(chosen, intent, &came, began);
                }
            }
        }
        tree.resume();
        for (chosen, intent) in ready.iter().zip(&intents) {
            let came = act::resume(&*chosen.handle);
            if suspended.is_ok() {
                self.say_resumed(chosen, intent, came.is_ok_and(|took| took.is_some()));
            }
        }
        guards.into_iter().for_each(sophron_linux::guard::Guard::release);
        Ok(exit)
    }

    fn say_resumed(&mut self, chosen: &Chosen, intent: &Draft, whole: bool) {
        let intent = intent.clone().doing(ActionRecord::word("resume"));
        let (word, seen, done) = match (chosen.handle.has_ended(), whole) {
            (true, _) => ("gone", "it ended while it was suspended", true),
            (false, true) => ("resumed", "every thread", true),
            (false, false) => ("resumed", "some threads still wait in the kernel, or are traced", false),
        };
        self.trail.tell(&intent, Kind::Restored, word, seen, None);
        say(&chosen.process, word, seen, done);
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
fn count_down(tree: &Tree, until: Instant, enough: &AtomicBool) {
    let shown = std::io::stderr().is_terminal() && std::io::stdout().is_terminal();
    let pids: Vec<u32> = tree.members().map(|member| member.id().pid).collect();
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
        if tree.members().all(|member| member.has_ended()) {
            return;
        }
        let stands = |member: &Arc<Handle>| {
            member
                .threads()
                .is_ok_and(|threads| threads.iter().any(|thread| thread.state == sophron_core::model::State::Suspended))
        };
        if !tree.members().any(stands) {
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
