//! The control socket of a running watcher: one request a line, one answer a line, to nobody but its own user and root. Whoever is
//! slow, says nothing or sends garbage keeps neither the watcher nor the next one waiting.

use std::io::{BufRead, BufReader, Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{Sender, SyncSender, channel};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use sophron_core::audit::{By, Who};
use sophron_core::dispatch::{Request, Running, Standing, Status};
use sophron_core::model::ProcessId;
use sophron_core::stand_back::StandBack;
use sophron_linux::{files, here};

use super::Wake;
use super::pulse::Beat;
use crate::places;

/// How long either side waits for the other.
const PATIENCE: Duration = Duration::from_secs(2);

/// So long where something has to be read or written first.
const LONG_PATIENCE: Duration = Duration::from_secs(10);

/// Longest request, bytes.
const LONGEST: u64 = 64 * 1024;

/// Most that are served at a time; one more waits for none of them.
const AT_A_TIME: usize = 8;

/// What is answered.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reply {
    /// How a rule stands to a process.
    Why(Box<Answer>),
    /// How the watch stands.
    Status(Box<Report>),
    /// Rules stand back, or act again.
    StandBack(Box<Said>),
    /// The rules were read anew.
    Reload(Reloaded),
    /// It is not done, and why.
    Refused(String),
}

/// The answer to why.
#[derive(Debug, Serialize, Deserialize)]
pub struct Answer {
    /// `None` where the watcher does not run that rule, or does not see the process.
    pub standing: Option<Standing>,
    /// What it runs.
    pub running: Running,
    /// When it ends by itself, where it was told to.
    pub until: Option<Timestamp>,
}

/// How a watch stands, with what its loop knows.
#[derive(Debug, Serialize, Deserialize)]
pub struct Report {
    pub host: String,
    pub version: String,
    pub pid: u32,
    /// Whether a service manager has started it.
    pub service: bool,
    /// When it began.
    pub began: Timestamp,
    /// When it ends by itself, where it was told to.
    pub until: Option<Timestamp>,
    /// Its last sample.
    pub sampled: Option<Timestamp>,
    pub samples: u64,
    /// Seconds from one to the next.
    pub every: f64,
    /// Seconds of CPU time that it has used, and resident bytes.
    pub cpu: f64,
    pub memory: Option<u64>,
    /// The rules file.
    pub rules: RulesInUse,
    pub status: Status,
}

/// The rules that are watched by.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct RulesInUse {
    pub origin: String,
    /// SHA-256 of the files.
    pub digest: String,
    pub loaded: Timestamp,
    /// Whose file it is.
    pub owner: String,
    /// Why they were read then.
    pub by: String,
    /// Why what the file has now is not used, where that is so.
    pub refused: Option<String>,
}

/// What became of a word.
#[derive(Debug, Serialize, Deserialize)]
pub struct Said {
    /// From whom rules stand back now.
    pub stand_backs: Vec<StandBack>,
    /// What it has ended.
    pub ended: Vec<StandBack>,
    /// Why the next run of the watcher will not know of it, where that is so.
    pub forgotten: Option<String>,
}

/// What became of reading the rules anew.
#[derive(Debug, Serialize, Deserialize)]
pub struct Reloaded {
    /// What is used now, in words; or why what the file has is not.
    pub seen: Result<String, String>,
    /// Its errors, each with its place.
    pub diagnostics: String,
}

/// A request on its way to the watcher's thread.
pub struct Asked {
    pub request: Request,
    /// Who asks.
    pub by: Who,
    pub reply: Sender<Reply>,
}

/// Listens until the watcher ends. A watcher that cannot be asked watches all the same: the reason is returned.
pub fn listen(state: Option<&Path>, wake: SyncSender<Wake>, beat: Arc<Beat>) -> Result<PathBuf, String> {
    let path = places::control(state).ok_or("there is no folder for its control socket")?;
    let folder = path.parent().ok_or("its control socket has no folder")?;
    files::private_folder(folder).map_err(|error| error.to_string())?;
    // The lock says that no other watcher runs here: a socket that is left is a dead one's.
    let _ = std::fs::remove_file(&path);
    let listener = UnixListener::bind(&path).map_err(|error| format!("{}: {error}", path.display()))?;
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o600)).map_err(|error| error.to_string())?;
    let serving = Arc::new(AtomicUsize::new(0));
    let serve_all = move || {
        for stream in listener.incoming() {
            let Ok(stream) = stream else {
                // Out of descriptors: it is tried again in a while.
                std::thread::sleep(PATIENCE / 10);
                continue;
            };
            if serving.fetch_add(1, Ordering::SeqCst) >= AT_A_TIME {
                serving.fetch_sub(1, Ordering::SeqCst);
                // Whoever floods it has his requests dropped, and costs little.
                std::thread::sleep(Duration::from_millis(1));
                continue;
            }
            let (wake, done, beat) = (wake.clone(), Arc::clone(&serving), Arc::clone(&beat));
            let one = move || {
                // Whoever has asked may have gone.
                let _ = serve(stream, &wake, &beat);
                done.fetch_sub(1, Ordering::SeqCst);
            };
            if std::thread::Builder::new().name("control".to_owned()).spawn(one).is_err() {
                serving.fetch_sub(1, Ordering::SeqCst);
            }
        }
    };
    std::thread::Builder::new().name("control".to_owned()).spawn(serve_all).map_err(|error| error.to_string())?;
    Ok(path)
}

