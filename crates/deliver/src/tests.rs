//! A channel's thread: bounded, in order, and in nobody's way.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{Sender, channel};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use sophron_core::audit::{By, Draft, Kind, Link, Record, ToldRecord, ToldWord, Who};
use sophron_core::model::Moment;
use sophron_core::rules;
use sophron_core::telling::{Message, StandIn, Trouble};

use crate::{Begin, Post, Trail, Way};

const RULES: &str = "format = 1\n[[channel]]\nname = 'machine-log'\nto = 'log'\n[[tell]]\nby = ['machine-log']\n\
    [[rule]]\nname = 'a'\nbreach = 'cpu > 90%'\nlasting = '1s'\n";

/// So many records, of which each is due; and how many were asked for at once.
struct Many(u64, u64, Arc<AtomicUsize>);

impl Trail for Many {
    fn more(&mut self, most: usize) -> Vec<Record> {
        self.2.fetch_max(most, Ordering::SeqCst);
        let upto = (self.0 + most as u64).min(self.1);
        (std::mem::replace(&mut self.0, upto)..upto).map(|seq| record(seq + 1)).collect()
    }
}

fn record(seq: u64) -> Record {
    let who = Who { uid: 0, user: "root".to_owned(), login_uid: None, by: Some(By::Watcher) };
    let draft = Draft::new(Timestamp::now(), Kind::Breach, "mossgate-desk-03", "07", who);
    let sealed = Link::default().seal(&Draft { case: Some(seq), rule: Some("a".to_owned()), ..draft }).unwrap();
    Record { seq, ..serde_json::from_str(&sealed).unwrap() }
}

/// Takes all but what a test forbids.
struct Taker(Arc<Mutex<Vec<u64>>>, Duration, Option<Trouble>);

impl Way for Taker {
    fn deliver(&mut self, messages: &[Message]) -> (usize, Option<Trouble>) {
        std::thread::sleep(self.1);
        if let Some(trouble) = self.2.take() {
            return (0, Some(trouble));
        }
        self.0.lock().unwrap().extend(messages.iter().map(|message| message.seq));
        (messages.len(), None)
    }

    fn try_out(&mut self, _: &Message, _: &mut dyn FnMut(&str)) -> Result<(), String> {
        Ok(())
    }
}

fn now() -> Moment {
    static BEGAN: std::sync::OnceLock<Instant> = std::sync::OnceLock::new();
    let since = BEGAN.get_or_init(Instant::now).elapsed();
    Moment { wall: Timestamp::now(), monotonic: since, boottime: since }
}

fn begin(trail: Many, way: Taker, told: Sender<ToldRecord>) -> Post {
    let rules = Arc::new(rules::load(RULES.as_bytes()).unwrap());
    let channel = rules.telling.channels[0].clone();
    let stand_in = (StandIn::new(&rules.telling, &channel.name), Vec::new());
    let post = Post::default();
    let told = Box::new(move |record| told.send(record).unwrap_or_default());
    let (trail, way, cursor) = (Box::new(trail), Box::new(way), 0);
    post.begin(Begin {
        channel,
        rules: crate::Current::of(&rules),
        trail,
        cursor,
        down: false,
        stand_in,
        way,
        told,
        clock: now,
        first: || (),
    })
    .unwrap();
    post
}

/// 5,000 that come at once are taken in order by a slow one, of which no more than 64 are held at any time.
#[test]
fn what_is_held_is_bounded() {
    let (asked, taken) = (Arc::new(AtomicUsize::new(0)), Arc::new(Mutex::new(Vec::new())));
    let (tell, told) = channel();
    let _post =
        begin(Many(0, 5000, Arc::clone(&asked)), Taker(Arc::clone(&taken), Duration::from_millis(5), None), tell);
    let mut records = Vec::new();
    while records.len() < 5000 {
        let one = told.recv_timeout(Duration::from_secs(60)).unwrap();
        assert!(one.outcome == ToldWord::Taken && one.records.len() <= 64);
        records.extend(one.records);
    }
    let all: Vec<u64> = (1..=5000).collect();
    assert_eq!((records, &*taken.lock().unwrap()), (all.clone(), &all));
    assert!(asked.load(Ordering::SeqCst) <= 64);
}

/// Whoever hangs is waited for no longer than that, and nobody who tells him of something waits at all.
#[test]
fn nobody_waits_for_one_that_hangs() {
    let taken = Arc::new(Mutex::new(Vec::new()));
    let (tell, _told) = channel();
    let post = begin(Many(0, 10, Arc::default()), Taker(Arc::clone(&taken), Duration::from_secs(600), None), tell);
    let at = Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC);
    let began = Instant::now();
    for _ in 0..1000 {
        post.look();
        post.beside(&Message::beside_the_trail(&at, "mossgate-desk-03", "disarmed", "no space left"));
    }
    post.end(Duration::from_millis(100));
    // Far less; a machine at work has its own pauses.
    assert!(began.elapsed() < Duration::from_secs(30) && taken.lock().unwrap().is_empty());
}
