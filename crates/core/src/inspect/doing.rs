//! Working or hung? The answer, and what it rests on.

use std::fmt;
use std::time::Duration;

use crate::state::State;
use crate::text::counted;
use crate::units::{Value, scaled_duration, scaled_percent};

/// What a thread waits for.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Wait {
    /// Words from a pipe, or room in one.
    Pipe,
    /// Time to pass.
    Time,
    /// A child to end.
    Child,
    /// A child that it started to take over another program: until then it stands in the kernel.
    Start,
    /// A lock, or another thread.
    Lock,
    /// A lock on a file.
    FileLock,
    /// Something to happen: an event, a request, a key.
    Event,
    /// The other end of a connection.
    Connection,
    /// Somebody to connect to it: a server with nothing to do.
    Caller,
    /// Somebody to open the other end of a named pipe.
    Opener,
    /// A message, or a semaphore, of other processes.
    Message,
    /// A person at a terminal.
    Terminal,
    /// A signal.
    Signal,
    /// A disk.
    Disk,
    /// A network disk.
    NetworkDisk,
    /// Memory.
    Memory,
    /// A core.
    Core,
    /// Something that only the kernel has a name for.
    Other(String),
}

impl fmt::Display for Wait {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Wait::Pipe => "a pipe",
            Wait::Time => "a time it set itself",
            Wait::Child => "a child of its to end",
            Wait::Start => "a child of its to take over another program",
            Wait::Lock => "a lock, or another of its threads",
            Wait::FileLock => "a lock on a file",
            Wait::Event => "something to happen (an event, a request, a key)",
            Wait::Connection => "the other end of a connection",
            Wait::Caller => "somebody to connect to it",
            Wait::Opener => "somebody to open the other end of a named pipe",
            Wait::Message => "a message or a semaphore of another process",
            Wait::Terminal => "a person at its terminal",
            Wait::Signal => "a signal",
            Wait::Disk => "a disk",
            Wait::NetworkDisk => "a network disk",
            Wait::Memory => "memory",
            Wait::Core => "a core",
            Wait::Other(name) => return write!(f, "`{name}` (as the kernel calls it)"),
        })
    }
}

/// What was seen of one thread.
#[derive(Debug, Clone, PartialEq)]
pub struct ThreadSeen {
    /// Its number.
    pub tid: u32,
    /// Its name.
    pub name: String,
    /// CPU over the whole time, percent of one core.
    pub cpu: Option<f64>,
    /// Looks at which it was there.
    pub looks: u32,
    /// Looks at which it was on a core or ready for one.
    pub running: u32,
    /// Looks at which it waited uninterruptibly.
    pub waiting: u32,
    /// What it was doing at the last look.
    pub state: State,
    /// How often a second it gave its core up by itself.
    pub yields: Option<f64>,
    /// What it waited for, with the number of looks, the most frequent first.
    pub waits: Vec<(Wait, u32)>,
}

/// What was seen of one process over some time.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Sightings {
    /// Over how long.
    pub length: Duration,
    /// How many looks.
    pub looks: u32,
    /// CPU between one look and the next, percent of one core.
    pub cpu: Vec<f64>,
    /// Its threads, the main one first.
    pub threads: Vec<ThreadSeen>,
    /// Read and written by system calls, from pipes, files and connections alike, bytes a second.
    pub moved: Option<f64>,
    /// How fast what it holds in memory has grown, bytes a second.
    pub growth: Option<f64>,
    /// Whether its control group is frozen.
    pub frozen: bool,
}

/// Working or hung.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Answer {
    /// It gets on.
    Working,
    /// It uses a core, and nothing shows what for.
    Spinning,
    /// It would, and others take the cores as well.
    SpinningSlowed,
    /// It waits, and can be woken.
    Waiting(Wait),
    /// It waits for somebody who waits for it.
    Deadlocked,
    /// Suspended by a signal.
    Suspended,
    /// Held with its control group.
    Frozen,
    /// It waits in the kernel and cannot be woken.
    Stuck(Option<Wait>),
    /// Ended, and not collected.
    Zombie,
}

impl fmt::Display for Answer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Answer::Working => f.write_str("working"),
            Answer::Spinning => f.write_str("spinning"),
            Answer::SpinningSlowed => f.write_str("spinning, slowed by others"),
            Answer::Waiting(wait) => write!(f, "waiting for {wait}"),
            Answer::Deadlocked => f.write_str("deadlocked"),
            Answer::Suspended => f.write_str("suspended"),
            Answer::Frozen => f.write_str("frozen with its control group"),
            Answer::Stuck(None) => f.write_str("stuck in the kernel"),
            Answer::Stuck(Some(wait)) => write!(f, "stuck in the kernel, waiting for {wait}"),
            Answer::Zombie => f.write_str("ended, and not collected by its parent"),
        }
    }
}

