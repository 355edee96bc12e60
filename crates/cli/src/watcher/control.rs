//! The control socket of a running watcher: one question a line, one answer a line, to nobody but its own user and root.

use std::io::{BufRead, BufReader, Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Sender, SyncSender, channel};
use std::time::Duration;

use serde::{Deserialize, Serialize};
use sophron_core::dispatch::{Running, Standing, Wanted};
use sophron_core::model::ProcessId;
use sophron_linux::{files, here};

use super::Wake;
use crate::places;

/// How long either side waits for the other.
const PATIENCE: Duration = Duration::from_secs(2);

/// Longest question.
const LONGEST: u64 = 4096;

/// The answer.
#[derive(Debug, Serialize, Deserialize)]
pub struct Answer {
    /// `None` where the watcher does not run that rule, or does not see the process.
    pub standing: Option<Standing>,
    /// What it runs.
    pub running: Running,
    /// When it ends by itself, where it was told to.
    pub until: Option<jiff::Timestamp>,
}

/// A question on its way to the watcher's thread.
pub struct Asked {
    pub question: Wanted,
    pub reply: Sender<Answer>,
}

/// Listens until the watcher ends. A watcher that cannot be asked watches all the same: the reason is returned.
pub fn listen(state: Option<&Path>, wake: SyncSender<Wake>) -> Result<PathBuf, String> {
    let path = places::control(state).ok_or("there is no folder for its control socket")?;
    let folder = path.parent().ok_or("its control socket has no folder")?;
    files::private_folder(folder).map_err(|error| error.to_string())?;
    // The lock says that no other watcher runs here: a socket that is left is a dead one's.
    let _ = std::fs::remove_file(&path);
    let listener = UnixListener::bind(&path).map_err(|error| format!("{}: {error}", path.display()))?;
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o600)).map_err(|error| error.to_string())?;
    let serve_all = move || {
        for stream in listener.incoming() {
            // One at a time: whoever says nothing is let go soon. Out of descriptors it is tried again in a while.
            if stream.map(|stream| serve(stream, &wake)).is_err() {
                std::thread::sleep(PATIENCE / 10);
            }
        }
    };
    std::thread::Builder::new().name("control".to_owned()).spawn(serve_all).map_err(|error| error.to_string())?;
    Ok(path)
}

fn serve(mut stream: UnixStream, wake: &SyncSender<Wake>) -> std::io::Result<()> {
    stream.set_read_timeout(Some(PATIENCE))?;
    stream.set_write_timeout(Some(PATIENCE))?;
    let peer = rustix::net::sockopt::socket_peercred(&stream)?;
    let uid = peer.uid.as_raw();
    if uid != here::uid() && uid != 0 {
        return Ok(());
    }
    let mut line = String::new();
    BufReader::new((&stream).take(LONGEST)).read_line(&mut line)?;
    let question = Wanted::read(line.as_bytes())?;
    let (reply, answer) = channel();
    // A watcher that has more to do than it can take answers nobody.
    if wake.try_send(Wake::Asked(Asked { question, reply })).is_ok()
        && let Ok(answer) = answer.recv_timeout(PATIENCE)
    {
        let mut bytes = serde_json::to_vec(&answer)?;
        bytes.push(b'\n');
        stream.write_all(&bytes)?;
    }
    Ok(())
}

/// Why there is no answer.
#[derive(Debug)]
pub enum Unanswered {
    /// No watcher runs on that state folder.
    NoWatcher,
    /// One runs, and does not answer: why, in words.
    Silent(String),
}

/// Asks the watcher of a state folder.
///
/// # Errors
/// No watcher answers.
pub fn ask(state: Option<&Path>, rule: &str, id: &ProcessId) -> Result<Answer, Unanswered> {
    let path = places::control(state).ok_or(Unanswered::NoWatcher)?;
    let mut stream = UnixStream::connect(&path).map_err(|error| match error.kind() {
        std::io::ErrorKind::PermissionDenied => {
            Unanswered::Silent("the machine's watcher answers root only: sudo sophron rules why …".to_owned())
        }
        _ => Unanswered::NoWatcher,
    })?;
    let mut answer = || -> std::io::Result<Answer> {
        stream.set_read_timeout(Some(PATIENCE))?;
        let mut question = serde_json::to_vec(&Wanted { rule: rule.to_owned(), pid: id.pid, start: id.start })?;
        question.push(b'\n');
        stream.write_all(&question)?;
        let mut line = String::new();
        BufReader::new(&stream).read_line(&mut line)?;
        Ok(serde_json::from_str(&line)?)
    };
    answer().map_err(|error| Unanswered::Silent(format!("the watcher does not answer: {error}")))
}
