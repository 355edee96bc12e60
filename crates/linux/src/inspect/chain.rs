//! From who waits to who has to answer: what a thread waits on, who has the other end of it, what that one waits on, and so on.

use std::fs;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use sophron_core::inspect::Wait;
use sophron_core::state::State;
use sophron_core::text;

use super::call::{Call, Stands, memory};
use super::waits::wait_of;
use crate::open_files::{self, End, FileKind, OpenFile};
use crate::patience::within;
use crate::proc::stat;
use crate::sockets::{self, Socket, SocketState};
use crate::{exec, living, locks};

/// So far it is followed.
const MOST_STEPS: usize = 8;

/// Most threads of which it is looked whether they wait for each other, and how long after it is looked again.
const MOST_THREADS: usize = 256;
const LOOKED_AGAIN: Duration = Duration::from_millis(20);

/// Most that are named at once.
const MOST_NAMED: usize = 4;

/// What following takes: how processes are called, whose children they are, and until when there is time.
pub struct Chain<'a> {
    /// Everybody who may have the other end, with the parent.
    pub processes: &'a [(u32, u32)],
    /// How a process is called.
    pub name: &'a dyn Fn(u32) -> String,
    /// When there is no more time to look.
    pub give_up: Instant,
}

/// What is waited for, and which thread comes next: none, where that is the end.
type Step = (String, Option<(u32, u32)>);

/// Which way something has to go.
#[derive(Debug, Clone, Copy)]
enum Way {
    In,
    Out,
}

impl std::fmt::Display for Way {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Way::In => "to come from",
            Way::Out => "to be taken from",
        })
    }
}

/// How far it could be followed.
#[derive(Debug, Default, Clone, PartialEq, Eq)]
pub struct Followed {
    /// A line a step; empty where nothing more than the wait itself is known.
    pub lines: Vec<String>,
    /// Whether nobody is left who could go on.
    pub deadlocked: bool,
    /// The last process that it came to, where that is another one.
    pub last: Option<u32>,
}

/// What a thread waits on and who has to answer.
pub fn follow(pid: u32, tid: u32, chain: &Chain<'_>) -> Followed {
    let mut lines = Vec::new();
    let mut deadlocked = false;
    let begins_at = pid;
    let mut seen = vec![(pid, tid)];
    let (mut pid, mut tid) = (pid, tid);
    while lines.len() < MOST_STEPS && Instant::now() < chain.give_up {
        let first = seen.len() == 1;
        let who = if first { "it".to_owned() } else { chain.called(pid, tid) };
        let Some((what, next)) = chain.step(pid, tid, first) else { break };
        lines.push(format!("{who} {what}"));
        let Some(next) = next else { break };
        if seen.contains(&next) {
            lines.push(format!(
                "so they wait for each other in a circle: a deadlock, which ends only with {}",
                (chain.name)(pid)
            ));
            // Whoever only waits for those in it is none of them.
            deadlocked = next.0 == begins_at;
            break;
        }
        (pid, tid) = next;
        seen.push(next);
    }
    let last = Some(pid).filter(|last| *last != begins_at);
    if !deadlocked
        && last.is_none()
        && let Some(threads) = wait_for_their_own(begins_at, chain.give_up)
    {
        lines.push(match threads {
            1 => {
                "it waits for a lock of its own, without a time limit, and has no other thread: nobody is left to let \
                  go of it but by a signal: a deadlock"
                    .to_owned()
            }
            all => format!(
                "each of its {all} threads waits for another one, without a time limit: nobody is left to go on but by \
                 a signal: a deadlock"
            ),
        });
        deadlocked = true;
    }
    Followed { lines, deadlocked, last }
}