/// The answer and what it rests on.
#[derive(Debug, Clone, PartialEq)]
pub struct Doing {
    /// The answer.
    pub answer: Answer,
    /// What speaks for it.
    pub evidence: Vec<String>,
    /// What to do about it, in a sentence.
    pub advice: Option<&'static str>,
}

/// A thread that uses that much of a core fills it, percent.
const FULL: f64 = 85.0;

/// One that never rests gets less of it where others want the core as well.
const CONTESTED: f64 = 40.0;

/// Less than that is doing nothing, percent of one core.
const NOTHING: f64 = 1.0;

/// A thread that gives its core up less often than that a second never waits for anything.
const NEVER_YIELDS: f64 = 2.0;

/// Less than that moved, or grown by, in a second is no work, bytes.
const NO_WORK: f64 = 4096.0;
const NO_GROWTH: f64 = 64.0 * 1024.0;

/// What the sightings come to; `None` where nothing was seen. The first that fits is the answer.
pub fn judge(seen: &Sightings) -> Option<Doing> {
    let main = seen.threads.first()?;
    let answer = held(seen).or_else(|| stuck(seen)).or_else(|| full(seen)).or_else(|| busy(seen));
    Some(answer.unwrap_or_else(|| idle(seen, main)))
}

fn doing(answer: Answer, evidence: Vec<String>, advice: Option<&'static str>) -> Doing {
    Doing { answer, evidence, advice }
}

impl Doing {
    /// Following what it waits for led back to itself.
    #[must_use]
    pub fn deadlocked(self) -> Doing {
        let advice = Some("it does not get on by itself: what it has not saved is lost with it");
        Doing { answer: Answer::Deadlocked, advice, ..self }
    }
}

impl Sightings {
    /// Percent of one core.
    fn cpu_used(&self) -> f64 {
        self.threads.iter().filter_map(|thread| thread.cpu).sum()
    }

    fn used(&self) -> String {
        format!("it used {} of a core over {}", scaled_percent(self.cpu_used()), scaled_duration(self.length))
    }

    fn has_moved(&self) -> Option<String> {
        self.moved.map(|moved| format!("it read and wrote {}", Value::Rate(moved).scaled()))
    }

    fn moved_nothing(&self) -> bool {
        self.moved.is_none_or(|moved| moved < NO_WORK)
    }
}

/// It is held, or has ended.
fn held(seen: &Sightings) -> Option<Doing> {
    let all = |state: State| seen.threads.iter().all(|thread| thread.state == state);
    if seen.frozen {
        let evidence = vec!["its control group is frozen: it takes no signal before it is thawed".to_owned()];
        return Some(doing(Answer::Frozen, evidence, Some("whoever froze the group has to thaw it")));
    }
    if all(State::Zombie) {
        let evidence = vec!["its last thread has ended; only its entry is left".to_owned()];
        return Some(doing(Answer::Zombie, evidence, Some("its parent has to collect it, or to end")));
    }
    all(State::Suspended).then(|| {
        let evidence = vec![format!("{} suspended at the last look", threads(seen.threads.len(), "was", "were all"))];
        doing(Answer::Suspended, evidence, Some("it goes on when it is resumed, and holds its memory until then"))
    })
}

/// All the while in the kernel, without a moment on a core and without a byte.
fn stuck(seen: &Sightings) -> Option<Doing> {
    let stuck = seen.threads.iter().find(|thread| thread.looks > 1 && thread.waiting == thread.looks)?;
    if seen.cpu_used() >= NOTHING || !seen.moved_nothing() {
        return None;
    }
    let found = format!(
        "its thread {} was found waiting uninterruptibly at every one of {}",
        stuck.tid,
        counted(stuck.looks, "look")
    );
    let mut evidence = vec![found, seen.used()];
    evidence.extend(seen.has_moved());
    let wait = stuck.waits.first().map(|(wait, _)| wait.clone());
    let advice = "no signal is answered before the kernel lets it go: look at what it waits for, not at the process";
    Some(doing(Answer::Stuck(wait), evidence, Some(advice)))
}

