//! What waits for a channel: when it is tried, how long it is tried again, when it is given up, and whether the channel counts as down.

use std::collections::VecDeque;
use std::time::Duration;

use super::{Message, TOO_OLD};
use crate::audit::{ToldRecord, ToldWord};
use crate::model::Moment;

/// Most that is held; the rest waits in the trail.
const MOST: usize = 64;

/// After a failure it is tried again that much later, each time twice as late as before.
const FIRST_WAIT: Duration = Duration::from_secs(10);

/// At the latest after that.
const LONGEST_WAIT: Duration = Duration::from_secs(15 * 60);

/// Refused for good so often in a row, a channel is down.
const REFUSALS: u32 = 5;

/// Why something was not taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Trouble {
    /// It may be taken later.
    Later(String),
    /// It never will be.
    ForGood(String),
}

/// Of one channel.
#[derive(Debug)]
pub struct Outbox {
    channel: String,
    down_after: Duration,
    waiting: VecDeque<Message>,
    /// Since when it has failed, how often, and when it is tried again.
    failing: Option<Failing>,
    refused: u32,
    down: bool,
}

#[derive(Debug, Clone, Copy)]
struct Failing {
    since: Duration,
    tries: u32,
    next: Duration,
}

impl Outbox {
    /// Of that channel; whether it was down when it was last told of.
    pub fn new(channel: &str, down_after: Duration, down: bool) -> Outbox {
        let (waiting, channel) = (VecDeque::new(), channel.to_owned());
        Outbox { channel, down_after, waiting, failing: None, refused: 0, down }
    }

    /// How many more can be held.
    pub fn room(&self) -> usize {
        MOST.saturating_sub(self.waiting.len())
    }

    /// One more waits.
    pub fn put(&mut self, message: Message) {
        self.waiting.push_back(message);
    }

    /// What stands in no trail goes before everything else; where there is no room it is lost, as all memory is.
    pub fn put_first(&mut self, message: Message) {
        if self.room() > 0 {
            self.waiting.push_front(message);
        }
    }

    /// What is to be tried now, the oldest first: as much of it as can be.
    pub fn due(&self, now: Moment) -> Vec<Message> {
        let rests = self.failing.is_some_and(|failing| now.monotonic < failing.next);
        if rests { Vec::new() } else { self.waiting.iter().cloned().collect() }
    }

    /// How long until something is due; none where nothing waits.
    pub fn rest(&self, now: Moment) -> Option<Duration> {
        self.waiting.front()?;
        Some(self.failing.map_or(Duration::ZERO, |failing| failing.next.saturating_sub(now.monotonic)))
    }

    /// What is too old to be told any more: for the trail.
    pub fn expire(&mut self, now: Moment) -> Option<ToldRecord> {
        let old = |message: &Message| now.wall.duration_since(message.at) > TOO_OLD;
        let count = self.waiting.iter().take_while(|message| old(message)).count();
        let gone: Vec<Message> = self.waiting.drain(..count).collect();
        let why = format!("{} older than a day", crate::text::counted(count, "message"));
        told(&self.channel, &gone, ToldWord::GivenUp, &why, None)
    }

    /// What came of a try: so many of those that were due were taken, in so much time, and the next one was not. For the trail.
    pub fn came(&mut self, now: Moment, taken: usize, took: Duration, trouble: Option<Trouble>) -> Vec<ToldRecord> {
        let mut all = Vec::new();
        let done: Vec<Message> = self.waiting.drain(..taken.min(self.waiting.len())).collect();
        all.extend(told(&self.channel, &done, ToldWord::Taken, "", Some(took)));
        if !done.is_empty() || trouble.is_none() {
            (self.refused, self.failing) = (0, None);
            if !done.is_empty() && std::mem::take(&mut self.down) {
                all.push(self.state(ToldWord::Back, "it takes messages again".to_owned()));
            }
        }
        match trouble {
            None => {}
            Some(Trouble::ForGood(why)) => {
                let refused: Vec<Message> = self.waiting.pop_front().into_iter().collect();
                all.extend(told(&self.channel, &refused, ToldWord::GivenUp, &why, None));
                self.refused += 1;
                if self.refused >= REFUSALS {
                    self.fails(now);
                    all.extend(self.goes_down(format!("it has refused {REFUSALS} messages in a row: {why}")));
                }
            }
            Some(Trouble::Later(why)) => {
                let failing = self.fails(now);
                if now.monotonic.saturating_sub(failing.since) >= self.down_after {
                    all.extend(self.goes_down(why));
                }
            }
        }
        all
    }

    /// A failure more; tried again twice as late as before, give or take a fifth, so that many machines do not try together.
    fn fails(&mut self, now: Moment) -> Failing {
        let before = self.failing.unwrap_or(Failing { since: now.monotonic, tries: 0, next: now.monotonic });
        let wait = FIRST_WAIT.saturating_mul(1 << before.tries.min(10)).min(LONGEST_WAIT);
        let chance = now.wall.subsec_nanosecond().unsigned_abs() % 401;
        let wait = wait.mul_f64(0.8 + f64::from(chance) / 1000.0);
        let mut next = now.monotonic + wait;
        let down_at = before.since + self.down_after;
        if now.monotonic < down_at {
            // That it is down is known when it is.
            next = next.min(down_at);
        }
        let failing = Failing { tries: before.tries + 1, next, ..before };
        self.failing = Some(failing);
        failing
    }

    fn goes_down(&mut self, why: String) -> Option<ToldRecord> {
        (!std::mem::replace(&mut self.down, true)).then(|| self.state(ToldWord::Down, why))
    }

    fn state(&self, outcome: ToldWord, seen: String) -> ToldRecord {
        ToldRecord { seen, ..ToldRecord::of(&self.channel, outcome) }
    }
}

/// Of what stands in the trail.
fn told(
    channel: &str,
    messages: &[Message],
    outcome: ToldWord,
    seen: &str,
    took: Option<Duration>,
) -> Option<ToldRecord> {
    let records: Vec<u64> = messages.iter().map(|message| message.seq).filter(|seq| *seq > 0).collect();
    let took = took.map(|took| (took.as_secs_f64() * 1000.0).round() / 1000.0);
    let told = ToldRecord { seen: seen.to_owned(), took, ..ToldRecord::of(channel, outcome) };
    (!records.is_empty()).then_some(ToldRecord { records, ..told })
}
