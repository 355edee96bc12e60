//! `do = "run"`: a program that is told of a case. It gets the facts on standard input, never as arguments; no
//! environment but a path and a language, no folder, no terminal, no descriptor of ours and no signal held back; a session of its
//! own, which ends with it; half a minute, and one at a time for each rule.

use std::path::Path;
use std::process::Command;
use std::time::Duration;

use sophron_core::act::Outcome;
use sophron_core::audit::Draft;
use sophron_core::text::with_causes;
use sophron_linux::{files, sys};

use super::helpers::Helpers;
use super::recorder::Recorder;

/// How long it may take.
const MOST: Duration = Duration::from_secs(30);

/// How much of what it prints is kept; the rest is read away, so that it does not wait for us.
const KEPT: usize = 4096;

/// The intent on disk, the program, what came of it. The program is told what the intent says.
pub fn call(command: &[String], intent: Draft, recorder: &Recorder, helpers: &Helpers) -> Outcome {
    let facts = serde_json::to_vec(&intent).unwrap_or_default();
    if let Err(why) = recorder.commit(intent) {
        return Outcome::Unrecorded(why);
    }
    match run(command, &facts, helpers) {
        Ok((true, seen)) => Outcome::Ran(seen),
        Ok((false, seen)) => Outcome::Failed(seen),
        Err(why) => Outcome::Refused(why),
    }
}

/// Whether it ended well, and what it said.
fn run(command: &[String], facts: &[u8], helpers: &Helpers) -> Result<(bool, String), String> {
    let (program, args) = command.split_first().ok_or("no program is given")?;
    // What decides over processes must not be another user's to change.
    files::check_trusted(Path::new(program)).map_err(|error| with_causes(&error))?;
    let mut start = Command::new(program);
    start.args(args).env_clear().env("PATH", "/usr/bin:/bin").env("LANG", "C.UTF-8").current_dir("/");
    sys::as_we_were(&mut start);
    let mut said = Vec::new();
    let mut hear = |piece: &[u8]| said.extend(&piece[..piece.len().min(KEPT - said.len())]);
    let ended = helpers.talk(start, facts, MOST, &mut hear);
    let ended = ended.map_err(|error| format!("{program} cannot be started: {error}"))?;
    if !ended.in_time {
        return Ok((false, format!("{program} was ended by force after {} s", MOST.as_secs())));
    }
    let said = sophron_core::text::clean(said.trim_ascii());
    let said = if said.is_empty() { String::new() } else { format!(": {said}") };
    Ok((ended.status.success(), format!("{program} ended with {}{said}", ended.status)))
}
