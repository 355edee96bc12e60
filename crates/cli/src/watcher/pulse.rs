//! The watcher's pulse: a thread that does nothing but look at when the last tick was over, and says so when the next is late. Whatever
//! the watcher waits in, that thread does not: it opens no file of anybody's and takes no lock that is held for longer than a moment.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU8, AtomicU64, Ordering};
use std::thread::{Builder, JoinHandle};
use std::time::Duration;

use rustix::thread::{Pid, gettid};
use sophron_core::units::scaled_duration;
use sophron_linux::here;

/// A tick is late when so many times the time between two have passed, and never earlier than that.
const LATE: u32 = 5;
const LEAST: Duration = Duration::from_secs(5);

/// How often it looks.
const LOOK: Duration = Duration::from_millis(500);

/// What the watcher is at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
pub enum At {
    Rest,
    Reading,
    Judging,
    SettingGoing,
}

impl At {
    fn in_words(number: u8) -> &'static str {
        match number {
            1 => "reading the processes",
            2 => "judging them",
            3 => "having done what is due",
            _ => "what it was asked or told",
        }
    }
}

/// When the last tick was over, and what is being done, for all threads to see.
#[derive(Debug)]
pub struct Beat {
    /// Nanoseconds on the monotonic clock.
    over: AtomicU64,
    every: AtomicU64,
    at: AtomicU8,
    ends: AtomicBool,
    thread: Pid,
}

impl Beat {
    /// Of the thread that calls this.
    pub fn of_this_thread(every: Duration) -> Arc<Beat> {
        let beat = Beat {
            over: AtomicU64::new(0),
            every: AtomicU64::new(0),
            at: AtomicU8::new(0),
            ends: AtomicBool::new(false),
            thread: gettid(),
        };
        beat.tick_is_over(every);
        Arc::new(beat)
    }

    /// A tick is over, and the next is due that much later.
    pub fn tick_is_over(&self, every: Duration) {
        self.every.store(nanoseconds(every), Ordering::Relaxed);
        self.over.store(nanoseconds(here::monotonic()), Ordering::Relaxed);
        self.is_at(At::Rest);
    }

    pub fn is_at(&self, at: At) {
        self.at.store(at as u8, Ordering::Relaxed);
    }

    /// For how long nobody has been watched, where that is too long.
    pub fn late(&self) -> Option<Duration> {
        let passed = here::monotonic().saturating_sub(Duration::from_nanos(self.over.load(Ordering::Relaxed)));
        let most = Duration::from_nanos(self.every.load(Ordering::Relaxed)) * LATE;
        (passed > most.max(LEAST) && !self.ends.load(Ordering::Relaxed)).then_some(passed)
    }

    /// Since when, and in what it waits.
    pub fn in_words(&self, passed: Duration) -> String {
        let doing = At::in_words(self.at.load(Ordering::Relaxed));
        let waits = std::fs::read_to_string(format!("/proc/self/task/{}/wchan", self.thread)).unwrap_or_default();
        let kernel = match waits.trim_matches(|c: char| c == '0' || !c.is_ascii_graphic()) {
            "" => String::new(),
            function => format!(", in the kernel at {function}"),
        };
        format!("nobody has been watched for {}: waiting in {doing}{kernel}", scaled_duration(passed))
    }
}

fn nanoseconds(time: Duration) -> u64 {
    u64::try_from(time.as_nanos()).unwrap_or(u64::MAX)
}

/// The thread.
pub struct Pulse {
    beat: Arc<Beat>,
    thread: JoinHandle<()>,
}

impl Pulse {
    /// Starts it; `say` is given why nobody is watched, once each time.
    ///
    /// # Errors
    /// No thread can be started.
    pub fn start(beat: Arc<Beat>, mut say: impl FnMut(String) + Send + 'static) -> std::io::Result<Pulse> {
        let seen = Arc::clone(&beat);
        let run = move || {
            let (mut late_before, mut said) = (false, false);
            while !seen.ends.load(Ordering::Relaxed) {
                std::thread::park_timeout(LOOK);
                let late = seen.late();
                // Twice: who was suspended himself looks late at the moment at which he goes on.
                if let (Some(passed), true, false) = (late, late_before, said) {
                    say(seen.in_words(passed));
                }
                said = late.is_some() && (said || late_before);
                late_before = late.is_some();
            }
        };
        let thread = Builder::new().name("pulse".to_owned()).spawn(run)?;
        Ok(Pulse { beat, thread })
    }

    /// Ends it: from now on nothing is late.
    pub fn end(self) {
        self.beat.ends.store(true, Ordering::Relaxed);
        self.thread.thread().unpark();
        // A panic in it has been printed.
        let _ = self.thread.join();
    }
}

#[cfg(test)]
mod tests {
    use std::sync::mpsc::channel;

    use super::*;

    /// Said once for each time that it lasts, with what is waited in.
    #[test]
    fn a_tick_that_is_late_is_told_of() {
        let beat = Beat::of_this_thread(Duration::from_millis(1));
        let (told, heard) = channel();
        let pulse = Pulse::start(Arc::clone(&beat), move |why| drop(told.send(why))).unwrap();
        let hang = |at: At| {
            beat.is_at(at);
            beat.over.store(nanoseconds(here::monotonic() - LEAST), Ordering::Relaxed);
            let why = heard.recv_timeout(Duration::from_secs(30)).unwrap();
            assert!(beat.late().is_some());
            beat.tick_is_over(Duration::from_millis(1));
            assert_eq!(beat.late(), None);
            // It has to see that.
            std::thread::sleep(LOOK * 3);
            why
        };
        assert!(hang(At::Reading).contains("waiting in reading the processes"));
        assert!(hang(At::Judging).contains("waiting in judging them"));
        pulse.end();
        assert_eq!(heard.try_iter().count(), 0);
    }
}
