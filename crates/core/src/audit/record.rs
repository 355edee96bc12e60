//! One record of the trail.

use std::time::Duration;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::about::{AnswerRecord, NextRecord, Retired, StampRecord, ToldRecord, Wording};
use super::words::{JudgedWord, Kind, ReadsAs, SeverityWord};
use crate::act::{Act, Came, Only, Originals, Verb};
use crate::model::{Basis, Boot, Process, ProcessId};
use crate::subject::{Judged, Likeness, SubjectKey};

/// The trail format that this version writes.
///
/// 2: the kind of readings stands beside them (`reads_as`). Trails of format 1 are read as before.
pub const FORMAT: u32 = 2;

/// On whose behalf.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Who {
    /// The user that Sophron runs as.
    pub uid: u32,
    /// That user's name.
    pub user: String,
    /// The user that logged in (`/proc/self/loginuid`), so that changing users does not hide the person.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub login_uid: Option<u32>,
    /// Whether a person did it, or a watcher by itself. Trails of older versions do not say.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<By>,
}

/// Who acts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum By {
    /// A person, by a command.
    Hand,
    /// A watcher: by a rule, or taking back what a rule did.
    Watcher,
    /// A word of a newer version.
    #[serde(other)]
    Other,
}

/// The full identity of the process a record is about.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[allow(missing_docs, reason = "the names are those of the field table")]
pub struct SubjectRecord {
    pub pid: u32,
    /// The checked PID.
    pub id: String,
    /// Start time, clock ticks since boot.
    pub start: u64,
    pub app: String,
    pub owner: String,
    pub uid: u32,
    pub parent: u32,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// Whether the path is proven; otherwise it is the process's claim.
    pub path_proven: bool,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub command: Option<String>,
    /// What it held in memory when it was acted on, bytes, in the intent of an act.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub held: Option<u64>,
    /// The CPU that it used then, percent of one core.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cpu: Option<u32>,
    /// Its children, named as everywhere, at most 32.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub children: Vec<String>,
    /// What it held open, at most 16.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub open: Vec<String>,
    /// The group that was judged, where it was not the process alone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of: Option<GroupRecord>,
}

/// A group that a rule judges as one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct GroupRecord {
    /// `app`, `tree`, `owner`, `unit` or `machine`.
    pub judge: JudgedWord,
    /// How it is named for people.
    pub name: String,
    /// How many processes are of it.
    pub processes: usize,
    /// Of a unit, its control group.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<String>,
    /// Their checked PIDs, at most 32.
    pub ids: Vec<String>,
}

impl From<&Process> for SubjectRecord {
    fn from(process: &Process) -> Self {
        SubjectRecord {
            pid: process.id.pid,
            id: process.id.checked().to_string(),
            start: process.id.start,
            app: process.app.clone(),
            owner: process.owner.clone(),
            uid: process.uid,
            parent: process.parent,
            path: process.path.clone(),
            path_proven: process.path_proven(),
            command: process.command.clone(),
            held: None,
            cpu: None,
            children: Vec::new(),
            open: Vec::new(),
            of: None,
        }
    }
}

impl SubjectRecord {
    /// `labelpress 51907-kqm (ines)`, as in every line for people.
    pub fn label(&self) -> String {
        format!("{} {} ({})", self.app, self.id, self.owner)
    }

    /// What is the same of the subject when it comes back; `None` for a unit of which its control group is not told.
    pub(crate) fn likeness(&self) -> Option<Likeness> {
        let program = || Likeness::Program { uid: self.uid, app: self.app.clone(), path: self.path.clone() };
        let Some(of) = &self.of else { return Some(program()) };
        let key = match Judged::ALL.into_iter().find(|judged| judged.word() == of.judge.word())? {
            Judged::Process | Judged::Tree => return Some(program()),
            Judged::App => SubjectKey::App { uid: self.uid, app: self.app.clone() },
            Judged::Owner => SubjectKey::Owner(self.uid),
            Judged::Unit => SubjectKey::Unit(of.group.clone()?),
            Judged::Machine => SubjectKey::Machine,
        };
        Some(Likeness::Group(key))
    }

    /// The process, as far as the record tells of it.
    pub fn process(&self, boot: Boot) -> Process {
        let mut process = Process::unread(self.identity(boot));
        (process.uid, process.parent) = (self.uid, self.parent);
        let path_proven = self.path_proven;
        let names = process.names_mut();
        names.app.clone_from(&self.app);
        names.name.clone_from(&self.app);
        names.owner.clone_from(&self.owner);
        names.path.clone_from(&self.path);
        names.path_rests_on = Basis::proven(path_proven);
        names.command.clone_from(&self.command);
        process
    }

