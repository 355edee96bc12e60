//! The bus: what happens is handed to whoever listens, and nobody who listens can hold anything up. Each has a queue of his
//! own and a thread of his own; when his queue is full he loses what comes next, and is told how much that was.
//!
//! The audit trail does not listen here: before an act it is awaited.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, TrySendError, channel, sync_channel};
use std::thread::Builder;
use std::time::Duration;

use jiff::tz::TimeZone;
use sophron_core::happening::{Happening, News, What};
use sophron_linux::here;

/// How many happenings wait for a listener who is slow; what comes then is lost to him.
const MOST_WAITING: usize = 256;

/// How long a listener is waited for at the end.
const LAST_WAIT: Duration = Duration::from_secs(2);

/// Everybody who listens.
#[derive(Default)]
pub struct Bus {
    listeners: Vec<Listener>,
}

struct Listener {
    queue: SyncSender<Arc<Happening>>,
    /// What of it he cares for: only that counts as lost.
    cares: Box<dyn Fn(&Happening) -> bool + Send>,
    given: u64,
    heard: Arc<Heard>,
    /// Lost and not told yet, and in all.
    untold: u64,
    lost: u64,
    /// Closed once his thread is done.
    done: Receiver<()>,
}

/// What his thread says of what it was given.
#[derive(Default)]
struct Heard {
    taken: AtomicU64,
    /// Of these, lines that nobody got and that are not counted as lost yet.
    in_vain: AtomicU64,
    /// Losses that nobody got to know of, since what tells of them was lost as well.
    untold: AtomicU64,
}

impl Bus {
    /// Has somebody listen, on a thread of his own; `hear` says whether he got it.
    ///
    /// # Errors
    /// No thread can be started.
    pub fn listen(
        &mut self,
        name: &str,
        cares: impl Fn(&Happening) -> bool + Send + 'static,
        mut hear: impl FnMut(&Happening) -> bool + Send + 'static,
    ) -> std::io::Result<()> {
        let (queue, incoming) = sync_channel::<Arc<Happening>>(MOST_WAITING);
        let (ends, done) = channel::<()>();
        let heard = Arc::new(Heard::default());
        let tally = Arc::clone(&heard);
        Builder::new().name(name.to_owned()).spawn(move || {
            let _ends = ends;
            for happening in incoming {
                if !hear(&happening) {
                    match happening.what {
                        What::Watcher(News::LinesLost(count)) => tally.untold.fetch_add(count, Ordering::SeqCst),
                        _ => tally.in_vain.fetch_add(1, Ordering::SeqCst),
                    };
                }
                tally.taken.fetch_add(1, Ordering::SeqCst);
            }
        })?;
        let cares = Box::new(cares);
        self.listeners.push(Listener { queue, cares, given: 0, heard, untold: 0, lost: 0, done });
        Ok(())
    }

    /// Hands it to everybody who listens, for a thread that cannot wait for whoever holds the bus. Nothing of that counts as lost.
    pub fn beside(&self) -> impl Fn(&Arc<Happening>) + Send + 'static {
        let queues: Vec<SyncSender<Arc<Happening>>> =
            self.listeners.iter().map(|listener| listener.queue.clone()).collect();
        move |happening| queues.iter().for_each(|queue| drop(queue.try_send(Arc::clone(happening))))
    }

    /// Hands it to everybody who listens. Never waits.
    pub fn publish(&mut self, happening: &Arc<Happening>) {
        for listener in &mut self.listeners {
            listener.hand(happening);
        }
    }

    /// Waits a little for those who still have something to hear; how many lines were lost in all.
    pub fn end(self) -> u64 {
        self.listeners.into_iter().map(Listener::end).sum()
    }
}

