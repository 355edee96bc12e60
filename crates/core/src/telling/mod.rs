//! Who is told of what, and by which way: what `[[channel]]` and `[[tell]]` of a rules file say, and what follows of that for each
//! record of the trail. Everything that is told is a function of a record: the trail is the outbox. Nothing is sent here.

mod desks;
mod message;
mod notice;
mod otherwise;
mod outbox;
mod shape;
mod tally;
mod ways;

use std::path::PathBuf;
use std::time::Duration;

pub use desks::{AND_MORE, AtDesk, Desks};
use jiff::SignedDuration;
use jiff::tz::TimeZone;
pub use message::Message;
pub use notice::Notice;
pub use otherwise::StandIn;
pub use outbox::{Outbox, Trouble};
pub use shape::{PLACEHOLDERS, shaped, unknown as unknown_placeholders};
pub use tally::{Tally, Told};
pub use ways::{Collector, Desk, Hook, Mail, Over, SECRET, Secure, Server, To, Url};

use crate::act::Came;
use crate::audit::{Kind, Record};
use crate::condition::{Condition, Truth};
use crate::facts::Facts;
use crate::happening::ENDED_BY_US;
use crate::model::Machine;
use crate::rules::{Hours, RuleSet};
use crate::severity::Severity;

/// What is older than that is of no use to anybody: it is told no more.
pub const TOO_OLD: SignedDuration = SignedDuration::from_hours(24);

/// The user as whom messages go over the network, unless another is given.
pub const USER: &str = "sophron";

/// The ways to people, and who is told by which.
#[derive(Debug, Clone, PartialEq)]
pub struct Telling {
    /// As which user a watcher of root's sends over the network.
    pub as_user: String,
    /// `[[channel]]`, in the file's order.
    pub channels: Vec<Channel>,
    /// `[[tell]]`, likewise.
    pub tells: Vec<Tell>,
}

impl Default for Telling {
    fn default() -> Self {
        Telling { as_user: USER.to_owned(), channels: Vec::new(), tells: Vec::new() }
    }
}

/// A way to people.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Channel {
    /// Its name, unique in the files.
    pub name: String,
    /// Which way it is.
    pub to: To,
    /// The file with its secret.
    pub secret_file: Option<PathBuf>,
    /// The file with the certificates of those who may vouch for the other side; the machine's own, if not given.
    pub ca_file: Option<PathBuf>,
    /// Failing for that long it counts as down.
    pub down_after: Duration,
    /// By which channel what is critical goes while this one is down.
    pub otherwise: Option<String>,
    /// How often it may disturb.
    pub pace: Pace,
}

/// How often a channel may disturb whoever reads it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Pace {
    /// What is less than critical waits that long for more, and goes as one.
    pub gather: Duration,
    /// So many an hour.
    pub at_most: Option<u32>,
    /// What is less than critical waits until these hours are over.
    pub quiet: Option<Hours>,
}

impl Channel {
    /// When it tells what, as far as that is not at once; and what happens when it cannot.
    pub fn manner(&self) -> Vec<String> {
        let Pace { gather, at_most, quiet } = &self.pace;
        let gathered = (!gather.is_zero())
            .then(|| format!("gathered for {}, what is critical at once", crate::units::exact_duration(*gather)));
        let quiet = quiet.as_ref().map(|hours| format!("only what is critical in the hours `{hours}`"));
        let at_most = at_most.map(|most| format!("at most {most} an hour"));
        let desk = matches!(self.to, To::Desk(_))
            .then(|| "to whose program it is, at his desk, while the rule is armed".to_owned());
        let otherwise = self.otherwise.as_ref().map(|other| format!("by {other} what is critical while it is down"));
        [desk, gathered, quiet, at_most, otherwise].into_iter().flatten().collect()
    }
}

/// What is told by which channels.
#[derive(Debug, Clone, PartialEq)]
pub struct Tell {
    /// What is at least so serious.
    pub severity: Severity,
    /// Of rules whose name fits one of these patterns; of all, if there is none.
    pub rules: Vec<String>,
    /// Of processes of which this holds; of all, if not given.
    pub covers: Option<Condition>,
    /// By these channels.
    pub by: Vec<String>,
}

impl Telling {
    /// The channel of that name.
    pub fn channel(&self, name: &str) -> Option<&Channel> {
        self.channels.iter().find(|channel| channel.name == name)
    }

    /// How serious what a channel is told of a record is; none where it is not told of it.
    pub fn due(&self, record: &Record, channel: &str, rules: &RuleSet) -> Option<Severity> {
        let severity = severity(record, rules).filter(|_| !is_told_already(record, rules))?;
        self.fits(record, channel, severity).then_some(severity)
    }

