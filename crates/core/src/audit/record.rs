//! One record of the trail.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::kind::Kind;
use crate::condition::Measure;
use crate::effects::Originals;
use crate::judge::{Case, Points};
use crate::model::{Boot, Process, ProcessId};
use crate::rules::{Action, Rule, Severity};
use crate::subject::{Judged, Likeness, SubjectKey};

/// The trail format that this version writes.
pub const FORMAT: u32 = 1;

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
    pub judge: String,
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

impl SubjectRecord {
    /// The subject of a case: the process that stands for it, and the group. `None` for a machine without processes.
    pub fn of_case(case: &Case) -> Option<SubjectRecord> {
        let judged = case.key.judged();
        if judged == Judged::Process {
            return Some(SubjectRecord::from(&case.subject));
        }
        let ids = case.members.iter().take(32).map(|id| id.checked().to_string()).collect();
        let group = match &case.key {
            SubjectKey::Unit(group) => Some(group.clone()),
            _ => None,
        };
        let (judge, name) = (judged.word().to_owned(), case.label());
        let of = GroupRecord { judge, name, processes: case.members.len(), group, ids };
        (!case.members.is_empty()).then(|| SubjectRecord { of: Some(of), ..SubjectRecord::from(&case.subject) })
    }
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
            path_proven: process.path_proven,
            command: process.command.clone(),
            children: Vec::new(),
            open: Vec::new(),
            of: None,
        }
    }
}

impl SubjectRecord {
    /// What is the same of the subject when it comes back; `None` for a unit of which its control group is not told.
    pub fn likeness(&self) -> Option<Likeness> {
        let program = || Likeness::Program { uid: self.uid, app: self.app.clone(), path: self.path.clone() };
        let Some(of) = &self.of else { return Some(program()) };
        let key = match Judged::ALL.into_iter().find(|judged| judged.word() == of.judge)? {
            Judged::Process | Judged::Tree => return Some(program()),
            Judged::App => SubjectKey::App { uid: self.uid, app: self.app.clone() },
            Judged::Owner => SubjectKey::Owner(self.uid),
            Judged::Unit => SubjectKey::Unit(of.group.clone()?),
            Judged::Machine => SubjectKey::Machine,
        };
        Some(Likeness::Group(key))
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
    pub severity: String,
    /// The breach, as the rule has it.
    pub breach: String,
    /// The field that tells the story.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
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
    /// The evidence of a case as it stands.
    pub fn of(case: &Case, rule: &Rule) -> Self {
        let json =
            |value: Option<&crate::units::Value>| value.map_or(serde_json::Value::Null, crate::units::Value::to_json);
        let measure = case.measure.as_ref();
        Evidence {
            severity: rule.severity.word().to_owned(),
            breach: rule.breach.to_string(),
            field: measure.map(|measure| measure.quantity.to_string()),
            reading: json(measure.and_then(|measure| measure.reading.as_ref())),
            limit: json(measure.and_then(|measure| measure.limit.as_ref())),
            words: measure.map(in_words).unwrap_or_default(),
            disk: case
                .subject
                .disk_read
                .zip(case.subject.disk_write)
                .map(|(read, write)| [f64::from(read), f64::from(write)]),
            points: points(&case.points),
        }
    }

    /// The severity as a rank.
    pub fn rank(&self) -> Severity {
        match self.severity.as_str() {
            "critical" => Severity::Critical,
            "notice" => Severity::Notice,
            _ => Severity::Warning,
        }
    }
}

fn points(points: &Points) -> Vec<(Timestamp, serde_json::Value)> {
    let json = |value: &Option<crate::units::Value>| {
        value.as_ref().map_or(serde_json::Value::Null, crate::units::Value::to_json)
    };
    points.iter().map(|(at, value)| (*at, json(value))).collect()
}

fn in_words(measure: &Measure) -> String {
    let scaled =
        |value: &Option<crate::units::Value>| value.as_ref().map_or("unknown".to_owned(), crate::units::Value::scaled);
    format!("{} {}, limit {}", measure.quantity, scaled(&measure.reading), scaled(&measure.limit))
}

/// What is done, or would be.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Default)]
pub struct ActionRecord {
    /// The word of the action.
    #[serde(rename = "do")]
    pub verb: String,
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
    /// With all that descends from it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub tree: bool,
    /// Why, in the words of the person who did it by hand.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub because: Option<String>,
}

impl ActionRecord {
    /// An action that needs no more than its word.
    pub fn word(verb: &str) -> Self {
        ActionRecord { verb: verb.to_owned(), ..ActionRecord::default() }
    }

    /// A step of a ladder; `step` counts from 0.
    pub fn step(action: Action, step: usize) -> Self {
        let record = ActionRecord { step: Some(step + 1), ..ActionRecord::word(action.word()) };
        match action {
            Action::Alert | Action::Run | Action::Restart => record,
            Action::Lower { nice } => ActionRecord { nice: Some(nice), ..record },
            Action::Suspend { length } => ActionRecord { seconds: Some(length.as_secs_f64()), ..record },
            Action::Terminate { force_after } => {
                ActionRecord { force_after: force_after.map(|wait| wait.as_secs_f64()), ..record }
            }
        }
    }
}

/// What came of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Default)]
pub struct ResultRecord {
    /// One word or two: `lowered`, `suspended`, `ended`, `ended by force`, `refused`, …
    pub outcome: String,
    /// What was seen afterwards, for people.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub seen: String,
    /// How long it took, in seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub took: Option<f64>,
}

/// A rule as it was written when it decided.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Wording {
    /// Its lines in the rules file.
    pub text: String,
    /// SHA-256 of the files that rules were loaded from, lower-case hex.
    pub digest: String,
}

/// A file of the trail that was removed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Retired {
    /// Its name.
    pub file: String,
    /// The numbers of its first and last record.
    pub records: [u64; 2],
    /// The hash of its last record: what the first that is left follows on.
    pub hash: String,
}

/// A signature over everything before it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StampRecord {
    /// Its place among the stamps, from 1; 0 where a key begins.
    pub number: u64,
    /// The key it is signed with (Ed25519, lower-case hex); empty where a key begins.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub key: String,
    /// The key of the next stamp.
    pub next: String,
    /// The signature, lower-case hex.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub signature: String,
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
    /// The rule's own text, where a case opens.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub wording: Option<Wording>,
    /// Of a stamp, or a key that begins.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stamp: Option<StampRecord>,
    /// The file that was removed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub retired: Option<Retired>,
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
            wording: None,
            stamp: None,
            retired: None,
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
    pub wording: Option<Wording>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stamp: Option<StampRecord>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retired: Option<Retired>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub carried: Vec<Record>,
    /// The hash of the record before it.
    pub prev: String,
    /// Its own.
    pub hash: String,
}

impl Record {
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

    /// The process it is about, if any.
    pub fn identity(&self) -> Option<ProcessId> {
        Some(self.subject.as_ref()?.identity(self.boot.parse().ok()?))
    }
}
