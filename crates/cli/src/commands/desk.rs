//! A person's helper: started by the watcher, never by hand. It becomes that person, and then closes its way to everything but what it
//! has opened as him.

use std::io;
use std::os::unix::net::UnixStream;
use std::sync::Arc;
use std::time::Duration;

use sophron_deliver::desk::{First, Opened, Speaks, Terminals, serve};
use sophron_linux::bus::{self, BusError};
use sophron_linux::here;
use sophron_linux::line::Line;

use crate::exit::{Exit, Failure};
use crate::watcher::errand::Told;

/// How long the first word is waited for.
const PATIENCE: Duration = Duration::from_secs(10);

struct OurLine(Line);

impl Speaks for OurLine {
    fn say(&self, message: &[u8]) -> io::Result<()> {
        self.0.say(message)
    }

    fn hear(&self) -> Option<Vec<u8>> {
        self.0.hear(None).ok().flatten()
    }
}

pub fn run() -> Result<Exit, Failure> {
    super::by_the_watcher("`sophron answer CASE let-run|suspend|end` answers a question of a watcher")?;
    let failed = |error: io::Error| Failure::new(Exit::Failed, "nothing can be shown").because(error);
    let line = Line::of_stdin().map_err(failed)?;
    let Some(first) = line.hear(Some(PATIENCE)).map_err(failed)? else { return Ok(Exit::Fine) };
    let Told { fence, job } = serde_json::from_slice::<Told<First>>(&first).map_err(|error| failed(error.into()))?;
    let open = || {
        let uid = here::uid();
        let terminals = if job.terminals { Terminals::of(uid) } else { Terminals::default() };
        Opened { uid, session: session(uid), machine: bus::reach(&bus::of_machine(), Some(0)).ok(), terminals }
    };
    // What the kernel cannot fence off is said when the watcher begins.
    let (opened, _) = fence.enter_with(open).map_err(failed)?;
    let line: Arc<dyn Speaks> = Arc::new(OurLine(line));
    serve(opened, &line);
    Ok(Exit::Fine)
}

/// The bus of his session; or why there is none.
fn session(uid: u32) -> Result<UnixStream, String> {
    bus::reach(&bus::of_user(uid), Some(uid)).map_err(|error| match error {
        BusError::Unreachable(error) if error.kind() == io::ErrorKind::NotFound => {
            "not logged in at a desktop".to_owned()
        }
        BusError::Unreachable(error) if error.kind() == io::ErrorKind::WouldBlock => {
            "the bus of the session takes nobody in at present".to_owned()
        }
        error => format!("the bus of the session cannot be reached: {error}"),
    })
}
