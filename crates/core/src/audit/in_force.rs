//! What the records say is still in force, or still counts: lowerings, suspensions, announced acts, the acts of the last
//! day, hands at work, a loss that nobody has accepted. Read record by record, so that a trail of any length costs little.
//!
//! A further file of the trail begins with copies of the records that still matter: what it says alone is what the whole
//! trail says.

use std::collections::VecDeque;

use jiff::{SignedDuration, Timestamp};

use super::about::ToldRecord;
use super::record::{Record, SubjectRecord};
use super::words::{Kind, ToldWord};
use crate::act::Originals;
use crate::act::{Came, Verb};
use crate::model::{Boot, ProcessId};
use crate::order::InOrder;
use crate::sorted::{SortedMap, SortedSet};

/// Acts and hands are carried from file to file for that long.
const MATTERS: SignedDuration = SignedDuration::from_hours(24);

/// And at most so many of them, the newest.
const MOST: usize = 500;

/// Since when a process has been suspended by us, and for what.
#[derive(Debug, Clone, PartialEq)]
pub struct OpenSuspension {
    /// When.
    pub since: Timestamp,
    /// The case it was done for.
    pub case: Option<u64>,
    /// The rule of that case.
    pub rule: Option<String>,
    /// Who was watching.
    pub who: String,
}

/// A lowering that the trail shows as ours and not yet taken back.
#[derive(Debug, Clone, PartialEq)]
pub struct OpenHold {
    /// The case it was done for.
    pub case: u64,
    /// The rule of that case.
    pub rule: Option<String>,
    /// The process.
    pub id: ProcessId,
    /// The record that tells whom.
    pub subject: SubjectRecord,
    /// The niceness we set.
    pub nice: i32,
    /// What the threads had.
    pub originals: Originals,
}

/// What is in force by the records read so far.
#[derive(Debug, Clone, Default)]
pub struct InForce {
    /// The highest number of a case.
    pub highest_case: u64,
    /// Lowerings, each with the records that tell of it.
    holds: SortedMap<ProcessId, (OpenHold, Vec<Record>)>,
    suspended: SortedMap<ProcessId, Record>,
    announced: SortedMap<(Option<ProcessId>, Option<Verb>), Record>,
    acts: VecDeque<Record>,
    hands: VecDeque<Record>,
    loss: Option<Record>,
    /// The latest loss that a person has taken note of.
    accepted: Option<Record>,
    told: SortedMap<String, ToldBy>,
}

/// What the trail says of a channel, by the records that say it last.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct ToldBy {
    /// How far it was told.
    reached: Option<Record>,
    /// That messages were taken.
    taken: Option<Record>,
    /// Trouble: messages given up, or that it is down.
    trouble: Option<Record>,
    /// That it is down, or back.
    state: Option<Record>,
}

impl ToldBy {
    fn take(&mut self, record: &Record, told: &ToldRecord) {
        let this = || Some(record.clone());
        if place(record).is_some_and(|place| place >= self.cursor()) {
            self.reached = this();
        }
        match told.outcome {
            ToldWord::Taken | ToldWord::Sent | ToldWord::Shown => self.taken = this(),
            ToldWord::Failing | ToldWord::GivenUp | ToldWord::NotShown => self.trouble = this(),
            ToldWord::Down => (self.trouble, self.state) = (this(), this()),
            ToldWord::Back => self.state = this(),
            ToldWord::Begun | ToldWord::Other(_) => {}
        }
    }

    fn records(&self) -> impl Iterator<Item = &Record> {
        self.reached.iter().chain(&self.taken).chain(&self.trouble).chain(&self.state)
    }

    /// The place of the last record that it was told of, or from where on it is told.
    pub fn cursor(&self) -> u64 {
        self.reached.as_ref().and_then(place).unwrap_or(0)
    }

    /// When messages were last taken.
    pub fn last_taken(&self) -> Option<Timestamp> {
        self.taken.as_ref().map(|record| record.at)
    }

    /// The last trouble: when, and why.
    pub fn last_trouble(&self) -> Option<(Timestamp, &str)> {
        let record = self.trouble.as_ref()?;
        Some((record.at, record.told.as_ref().map_or("", |told| &told.seen)))
    }

    /// Since when it takes nothing of what is due, without being down yet.
    pub fn failing_since(&self) -> Option<Timestamp> {
        let failing = |record: &&Record| record.told.as_ref().is_some_and(|told| told.outcome == ToldWord::Failing);
        let since = self.trouble.as_ref().filter(failing).filter(|_| self.down_since().is_none())?;
        let ended = self.taken.as_ref().is_some_and(|taken| taken.seq > since.seq);
        (!ended).then_some(since.at)
    }

