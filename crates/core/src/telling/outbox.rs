//! What waits for a channel: when it is tried, how long it is tried again, when it is given up, and whether the channel counts as down.

use std::collections::VecDeque;
use std::time::Duration;

use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};

use super::{Channel, Message, Pace, TOO_OLD};
use crate::audit::{ToldRecord, ToldWord};
use crate::model::Moment;
use crate::severity::Severity;
use crate::text::counted;

/// Most that is held; the rest waits in the trail.
const MOST: usize = 64;

/// So many of them are left out at once where there is no room and nothing may be sent.
const LEFT_OUT_AT_ONCE: usize = 32;

/// After a failure it is tried again that much later, each time twice as late as before.
const FIRST_WAIT: Duration = Duration::from_secs(10);

/// At the latest after that.
const LONGEST_WAIT: Duration = Duration::from_secs(15 * 60);

/// What the other side asks to be left alone for counts from so long to so long.
const ASKED_FOR: [Duration; 2] = [Duration::from_secs(1), HOUR];

/// Refused for good so often in a row, a channel is down.
const REFUSALS: u32 = 5;

const HOUR: Duration = Duration::from_secs(3600);

/// How often it is looked whether a quiet time is over.
const QUIET_LOOK: Duration = Duration::from_secs(60);

/// Why something was not taken.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Trouble {
    /// It may be taken later; not before that time, where the other side asks for it.
    Later(String, Option<Duration>),
    /// It never will be.
    ForGood(String),
    /// Nothing will be, until somebody mends it.
    Off(String),
}

/// Of one channel.
#[derive(Debug)]
pub struct Outbox {
    channel: String,
    receipts: bool,
    down_after: Duration,
    pace: Pace,
    zone: TimeZone,
    waiting: VecDeque<Message>,
    left_out: Option<LeftOut>,
    /// When something was sent within the last hour, where that is limited.
    sent: VecDeque<Duration>,
    /// Since when it has failed, how often, and when it is tried again.
    failing: Option<Failing>,
    refused: u32,
    down: bool,
    /// Nothing more will come: nothing is gathered.
    hurries: bool,
}

#[derive(Debug, Clone, Copy)]
struct Failing {
    since: Duration,
    tries: u32,
    next: Duration,
}

/// What is only counted: there was no room for it.
#[derive(Debug, Clone)]
struct LeftOut {
    count: usize,
    worst: Severity,
    last: Message,
}

