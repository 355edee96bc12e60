//! The ways to people. Each channel has a thread of its own, which reads the trail from where it was last told of, and hands on what
//! is due; what became of it goes back into the trail. It decides nothing: what is due is `sophron_core::telling`.

mod collector;
mod current;
pub mod desk;
mod fenced;
mod hook;
mod job;
mod log;
mod mail;
mod network;
pub mod serve;
#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests;

use std::io;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, TrySendError, sync_channel};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::{Builder, JoinHandle};
use std::time::{Duration, Instant};

pub use current::Current;
pub use fenced::{Carrier, Fenced};
use jiff::tz::TimeZone;
pub use job::{Job, Said, Secret, Supplies, carry_out};
pub use log::Log;
use sophron_core::audit::{Record, ToldRecord};
use sophron_core::model::Moment;
use sophron_core::telling::{Channel, Message, Outbox, StandIn, Trouble};
use sophron_core::text::{clean, cut};

/// Most that wait for a channel that is at work and stand in no trail.
const MOST_BESIDE: usize = 16;

/// How long nothing is looked for while nobody rings.
const LONGEST_SLEEP: Duration = Duration::from_secs(3600);

/// How often it is looked whether a channel has come to its end.
const A_MOMENT: Duration = Duration::from_millis(5);

/// Longest reason that is passed on, bytes.
const LONGEST_REASON: usize = 300;

/// What somebody says who is not trusted, as it may be shown and recorded.
fn reason(text: &str) -> String {
    cut(&clean(text.as_bytes()), LONGEST_REASON).to_owned()
}

/// A way out of the machine.
pub trait Way: Send {
    /// Hands on messages, the oldest first; how many were taken, and why the next one was not.
    fn deliver(&mut self, messages: &[Message]) -> (usize, Option<Trouble>);

    /// Hands on one message, and says each step.
    ///
    /// # Errors
    /// Why it was not taken.
    fn try_out(&mut self, message: &Message, say: &mut dyn FnMut(&str)) -> Result<(), String>;
}

/// The trail as a channel reads it.
pub trait Trail: Send {
    /// Records that follow on those it was given before, at most so many. What it gives is on disk.
    fn more(&mut self, most: usize) -> Vec<Record>;
}

/// What a channel's thread is told.
#[derive(Debug)]
enum Ring {
    /// Something was recorded.
    Look,
    /// What stands in no trail.
    Beside(Box<Message>),
    /// The watcher ends: one last try.
    End,
}

/// A channel as it begins.
pub struct Begin {
    /// Which.
    pub channel: Channel,
    /// The rules, by which it is known what is due.
    pub rules: Current,
    /// The trail, from the file in which the cursor is.
    pub trail: Box<dyn Trail>,
    /// The place of the last record that it was told of.
    pub cursor: u64,
    /// Whether it was down.
    pub down: bool,
    /// For whom it stands in, and what it owes of what stands before its cursor.
    pub stand_in: (StandIn, Vec<Message>),
    /// How it is told.
    pub way: Box<dyn Way>,
    /// Takes what became of it.
    pub told: Tell,
    /// The time.
    pub clock: fn() -> Moment,
    /// What its thread does first.
    pub first: fn(),
}

/// Takes what became of messages.
pub type Tell = Box<dyn Fn(ToldRecord) + Send>;

/// The same, until nobody takes it any more: a thread whose delivery hangs holds on to nothing else of the watcher.
type Ear = Arc<Mutex<Option<Tell>>>;

/// All channels.
#[derive(Debug, Default)]
pub struct Post(Mutex<Vec<Bell>>);

/// By which a channel's thread is woken.
struct Bell {
    rings: SyncSender<Ring>,
    ear: Ear,
    /// Whether it is to look already.
    rung: Arc<AtomicBool>,
    thread: JoinHandle<()>,
}

impl std::fmt::Debug for Bell {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Bell").field("thread", &self.thread).finish_non_exhaustive()
    }
}

impl Post {
    /// One more channel, on a thread of its own.
    ///
    /// # Errors
    /// No thread can be started.
    pub fn begin(&self, mut begin: Begin) -> io::Result<()> {
        let (ring, rings) = sync_channel(MOST_BESIDE + 2);
        let zone = TimeZone::system();
        let mut outbox = Outbox::new(&begin.channel, begin.down, zone.clone());
        begin.stand_in.1.iter().cloned().for_each(|owed| outbox.put(owed));
        let ear: Ear = Arc::new(Mutex::new(Some(std::mem::replace(&mut begin.told, Box::new(|_| ())))));
        let mut post = Postman { outbox, cursor: begin.cursor, seen: 0, zone, ear: Arc::clone(&ear), begin };
        let rung = Arc::new(AtomicBool::new(false));
        let looks = Arc::clone(&rung);
        let thread = Builder::new().name("channel".to_owned()).spawn(move || post.run(&rings, &looks))?;
        self.bells().push(Bell { rings: ring, ear, rung, thread });
        Ok(())
    }