impl Chain<'_> {
    fn called(&self, pid: u32, tid: u32) -> String {
        if pid == tid { (self.name)(pid) } else { thread(pid, tid) }
    }

    /// What a thread does, and who comes next; `None` where nothing is known, or of the first nothing more than its wait.
    fn step(&self, pid: u32, tid: u32, first: bool) -> Option<Step> {
        let line = exec::read(pid, &format!("task/{tid}/stat")).ok()?;
        let state = State::from_letter(stat::parse(&line)?.state);
        let wait = match state {
            State::Sleeping | State::Waiting => wait_of(pid, tid, state),
            State::Running => {
                return Some(("runs: it has to get on before anybody else does".to_owned(), None));
            }
            state => return Some((format!("is {}", state.word()), None)),
        }?;
        let stands = Call::of(pid, tid).map_or(Stands::Else, |call| call.stands_on(pid));
        let (what, next) = match (&wait, &stands) {
            (Wait::Lock, Stands::Word(address)) => self.lock(pid, tid, *address)?,
            (Wait::FileLock, stands) => self.file_lock(pid, stands),
            (Wait::Child | Wait::Start, _) => self.child(pid)?,
            (_, Stands::Reads(file)) => self.file(pid, *file, Way::In)?,
            (_, Stands::Writes(file)) => self.file(pid, *file, Way::Out)?,
            (_, Stands::Connects(file) | Stands::Accepts(file)) => self.file(pid, *file, Way::In)?,
            (_, Stands::Watches(files)) => match files.as_slice() {
                [only] => self.file(pid, *only, Way::In)?,
                _ => self.files(pid, files)?,
            },
            _ if first => return None,
            _ => (wait.to_string(), None),
        };
        Some((format!("waits for {what}"), next))
    }

    /// A lock between threads: who holds it stands in it, where it is one of the C library's (pthread_mutex_lock(3)); whoever
    /// waits for a thread to end waits on that one's number (pthread_join(3)).
    fn lock(&self, pid: u32, tid: u32, address: u64) -> Option<Step> {
        let words = memory(pid, address, 12)?;
        let word = |at: usize| Some(u32::from_ne_bytes(words.get(at..at + 4)?.try_into().ok()?));
        let lives = |other: u32| other != tid && fs::exists(format!("/proc/{pid}/task/{other}/stat")).unwrap_or(false);
        let (value, holder) = (word(0)?, word(8)?);
        if (1..=2).contains(&value) && lives(holder) {
            let what = format!("a lock that {} holds", thread(pid, holder));
            return Some((what, Some((pid, holder))));
        }
        lives(value).then(|| (format!("{} to end", thread(pid, value)), Some((pid, value))))
    }

    fn file_lock(&self, pid: u32, stands: &Stands) -> Step {
        let file = match stands {
            Stands::Locks(file) => opened(pid, *file).map(|file| format!("the lock on {}", file.name)),
            _ => None,
        };
        let file = file.unwrap_or_else(|| Wait::FileLock.to_string());
        let waits = locks::waits(self.left()).unwrap_or_default();
        match waits.iter().find(|(_, waiter)| *waiter == pid) {
            Some((holder, _)) => (format!("{file}, held by {}", (self.name)(*holder)), Some((*holder, *holder))),
            None => (file, None),
        }
    }

    fn child(&self, pid: u32) -> Option<Step> {
        let children: Vec<u32> =
            self.processes.iter().filter(|(_, parent)| *parent == pid).map(|(child, _)| *child).collect();
        let names: Vec<String> = children.iter().take(MOST_NAMED).map(|child| (self.name)(*child)).collect();
        Some(match children.as_slice() {
            [] => return None,
            [only] => (format!("its child {} to end", names[0]), Some((*only, *only))),
            more => {
                let rest = more.len().saturating_sub(MOST_NAMED);
                let rest = if rest > 0 { format!(" and {rest} more") } else { String::new() };
                (format!("one of its children to end: {}{rest}", names.join(", ")), None)
            }
        })
    }

    fn left(&self) -> Duration {
        self.give_up.saturating_duration_since(Instant::now())
    }

    fn others_with(&self, name: &str, end: End, but: u32) -> Vec<u32> {
        open_files::others_with(name, end, but, self.processes.iter().map(|(pid, _)| *pid), self.give_up)
    }

    /// What stands behind `socket:[4711]`.
    fn socket_of(&self, pid: u32, file: &OpenFile) -> Option<Socket> {
        let number = file.name.strip_prefix("socket:[")?.strip_suffix(']')?.parse().ok()?;
        within(self.left(), move || sockets::find(pid, number)).flatten()
    }

    /// An open file, and who has the other end of it.
    fn file(&self, pid: u32, number: u32, how: Way) -> Option<Step> {
        let file = opened(pid, number)?;
        match file.kind {
            FileKind::Pipe => {
                let (end, could) = match how {
                    Way::In => (End::Writing, "write to it"),
                    Way::Out => (End::Reading, "read from it"),
                };
                let others = self.others_with(&file.name, end, pid);
                let (ends, next) = self.ends(&others);
                let ends = match others.is_empty() {
                    true => format!("nobody else is seen who could {could}"),
                    false => format!("that is {ends}'s"),
                };
                Some((format!("something {how} {} (number {number}); {ends}", file.name), next))
            }
            FileKind::Socket => Some(self.socket(pid, &self.socket_of(pid, &file)?, how)),
            _ => Some((format!("something {how} {} (number {number})", file.name), None)),
        }
    }

    fn socket(&self, pid: u32, socket: &Socket, how: Way) -> Step {
        let with = |peer: &Option<u64>| {
            let name = format!("socket:[{}]", (*peer)?);
            Some(self.others_with(&name, End::Any, u32::MAX)).filter(|others| !others.is_empty())
        };
        match socket {
            Socket::Network { local, state: SocketState::Listening, .. } => {
                (format!("somebody to connect to {local}"), None)
            }
            Socket::Network { local, remote: None, .. } => (format!("something to be sent to {local}"), None),
            Socket::Network { remote: Some(remote), state: SocketState::Connecting, .. } => {
                (format!("{remote} to answer: the connection has not come about yet"), None)
            }
            Socket::Network { remote: Some(remote), peer, .. } => match with(peer) {
                Some(others) => {
                    let (ends, next) = self.ends(&others);
                    (format!("something {how} {remote}, which is {ends}"), next)
                }
                None => (format!("something {how} {remote}: that one has to answer"), None),
            },
            Socket::Local { path, peer } => {
                let place = path.as_ref().map(|path| format!(" at {path}")).unwrap_or_default();
                match with(peer).filter(|others| others.as_slice() != [pid]) {
                    Some(others) => {
                        let (ends, next) = self.ends(&others);
                        (
                            format!("something {how} a connection of this machine{place}, whose other end is {ends}'s"),
                            next,
                        )
                    }
                    None if peer.is_none() && path.is_some() => (format!("somebody to connect{place}"), None),
                    None => (format!("something {how} a connection of this machine{place}"), None),
                }
            }
        }
    }

    /// Several others are named, one is followed.
    fn ends(&self, others: &[u32]) -> Step {
        let names: Vec<String> = others.iter().take(MOST_NAMED).map(|other| (self.name)(*other)).collect();
        let next = if let [only] = others { Some((*only, *only)) } else { None };
        (names.join(", "), next)
    }

    /// One of several open files.
    fn files(&self, pid: u32, numbers: &[u32]) -> Option<Step> {
        let names: Vec<String> = numbers.iter().filter_map(|number| self.briefly(pid, *number)).collect();
        if names.is_empty() {
            return None;
        }
        let rest = names.len().saturating_sub(MOST_NAMED);
        let more = if rest > 0 { format!("; and {rest} more") } else { String::new() };
        let names = names.into_iter().take(MOST_NAMED).collect::<Vec<_>>().join("; ");
        Some((format!("one of several: {names}{more}"), None))
    }

    fn briefly(&self, pid: u32, number: u32) -> Option<String> {
        let file = opened(pid, number)?;
        if file.kind != FileKind::Socket {
            return Some(file.name);
        }
        Some(match self.socket_of(pid, &file)? {
            Socket::Network { local, state: SocketState::Listening, .. } => format!("a caller at {local}"),
            Socket::Network { remote: Some(remote), .. } => format!("the connection with {remote}"),
            Socket::Network { local, .. } => format!("what is sent to {local}"),
            Socket::Local { path: Some(path), .. } => format!("the connection at {path}"),
            Socket::Local { .. } => "a connection of this machine".to_owned(),
        })
    }
}