/// One of its threads fills a core: with work, or with nothing that can be seen.
fn full(seen: &Sightings) -> Option<Doing> {
    let busiest = seen.threads.iter().max_by(|a, b| a.cpu.unwrap_or(0.0).total_cmp(&b.cpu.unwrap_or(0.0)))?;
    let cpu = busiest.cpu.filter(|cpu| *cpu >= FULL || (*cpu >= CONTESTED && never_rests(busiest)))?;
    let mut evidence = vec![format!(
        "its thread {} ({}) used {} of a core over {}",
        busiest.tid,
        busiest.name,
        scaled_percent(cpu),
        scaled_duration(seen.length)
    )];
    evidence.extend(busiest.yields.map(|yields| format!("it gave its core up by itself {yields:.0} times a second")));
    evidence.extend(seen.has_moved());
    evidence.extend(seen.growth.map(|growth| {
        if growth.abs() < NO_GROWTH {
            "what it holds in memory did not change".to_owned()
        } else {
            format!("what it holds in memory changed by {}", Value::Rate(growth.abs()).scaled())
        }
    }));
    let slowed = cpu < FULL;
    Some(match shows_no_work(seen, busiest) {
        true if slowed => doing(Answer::SpinningSlowed, evidence, Some(LOOKS_THE_SAME)),
        true => doing(Answer::Spinning, evidence, Some(LOOKS_THE_SAME)),
        false => doing(Answer::Working, evidence, None),
    })
}

const LOOKS_THE_SAME: &str = "a long calculation looks the same: ask its owner whether a result is due before you act";

/// Nothing is read, written or kept, and the thread never waits for anything.
fn shows_no_work(seen: &Sightings, thread: &ThreadSeen) -> bool {
    thread.yields.is_none_or(|yields| yields < NEVER_YIELDS)
        && seen.moved_nothing()
        && seen.growth.is_none_or(|growth| growth.abs() < NO_GROWTH)
}

/// It uses some of a core: as much as it wants, or as much as others leave it.
fn busy(seen: &Sightings) -> Option<Doing> {
    let cpu = seen.cpu_used();
    if cpu < NOTHING {
        return None;
    }
    let mut evidence = vec![seen.used()];
    evidence.extend(seen.has_moved());
    let ready: u32 = seen.threads.iter().map(|thread| thread.running).sum();
    // Whoever never rests wants all that it can get: it is one of those who take the cores, however little is left for it.
    if let Some(spins) = seen.threads.iter().find(|thread| never_rests(thread) && shows_no_work(seen, thread)) {
        let yields = spins.yields.unwrap_or_default();
        evidence.push(format!(
            "its thread {} was ready for a core at {} of {} looks, and gave it up by itself {yields:.0} times a second",
            spins.tid, spins.running, spins.looks
        ));
        return Some(doing(Answer::SpinningSlowed, evidence, Some(LOOKS_THE_SAME)));
    }
    let starved = seen.looks > 0 && f64::from(ready) / f64::from(seen.looks) > 3.0 * cpu / 100.0 + 0.5;
    if !starved {
        return Some(doing(Answer::Working, evidence, None));
    }
    evidence.push(format!("it was ready for a core {ready} times in {} looks: others take the cores", seen.looks));
    Some(doing(Answer::Waiting(Wait::Core), evidence, Some("look for who takes the cores: `sophron checkup`")))
}

/// It uses nothing: what it waits for.
fn idle(seen: &Sightings, main: &ThreadSeen) -> Doing {
    let wait = main.waits.first();
    let mut evidence = vec![seen.used()];
    if let Some((wait, looks)) = wait {
        evidence.push(format!("its main thread was found waiting for {wait} at {looks} of {} looks", main.looks));
    }
    let mut kinds: Vec<(&Wait, usize)> = Vec::new();
    for (wait, _) in seen.threads.iter().skip(1).filter_map(|thread| thread.waits.first()) {
        match kinds.iter_mut().find(|(known, _)| *known == wait) {
            Some((_, count)) => *count += 1,
            None => kinds.push((wait, 1)),
        }
    }
    if !kinds.is_empty() {
        let kinds: Vec<String> =
            kinds.into_iter().take(3).map(|(wait, count)| format!("{count} waiting for {wait}")).collect();
        evidence.push(format!("of its other threads: {}", kinds.join(", ")));
    }
    evidence.extend(seen.has_moved());
    let wait = wait.map(|(wait, _)| wait.clone()).unwrap_or_else(|| {
        evidence.push("what it waits for is for its owner and root to read".to_owned());
        match main.state {
            State::Waiting => Wait::Disk,
            state => Wait::Other(state.word().to_owned()),
        }
    });
    doing(Answer::Waiting(wait), evidence, None)
}

/// On a core or ready for one at nearly every look.
fn never_rests(thread: &ThreadSeen) -> bool {
    thread.looks > 0 && thread.running * 10 >= thread.looks * 9
}

fn threads(count: usize, one: &str, many: &str) -> String {
    if count == 1 { format!("its only thread {one}") } else { format!("its {count} threads {many}") }
}
