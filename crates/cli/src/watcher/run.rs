//! `do = "run"`: a program that is told of a case. It gets the facts on standard input, never as arguments; no
//! environment but a path and a language, no folder, no terminal; half a minute, and one at a time for each rule.

use std::io::{Read, Write};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use sophron_core::audit::{Draft, Kind};
use sophron_core::judge::Case;
use sophron_core::rules::Rule;
use sophron_linux::files;

use super::drafts::DraftExt;
use super::recorder::{Recorder, chain};
use super::{Wake, Watcher};
use crate::ui::style::Label;

/// How long it may take.
const MOST: Duration = Duration::from_secs(30);

/// How much of what it prints is kept.
const KEPT: u64 = 4096;

/// Largest program that is run.
const LARGEST: u64 = 256 << 20;

/// What came of it.
pub struct Done {
    case: u64,
    rule: usize,
    word: &'static str,
    seen: String,
}

impl Watcher<'_> {
    pub(super) fn run_program(&mut self, case: &Case, rule: &Rule, step: usize, intent: Draft) {
        if !self.running.insert(case.rule) {
            let seen = "its program is still running: one at a time".to_owned();
            self.recorder.note(intent.as_kind(Kind::Refused).came_of_it("refused", seen.clone()));
            self.tell("refused", Label::Warning, Some(case.number), case.label(), seen);
            self.judge.settled(case.number, false);
            return;
        }
        let command = rule.ladder.get(step).map(|step| step.run.to_vec()).unwrap_or_default();
        let (number, place) = (case.number, case.rule);
        let (recorder, wake) = (self.recorder.clone(), self.wake.clone());
        std::thread::spawn(move || {
            let (word, seen) = recorded(&command, intent, &recorder);
            // The watcher waits for running programs before it ends.
            let _ = wake.send(Wake::Ran(Done { case: number, rule: place, word, seen }));
        });
    }

    pub(super) fn ran(&mut self, done: Done) {
        self.running.remove(&done.rule);
        self.judge.settled(done.case, false);
        let who = self.judge.case(done.case).map(Case::label).unwrap_or_default();
        let label = if done.word == "ran" { Label::Faint } else { Label::Warning };
        self.tell(done.word, label, Some(done.case), who, done.seen);
    }
}

/// The intent on disk, the program, what came of it.
fn recorded(command: &[String], intent: Draft, recorder: &Recorder) -> (&'static str, String) {
    let facts = serde_json::to_vec(&intent).unwrap_or_default();
    if let Err(why) = recorder.commit(intent.clone()) {
        return ("dropped", format!("no record, no action: {why}"));
    }
    let (kind, word, seen) = match run(command, &facts) {
        Ok((true, seen)) => (Kind::Outcome, "ran", seen),
        Ok((false, seen)) => (Kind::Outcome, "failed", seen),
        Err(why) => (Kind::Refused, "refused", why),
    };
    recorder.note(intent.as_kind(kind).came_of_it(word, seen.clone()));
    (word, seen)
}

/// Whether it ended well, and what it said.
fn run(command: &[String], facts: &[u8]) -> Result<(bool, String), String> {
    let (program, args) = command.split_first().ok_or("no program is given")?;
    // What decides over processes must not be another user's to change.
    files::read_trusted(Path::new(program), LARGEST).map_err(|error| chain(&error))?;
    let mut child = Command::new(program)
        .args(args)
        .env_clear()
        .env("PATH", "/usr/bin:/bin")
        .env("LANG", "C.UTF-8")
        .current_dir("/")
        .process_group(0)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .map_err(|error| format!("{program} cannot be started: {error}"))?;
    let (stdin, stdout) = (child.stdin.take(), child.stdout.take());
    let facts = facts.to_vec();
    // A program that does not read may leave the pipe full: nobody waits for that.
    std::thread::spawn(move || stdin.map(|mut stdin| stdin.write_all(&facts)));
    let reader = std::thread::spawn(move || {
        let mut said = Vec::new();
        if let Some(mut stdout) = stdout {
            let _ = stdout.by_ref().take(KEPT).read_to_end(&mut said);
            // The rest is read away, so that it does not wait for us.
            let _ = std::io::copy(&mut stdout, &mut std::io::sink());
        }
        said
    });
    let began = Instant::now();
    let status = loop {
        match child.try_wait() {
            Ok(Some(status)) => break Some(status),
            Ok(None) if began.elapsed() < MOST => std::thread::sleep(Duration::from_millis(20)),
            _ => {
                let _ = child.kill();
                let _ = child.wait();
                break None;
            }
        }
    };
    let Some(status) = status else {
        return Ok((false, format!("{program} was ended by force after {} s", MOST.as_secs())));
    };
    let said = reader.join().unwrap_or_default();
    let said = sophron_core::text::clean(said.trim_ascii());
    let said = if said.is_empty() { String::new() } else { format!(": {said}") };
    Ok((status.success(), format!("{program} ended with {status}{said}")))
}