    /// The message of a record for a channel, with times in that zone; none where it is not told of it.
    pub fn message(&self, record: &Record, channel: &str, rules: &RuleSet, zone: &TimeZone) -> Option<Message> {
        Some(Message::of(record, self.due(record, channel, rules)?, zone))
    }

    /// Whether a channel is told of a record that is so serious.
    pub(super) fn fits(&self, record: &Record, channel: &str, severity: Severity) -> bool {
        self.of_channel(channel).any(|tell| tell.fits(record, severity))
    }

    fn of_channel<'t>(&'t self, channel: &'t str) -> impl Iterator<Item = &'t Tell> {
        self.tells.iter().filter(move |tell| tell.by.iter().any(|by| by == channel))
    }

    /// The channel to people's desks; none where nobody is told at his.
    pub fn desk(&self) -> Option<(&Channel, &Desk)> {
        self.channels.iter().find_map(|channel| match &channel.to {
            To::Desk(desk) => Some((channel, desk)),
            _ => None,
        })
    }

    /// The tells by which people hear of a rule, as far as its name and its severity decide that.
    pub fn of_rule<'t>(&'t self, name: &'t str) -> impl Iterator<Item = &'t Tell> {
        self.tells.iter().filter(|tell| tell.names(name))
    }

    /// Whether that channel is told anything.
    pub fn is_told(&self, channel: &str) -> bool {
        let stands_in = |other: &Channel| other.otherwise.as_deref() == Some(channel);
        self.of_channel(channel).next().is_some() || self.channels.iter().any(stands_in)
    }
}

impl Tell {
    fn names(&self, rule: &str) -> bool {
        self.rules.is_empty() || self.rules.iter().any(|pattern| crate::condition::glob(pattern, rule))
    }

    /// What is of no rule is about the watcher itself: that is told by everybody who is told of anything as serious.
    fn fits(&self, record: &Record, severity: Severity) -> bool {
        let Some(rule) = record.rule.as_deref() else { return severity >= self.severity };
        severity >= self.severity && self.names(rule) && self.covers(record)
    }

    /// What is not known of it does not keep people from hearing.
    fn covers(&self, record: &Record) -> bool {
        let (Some(covers), Some(subject)) = (&self.covers, &record.subject) else { return true };
        let Ok(boot) = record.boot.parse() else { return true };
        let (process, machine) = (subject.process(boot), Machine::default());
        covers.evaluate(&Facts::new(&process, &machine)) != Truth::False
    }
}

/// How serious what a record tells is; none for what nobody is told.
fn severity(record: &Record, rules: &RuleSet) -> Option<Severity> {
    let of_rule = || {
        let told = record.evidence.as_ref().and_then(|evidence| evidence.severity.known());
        let by_name = || rules.rule(record.rule.as_deref()?).map(|rule| rule.severity);
        told.or_else(by_name).unwrap_or(Severity::Warning)
    };
    match &record.kind {
        // Whoever does it by hand knows of it.
        _ if record.is_by_hand() => None,
        Kind::TrailLost | Kind::RulesRefused | Kind::BudgetSpent | Kind::Capped => Some(Severity::Critical),
        Kind::Unreadable if record.came() == Some(&Came::NoSample) => Some(Severity::Critical),
        Kind::Unreadable | Kind::WatcherEnded => Some(Severity::Notice),
        _ if record.rule.is_none() => None,
        Kind::Refused => Some(of_rule().max(Severity::Warning)),
        Kind::Outcome => {
            let vain = record.came().is_some_and(|came| !came.is_as_meant());
            Some(if vain { of_rule().max(Severity::Warning) } else { of_rule() })
        }
        Kind::Breach
        | Kind::Alert
        | Kind::Shadow
        | Kind::Spared
        | Kind::Effect
        | Kind::Restored
        | Kind::Superseded
        | Kind::Calm
        | Kind::Ended
        | Kind::Left
        | Kind::Answer => Some(of_rule()),
        Kind::Asked if record.came() == Some(&Came::Asked) => Some(of_rule()),
        _ => None,
    }
}

/// A case that opens alerts by that, and one whose subject we have ended ourselves closes with it.
fn is_told_already(record: &Record, rules: &RuleSet) -> bool {
    let at_opening = || {
        let step = record.action.as_ref()?.step?;
        let rule = rules.rule(record.rule.as_deref()?)?;
        Some(rule.ladder.get(step.checked_sub(1)?)?.at.is_zero())
    };
    let seen = record.result.as_ref().map(|result| result.seen.as_str());
    match record.kind {
        Kind::Alert => record.came() == Some(&Came::Shown) && at_opening() == Some(true),
        Kind::Ended => seen == Some(ENDED_BY_US),
        _ => false,
    }
}
