//! What records tell of.

use serde::{Deserialize, Serialize};

/// What a record tells of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// The first record of a file.
    #[serde(rename = "trail opened")]
    TrailOpened,
    /// A torn last line was cut off; the cut bytes are kept here.
    Repaired,
    /// A watcher began.
    #[serde(rename = "watcher started")]
    WatcherStarted,
    /// A watcher ended.
    #[serde(rename = "watcher ended")]
    WatcherEnded,
    /// A rules file was loaded.
    #[serde(rename = "rules loaded")]
    RulesLoaded,
    /// A case was opened.
    Breach,
    /// People were told.
    Alert,
    /// An act is about to be taken.
    Intent,
    /// What came of an act.
    Outcome,
    /// What a lowering did to the reading, measured afterwards.
    Effect,
    /// An act that was not possible.
    Refused,
    /// A protected process was left alone.
    Spared,
    /// A rule in shadow would have acted.
    Shadow,
    /// Another case's stronger step went first.
    Overtaken,
    /// A hand was at work: rules stand back.
    #[serde(rename = "stood back")]
    StoodBack,
    /// A case closed because its subject was calm.
    Calm,
    /// A case closed because its subject ended.
    Ended,
    /// A case closed because its rule no longer covers the subject.
    Left,
    /// An effect was taken back.
    Restored,
    /// An effect was not taken back: someone else has changed it since.
    Superseded,
    /// Something a rule needs could not be read.
    Unreadable,
    /// The budget of a subject is spent: nothing is done to it.
    #[serde(rename = "budget spent")]
    BudgetSpent,
    /// All rules together have acted as often as they may in an hour.
    Capped,
    /// What was left out of the trail: a rule that flaps is counted and not recorded each time.
    Summary,
    /// The wall clock was set.
    #[serde(rename = "clock stepped")]
    ClockStepped,
    /// At the head of a further file: a lowering that is still in force, as its intent had it.
    Carried,
    /// An old file of the trail was removed, as its settings say.
    Retired,
    /// The trail was cut back, or taken away, under whoever wrote it: what is left of it was set aside.
    #[serde(rename = "trail lost")]
    TrailLost,
    /// A person has taken note of that: rules may act again.
    #[serde(rename = "loss accepted")]
    LossAccepted,
    /// A key for stamps was made: the next stamp is by it.
    #[serde(rename = "key begun")]
    KeyBegun,
    /// Everything before it is signed, and the key for the next stamp named.
    Stamp,
}

impl Kind {
    /// Every kind.
    pub const ALL: [Kind; 31] = [
        Kind::TrailOpened,
        Kind::Repaired,
        Kind::WatcherStarted,
        Kind::WatcherEnded,
        Kind::RulesLoaded,
        Kind::Breach,
        Kind::Alert,
        Kind::Intent,
        Kind::Outcome,
        Kind::Effect,
        Kind::Refused,
        Kind::Spared,
        Kind::Shadow,
        Kind::Overtaken,
        Kind::StoodBack,
        Kind::Calm,
        Kind::Ended,
        Kind::Left,
        Kind::Restored,
        Kind::Superseded,
        Kind::Unreadable,
        Kind::BudgetSpent,
        Kind::Capped,
        Kind::Summary,
        Kind::ClockStepped,
        Kind::Carried,
        Kind::Retired,
        Kind::TrailLost,
        Kind::LossAccepted,
        Kind::KeyBegun,
        Kind::Stamp,
    ];

    /// Its word.
    pub fn word(self) -> String {
        serde_json::to_value(self).ok().and_then(|word| word.as_str().map(str::to_owned)).unwrap_or_default()
    }
}