fn serve(mut stream: UnixStream, wake: &SyncSender<Wake>, beat: &Beat) -> std::io::Result<()> {
    stream.set_write_timeout(Some(PATIENCE))?;
    let peer = rustix::net::sockopt::socket_peercred(&stream)?;
    let uid = peer.uid.as_raw();
    if uid != here::uid() && uid != 0 {
        return Ok(());
    }
    let line = read_line(&stream)?;
    let pid = u32::try_from(peer.pid.as_raw_nonzero().get()).unwrap_or_default();
    let by = Who { uid, user: here::Users::default().name(uid), login_uid: here::login_of(pid), by: Some(By::Hand) };
    let said = match Request::read(&line) {
        Ok(request) => {
            let patience = if matches!(request, Request::Reload) { LONG_PATIENCE } else { PATIENCE };
            let (reply, answer) = channel();
            let blind = |passed| Reply::Refused(format!("the watcher is blind: {}", beat.in_words(passed)));
            // A watcher that has more to do than it can take answers nobody.
            match wake.try_send(Wake::Asked(Asked { request, by, reply })) {
                Ok(()) => answer.recv_timeout(patience).ok().or_else(|| beat.late().map(blind)),
                Err(_) => Some(Reply::Refused("the watcher has too much to do at present: try again".to_owned())),
            }
        }
        Err(error) => Some(Reply::Refused(format!("that is no request: {error}"))),
    };
    let Some(said) = said else { return Ok(()) };
    let mut bytes = serde_json::to_vec(&said)?;
    bytes.push(b'\n');
    stream.write_all(&bytes)
}

/// One line, that has to be there as a whole in time.
fn read_line(mut stream: &UnixStream) -> std::io::Result<Vec<u8>> {
    let until = Instant::now() + PATIENCE;
    let mut line = Vec::new();
    let mut bytes = [0; 4096];
    while !line.contains(&b'\n') && (line.len() as u64) < LONGEST {
        let left = until.saturating_duration_since(Instant::now());
        if left.is_zero() {
            return Err(std::io::ErrorKind::TimedOut.into());
        }
        stream.set_read_timeout(Some(left))?;
        match stream.read(&mut bytes)? {
            0 => break,
            count => line.extend_from_slice(&bytes[..count]),
        }
    }
    line.truncate(line.iter().position(|byte| *byte == b'\n').unwrap_or(line.len()));
    Ok(line)
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
pub fn request(state: Option<&Path>, request: &Request) -> Result<Reply, Unanswered> {
    let path = places::control(state).ok_or(Unanswered::NoWatcher)?;
    let mut stream = UnixStream::connect(&path).map_err(|error| match error.kind() {
        std::io::ErrorKind::PermissionDenied => {
            Unanswered::Silent("the machine's watcher answers root only: the same with sudo".to_owned())
        }
        _ => Unanswered::NoWatcher,
    })?;
    let mut answer = || -> std::io::Result<Reply> {
        stream.set_read_timeout(Some(LONG_PATIENCE + PATIENCE))?;
        stream.set_write_timeout(Some(PATIENCE))?;
        let mut line = serde_json::to_vec(request)?;
        line.push(b'\n');
        stream.write_all(&line)?;
        let mut line = String::new();
        if BufReader::new(&stream).read_line(&mut line)? == 0 {
            return Err(std::io::Error::other("it has hung up"));
        }
        Ok(serde_json::from_str(&line)?)
    };
    answer().map_err(|error| Unanswered::Silent(format!("the watcher does not answer: {error}")))
}

/// How a rule stands to a process.
///
/// # Errors
/// No watcher answers that.
pub fn ask(state: Option<&Path>, rule: &str, id: &ProcessId) -> Result<Answer, Unanswered> {
    let wanted = sophron_core::dispatch::Wanted { rule: rule.to_owned(), pid: id.pid, start: id.start };
    match request(state, &Request::Why(wanted))? {
        Reply::Why(answer) => Ok(*answer),
        Reply::Refused(why) => Err(Unanswered::Silent(why)),
        _ => Err(Unanswered::Silent("the watcher answers something else: it is of another version".to_owned())),
    }
}
