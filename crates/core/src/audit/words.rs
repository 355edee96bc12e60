//! The words of the trail.

use std::time::Duration;

use crate::severity::Severity;
use crate::text::clean;
use crate::units::{self, Value};
use crate::words::words;

words! {
    /// What a record tells of.
    Kind {
        /// The first record of a file.
        TrailOpened = "trail opened",
        /// A torn last line was cut off; the cut bytes are kept here.
        Repaired = "repaired",
        /// A watcher began.
        WatcherStarted = "watcher started",
        /// A watcher ended.
        WatcherEnded = "watcher ended",
        /// A rules file was loaded.
        RulesLoaded = "rules loaded",
        /// What a rules file had was not used: it was not sound, or others could have written it.
        RulesRefused = "rules refused",
        /// A case was opened.
        Breach = "breach",
        /// People were told.
        Alert = "alert",
        /// An act is about to be taken.
        Intent = "intent",
        /// What came of an act.
        Outcome = "outcome",
        /// What a lowering did to the reading, measured afterwards.
        Effect = "effect",
        /// An act that was not possible.
        Refused = "refused",
        /// A protected process was left alone.
        Spared = "spared",
        /// A rule in shadow would have acted.
        Shadow = "shadow",
        /// Another case's stronger step went first.
        Overtaken = "overtaken",
        /// A hand was at work, or somebody said so: rules stand back.
        StoodBack = "stood back",
        /// Rules no longer stand back by somebody's word.
        ActsAgain = "acts again",
        /// A case closed because its subject was calm.
        Calm = "calm",
        /// A case closed because its subject ended.
        Ended = "ended",
        /// A case closed because its rule no longer covers the subject, or is no longer watched with.
        Left = "left",
        /// An effect was taken back.
        Restored = "restored",
        /// An effect was not taken back: someone else has changed it since.
        Superseded = "superseded",
        /// Something a rule needs could not be read.
        Unreadable = "unreadable",
        /// The budget of a subject is spent: nothing is done to it.
        BudgetSpent = "budget spent",
        /// All rules together have acted as often as they may in an hour.
        Capped = "capped",
        /// What was left out of the trail: a rule that flaps is counted and not recorded each time.
        Summary = "summary",
        /// The wall clock was set.
        ClockStepped = "clock stepped",
        /// Samples come further apart, or less far again, for what watching costs.
        Pace = "pace",
        /// At the head of a further file: a lowering that is still in force, as its intent had it.
        Carried = "carried",
        /// An old file of the trail was removed, as its settings say.
        Retired = "retired",
        /// The trail was cut back, or taken away, under whoever wrote it: what is left of it was set aside.
        TrailLost = "trail lost",
        /// A person has taken note of that: rules may act again.
        LossAccepted = "loss accepted",
        /// A key for stamps was made: the next stamp is by it.
        KeyBegun = "key begun",
        /// Everything before it is signed, and the key for the next stamp named.
        Stamp = "stamp",
        /// What became of messages to people, by a channel.
        Told = "told",
        /// The person whose program it is is about to be asked, or sees that he is.
        Asked = "asked",
        /// What became of a question.
        Answer = "answer",
    }
}

words! {
    /// What became of messages, or of the channel.
    ToldWord {
        /// The channel is told from here on.
        Begun = "begun",
        /// The other side has taken them.
        Taken = "taken",
        /// They have left; the other side gives no receipts.
        Sent = "sent",
        /// It does not take what is due; that is tried again.
        Failing = "failing",
        /// They are not tried again.
        GivenUp = "given up",
        /// It counts as down.
        Down = "down",
        /// It takes messages again.
        Back = "back",
        /// A person sees it at his desk.
        Shown = "shown",
        /// He does not.
        NotShown = "not shown",
    }
}

words! {
    /// How serious a case is, as a record has it.
    SeverityWord {
        /// Worth knowing.
        Notice = "notice",
        /// Worth looking at.
        Warning = "warning",
        /// Worth getting up for.
        Critical = "critical",
    }
}

words! {
    /// What a group was judged as, as a record has it.
    JudgedWord {
        /// One owner's processes of one program.
        App = "app",
        /// A process and its descendants.
        Tree = "tree",
        /// All of one user.
        Owner = "owner",
        /// All of one control group.
        Unit = "unit",
        /// The machine.
        Machine = "machine",
    }
}

words! {
    /// Of which kind the readings of an evidence are, so that a rate stays a rate.
    ReadsAs {
        /// Bytes.
        Size = "size",
        /// Bytes a second.
        Rate = "rate",
        /// Percent.
        Percent = "percent",
        /// Seconds.
        Duration = "duration",
        /// A bare number.
        Count = "count",
        /// Words.
        Text = "text",
        /// A process state.
        State = "state",
        /// Yes or no.
        Flag = "flag",
    }
}

impl SeverityWord {
    /// The severity; a word of a newer version is none that is known.
    pub fn known(&self) -> Option<Severity> {
        Severity::of_word(self.word())
    }
}

impl From<Severity> for SeverityWord {
    fn from(severity: Severity) -> Self {
        SeverityWord::from(severity.word())
    }
}

impl From<units::Kind> for ReadsAs {
    fn from(kind: units::Kind) -> Self {
        match kind {
            units::Kind::Size => ReadsAs::Size,
            units::Kind::Rate => ReadsAs::Rate,
            units::Kind::Percent => ReadsAs::Percent,
            units::Kind::Duration => ReadsAs::Duration,
            units::Kind::Count => ReadsAs::Count,
            units::Kind::Text => ReadsAs::Text,
            units::Kind::State => ReadsAs::State,
            units::Kind::Flag => ReadsAs::Flag,
        }
    }
}

impl ReadsAs {
    /// A reading as the record has it, for people; `None` where it is unknown.
    pub fn scaled(&self, reading: &serde_json::Value) -> Option<String> {
        let number = reading.as_f64().filter(|number| number.is_finite());
        let value = match self {
            ReadsAs::Size => Value::Size(number?.max(0.0) as u64),
            ReadsAs::Rate => Value::Rate(number?),
            ReadsAs::Percent => Value::Percent(number?),
            ReadsAs::Count => Value::Count(number?),
            ReadsAs::Duration if reading.as_str() == Some("never") => Value::Duration(Duration::MAX),
            ReadsAs::Duration => Value::Duration(Duration::try_from_secs_f64(number?).ok()?),
            ReadsAs::Flag => Value::Flag(reading.as_bool()?),
            ReadsAs::Text | ReadsAs::State | ReadsAs::Other(_) => {
                return reading.as_str().map(|text| clean(text.as_bytes()));
            }
        };
        Some(value.scaled())
    }
}
