//! What is open when a watcher ends, by itself or not: its cases with where they stand on their ladders, and from whom rules stand
//! back. The next run of the same boot goes on with that.

use std::time::Duration;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::audit::{Record, SubjectRecord};
use crate::judge::{Allowance, Case};
use crate::model::{Boot, Moment, ProcessId};
use crate::rules::Meaning;
use crate::sorted::{SortedMap, SortedSet};
use crate::stand_back::StandBack;
use crate::subject::SubjectKey;

/// The format that this version writes.
pub const FORMAT: u32 = 1;

/// For so long cases are gone on with: whoever ended may be back as the same case for as long.
pub const COUNTS_FOR: Duration = crate::judge::COMES_BACK;

/// No case has a higher number.
const HIGHEST: u64 = 1 << 52;

/// Most cases that are kept, the newest.
pub const MOST: usize = 1000;

/// What is open.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Open {
    /// The format.
    pub format: u32,
    /// The boot, as 32 hex digits.
    pub boot: String,
    /// When, on its boot-time clock.
    pub at: Duration,
    /// The cases.
    #[serde(default)]
    pub cases: Vec<OpenCase>,
    /// From whom rules stand back by somebody's word.
    #[serde(default)]
    pub stand_backs: Vec<StandBack>,
}

/// An open case.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct OpenCase {
    /// Its number.
    pub number: u64,
    /// Its rule.
    pub rule: String,
    /// What that means.
    pub meaning: Meaning,
    /// Which subject.
    pub key: Key,
    /// The process that stands for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lead: Option<SubjectRecord>,
    /// Its processes: PID and start time.
    pub members: Vec<(u32, u64)>,
    /// When it opened.
    pub opened: Timestamp,
    /// Its next step, by its place.
    pub next: usize,
    /// Steps before it that could not be taken and stay due, by their places.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub owed: Vec<usize>,
    /// The one whose outcome was awaited.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub under_way: Option<usize>,
    /// What was asked in it, and answered.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub asked: Option<Answers>,
    /// The one of several that its steps act on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub picked: Option<(u32, u64)>,
    /// Breached time since it opened.
    pub clock: Duration,
    /// Whether something was in force.
    pub has_effect: bool,
    /// Whether its budget was asked, and allowed it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub within_budget: Option<bool>,
    /// Whether its subject had come back.
    pub returned: bool,
}

/// What whoever was asked has decided in a case.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Answers {
    /// How often it was let run.
    pub kept: u32,
    /// Whether it was suspended for him.
    pub suspended: bool,
    /// Until when nothing is done: on the boot-time clock, and in wall-clock time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<(Duration, Timestamp)>,
    /// Whether the breach has to hold for `lasting` once more then.
    #[serde(default)]
    pub anew: bool,
}

/// A subject.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[allow(missing_docs, reason = "they are those of `SubjectKey`")]
pub enum Key {
    Process(u32, u64),
    App { uid: u32, app: String },
    Tree(u32, u64),
    Owner(u32),
    Unit(String),
    Machine,
}

impl From<&SubjectKey> for Key {
    fn from(key: &SubjectKey) -> Key {
        match key {
            SubjectKey::Process(id) => Key::Process(id.pid, id.start),
            SubjectKey::App { uid, app } => Key::App { uid: *uid, app: app.clone() },
            SubjectKey::Tree(id) => Key::Tree(id.pid, id.start),
            SubjectKey::Owner(uid) => Key::Owner(*uid),
            SubjectKey::Unit(path) => Key::Unit(path.clone()),
            SubjectKey::Machine => Key::Machine,
        }
    }
}

impl Key {
    /// The subject, in that boot.
    pub(crate) fn subject(&self, boot: Boot) -> SubjectKey {
        let id = |pid: &u32, start: &u64| ProcessId { pid: *pid, start: *start, boot };
        match self {
            Key::Process(pid, start) => SubjectKey::Process(id(pid, start)),
            Key::App { uid, app } => SubjectKey::App { uid: *uid, app: app.clone() },
            Key::Tree(pid, start) => SubjectKey::Tree(id(pid, start)),
            Key::Owner(uid) => SubjectKey::Owner(*uid),
            Key::Unit(path) => SubjectKey::Unit(path.clone()),
            Key::Machine => SubjectKey::Machine,
        }
    }
}

impl OpenCase {
    pub(crate) fn of(case: &Case, meaning: &Meaning) -> OpenCase {
        let within_budget = match case.ladder.budget {
            Allowance::Unasked => None,
            Allowance::Granted => Some(true),
            Allowance::Spent => Some(false),
        };
        OpenCase {
            number: case.number,
            rule: case.rule.to_string(),
            meaning: meaning.clone(),
            key: (&case.key).into(),
            lead: case.lead.as_ref().map(SubjectRecord::from),
            members: case.members.iter().map(|id| (id.pid, id.start)).collect(),
            opened: case.opened.wall,
            next: case.ladder.next,
            owed: case.ladder.owed.iter().map(|owed| owed.step).collect(),
            under_way: case.ladder.under_way(),
            asked: None,
            picked: case.ladder.picked().map(|id| (id.pid, id.start)),
            clock: case.ladder.clock,
            has_effect: case.ladder.has_effect,
            within_budget,
            returned: case.returned,
        }
    }
}

impl Open {
    /// From its file.
    ///
    /// # Errors
    /// It cannot be read, or a newer version wrote it: why.
    pub fn read(bytes: &[u8]) -> Result<Open, String> {
        #[derive(Deserialize)]
        struct Head {
            format: u32,
        }
        let head: Head = serde_json::from_slice(bytes).map_err(|error| error.to_string())?;
        if head.format > FORMAT {
            return Err(format!("it was written by a newer version (format {})", head.format));
        }
        let mut open: Open = serde_json::from_slice(bytes).map_err(|error| error.to_string())?;
        let mut numbers = SortedSet::new();
        if open.cases.iter().any(|case| case.number > HIGHEST || !numbers.insert(case.number)) {
            return Err("no watcher numbers its cases like that".to_owned());
        }
        open.cases.truncate(MOST);
        Ok(open)
    }

    /// Whom rules acted on in these cases, by the trail: a kill can come between an act and the writing of this. Whom it names
    /// itself was chosen before what was done since.
    pub fn recall<'r>(&mut self, acts: impl IntoIterator<Item = &'r Record>, boot: Boot, now: Moment) {
        let age = now.boottime.saturating_sub(self.at);
        let written = now.wall.checked_sub(age).unwrap_or(now.wall);
        let mut latest: SortedMap<u64, (ProcessId, bool)> = SortedMap::new();
        for act in acts {
            if let Some((case, id)) = act.case.zip(act.identity()).filter(|(_, id)| id.boot == boot) {
                latest.insert(case, (id, act.at >= written));
            }
        }
        for case in &mut self.cases {
            if let Some((id, since)) = latest.get(&case.number)
                && (*since || case.picked.is_none())
            {
                case.picked = Some((id.pid, id.start));
            }
        }
    }

    /// Whether its cases count: of the same boot, and not long ago.
    pub fn counts(&self, boot: Boot, now: Moment) -> bool {
        // What was written later than now was not written by a watcher of this boot.
        let age = now.boottime.checked_sub(self.at);
        self.is_of(boot) && age.is_some_and(|age| age <= COUNTS_FOR)
    }

    /// Whether it is of that boot.
    pub fn is_of(&self, boot: Boot) -> bool {
        self.boot.parse() == Ok(boot)
    }
}