/// How many threads a process has, where each waits for another of its own and none for a time: one look could have come upon
/// them one after the other, so it is looked twice.
fn wait_for_their_own(pid: u32, give_up: Instant) -> Option<usize> {
    let folder = PathBuf::from(format!("/proc/{pid}"));
    let look = || {
        let threads: Vec<u32> = living::threads(&folder)?.take(MOST_THREADS + 1).collect();
        let in_time = |call: &Call| Instant::now() < give_up && call.waits_for_own(pid, &threads);
        let each = threads.iter().map(|tid| Call::of(pid, *tid).filter(in_time));
        let calls = each.collect::<Option<Vec<Call>>>()?;
        Some((threads, calls)).filter(|(threads, _)| !threads.is_empty() && threads.len() <= MOST_THREADS)
    };
    let before = look()?;
    std::thread::sleep(LOOKED_AGAIN);
    (look()? == before).then_some(before.0.len())
}

/// A file on a disk that does not answer hangs whoever asks for it.
fn opened(pid: u32, number: u32) -> Option<OpenFile> {
    within(Duration::from_millis(40), move || open_files::one_of(pid, number)).flatten()
}

fn thread(pid: u32, tid: u32) -> String {
    let line = exec::read(pid, &format!("task/{tid}/stat")).unwrap_or_default();
    let name = stat::parse(&line).map(|stat| text::clean(stat.name)).unwrap_or_default();
    if pid == tid { format!("its main thread {tid} ({name})") } else { format!("its thread {tid} ({name})") }
}
