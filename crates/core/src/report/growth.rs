//! Whose memory grew, and did not come back: leaks, also where nothing was short.

use std::collections::HashMap;

use jiff::Timestamp;

use crate::model::{ProcessId, Snapshot};
use crate::order::InOrder;

/// A process that never held that much is no leak worth a word, bytes.
const SMALL: u64 = 16 << 20;

/// Growing by that much, and by that part of what it held, is said.
const MUCH: f64 = 64.0 * 1_048_576.0;
const PART: f64 = 0.5;

/// Growth that came within so few minutes is a program that loaded something.
const AT_ONCE: i64 = 10;

/// Having held so much of it before is having held as much.
const GIVEN_BACK: f64 = 0.8;

/// Most processes of which heights are kept; beyond that the short-lived go first.
const MOST: usize = 4096;

/// A process that grew.
#[derive(Debug, Clone, PartialEq)]
pub struct Grew {
    /// Which.
    pub id: ProcessId,
    /// Its app.
    pub app: String,
    /// Its owner.
    pub owner: String,
    /// When it began to grow.
    pub from: Timestamp,
    /// When it grew no more.
    pub until: Timestamp,
    /// What it held then, bytes.
    pub first: f64,
    /// What it held in the end, bytes.
    pub last: f64,
    /// Whether it ended while it still grew.
    pub ended: bool,
}

impl Grew {
    /// Bytes a minute.
    pub fn a_minute(&self) -> f64 {
        let minutes = self.until.duration_since(self.from).as_secs_f64() / 60.0;
        (self.last - self.first) / minutes.max(1.0)
    }
}

/// The least that a process held in each minute.
#[derive(Debug, Clone)]
struct Height {
    app: String,
    owner: String,
    least: Vec<(i64, u64)>,
}

/// The same of all.
#[derive(Debug, Clone, Default)]
pub struct Heights {
    of: HashMap<ProcessId, Height, foldhash::fast::RandomState>,
    last: i64,
}

impl Heights {
    /// One sample, in that minute.
    pub fn take(&mut self, snapshot: &Snapshot, minute: i64) {
        self.last = self.last.max(minute);
        for process in snapshot.processes.iter().filter(|process| !process.kernel && !process.has_ended()) {
            let Some(held) = process.memory_held.filter(|held| *held >= SMALL) else { continue };
            let height = self.of.entry(process.id).or_insert_with(|| Height {
                app: process.app.clone(),
                owner: process.owner.clone(),
                least: Vec::new(),
            });
            match height.least.last_mut().filter(|(last, _)| *last == minute) {
                Some((_, least)) => *least = held.min(*least),
                None => height.least.push((minute, held)),
            }
        }
        if self.of.len() > MOST {
            let last = self.last;
            let matters = |height: &Height| {
                let (first, at) = (height.least.first(), height.least.last());
                first.zip(at).is_some_and(|(first, at)| at.0 - first.0 > AT_ONCE || last - at.0 <= AT_ONCE)
            };
            self.of.retain(|_, height| matters(height));
        }
    }

    /// What was seen before.
    pub fn join(&mut self, earlier: Heights) {
        self.last = self.last.max(earlier.last);
        for (id, mut before) in earlier.of {
            match self.of.get_mut(&id) {
                Some(height) => {
                    let first = height.least.first().copied();
                    if let (Some((at, least)), Some((minute, held))) = (before.least.last_mut(), first)
                        && *at == minute
                    {
                        *least = held.min(*least);
                        height.least.remove(0);
                    }
                    before.least.append(&mut height.least);
                    height.least = before.least;
                }
                None => {
                    self.of.insert(id, before);
                }
            }
        }
    }

    /// Who grew, the greatest growth first.
    pub fn grown(&self) -> Vec<Grew> {
        let mut grown: Vec<Grew> = self.of.iter().filter_map(|(id, height)| grew(*id, height, self.last)).collect();
        grown.order_by(|a, b| (b.last - b.first).total_cmp(&(a.last - a.first)).then(a.id.cmp(&b.id)));
        grown
    }
}

/// What it held and never gave back afterwards only rises: how much, and from when to when.
fn grew(id: ProcessId, height: &Height, last: i64) -> Option<Grew> {
    let mut kept: Vec<(i64, f64)> = height.least.iter().map(|(minute, held)| (*minute, *held as f64)).collect();
    let mut least = f64::INFINITY;
    for (_, held) in kept.iter_mut().rev() {
        least = least.min(*held);
        *held = least;
    }
    let ((begun, first), (end, top)) = (*kept.first()?, *kept.last()?);
    let by = top - first;
    if by < MUCH || by < first * PART {
        return None;
    }
    // What comes before and after the growing is none of it.
    let from = kept.iter().rfind(|(_, held)| *held <= first + by * 0.01).map_or(begun, |(minute, _)| *minute);
    let until = kept.iter().find(|(_, held)| *held >= top - by * 0.01).map_or(end, |(minute, _)| *minute);
    // Who had held as much while he kept less than half of it, and gave it back, fills and empties.
    let half = kept.iter().find(|(_, held)| *held >= first + by / 2.0).map_or(end, |(minute, _)| *minute);
    let before = height.least.iter().filter(|(minute, _)| *minute < half).map(|(_, held)| *held as f64);
    if before.fold(0.0, f64::max) >= top * GIVEN_BACK {
        return None;
    }
    // Growth in a few great steps is work that keeps what it loaded.
    let within = |minutes: i64| {
        let mut most: f64 = 0.0;
        let mut at = 0;
        for (minute, held) in &kept {
            while kept[at].0 < minute - minutes {
                at += 1;
            }
            most = most.max(held - kept[at].1);
        }
        most
    };
    if until - from <= AT_ONCE || within(AT_ONCE) > by / 2.0 {
        return None;
    }
    let at = |minute: i64| Timestamp::from_second(minute * 60).ok();
    Some(Grew {
        id,
        app: height.app.clone(),
        owner: height.owner.clone(),
        from: at(from)?,
        until: at(until + 1)?,
        first,
        last: top,
        ended: end + 1 < last && until >= end - 2,
    })
}
