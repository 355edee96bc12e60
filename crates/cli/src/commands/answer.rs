//! `sophron answer`: what a person is asked before a step, answered by command: by himself, or for him by who may on this machine.

use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

use sophron_core::dispatch::Heeded;
use sophron_linux::inbox;

use crate::args;
use crate::exit::{Exit, Failure};
use crate::places;
use crate::ui;
use crate::watcher::answers::Given;

/// How long the watcher is waited for.
const PATIENCE: Duration = Duration::from_secs(5);

pub fn run(args: &args::Answer) -> Result<Exit, Failure> {
    let given = Given { case: args.case, answer: args.answer.into() };
    let bytes =
        serde_json::to_vec(&given).map_err(|error| Failure::new(Exit::Failed, "it cannot be said").because(error))?;
    let mut refused = None;
    for place in places(args.state.folder.as_deref()) {
        match inbox::put(&place, &bytes, PATIENCE) {
            Ok(said) => match serde_json::from_slice::<Heeded>(&said) {
                Ok(Ok(said)) => {
                    ui::out(format_args!("case {}: {said}\n", args.case));
                    return Ok(Exit::Fine);
                }
                // The case may be another watcher's.
                Ok(Err(why)) => refused = Some(why),
                Err(error) => return Err(Failure::new(Exit::Failed, "the watcher answers strangely").because(error)),
            },
            Err(error) if is_nobody(&error) => {}
            Err(error) => return Err(Failure::new(Exit::Failed, "the watcher does not answer").because(error)),
        }
    }
    Err(match refused {
        Some(why) => Failure::new(Exit::Refused, format!("case {}: {why}", args.case)).hint(format!(
            "`sophron audit explain {}` tells what is asked in it, and what has become of it",
            args.case
        )),
        None => Failure::new(Exit::Failed, "no watcher runs here that could be answered")
            .hint("`sophron watch` runs the rules; one on another state folder is named with --state DIR"),
    })
}

/// One's own watcher first, then the machine's.
fn places(state: Option<&Path>) -> Vec<PathBuf> {
    let own = places::answers(state);
    let machine = state.is_none().then(places::answers_of_machine).filter(|machine| own.as_ref() != Some(machine));
    own.into_iter().chain(machine).collect()
}

fn is_nobody(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::ConnectionRefused)
}
