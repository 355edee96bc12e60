//! `otherwise`: what is critical goes by another channel while the one that should tell it is down, or has refused it for good. What the
//! other owes is a function of the trail, as all that is told: when a channel goes down, comes back, and what it has taken stands there.

use std::collections::VecDeque;

use jiff::tz::TimeZone;

use super::{Message, Telling};
use crate::audit::{Record, ToldRecord, ToldWord};
use crate::rules::RuleSet;
use crate::severity::Severity;
use crate::sorted::SortedSet;

/// Most that is kept of what a channel has not taken.
const MOST: usize = 64;

/// What one channel owes for others.
#[derive(Debug)]
pub struct StandIn {
    channel: String,
    others: Vec<Other>,
}

/// A channel that another stands in for.
#[derive(Debug)]
struct Other {
    name: String,
    down: bool,
    /// What is critical and not taken yet, the oldest first.
    pending: VecDeque<Message>,
}

impl StandIn {
    /// Of that channel.
    pub fn new(telling: &Telling, channel: &str) -> StandIn {
        let others = telling.channels.iter().filter(|other| other.otherwise.as_deref() == Some(channel));
        let others = others.map(|other| Other { name: other.name.clone(), down: false, pending: VecDeque::new() });
        StandIn { channel: channel.to_owned(), others: others.collect() }
    }

    /// For whom it stands in.
    pub fn others(&self) -> impl Iterator<Item = &str> {
        self.others.iter().map(|other| other.name.as_str())
    }

    /// Goes through records from where the others were last told up to the trail's end: what is owed of those up to `cursor`, behind
    /// which the channel reads on by itself.
    pub fn prime<'r>(
        &mut self,
        records: impl IntoIterator<Item = &'r Record>,
        cursor: u64,
        rules: &RuleSet,
        zone: &TimeZone,
    ) -> Vec<Message> {
        let (mut owed, mut told) = (Vec::new(), SortedSet::<u64>::new());
        for record in records {
            if let Some(of_it) = record.told.as_ref().filter(|told| told.channel == self.channel) {
                told.extend(&of_it.records);
            }
            if record.seq <= cursor {
                owed.extend(self.note(record, rules, zone));
            }
        }
        owed.retain(|message: &Message| !told.contains(&message.seq));
        for other in &mut self.others {
            other.pending.retain(|message| !told.contains(&message.seq));
        }
        owed
    }

    /// One more record: what is owed from now on.
    pub fn note(&mut self, record: &Record, rules: &RuleSet, zone: &TimeZone) -> Vec<Message> {
        self.others.iter_mut().flat_map(|other| other.note(record, rules, zone)).collect()
    }
}

impl Other {
    fn note(&mut self, record: &Record, rules: &RuleSet, zone: &TimeZone) -> Vec<Message> {
        if let Some(told) = record.told.as_ref().filter(|told| told.channel == self.name) {
            return self.take(told);
        }
        let message = rules.telling.message(record, &self.name, rules, zone);
        let Some(message) = message.filter(|message| message.severity == Severity::Critical) else { return Vec::new() };
        if self.pending.len() == MOST {
            self.pending.pop_front();
        }
        self.pending.push_back(message.clone());
        if self.down { vec![message] } else { Vec::new() }
    }

    fn take(&mut self, told: &ToldRecord) -> Vec<Message> {
        match told.outcome {
            ToldWord::Down => {
                self.down = true;
                self.pending.iter().cloned().collect()
            }
            ToldWord::Back => {
                self.down = false;
                Vec::new()
            }
            _ => {
                let of_it = |message: &&Message| told.records.contains(&message.seq);
                let refused = told.outcome == ToldWord::GivenUp && !self.down;
                let owed = if refused { self.pending.iter().filter(of_it).cloned().collect() } else { Vec::new() };
                self.pending.retain(|message| !of_it(&message));
                owed
            }
        }
    }
}
