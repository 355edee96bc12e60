//! What the record tells of rules over time.

use jiff::Timestamp;

use super::record::Record;
use super::words::{Kind, ToldWord};
use crate::act::{Came, Verb};
use crate::order::InOrder;
use crate::sorted::{SortedMap, SortedSet};

/// One rule on one app.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct RuleStats {
    /// The rule.
    pub rule: String,
    /// The app.
    pub app: String,
    /// Cases opened.
    pub cases: u64,
    /// Acts announced.
    pub acts: u64,
    /// What came of them, by the word.
    pub outcomes: SortedMap<Came, u64>,
    /// Seconds from the opening to calm, in the middle; `None` where none became calm.
    pub calm: Option<f64>,
    /// Cases that came back under another PID.
    pub returns: u64,
}

/// Every rule and app, the most cases first.
pub fn stats(records: &[Record]) -> Vec<RuleStats> {
    let mut all: SortedMap<(String, String), RuleStats> = SortedMap::new();
    let mut opened: SortedMap<u64, Timestamp> = SortedMap::new();
    let mut calms: SortedMap<(String, String), Vec<f64>> = SortedMap::new();
    let mut seen: SortedSet<u64> = SortedSet::new();
    for record in records {
        let (Some(rule), Some(subject)) = (&record.rule, &record.subject) else { continue };
        let key = (rule.clone(), subject.app.clone());
        let of = all.entry(key.clone()).or_default();
        match record.kind {
            Kind::Breach => {
                let Some(case) = record.case else { continue };
                match seen.insert(case) {
                    true => of.cases += 1,
                    false => of.returns += 1,
                }
                opened.entry(case).or_insert(record.at);
            }
            Kind::Intent if !is_undo(record) => of.acts += 1,
            Kind::Outcome | Kind::Refused if !is_undo(record) => {
                let outcome = record.came().cloned().unwrap_or(Came::Unknown);
                *of.outcomes.entry(outcome).or_default() += 1;
            }
            Kind::Calm => {
                if let Some(began) = record.case.and_then(|case| opened.get(&case)) {
                    calms.entry(key).or_default().push(record.at.duration_since(*began).as_secs_f64());
                }
            }
            _ => {}
        }
    }
    let mut rows: Vec<RuleStats> = all
        .into_iter()
        .map(|((rule, app), of)| {
            let calm = calms.get(&(rule.clone(), app.clone()));
            let calm = calm.and_then(|calm| crate::suggest::middle(calm)).map(|(middle, _)| middle);
            RuleStats { rule, app, calm, ..of }
        })
        .collect();
    rows.order_by(|a, b| b.cases.cmp(&a.cases).then_with(|| (&a.rule, &a.app).cmp(&(&b.rule, &b.app))));
    rows
}

/// What the record tells of one channel.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ChannelStats {
    /// Its name.
    pub channel: String,
    /// Messages taken, or sent where there are no receipts.
    pub taken: u64,
    /// Messages that were given up.
    pub given_up: u64,
    /// How often it went down.
    pub down: u64,
}

/// Every channel, by its name.
pub fn channel_stats(records: &[Record]) -> Vec<ChannelStats> {
    let mut all: SortedMap<&str, ChannelStats> = SortedMap::new();
    for told in records.iter().filter_map(|record| record.told.as_ref()) {
        let of = all.entry(&told.channel).or_default();
        let count = told.records.len() as u64;
        match told.outcome {
            ToldWord::Taken | ToldWord::Sent => of.taken += count,
            ToldWord::GivenUp => of.given_up += count,
            // At a desk each is told by itself, of no record.
            ToldWord::Shown => of.taken += 1,
            ToldWord::NotShown => of.given_up += 1,
            ToldWord::Down => of.down += 1,
            ToldWord::Begun | ToldWord::Failing | ToldWord::Back | ToldWord::Other(_) => {}
        }
    }
    all.into_iter().map(|(channel, of)| ChannelStats { channel: channel.to_owned(), ..of }).collect()
}

fn is_undo(record: &Record) -> bool {
    record.verb().is_some_and(Verb::is_undo)
}