    /// Since when it is down; none while it is not.
    pub fn down_since(&self) -> Option<Timestamp> {
        let down = |record: &&Record| record.told.as_ref().is_some_and(|told| told.outcome == ToldWord::Down);
        self.state.as_ref().filter(down).map(|record| record.at)
    }
}

/// How far a channel has been told by a record that says so.
fn place(record: &Record) -> Option<u64> {
    let told = record.told.as_ref()?;
    if told.outcome == ToldWord::Begun { Some(record.seq) } else { told.records.iter().copied().max() }
}

impl InForce {
    /// By these records.
    pub fn of<'r>(records: impl IntoIterator<Item = &'r Record>) -> InForce {
        let mut all = InForce::default();
        records.into_iter().for_each(|record| all.take(record));
        all
    }

    /// One more record.
    pub fn take(&mut self, record: &Record) {
        record.carried.iter().for_each(|carried| self.one(carried));
        self.one(record);
    }

    fn one(&mut self, record: &Record) {
        self.highest_case = self.highest_case.max(record.case.unwrap_or(0));
        self.take_intent(record);
        self.take_suspension(record);
        self.take_hold(record);
        match record.kind {
            Kind::Intent | Kind::Carried if record.is_by_hand() => push(&mut self.hands, record),
            Kind::Intent | Kind::Carried if record.action.as_ref().is_some_and(|action| action.step.is_some()) => {
                push(&mut self.acts, record);
            }
            Kind::TrailLost => self.loss = Some(record.clone()),
            Kind::LossAccepted => (self.loss, self.accepted) = (None, Some(record.clone())),
            Kind::Told => {
                if let Some(told) = &record.told {
                    self.told.entry(told.channel.clone()).or_default().take(record, told);
                }
            }
            _ => {}
        }
    }

    /// Announced, and nothing told of it: the writer ended in between, or is still at it.
    fn take_intent(&mut self, record: &Record) {
        let key = (record.identity(), record.verb().cloned());
        match record.kind {
            Kind::Intent => {
                self.announced.insert(key, record.clone());
            }
            Kind::Outcome | Kind::Refused | Kind::Restored | Kind::Superseded => {
                self.announced.remove(&key);
            }
            _ => {}
        }
    }

    fn take_suspension(&mut self, record: &Record) {
        let Some(id) = record.identity() else { return };
        match (&record.kind, record.verb()) {
            (Kind::Outcome, Some(Verb::Suspend)) if record.came() == Some(&Came::Suspended) => {
                self.suspended.insert(id, record.clone());
            }
            (Kind::Restored | Kind::Superseded | Kind::StoodBack, Some(Verb::Resume)) | (Kind::Ended, _) => {
                self.suspended.remove(&id);
            }
            _ => {}
        }
    }

    /// An intent opens one, since a crash may have hidden its outcome; what was refused, taken back, overtaken by the end
    /// of the process, or left by someone else's change closes it.
    fn take_hold(&mut self, record: &Record) {
        let Some(id) = record.identity() else { return };
        let Some(action) = &record.action else {
            if record.kind == Kind::Ended {
                self.holds.remove(&id);
            }
            return;
        };
        match (&record.kind, &action.verb) {
            (Kind::Intent | Kind::Carried, Verb::Lower) => {
                let (Some(nice), Some(originals), Some(subject)) = (action.nice, &action.originals, &record.subject)
                else {
                    return;
                };
                let opened = || OpenHold {
                    case: record.case.unwrap_or_default(),
                    rule: record.rule.clone(),
                    id,
                    subject: subject.clone(),
                    nice,
                    originals: originals.clone(),
                };
                let (hold, told) = self.holds.entry(id).or_insert_with(|| (opened(), Vec::new()));
                hold.nice = hold.nice.max(nice);
                hold.originals.join(originals);
                told.push(record.clone());
            }
            (Kind::Refused, Verb::Lower) => self.not_lowered(id, record),
            (Kind::Outcome, Verb::Lower) if matches!(record.came(), Some(Came::Dropped | Came::AlreadyGone)) => {
                self.not_lowered(id, record);
            }
            (Kind::Restored | Kind::Superseded, Verb::Restore) => {
                // Restored to what another case still wants: the hold goes on at that niceness.
                match (action.nice, self.holds.get_mut(&id)) {
                    (Some(still), Some((hold, told))) if record.kind == Kind::Restored => {
                        hold.nice = still;
                        hold.originals.step_back(still);
                        told.push(record.clone());
                    }
                    _ => {
                        self.holds.remove(&id);
                    }
                }
            }
            (Kind::Outcome, Verb::Terminate) if record.tells_an_end() => {
                self.holds.remove(&id);
            }
            _ => {}
        }
    }

    /// What that case had announced last was not done; what it, or another, had done before stays in force.
    fn not_lowered(&mut self, id: ProcessId, record: &Record) {
        let Some((_, mut told)) = self.holds.remove(&id) else { return };
        let same = |told: &Record| told.kind != Kind::Restored && told.case == record.case;
        if let Some(last) = told.iter().rposition(same) {
            told.remove(last);
        }
        told.iter().for_each(|told| self.take_hold(told));
    }

    /// The lowerings.
    pub fn holds(&self) -> impl Iterator<Item = &OpenHold> {
        self.holds.values().map(|(hold, _)| hold)
    }

    /// The records that tell of suspensions still in force.
    pub fn suspended(&self) -> impl Iterator<Item = &Record> {
        self.suspended.values()
    }

    /// The suspensions, for people.
    pub fn suspensions(&self) -> impl Iterator<Item = (ProcessId, OpenSuspension)> {
        let open = |record: &Record| {
            let (since, case, who) = (record.at, record.case, record.who.user.clone());
            OpenSuspension { since, case, rule: record.rule.clone(), who }
        };
        self.suspended.iter().map(move |(id, record)| (*id, open(record)))
    }

    /// The acts that were announced and of which nothing further is told, in their order.
    pub fn announced(&self) -> Vec<&Record> {
        let mut announced: Vec<&Record> = self.announced.values().collect();
        announced.order_by_key(|record| record.seq);
        announced
    }

    /// The intents of rules in the last day.
    pub fn acts(&self) -> impl Iterator<Item = &Record> {
        self.acts.iter()
    }

    /// The processes on which a hand was at work in the last day, and when.
    pub fn hands(&self) -> impl Iterator<Item = (ProcessId, Timestamp)> {
        self.hands.iter().filter_map(|record| Some((record.identity()?, record.at)))
    }

    /// The loss that nobody has accepted yet.
    pub fn loss(&self) -> Option<&Record> {
        self.loss.as_ref()
    }

    /// What was told by a channel; none where it never was.
    pub fn told_by(&self, channel: &str) -> Option<&ToldBy> {
        self.told.get(channel)
    }

    /// Whether a person has taken note of that very thing.
    pub fn has_accepted(&self, what: &str) -> bool {
        let seen = self.accepted.as_ref().and_then(|record| record.result.as_ref()).map(|result| &result.seen);
        seen.is_some_and(|seen| seen.ends_with(what))
    }

    /// Copies of the records that a further file has to begin with. An intent of which more is told already only counts from
    /// here on, and opens nothing but what is still in force.
    pub fn carried(&self, boot: Boot) -> Vec<Record> {
        let here = |id: &ProcessId| id.boot == boot;
        let holds = self.holds.iter().filter(|(id, _)| here(id)).flat_map(|(_, (_, told))| told);
        let suspended = self.suspended.iter().filter(|(id, _)| here(id)).map(|(_, record)| record);
        let in_force: SortedSet<u64> = holds.clone().map(|record| record.seq).collect();
        let announced: SortedSet<u64> = self.announced.values().map(|record| record.seq).collect();
        let all = holds.chain(suspended).chain(self.announced.values()).chain(&self.acts).chain(&self.hands);
        let all = all.chain(&self.accepted).chain(&self.loss).chain(self.told.values().flat_map(ToldBy::records));
        let by_place: SortedMap<u64, &Record> = all.map(|record| (record.seq, record)).collect();
        let copy = |record: &Record| {
            let mut copy = bare(record.clone());
            if copy.kind == Kind::Intent && !announced.contains(&copy.seq) {
                copy.kind = Kind::Carried;
            }
            if let Some(action) = copy.action.as_mut().filter(|_| !in_force.contains(&record.seq)) {
                action.originals = None;
            }
            copy
        };
        by_place.into_values().map(copy).collect()
    }
}

/// What is told of a record in another file: who, what and when, and not what it rested on.
fn bare(mut record: Record) -> Record {
    (record.evidence, record.wording) = (None, None);
    if let Some(subject) = &mut record.subject {
        (subject.children, subject.open, subject.held, subject.cpu) = (Vec::new(), Vec::new(), None, None);
    }
    record
}

fn push(records: &mut VecDeque<Record>, record: &Record) {
    records.push_back(record.clone());
    let old = |first: &Record| record.reached().duration_since(first.reached()) > MATTERS;
    while records.len() > MOST || records.front().is_some_and(old) {
        records.pop_front();
    }
}
