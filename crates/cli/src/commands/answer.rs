//! `sophron answer`: what a person is asked before a step, answered by command: by himself, or for him by who may on this machine.

use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

use sophron_core::dispatch::Heeded;
use sophron_linux::{here, inbox};

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
    for places in places(args.state.folder.as_deref()) {
        match put(&places, &bytes) {
            Ok(None) => {}
            Ok(Some(said)) => match serde_json::from_slice::<Heeded>(&said) {
                Ok(Ok(said)) => {
                    ui::out(format_args!("case {}: {said}\n", args.case));
                    return Ok(Exit::Fine);
                }
                // The case may be another watcher's.
                Ok(Err(why)) => refused = Some(why),
                Err(error) => return Err(Failure::new(Exit::Failed, "the watcher answers strangely").because(error)),
            },
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

/// One's own watcher first, then the machine's; of each the place of one's own before that of everybody.
fn places(state: Option<&Path>) -> Vec<[PathBuf; 2]> {
    let own = places::answers(state);
    let machine = state.is_none().then(places::answers_of_machine).filter(|machine| own.as_ref() != Some(machine));
    let of = |folder: PathBuf| [Some(here::uid()), None].map(|user| folder.join(places::answers_of(user)));
    own.into_iter().chain(machine).map(of).collect()
}

/// What is said to it there; none where nobody listens.
fn put(places: &[PathBuf; 2], bytes: &[u8]) -> io::Result<Option<Vec<u8>>> {
    for place in places {
        match inbox::put(place, bytes, PATIENCE) {
            Err(error) if is_nobody(&error) => {}
            said => return said.map(Some),
        }
    }
    Ok(None)
}

/// What may not be reached is no watcher of ours.
fn is_nobody(error: &io::Error) -> bool {
    use io::ErrorKind::{ConnectionRefused, NotFound, PermissionDenied};
    matches!(error.kind(), NotFound | ConnectionRefused | PermissionDenied)
}
