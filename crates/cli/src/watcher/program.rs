//! `do = "run"`: a program that is told of a case. It gets the facts on standard input, never as arguments; no
//! environment but a path and a language, no folder, no terminal, no descriptor of ours; a session of its own, which ends
//! with it; half a minute, and one at a time for each rule.

use std::io::{ErrorKind, Read, Write};
use std::path::Path;
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::io::ioctl_fionbio;
use rustix::process::{Pid, Signal, WaitId, WaitIdOptions, kill_process_group, waitid};
use sophron_core::act::Outcome;
use sophron_core::audit::Draft;
use sophron_core::text::with_causes;
use sophron_linux::{files, sys};

use super::recorder::Recorder;

/// How long it may take.
const MOST: Duration = Duration::from_secs(30);

/// How much of what it prints is kept.
const KEPT: usize = 4096;

/// Largest program that is run.
const LARGEST: u64 = 256 << 20;

/// The intent on disk, the program, what came of it. The program is told what the intent says.
pub fn call(command: &[String], intent: Draft, recorder: &Recorder) -> Outcome {
    let facts = serde_json::to_vec(&intent).unwrap_or_default();
    if let Err(why) = recorder.commit(intent) {
        return Outcome::Unrecorded(why);
    }
    match run(command, &facts) {
        Ok((true, seen)) => Outcome::Ran(seen),
        Ok((false, seen)) => Outcome::Failed(seen),
        Err(why) => Outcome::Refused(why),
    }
}

/// Whether it ended well, and what it said.
fn run(command: &[String], facts: &[u8]) -> Result<(bool, String), String> {
    let (program, args) = command.split_first().ok_or("no program is given")?;
    // What decides over processes must not be another user's to change.
    files::read_trusted(Path::new(program), LARGEST).map_err(|error| with_causes(&error))?;
    let mut start = Command::new(program);
    start
        .args(args)
        .env_clear()
        .env("PATH", "/usr/bin:/bin")
        .env("LANG", "C.UTF-8")
        .current_dir("/")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null());
    sys::as_we_were(&mut start);
    sys::contain(&mut start);
    let mut child = start.spawn().map_err(|error| format!("{program} cannot be started: {error}"))?;
    let mut talk = Talk::with(&mut child, facts).map_err(|error| format!("{program} cannot be talked to: {error}"))?;
    let began = Instant::now();
    while !has_ended(&child) && began.elapsed() < MOST {
        talk.go_on(Duration::from_millis(20));
    }
    let in_time = has_ended(&child);
    // With it goes whatever it has started and left running in its session. It is not collected yet: its number, and so that
    // of its group, is still its own.
    if let Some(group) = Pid::from_raw(child.id().cast_signed()) {
        let _ = kill_process_group(group, Signal::KILL);
    }
    let status = child.wait().map_err(|error| format!("{program}: {error}"))?;
    talk.go_on(Duration::ZERO);
    if !in_time {
        return Ok((false, format!("{program} was ended by force after {} s", MOST.as_secs())));
    }
    let said = sophron_core::text::clean(talk.said.trim_ascii());
    let said = if said.is_empty() { String::new() } else { format!(": {said}") };
    Ok((status.success(), format!("{program} ended with {status}{said}")))
}

/// Whether it has ended; it stays uncollected (waitid(2), WNOWAIT).
fn has_ended(child: &Child) -> bool {
    let Some(pid) = Pid::from_raw(child.id().cast_signed()) else { return true };
    let options = WaitIdOptions::EXITED | WaitIdOptions::NOHANG | WaitIdOptions::NOWAIT;
    matches!(waitid(WaitId::Pid(pid), options), Ok(Some(_)) | Err(rustix::io::Errno::CHILD))
}

/// What it is told and what it says. Nobody waits: not for a program that does not read, nor for one that leaves its output
/// to another.
struct Talk<'f> {
    to: Option<ChildStdin>,
    from: Option<ChildStdout>,
    facts: &'f [u8],
    said: Vec<u8>,
}

impl<'f> Talk<'f> {
    fn with(child: &mut Child, facts: &'f [u8]) -> std::io::Result<Talk<'f>> {
        let talk = Talk { to: child.stdin.take(), from: child.stdout.take(), facts, said: Vec::new() };
        talk.to.as_ref().map(|to| ioctl_fionbio(to, true)).transpose()?;
        talk.from.as_ref().map(|from| ioctl_fionbio(from, true)).transpose()?;
        Ok(talk)
    }

    /// Tells and hears what can be told and heard within that time.
    fn go_on(&mut self, patience: Duration) {
        let timeout = Timespec { tv_sec: 0, tv_nsec: patience.subsec_nanos().into() };
        let to = self.to.as_ref().map(|to| PollFd::new(to, PollFlags::OUT));
        let from = self.from.as_ref().map(|from| PollFd::new(from, PollFlags::IN));
        let mut both: Vec<PollFd<'_>> = to.into_iter().chain(from).collect();
        if both.is_empty() {
            std::thread::sleep(patience);
        } else if !matches!(poll(&mut both, Some(&timeout)), Ok(ready) if ready > 0) {
            return;
        }
        drop(both);
        if let Some(to) = &mut self.to {
            match to.write(self.facts) {
                Ok(told) => self.facts = &self.facts[told..],
                Err(error) if would_wait(&error) => {}
                Err(_) => self.facts = &[],
            }
            if self.facts.is_empty() {
                self.to = None;
            }
        }
        let mut piece = [0; 4096];
        while let Some(from) = &mut self.from {
            match from.read(&mut piece) {
                // The rest is read away, so that it does not wait for us.
                Ok(heard) if heard > 0 => {
                    let room = KEPT.saturating_sub(self.said.len());
                    self.said.extend(&piece[..heard.min(room)]);
                }
                Err(error) if would_wait(&error) => return,
                _ => self.from = None,
            }
        }
    }
}

fn would_wait(error: &std::io::Error) -> bool {
    matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::Interrupted)
}