    /// Whether there is no channel.
    pub fn is_empty(&self) -> bool {
        self.bells().is_empty()
    }

    fn bells(&self) -> MutexGuard<'_, Vec<Bell>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Something was recorded. Never waits.
    pub fn look(&self) {
        for bell in &*self.bells() {
            if !bell.rung.swap(true, Ordering::SeqCst) {
                let _ = bell.rings.try_send(Ring::Look);
            }
        }
    }

    /// What stands in no trail: to every channel. Never waits; a channel that is at work and has no room loses it.
    pub fn beside(&self, message: &Message) {
        for bell in &*self.bells() {
            let _ = bell.rings.try_send(Ring::Beside(Box::new(message.clone())));
        }
    }

    /// One last try of each, and at most that long for all. Whoever is not done by then is heard no more: what he delivers after that comes
    /// again.
    pub fn end(&self, patience: Duration) {
        self.retire().end(patience);
    }

    /// Nobody is told by these channels any more, once they are ended.
    pub fn retire(&self) -> Retired {
        Retired(std::mem::take(&mut *self.bells()))
    }
}

/// Channels that are to end.
#[derive(Debug)]
pub struct Retired(Vec<Bell>);

impl Retired {
    /// As [`Post::end`].
    pub fn end(self, patience: Duration) {
        let until = Instant::now() + patience;
        let last = |bell: Bell| {
            while let Err(TrySendError::Full(_)) = bell.rings.try_send(Ring::End)
                && Instant::now() < until
            {
                std::thread::sleep(A_MOMENT);
            }
            (bell.thread, bell.ear)
        };
        let all: Vec<(JoinHandle<()>, Ear)> = self.0.into_iter().map(last).collect();
        while Instant::now() < until && all.iter().any(|(thread, _)| !thread.is_finished()) {
            std::thread::sleep(A_MOMENT);
        }
        for (_, ear) in &all {
            ear.lock().unwrap_or_else(PoisonError::into_inner).take();
        }
    }
}

/// Whoever serves one channel.
struct Postman {
    outbox: Outbox,
    cursor: u64,
    /// The place of the last record that was read.
    seen: u64,
    zone: TimeZone,
    ear: Ear,
    begin: Begin,
}

impl Postman {
    fn run(&mut self, rings: &Receiver<Ring>, rung: &AtomicBool) {
        (self.begin.first)();
        let mut ending = false;
        loop {
            let more = self.round();
            if ending && (!more || self.is_deaf()) {
                return;
            }
            let rest = self.outbox.rest((self.begin.clock)()).unwrap_or(LONGEST_SLEEP);
            match rings.recv_timeout(if more || ending { Duration::ZERO } else { rest }) {
                Ok(Ring::Look) => rung.store(false, Ordering::SeqCst),
                Err(RecvTimeoutError::Timeout) => {}
                Ok(Ring::Beside(message)) => self.outbox.put_first(*message),
                Ok(Ring::End) | Err(RecvTimeoutError::Disconnected) => {
                    self.outbox.hurry();
                    ending = true;
                }
            }
        }
    }

    /// Takes in what is due, and hands it on; whether there may be more at once.
    fn round(&mut self) -> bool {
        let now = (self.begin.clock)();
        let gone = self.outbox.make_room(now);
        self.tell(gone);
        let more = self.gather();
        let gone = self.outbox.expire(now);
        self.tell(gone);
        let due = self.outbox.due(now);
        if due.is_empty() {
            return more && self.outbox.room() > 0;
        }
        let began = Instant::now();
        let (taken, trouble) = self.begin.way.deliver(&due);
        let came = self.outbox.came((self.begin.clock)(), taken, began.elapsed(), trouble);
        self.tell(came);
        true
    }

    fn tell(&self, told: impl IntoIterator<Item = ToldRecord>) {
        if let Some(tell) = &*self.ear.lock().unwrap_or_else(PoisonError::into_inner) {
            told.into_iter().for_each(tell);
        }
    }

    /// Whether nobody takes any more what became of it.
    fn is_deaf(&self) -> bool {
        self.ear.lock().unwrap_or_else(PoisonError::into_inner).is_none()
    }

    /// What follows in the trail, as far as there is room; whether there was anything.
    fn gather(&mut self) -> bool {
        let room = self.outbox.room();
        let records = if room == 0 { Vec::new() } else { self.begin.trail.more(room) };
        let rules = self.begin.rules.now();
        for record in &records {
            if record.seq <= std::mem::replace(&mut self.seen, record.seq) {
                // Another trail has been begun.
                self.cursor = 0;
            }
            if record.seq <= self.cursor {
                continue;
            }
            self.cursor = record.seq;
            let Begin { channel, stand_in, .. } = &mut self.begin;
            stand_in.0.note(record, &rules, &self.zone).into_iter().for_each(|owed| self.outbox.put(owed));
            if let Some(message) = rules.telling.message(record, &channel.name, &rules, &self.zone) {
                self.outbox.put(message);
            }
        }
        !records.is_empty()
    }
}