impl Listener {
    fn hand(&mut self, happening: &Arc<Happening>) {
        let in_vain = self.heard.in_vain.swap(0, Ordering::SeqCst);
        self.lost += in_vain;
        self.untold += in_vain + self.heard.untold.swap(0, Ordering::SeqCst);
        if self.untold > 0 {
            let news = Happening::news(here::now().wall, News::LinesLost(self.untold));
            if self.put(Arc::new(news)) {
                self.untold = 0;
            }
        }
        if (self.untold > 0 || !self.put(Arc::clone(happening))) && (self.cares)(happening) {
            (self.untold, self.lost) = (self.untold + 1, self.lost + 1);
        }
    }

    fn put(&mut self, happening: Arc<Happening>) -> bool {
        match self.queue.try_send(happening) {
            Ok(()) => {
                self.given += 1;
                true
            }
            Err(TrySendError::Full(_)) => false,
            // His thread is gone: nobody is left to lose anything.
            Err(TrySendError::Disconnected(_)) => true,
        }
    }

    fn end(self) -> u64 {
        let Listener { queue, given, heard, lost, done, .. } = self;
        drop(queue);
        let waiting = match done.recv_timeout(LAST_WAIT) {
            Err(RecvTimeoutError::Timeout) => given.saturating_sub(heard.taken.load(Ordering::SeqCst)),
            _ => 0,
        };
        lost + waiting + heard.in_vain.load(Ordering::SeqCst)
    }
}

/// Whether it has a line for people.
pub fn has_a_line(happening: &Happening) -> bool {
    happening.line(&TimeZone::UTC).is_some()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_does_not_listen_loses_only_lines_and_is_told_how_many() {
        let mut bus = Bus::default();
        let (go, wait) = channel::<()>();
        let (hears, heard) = channel();
        let hear = move |happening: &Happening| {
            let _ = wait.recv();
            hears.send(happening.clone()).is_ok()
        };
        bus.listen("test", has_a_line, hear).unwrap();
        let news = |news| Arc::new(Happening::news(jiff::Timestamp::UNIX_EPOCH, news));
        let most = MOST_WAITING as u64;
        for _ in 0..most + 41 {
            bus.publish(&news(News::TrailBack));
        }
        // What is only recorded is no loss to him.
        bus.publish(&news(News::SummedUp(1, 60)));
        // One may have been taken out of the queue by now, and in its place there is word of what was lost.
        let lost = bus.listeners[0].lost;
        assert!((39..=41).contains(&lost), "{lost}");
        drop(go);
        while bus.listeners[0].heard.taken.load(Ordering::SeqCst) < bus.listeners[0].given {
            std::thread::yield_now();
        }
        bus.publish(&news(News::Ending));
        assert_eq!(bus.end(), lost);
        let all: Vec<Happening> = heard.iter().collect();
        let told = all.iter().map(|happening| match happening.what {
            What::Watcher(News::LinesLost(count)) => count,
            _ => 0,
        });
        assert_eq!(told.sum::<u64>(), lost);
    }

    /// A full disk takes no lines either: each is counted, and told once there is room again.
    #[test]
    fn what_is_handed_over_in_vain_is_lost() {
        let mut bus = Bus::default();
        let room = Arc::new(AtomicU64::new(0));
        let (seen, heard) = channel();
        let there = Arc::clone(&room);
        let hear = move |happening: &Happening| {
            let takes = there.load(Ordering::SeqCst) == 1;
            let _ = seen.send((takes, happening.what.clone()));
            takes
        };
        bus.listen("test", has_a_line, hear).unwrap();
        let mut publish = |takes: u64| {
            room.store(takes, Ordering::SeqCst);
            bus.publish(&Arc::new(Happening::news(jiff::Timestamp::UNIX_EPOCH, News::TrailBack)));
            while bus.listeners[0].heard.taken.load(Ordering::SeqCst) < bus.listeners[0].given {
                std::thread::yield_now();
            }
        };
        [0, 0, 1].into_iter().for_each(&mut publish);
        assert_eq!(bus.end(), 2);
        let told = |count| What::Watcher(News::LinesLost(count));
        let line = || What::Watcher(News::TrailBack);
        let all = [(false, line()), (false, told(1)), (false, line()), (true, told(2)), (true, line())];
        assert_eq!(heard.iter().collect::<Vec<_>>(), all);
    }
}
