//! The control socket of a running watcher: one question a line, one answer a line, to nobody but its own user and root.

use std::io::{BufRead, BufReader, Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Sender, channel};
use std::time::Duration;

use serde::{Deserialize, Serialize};
use sophron_core::condition::Truth;
use sophron_core::judge::Part;
use sophron_core::model::{Boot, ProcessId};
use sophron_core::subject::Judged;
use sophron_core::units::Value;
use sophron_linux::{files, here};

use super::{Wake, Watcher};
use crate::places;

/// How long either side waits for the other.
const PATIENCE: Duration = Duration::from_secs(2);

/// Longest question.
const LONGEST: u64 = 4096;

/// How a rule stands to a process.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Question {
    pub rule: String,
    pub pid: u32,
    pub start: u64,
}

/// The answer.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Answer {
    /// `None` where the watcher does not run that rule.
    pub standing: Option<Standing>,
}

/// How a rule stands to the subject that a process is of. Times in seconds.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Standing {
    /// The subject, as people call it.
    pub subject: String,
    /// For how long a breach has held that opened no case yet.
    pub building: Option<f64>,
    /// The open case.
    pub case: Option<OpenCase>,
    /// Each part of the breach: in words, whether it holds, and its reading.
    pub parts: Vec<(String, String, Option<String>)>,
    /// Cases acted upon in the time of the budget.
    pub spent: Option<usize>,
    /// For how long rules stand back from it.
    pub standing_back: Option<f64>,
    /// For how long nothing is done after a start.
    pub settling: Option<f64>,
}

/// An open case.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct OpenCase {
    pub number: u64,
    /// Breached time.
    pub clock: f64,
    /// The next step, and when.
    pub next: Option<String>,
}

/// A question on its way to the watcher's thread.
pub struct Asked {
    pub question: Question,
    pub reply: Sender<Answer>,
}

/// Listens until the watcher ends. A watcher that cannot be asked watches all the same: the reason is returned.
pub fn listen(state: Option<&Path>, wake: Sender<Wake>) -> Result<PathBuf, String> {
    let path = places::control(state).ok_or("there is no folder for its control socket")?;
    let folder = path.parent().ok_or("its control socket has no folder")?;
    files::private_folder(folder).map_err(|error| error.to_string())?;
    // The lock says that no other watcher runs here: a socket that is left is a dead one's.
    let _ = std::fs::remove_file(&path);
    let listener = UnixListener::bind(&path).map_err(|error| format!("{}: {error}", path.display()))?;
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o600)).map_err(|error| error.to_string())?;
    let serve_all = move || {
        for stream in listener.incoming().flatten() {
            // One at a time: whoever says nothing is let go soon.
            if serve(stream, &wake).is_err() {
                continue;
            }
        }
    };
    std::thread::Builder::new().name("control".to_owned()).spawn(serve_all).map_err(|error| error.to_string())?;
    Ok(path)
}

fn serve(mut stream: UnixStream, wake: &Sender<Wake>) -> std::io::Result<()> {
    stream.set_read_timeout(Some(PATIENCE))?;
    stream.set_write_timeout(Some(PATIENCE))?;
    let peer = rustix::net::sockopt::socket_peercred(&stream)?;
    let uid = peer.uid.as_raw();
    if uid != here::uid() && uid != 0 {
        return Ok(());
    }
    let mut line = String::new();
    BufReader::new((&stream).take(LONGEST)).read_line(&mut line)?;
    let question = serde_json::from_str(&line)?;
    let (reply, answer) = channel();
    if wake.send(Wake::Asked(Asked { question, reply })).is_ok()
        && let Ok(answer) = answer.recv_timeout(PATIENCE)
    {
        let mut bytes = serde_json::to_vec(&answer)?;
        bytes.push(b'\n');
        stream.write_all(&bytes)?;
    }
    Ok(())
}

/// Asks the watcher of a state folder. Why there is no answer, in words.
pub fn ask(state: Option<&Path>, rule: &str, id: &ProcessId) -> Result<Answer, String> {
    let none = || "no watcher answers here: how long it has lasted, cases and budgets are not known".to_owned();
    let path = places::control(state).ok_or_else(none)?;
    let mut stream = UnixStream::connect(&path).map_err(|error| match error.kind() {
        std::io::ErrorKind::PermissionDenied => {
            "the machine's watcher answers root only: sudo sophron rules why …".to_owned()
        }
        _ => none(),
    })?;
    let answer = || -> std::io::Result<Answer> {
        stream.set_read_timeout(Some(PATIENCE))?;
        let mut question = serde_json::to_vec(&Question { rule: rule.to_owned(), pid: id.pid, start: id.start })?;
        question.push(b'\n');
        stream.write_all(&question)?;
        let mut line = String::new();
        BufReader::new(&stream).read_line(&mut line)?;
        Ok(serde_json::from_str(&line)?)
    };
    let mut answer = answer;
    let answer = answer().map_err(|error| format!("the watcher does not answer: {error}"))?;
    if answer.standing.is_none() {
        return Err(format!("the watcher that runs here has no rule {rule}, or does not see that process"));
    }
    Ok(answer)
}

fn words(part: Part) -> (String, String, Option<String>) {
    let truth = match part.truth {
        Truth::True => "true",
        Truth::False => "false",
        Truth::Unknown => "unknown",
    };
    (part.words, truth.to_owned(), part.reading.as_ref().map(Value::scaled))
}

impl Watcher<'_> {
    pub(super) fn answer(&self, asked: &Asked) {
        // Whoever asked may have gone.
        let _ = asked.reply.send(Answer { standing: self.standing(&asked.question, self.drafter.boot) });
    }

    fn standing(&self, question: &Question, boot: Boot) -> Option<Standing> {
        let id = ProcessId { pid: question.pid, start: question.start, boot };
        let (place, rule) = self.rules.rules.iter().enumerate().find(|(_, rule)| rule.name == question.rule)?;
        let process = self.snapshot.process(id.pid).filter(|process| process.id == id)?;
        let (key, lead) = self.judge.subject_of(place, process)?;
        let case = self.judge.cases().find(|case| case.rule == place && case.key == key);
        let now = self.snapshot.moment.monotonic;
        let left = |until: Duration| (until > now).then(|| (until - now).as_secs_f64());
        let next = |case: &sophron_core::judge::Case| {
            let (step, left) = case.upcoming(rule)?;
            Some(format!("{} in {} of breach", step.action, sophron_core::units::scaled_duration(left)))
        };
        let members = case.map_or(1, |case| case.members.len());
        Some(Standing {
            subject: if key.judged() == Judged::Process { process.label() } else { key.label(&lead, members) },
            building: self.judge.building(place, &key).map(|held| held.as_secs_f64()),
            case: case.map(|case| OpenCase { number: case.number, clock: case.clock.as_secs_f64(), next: next(case) }),
            parts: self.judge.parts(place, &key, &lead, &self.snapshot.machine).into_iter().map(words).collect(),
            spent: self.judge.spent(place, &key, &lead),
            standing_back: self.standing_back.get(&id).and_then(|until| left(*until)),
            settling: left(self.judge.acting_from()),
        })
    }
}
