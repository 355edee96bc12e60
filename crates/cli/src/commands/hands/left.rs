//! `sophron resume --left`: resumes whoever a watcher has left suspended that was ended with its guards. The service manager runs it
//! after a watcher.

use std::path::Path;

use sophron_core::act::Outcome;
use sophron_core::audit::{By, Kind};
use sophron_core::command_lines::CommandLines;
use sophron_linux::trail::{self, Append, TrailFile};
use sophron_linux::{files, here};

use crate::args;
use crate::exit::{Exit, Failure};
use crate::places;
use crate::ui;
use crate::watcher::left::{self, Found, Left};
use crate::watcher::{keeping, rules_file, scribe};

pub fn run(args: &args::Hand) -> Result<Exit, Failure> {
    super::numbers_are_ours()?;
    let failed = |error| Failure::of(Exit::Failed, error);
    let state = places::state(args.state.folder.as_deref())?;
    let Some(latest) = trail::latest(&state, |_| {}).map_err(failed)? else {
        ui::out("no record tells of anybody who could have been left suspended\n");
        return Ok(Exit::Fine);
    };
    // A watcher that runs looks after those whom it has suspended.
    let folder = files::private_folder(&state).map_err(|error| Failure::of(Exit::Failed, error))?;
    let _lock = files::try_lock(&folder, &state, "watch.lock")
        .map_err(|error| Failure::of(Exit::Failed, error))?
        .map_err(|pid| {
            Failure::new(
                Exit::Refused,
                format!("a watcher (PID {}) runs on {}: it resumes them in time", pid.trim(), state.display()),
            )
            .hint("by its checked PID a process can be resumed all the same: sophron resume 51907-kqm")
        })?;
    let boot = here::boot(Path::new("/proc"))
        .map_err(|error| Failure::new(Exit::Failed, "the boot ID cannot be read").because(error))?;
    let all = left::resume(&latest.in_force, boot);
    let scribe = scribe(boot, By::Watcher, CommandLines::Masked);
    let happened: Vec<_> =
        all.iter().filter_map(|left| left.happening("the watcher that had suspended it is gone")).collect();
    let mut unresumed = 0;
    for Left { process, found, .. } in &all {
        let told = match found {
            Found::NotBefore(_) => "a command may still be at it, and resumes it in time".to_owned(),
            Found::Resumed(Outcome::Resumed(_)) => "goes on".to_owned(),
            Found::Resumed(outcome) => {
                unresumed += usize::from(!matches!(outcome, Outcome::Gone | Outcome::NotSuspended));
                outcome.seen()
            }
        };
        ui::out(format_args!("{}: {told}\n", process.label()));
    }
    if all.is_empty() {
        ui::out("nobody was left suspended\n");
    }
    // Told once it is done: whoever stands still by us goes on, record or none.
    let drafts: Vec<_> = happened.iter().filter_map(|happening| scribe.record(happening)).collect();
    if !drafts.is_empty() {
        let keeping = keeping(&rules_file::guidance(None)?.audit())?;
        let opened = scribe.plain(here::now().wall, Kind::TrailOpened);
        TrailFile::open(&state, opened, keeping).and_then(|mut file| file.append(&drafts)).map_err(|error| {
            Failure::of(Exit::Failed, error).hint("what was done is done; the next start of a watcher records it")
        })?;
    }
    if unresumed > 0 {
        return Err(Failure::new(Exit::Failed, "not everybody could be resumed")
            .hint("the next start of a watcher tries again"));
    }
    Ok(Exit::Fine)
}