    /// The identity, in the boot of the record.
    pub fn identity(&self, boot: Boot) -> ProcessId {
        ProcessId { pid: self.pid, start: self.start, boot }
    }
}

/// What a decision rests on.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Evidence {
    /// How serious the rule calls it.
    pub severity: SeverityWord,
    /// The breach, as the rule has it.
    pub breach: String,
    /// The field that tells the story.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// Of which kind its readings are; trails of format 1 do not say.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reads_as: Option<ReadsAs>,
    /// Its reading at this moment, in base units; null when unknown.
    #[serde(default)]
    pub reading: serde_json::Value,
    /// Its limit, in base units.
    #[serde(default)]
    pub limit: serde_json::Value,
    /// Both for people, as `812 MiB over 750 MiB`.
    pub words: String,
    /// What it read from and wrote to disks at that moment, bytes a second: a sign of honest work.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub disk: Option<[f64; 2]>,
    /// The readings that led here: time and value, at most 32.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub points: Vec<(Timestamp, serde_json::Value)>,
}

impl Evidence {
    /// What was read, for people; `None` where that is not known.
    pub(crate) fn reading_in_words(&self) -> Option<String> {
        self.reads_as.as_ref()?.scaled(&self.reading)
    }
}

/// What is done, or would be.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ActionRecord {
    /// The word of the action.
    #[serde(rename = "do")]
    pub verb: Verb,
    /// The step of the ladder, from 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub step: Option<usize>,
    /// Niceness to set.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub nice: Option<i32>,
    /// What the threads had before: written with the intent, so that it can be undone whatever happens next.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub originals: Option<Originals>,
    /// Suspended for, in seconds.
    #[serde(rename = "for", default, skip_serializing_if = "Option::is_none")]
    pub seconds: Option<f64>,
    /// By force after, in seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub force_after: Option<f64>,
    /// How long the person whose program it is is asked before, in seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ask: Option<f64>,
    /// Beyond its owner's share of the cap: the case with which it counts as one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub counts_with: Option<u64>,
    /// With all that descends from it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub tree: bool,
    /// Why, in the words of the person who did it by hand.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub because: Option<String>,
}

impl ActionRecord {
    /// An action that needs no more than its word.
    pub fn word(verb: Verb) -> Self {
        ActionRecord {
            verb,
            step: None,
            nice: None,
            originals: None,
            seconds: None,
            force_after: None,
            ask: None,
            counts_with: None,
            tree: false,
            because: None,
        }
    }
}

/// The originals of a lowering are known when it is announced, and not before.
impl From<&Act> for ActionRecord {
    fn from(act: &Act) -> Self {
        let seconds = |time: &Duration| Some(time.as_secs_f64());
        let word = ActionRecord::word(act.verb());
        match act {
            Act::Lower { nice, .. } => ActionRecord { nice: Some(*nice), ..word },
            Act::Suspend { length } => ActionRecord { seconds: seconds(length), ..word },
            Act::Terminate { force_after } => {
                ActionRecord { force_after: force_after.as_ref().and_then(seconds), ..word }
            }
            Act::Restore { still, .. } => ActionRecord { nice: *still, ..word },
            Act::Resume | Act::Restart => word,
        }
    }
}

impl ActionRecord {
    /// The act that it tells of; none for what is no act on a process.
    pub fn act(&self) -> Option<Act> {
        let time = |seconds: f64| Duration::try_from_secs_f64(seconds).unwrap_or_default();
        Some(match self.verb {
            Verb::Lower => Act::Lower { nice: self.nice?, only: Only::Both },
            Verb::Suspend => Act::Suspend { length: time(self.seconds.unwrap_or_default()) },
            Verb::Resume => Act::Resume,
            Verb::Restart => Act::Restart,
            Verb::Terminate => Act::Terminate { force_after: self.force_after.map(time) },
            Verb::Restore => {
                let originals = self.originals.clone().unwrap_or_default();
                Act::Restore { set: originals.was, originals, still: self.nice }
            }
            Verb::Alert | Verb::Run | Verb::StandBack | Verb::KeepTheTrail | Verb::AcceptTheLoss | Verb::Other(_) => {
                return None;
            }
        })
    }
}

/// What came of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ResultRecord {
    /// One word or two: `lowered`, `suspended`, `ended`, `ended by force`, `refused`, …
    pub outcome: Came,
    /// What was seen afterwards, for people.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub seen: String,
    /// How long it took, in seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub took: Option<f64>,
}

