//! How many messages each channel would have had: what a rehearsal says before anybody is flooded.

use std::collections::BTreeMap;

use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::audit::{By, Record, Who};
use crate::command_lines::CommandLines;
use crate::happening::{Happening, Scribe};
use crate::model::Boot;
use crate::rules::RuleSet;

/// Counts messages by channel.
#[derive(Debug)]
pub struct Tally {
    scribe: Scribe,
    hours: BTreeMap<String, BTreeMap<i64, u64>>,
}

/// What one channel would have had.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Told {
    /// Which.
    pub channel: String,
    /// So many messages.
    pub messages: u64,
    /// So many of them in the hour that had most.
    pub in_an_hour: u64,
}

impl Tally {
    /// Of nothing yet, with times in that zone.
    pub fn new(zone: TimeZone) -> Tally {
        let who = Who { uid: 0, user: String::new(), login_uid: None, by: Some(By::Watcher) };
        let (host, command_lines) = (String::new(), CommandLines::PathOnly);
        Tally { scribe: Scribe { host, boot: Boot(0), who, zone, command_lines }, hours: BTreeMap::new() }
    }

    /// One more happening.
    pub fn note(&mut self, happening: &Happening, rules: &RuleSet) {
        if rules.telling.channels.is_empty() {
            return;
        }
        let Some(record) = self.scribe.record(happening).map(Record::unsealed) else { return };
        for channel in &rules.telling.channels {
            if rules.telling.due(&record, &channel.name, rules).is_some() {
                let hours = self.hours.entry(channel.name.clone()).or_default();
                *hours.entry(hour(record.at)).or_default() += 1;
            }
        }
    }

    /// What each channel would have had, in the file's order.
    pub fn told(&self, rules: &RuleSet) -> Vec<Told> {
        let one = |name: &String| {
            let hours = self.hours.get(name);
            let (messages, most) =
                hours.map_or((0, 0), |hours| (hours.values().sum(), hours.values().copied().max().unwrap_or(0)));
            Told { channel: name.clone(), messages, in_an_hour: most }
        };
        rules.telling.channels.iter().map(|channel| one(&channel.name)).collect()
    }
}

fn hour(at: Timestamp) -> i64 {
    at.as_second().div_euclid(3600)
}