/// Why nothing is tried now.
enum Hold {
    /// For that long, after a failure.
    Failing(Duration),
    /// For that long, since there may be more.
    Gathering(Duration),
    /// For that long, since nobody is to be disturbed.
    Spared(Duration, &'static str),
}

impl Outbox {
    /// Of that channel, in that zone; whether it was down when it was last told of.
    pub fn new(channel: &Channel, down: bool, zone: TimeZone) -> Outbox {
        Outbox {
            channel: channel.name.clone(),
            receipts: channel.to.gives_receipts(),
            down_after: channel.down_after,
            pace: channel.pace.clone(),
            zone,
            waiting: VecDeque::new(),
            left_out: None,
            sent: VecDeque::new(),
            failing: None,
            refused: 0,
            down,
            hurries: false,
        }
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

    /// From now on nothing is gathered: the watcher ends.
    pub fn hurry(&mut self) {
        self.hurries = true;
    }

    fn hold(&self, now: Moment) -> Option<Hold> {
        let left = |until: Duration| until.checked_sub(now.monotonic).filter(|left| !left.is_zero());
        if let Some(left) = self.failing.and_then(|failing| left(failing.next)) {
            return Some(Hold::Failing(left));
        }
        let Pace { gather, at_most, quiet } = &self.pace;
        let recent: Vec<Duration> = self.sent.iter().filter_map(|sent| left(*sent + HOUR)).collect();
        if let Some(first) = recent.first().filter(|_| at_most.is_some_and(|most| recent.len() >= most as usize)) {
            return Some(Hold::Spared(*first, "beyond its `at_most`"));
        }
        if self.waiting.iter().any(|message| message.severity == Severity::Critical) {
            return None;
        }
        if quiet.as_ref().is_some_and(|quiet| quiet.covers(now.wall, &self.zone)) {
            return Some(Hold::Spared(QUIET_LOOK, "in its `quiet` hours"));
        }
        let age = Duration::try_from(now.wall.duration_since(self.waiting.front()?.at)).unwrap_or_default();
        let left = gather.checked_sub(age).filter(|left| !left.is_zero() && self.room() > 0 && !self.hurries)?;
        Some(Hold::Gathering(left))
    }

    /// What is to be tried now, the oldest first: as much of it as can be, and what was left out.
    pub fn due(&self, now: Moment) -> Vec<Message> {
        if self.waiting.is_empty() || self.hold(now).is_some() {
            return Vec::new();
        }
        let left_out = self.left_out.as_ref().map(LeftOut::message);
        self.waiting.iter().cloned().chain(left_out).collect()
    }

    /// How long until something is due; none where nothing waits.
    pub fn rest(&self, now: Moment) -> Option<Duration> {
        self.waiting.front()?;
        Some(match self.hold(now) {
            Some(Hold::Failing(left) | Hold::Gathering(left) | Hold::Spared(left, _)) => left,
            None => Duration::ZERO,
        })
    }

    /// What is too old to be told any more: for the trail.
    pub fn expire(&mut self, now: Moment) -> Option<ToldRecord> {
        let old = |message: &Message| now.wall.duration_since(message.at) > TOO_OLD;
        let count = self.waiting.iter().take_while(|message| old(message)).count();
        let gone: Vec<Message> = self.waiting.drain(..count).collect();
        let why = format!("{} older than a day", counted(count, "message"));
        told(&self.channel, &gone, ToldWord::GivenUp, &why, None)
    }

    /// Where nobody is to be disturbed and there is no room left, the oldest are only counted, so that what is critical is seen: for the
    /// trail.
    pub fn make_room(&mut self, now: Moment) -> Option<ToldRecord> {
        let Some(Hold::Spared(_, why)) = self.hold(now).filter(|_| self.room() == 0) else { return None };
        let gone: Vec<Message> = self.waiting.drain(..LEFT_OUT_AT_ONCE.min(self.waiting.len())).collect();
        let worst = gone.iter().map(|message| message.severity).max()?;
        let before = self.left_out.take();
        self.left_out = Some(LeftOut {
            count: gone.len() + before.as_ref().map_or(0, |before| before.count),
            worst: before.map_or(worst, |before| before.worst.max(worst)),
            last: gone.last()?.clone(),
        });
        told(&self.channel, &gone, ToldWord::GivenUp, &format!("{why}: the next message counts them"), None)
    }

    /// What came of a try: so many of those that were due were taken, in so much time, and the next one was not. For the trail.
    pub fn came(&mut self, now: Moment, taken: usize, took: Duration, trouble: Option<Trouble>) -> Vec<ToldRecord> {
        let mut all = Vec::new();
        if taken > self.waiting.len() {
            self.left_out = None;
        }
        let done: Vec<Message> = self.waiting.drain(..taken.min(self.waiting.len())).collect();
        let outcome = if self.receipts { ToldWord::Taken } else { ToldWord::Sent };
        all.extend(told(&self.channel, &done, outcome, "", Some(took)));
        if !done.is_empty() && self.pace.at_most.is_some() {
            self.sent.retain(|sent| *sent + HOUR > now.monotonic);
            self.sent.push_back(now.monotonic);
        }
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
            Some(Trouble::Later(why, asked)) => {
                if self.failing.is_none() && !self.down {
                    all.push(self.state(ToldWord::Failing, why.clone()));
                }
                let failing = self.fails(now);
                if let Some(asked) = asked {
                    failing.next = now.monotonic + asked.clamp(ASKED_FOR[0], ASKED_FOR[1]);
                }
                if now.monotonic.saturating_sub(failing.since) >= self.down_after {
                    all.extend(self.goes_down(why));
                }
            }
            Some(Trouble::Off(why)) => {
                self.fails(now).next = now.monotonic + LONGEST_WAIT;
                all.extend(self.goes_down(why));
            }
        }
        all
    }

    /// A failure more; tried again twice as late as before, give or take a fifth, so that many machines do not try together.
    fn fails(&mut self, now: Moment) -> &mut Failing {
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
        self.failing.insert(Failing { tries: before.tries + 1, next, ..before })
    }

    fn goes_down(&mut self, why: String) -> Option<ToldRecord> {
        (!std::mem::replace(&mut self.down, true)).then(|| self.state(ToldWord::Down, why))
    }

    fn state(&self, outcome: ToldWord, seen: String) -> ToldRecord {
        ToldRecord { seen, ..ToldRecord::of(&self.channel, outcome) }
    }
}

impl LeftOut {
    fn message(&self) -> Message {
        let count = counted(self.count, "message");
        let brief = format!("{count} not sent, the last of {}", self.last.when);
        let line = format!("{brief}: they stand in the record: sophron audit");
        let last = self.last.clone();
        Message {
            seq: 0,
            id: format!("left-out-{}", last.seq),
            severity: self.worst,
            word: "left out".to_owned(),
            brief,
            line,
            ..Message { case: None, rule: None, process: None, app: None, owner: None, ..last }
        }
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