/// A record before it has its place in the chain.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Draft {
    /// Wall-clock time.
    pub at: Timestamp,
    /// The machine's name.
    pub host: String,
    /// The boot, as 32 hex digits.
    pub boot: String,
    /// The version of Sophron that wrote it.
    pub sophron: String,
    /// The case it belongs to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub case: Option<u64>,
    /// What it tells of.
    pub kind: Kind,
    /// On whose behalf.
    pub who: Who,
    /// The rule.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rule: Option<String>,
    /// The process.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub subject: Option<SubjectRecord>,
    /// What the decision rests on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub evidence: Option<Evidence>,
    /// What is done.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub action: Option<ActionRecord>,
    /// What came of it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub result: Option<ResultRecord>,
    /// What comes next in the case.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next: Option<NextRecord>,
    /// The rule's own text, where a case opens.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub wording: Option<Wording>,
    /// Of a stamp, or a key that begins.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stamp: Option<StampRecord>,
    /// The file that was removed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub retired: Option<Retired>,
    /// What became of messages to people.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub told: Option<ToldRecord>,
    /// What was answered, and how.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub answer: Option<AnswerRecord>,
    /// At the head of a further file: copies of the records before it that still matter.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub carried: Vec<Record>,
}

impl Draft {
    /// A record of that kind about nobody.
    pub fn new(at: Timestamp, kind: Kind, host: &str, boot: &str, who: Who) -> Draft {
        Draft {
            at,
            host: host.to_owned(),
            boot: boot.to_owned(),
            sophron: env!("CARGO_PKG_VERSION").to_owned(),
            case: None,
            kind,
            who,
            rule: None,
            subject: None,
            evidence: None,
            action: None,
            result: None,
            next: None,
            wording: None,
            stamp: None,
            retired: None,
            told: None,
            answer: None,
            carried: Vec::new(),
        }
    }
}

/// A record as it stands in the trail.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[allow(missing_docs, reason = "the keys are those of `Draft`")]
pub struct Record {
    /// Its place in the trail, from 1.
    pub seq: u64,
    pub at: Timestamp,
    /// The latest time of any record before it, where that is later than its own: the clock went back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub latest: Option<Timestamp>,
    pub host: String,
    pub boot: String,
    #[serde(default)]
    pub sophron: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub case: Option<u64>,
    pub kind: Kind,
    pub who: Who,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rule: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subject: Option<SubjectRecord>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub evidence: Option<Evidence>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub action: Option<ActionRecord>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub result: Option<ResultRecord>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<NextRecord>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wording: Option<Wording>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stamp: Option<StampRecord>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retired: Option<Retired>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub told: Option<ToldRecord>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answer: Option<AnswerRecord>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub carried: Vec<Record>,
    /// The hash of the record before it.
    pub prev: String,
    /// Its own.
    pub hash: String,
}

impl Record {
    /// As it would stand in a trail, without a place in one.
    pub(crate) fn unsealed(draft: Draft) -> Record {
        let Draft { at, host, boot, sophron, case, kind, who, rule, subject, evidence, action, result, .. } = draft;
        let Draft { next, wording, stamp, retired, told, answer, carried, .. } = draft;
        let (seq, latest, prev, hash) = (0, None, String::new(), String::new());
        Record {
            seq,
            at,
            latest,
            host,
            boot,
            sophron,
            case,
            kind,
            who,
            rule,
            subject,
            evidence,
            action,
            result,
            next,
            wording,
            stamp,
            retired,
            told,
            answer,
            carried,
            prev,
            hash,
        }
    }

    /// The time by which records are in order, also where the clock went back.
    pub fn reached(&self) -> Timestamp {
        self.latest.map_or(self.at, |latest| latest.max(self.at))
    }

    /// Whether a person did it. In trails of older versions by what it tells: rules name themselves, and what a watcher
    /// took back after its case had closed names the case.
    pub fn is_by_hand(&self) -> bool {
        match self.who.by {
            Some(by) => by == By::Hand,
            None => self.rule.is_none() && self.case.is_none() && self.subject.is_some(),
        }
    }

    /// What is done, if anything is.
    pub fn verb(&self) -> Option<&Verb> {
        self.action.as_ref().map(|action| &action.verb)
    }

    /// What came of it, if that is told.
    pub fn came(&self) -> Option<&Came> {
        self.result.as_ref().map(|result| &result.outcome)
    }

    /// Whether it tells that its process was ended by us.
    pub fn tells_an_end(&self) -> bool {
        let ended = self.came().is_some_and(Came::is_an_end);
        self.kind == Kind::Outcome && self.verb() == Some(&Verb::Terminate) && ended
    }

    /// The process it is about, if any.
    pub fn identity(&self) -> Option<ProcessId> {
        Some(self.subject.as_ref()?.identity(self.boot.parse().ok()?))
    }
}
