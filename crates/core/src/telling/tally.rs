//! How many messages each channel would have had: what a rehearsal says before anybody is flooded.

use std::time::Duration;

use jiff::Timestamp;
use jiff::tz::TimeZone;

use super::{Channel, Message, Outbox, To};
use crate::audit::{By, Record, Who};
use crate::command_lines::CommandLines;
use crate::happening::{Happening, Scribe};
use crate::model::{Boot, Moment};
use crate::rules::RuleSet;
use crate::sorted::SortedMap;

/// Counts messages by channel.
#[derive(Debug)]
pub struct Tally {
    scribe: Scribe,
    channels: Vec<OfChannel>,
}

/// What one channel would have had.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Told {
    /// Which.
    pub channel: String,
    /// So many messages.
    pub messages: u64,
    /// In so many mails, where it is one that gathers.
    pub mails: Option<u64>,
    /// So many of these, or of messages, in the hour that had most.
    pub in_an_hour: u64,
}

#[derive(Debug)]
struct OfChannel {
    name: String,
    messages: u64,
    /// What arrives, by the hour.
    hours: SortedMap<i64, u64>,
    /// Of a mail: what waits, as it would on a machine whose mail server takes everything.
    waiting: Option<(Outbox, Timestamp)>,
}

impl Tally {
    /// Of nothing yet, with times in that zone.
    pub fn new(rules: &RuleSet, zone: &TimeZone) -> Tally {
        let who = Who { uid: 0, user: String::new(), login_uid: None, by: Some(By::Watcher) };
        let (host, command_lines) = (String::new(), CommandLines::PathOnly);
        let channels = rules.telling.channels.iter().map(|channel| OfChannel::new(channel, zone)).collect();
        Tally { scribe: Scribe { host, boot: Boot(0), who, zone: zone.clone(), command_lines }, channels }
    }

    /// One more happening.
    pub fn note(&mut self, happening: &Happening, rules: &RuleSet) {
        if self.channels.is_empty() {
            return;
        }
        let Some(record) = self.scribe.record(happening).map(Record::unsealed) else { return };
        for channel in &mut self.channels {
            if let Some(message) = rules.telling.message(&record, &channel.name, rules, &self.scribe.zone) {
                channel.put(message);
            }
        }
    }

    /// What each channel would have had, in the file's order.
    pub fn told(&mut self) -> Vec<Told> {
        self.channels.iter_mut().map(OfChannel::told).collect()
    }
}

impl OfChannel {
    fn new(channel: &Channel, zone: &TimeZone) -> OfChannel {
        let gathers = matches!(channel.to, To::Mail(_));
        let waiting = gathers.then(|| (Outbox::new(channel, false, zone.clone()), Timestamp::UNIX_EPOCH));
        OfChannel { name: channel.name.clone(), messages: 0, hours: SortedMap::new(), waiting }
    }

    fn put(&mut self, message: Message) {
        self.messages += 1;
        let at = message.at;
        self.send_until(at);
        match &mut self.waiting {
            Some((outbox, _)) => outbox.put(message),
            None => *self.hours.entry(hour(at)).or_default() += 1,
        }
        self.send_until(at);
    }

    /// What would have been sent by then.
    fn send_until(&mut self, until: Timestamp) {
        let Some((outbox, now)) = &mut self.waiting else { return };
        loop {
            let moment = moment(*now);
            let _ = outbox.make_room(moment);
            match outbox.rest(moment) {
                Some(Duration::ZERO) => {
                    let sent = outbox.due(moment).len();
                    outbox.came(moment, sent, Duration::ZERO, None);
                    *self.hours.entry(hour(*now)).or_default() += 1;
                }
                Some(rest) if now.checked_add(rest).is_ok_and(|then| then <= until) => *now += rest,
                _ => break,
            }
        }
        *now = until;
    }

    fn told(&mut self) -> Told {
        if let Some((outbox, now)) = &mut self.waiting {
            outbox.hurry();
            let end = *now + super::TOO_OLD;
            self.send_until(end);
        }
        Told {
            channel: self.name.clone(),
            messages: self.messages,
            mails: self.waiting.is_some().then(|| self.hours.values().sum()),
            in_an_hour: self.hours.values().copied().max().unwrap_or(0),
        }
    }
}

fn moment(at: Timestamp) -> Moment {
    let since = Duration::try_from(at.as_duration()).unwrap_or_default();
    Moment { wall: at, monotonic: since, boottime: since }
}

fn hour(at: Timestamp) -> i64 {
    at.as_second().div_euclid(3600)
}
