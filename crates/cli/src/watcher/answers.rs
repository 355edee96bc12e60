//! Where answers are given by command: by whom is the kernel's word. Nobody's line is kept open, and nobody is heard too often.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::SyncSender;
use std::time::{Duration, Instant};

use serde::{Deserialize, Serialize};
use sophron_core::answer::{Answer, Answered, Answerer};
use sophron_core::dispatch::{Heeded, Incoming};
use sophron_core::sorted::{SortedMap, SortedSet};
use sophron_linux::inbox::{Inbox, Word};
use sophron_linux::{files, here};

use super::Wake;
use crate::places;

/// Most answers of one user in a minute.
const MOST: u32 = 30;
const MINUTE: Duration = Duration::from_secs(60);

/// How long one word beyond that is waited after.
const FLOODED: Duration = Duration::from_millis(2);

/// Most users who have a place of their own.
const MOST_PLACES: usize = 32;

/// Most users that are counted.
const MOST_USERS: usize = 1024;

/// As it is sent.
#[derive(Debug, Serialize, Deserialize)]
pub struct Given {
    pub case: u64,
    pub answer: Answer,
}

/// To whom what becomes of it is said.
pub struct Reply {
    inbox: Arc<Inbox>,
    word: Word,
}

impl Reply {
    pub fn say(&self, heeded: &Heeded) {
        if let Ok(said) = serde_json::to_vec(heeded) {
            self.inbox.reply(&self.word, &said);
        }
    }
}

/// Where answers are given.
pub struct Answers {
    folder: PathBuf,
    wake: SyncSender<Wake>,
    /// Whose own places there are.
    of: SortedSet<u32>,
    all: Vec<PathBuf>,
}

impl Answers {
    /// Listens until the watcher ends. At a machine's usual place everybody may say something, and it is recorded of whoever is not
    /// asked that he did.
    ///
    /// # Errors
    /// It cannot: why, in words.
    pub fn listen(state: Option<&Path>, wake: SyncSender<Wake>) -> Result<Answers, String> {
        let folder = places::answers(state).ok_or("there is no folder for answers")?;
        files::private_folder(&folder).map_err(|error| error.to_string())?;
        let mut answers = Answers { folder, wake, of: SortedSet::new(), all: Vec::new() };
        answers.open_for(here::uid())?;
        if state.is_none() && here::is_root() {
            // Passing through is all that others can do in it.
            let open = std::os::unix::fs::PermissionsExt::from_mode(0o711);
            let folder = &answers.folder;
            std::fs::set_permissions(folder, open).map_err(|error| format!("{}: {error}", folder.display()))?;
            answers.open(None)?;
        }
        Ok(answers)
    }

    /// Whoever is asked has a place of his own, which nobody else can fill up.
    ///
    /// # Errors
    /// As [`Answers::listen`].
    pub fn open_for(&mut self, uid: u32) -> Result<(), String> {
        if self.of.contains(&uid) || self.of.len() >= MOST_PLACES {
            return Ok(());
        }
        self.open(Some(uid))?;
        self.of.insert(uid);
        Ok(())
    }

    fn open(&mut self, of: Option<u32>) -> Result<(), String> {
        let path = self.folder.join(places::answers_of(of));
        // The lock says that no other watcher runs here: a socket that is left is a dead one's.
        let _ = std::fs::remove_file(&path);
        let inbox = Inbox::open(&path, of).map_err(|error| format!("{}: {error}", path.display()))?;
        let (inbox, wake) = (Arc::new(inbox), self.wake.clone());
        let take_all = move || {
            let mut heard = SortedMap::new();
            loop {
                match inbox.take() {
                    Ok(word) => take(&inbox, word, &mut heard, &wake),
                    Err(_) => std::thread::sleep(Duration::from_millis(200)),
                }
            }
        };
        std::thread::Builder::new().name("answers".to_owned()).spawn(take_all).map_err(|error| error.to_string())?;
        self.all.push(path);
        Ok(())
    }

    /// Whoever answers from now on finds nobody.
    pub fn end(self) {
        for path in self.all {
            let _ = std::fs::remove_file(path);
        }
    }
}

fn take(inbox: &Arc<Inbox>, word: Word, heard: &mut SortedMap<u32, (Instant, u32)>, wake: &SyncSender<Wake>) {
    let Ok(Given { case, answer }) = serde_json::from_slice(&word.bytes) else { return };
    let uid = word.uid;
    if heard.len() >= MOST_USERS {
        heard.retain(|_, (since, _)| since.elapsed() < MINUTE);
    }
    let (since, count) = heard.entry(uid).or_insert((Instant::now(), 0));
    if since.elapsed() >= MINUTE {
        (*since, *count) = (Instant::now(), 0);
    }
    *count += 1;
    let reply = Reply { inbox: Arc::clone(inbox), word };
    if *count > MOST && uid != 0 {
        // Whoever floods costs next to nothing, and keeps nobody waiting for long.
        std::thread::sleep(FLOODED);
        return reply.say(&Err(format!("no more than {MOST} answers a minute are heard")));
    }
    let login = here::login_of(reply.word.pid).filter(|login| *login != uid);
    let login = login.map(|login| format!(", logged in as user {login}")).unwrap_or_default();
    let over = format!("the command of user {uid}{login}");
    let by = Answerer { uid, over, session: None, locked: None };
    let incoming = Incoming { ticket: 0, question: None, case, answered: Answered { answer, by }, unsound: None };
    if let Err(refused) = wake.try_send(Wake::Answer(incoming, Some(reply))) {
        let (std::sync::mpsc::TrySendError::Full(wake) | std::sync::mpsc::TrySendError::Disconnected(wake)) = refused;
        if let Wake::Answer(_, Some(reply)) = wake {
            reply.say(&Err("the watcher has too much to do at present: try again".to_owned()));
        }
    }
}
