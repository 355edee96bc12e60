//! What a watcher has to say about itself.

use std::time::Duration;

use jiff::Timestamp;

use crate::act::Came;
use crate::audit::{Kind, ToldRecord, ToldWord};
use crate::cost::Every;
use crate::rules::{Cap, RuleName};
use crate::severity::Tone;
use crate::text::{counted, processes};
use crate::units::{exact_duration, scaled_duration, scaled_percent};

/// About the watcher itself.
#[derive(Debug, Clone, PartialEq)]
pub enum News {
    /// It has begun.
    Started {
        /// Its version.
        version: &'static str,
        /// Whether no rule acts.
        shadow: bool,
    },
    /// Rules are in use from now on.
    RulesLoaded {
        /// Where they were read.
        origin: String,
        /// Their names.
        names: Vec<RuleName>,
        /// SHA-256 of the files, lower-case hex.
        digest: String,
        /// Whose file it is.
        owner: String,
        /// Of those that were in use before, where that is so; and why they were read anew.
        before: Option<(String, String)>,
    },
    /// What the rules file has now is not used.
    RulesRefused {
        /// Where it is.
        origin: String,
        /// Why not.
        why: String,
    },
    /// What is open cannot be kept for the next run, and why.
    NotKept(String),
    /// What the run before had open cannot be read, and why: it is forgotten.
    Forgotten(String),
    /// What it watches, and how.
    Watching {
        /// The machine.
        host: String,
        /// How often.
        every: Duration,
        /// How many rules there are.
        rules: usize,
        /// How many of them act.
        armed: usize,
    },
    /// Where its rules and its record are.
    Places {
        /// The rules.
        rules: String,
        /// The record.
        trail: String,
    },
    /// Nothing is done before that time.
    Settling(Timestamp),
    /// It runs as an ordinary user.
    AsUser(String),
    /// It cannot be asked, and why.
    CannotBeAsked(String),
    /// It is about to end.
    Ending,
    /// It has ended.
    Ended {
        /// Cases that are open.
        open: usize,
        /// Processes on which something was undone.
        undone: usize,
    },
    /// No sample could be taken.
    Blind(String),
    /// The wall clock was set by so many seconds.
    ClockSet(f64),
    /// A rule cannot judge some of its subjects.
    Unreadable {
        /// How many.
        count: usize,
        /// What could not be read.
        fields: Vec<&'static str>,
        /// What would help.
        help: Option<&'static str>,
    },
    /// Of so many processes it is not known yet what they run.
    Late(usize),
    /// The memory of so many of a group's processes is not in its sum.
    Uncounted(usize),
    /// So many records of a rule were left out in an hour, beyond the most that are written.
    SummedUp(u32, u32),
    /// The trail cannot be written.
    TrailLost(String),
    /// It can be written again.
    TrailBack,
    /// The trail is not what it was; whether that still has to be recorded.
    TrailDoubted(String, bool),
    /// That person has taken note of it.
    LossAccepted(String),
    /// The older files of the trail could not be checked.
    Unchecked(String),
    /// Samples come further apart, since watching used too much CPU itself, or less far again.
    Pace(Every),
    /// Something that Sophron was not granted for its own life.
    Exposed(String),
    /// That owner has used up his share of the cap.
    BeyondShare(String, Cap, u64),
    /// A part of a protection that goes by a name alone, in words.
    ByNameAlone(String),
    /// The trail cannot be signed.
    Unsigned(String),
    /// The system log does not take the trail's stamps.
    Unlogged(String),
    /// This machine's last days are not kept, or are kept again.
    Lookback(Option<String>),
    /// The history of usage is not kept, or is kept again.
    Usage(Option<String>),
    /// The recording ends, and why.
    Unrecorded(String),
    /// So many lines were lost, since nobody took them.
    LinesLost(u64),
    /// So many records were lost before they could be written.
    RecordsLost(u64),
    /// What became of messages to people, or of the channel.
    Told(ToldRecord),
    /// A channel cannot be used, and why.
    Unheard(String, String),
    /// Others' monitoring reads no figures, and why.
    NoFigures(String),
}

impl News {
    /// The words of a line: its word, how grave it is, and the text; `clock` shows a time. None for what is only recorded.
    pub(super) fn line(
        &self,
        rule: Option<&str>,
        clock: impl Fn(Timestamp) -> String,
    ) -> Option<(&'static str, Tone, String)> {
        let rule = rule.unwrap_or("a rule");
        Some(match self {
            News::Started { .. } | News::RulesLoaded { before: None, .. } | News::SummedUp(..) => return None,
            News::RulesLoaded { origin, names, before: Some((_, why)), .. } => {
                ("rules", Tone::Notice, format!("{} of {origin} from now on: {why}", counted(names.len(), "rule")))
            }
            News::RulesRefused { .. } => ("rules", Tone::Critical, self.seen(rule)),
            News::NotKept(_) | News::Forgotten(_) => ("unkept", Tone::Warning, self.seen(rule)),
            News::Watching { .. } => ("watching", Tone::Notice, self.seen(rule)),
            News::Places { .. } => ("watching", Tone::Faint, self.seen(rule)),
            News::Settling(until) => {
                ("watching", Tone::Faint, format!("settling: nothing is done before {}", clock(*until)))
            }
            News::AsUser(_) | News::CannotBeAsked(_) => ("watching", Tone::Notice, self.seen(rule)),
            News::Ending => ("ending", Tone::Faint, self.seen(rule)),
            News::Ended { open, .. } => ("ended", Tone::Faint, cases(*open)),
            News::Blind(_) => ("blind", Tone::Critical, self.seen(rule)),
            News::ClockSet(_) => ("clock", Tone::Notice, self.seen(rule)),
            News::Unreadable { .. } | News::Late(_) | News::Uncounted(_) => ("unknown", Tone::Notice, self.seen(rule)),
            News::TrailLost(_) | News::TrailDoubted(..) => ("disarmed", Tone::Critical, self.in_a_line(rule)),
            News::TrailBack | News::LossAccepted(_) => ("armed", Tone::Notice, self.seen(rule)),
            News::Unchecked(_) => ("unchecked", Tone::Notice, self.seen(rule)),
            News::BeyondShare(..) => ("capped", Tone::Critical, self.seen(rule)),
            News::Pace(_) => ("pace", Tone::Notice, self.seen(rule)),
            News::Exposed(_) => ("exposed", Tone::Faint, self.seen(rule)),
            News::ByNameAlone(_) => ("protect", Tone::Warning, self.seen(rule)),
            News::Unsigned(_) => ("unsigned", Tone::Warning, self.seen(rule)),
            News::Unlogged(_) => ("unlogged", Tone::Faint, self.seen(rule)),
            News::Lookback(Some(_)) => ("lookback", Tone::Notice, self.seen(rule)),
            News::Lookback(None) => ("lookback", Tone::Faint, self.seen(rule)),
            News::Usage(Some(_)) => ("usage", Tone::Notice, self.seen(rule)),
            News::Usage(None) => ("usage", Tone::Faint, self.seen(rule)),
            News::Unrecorded(_) => ("unrecorded", Tone::Warning, self.seen(rule)),
            News::LinesLost(_) => ("unread", Tone::Warning, self.seen(rule)),
            News::RecordsLost(_) => ("lost", Tone::Critical, self.seen(rule)),
            News::Told(told) => match told.outcome {
                ToldWord::Failing => ("failing", Tone::Warning, self.seen(rule)),
                ToldWord::GivenUp => ("untold", Tone::Warning, self.seen(rule)),
                ToldWord::Down => ("down", Tone::Critical, self.seen(rule)),
                ToldWord::Back => ("told", Tone::Notice, self.seen(rule)),
                ToldWord::Begun
                | ToldWord::Taken
                | ToldWord::Sent
                | ToldWord::Shown
                | ToldWord::NotShown
                | ToldWord::Other(_) => return None,
            },
            News::Unheard(..) => ("down", Tone::Critical, self.seen(rule)),
            News::NoFigures(_) => ("figures", Tone::Notice, self.seen(rule)),
        })
    }

    fn in_a_line(&self, rule: &str) -> String {
        match self {
            News::TrailDoubted(..) => format!(
                "the audit trail is not what it was: {}; nothing is acted upon until a person has taken note of that: sophron audit accept",
                self.seen(rule)
            ),
            _ => self.seen(rule),
        }
    }

    /// As what it is recorded; none for what is only told.
    pub(super) fn recorded(&self) -> Option<(Kind, Came)> {
        Some(match self {
            News::Started { .. } => (Kind::WatcherStarted, Came::Started),
            News::RulesLoaded { .. } => (Kind::RulesLoaded, Came::Loaded),
            News::RulesRefused { .. } => (Kind::RulesRefused, Came::Refused),
            News::Ended { .. } => (Kind::WatcherEnded, Came::Ended),
            News::Blind(_) => (Kind::Unreadable, Came::NoSample),
            News::Unreadable { .. } | News::Late(_) | News::Uncounted(_) => (Kind::Unreadable, Came::Unreadable),
            News::ClockSet(_) => (Kind::ClockStepped, Came::Stepped),
            News::BeyondShare(..) => (Kind::Capped, Came::Capped),
            News::Pace(_) => (Kind::Pace, Came::Pace),
            News::SummedUp(..) | News::RecordsLost(_) => (Kind::Summary, Came::SummedUp),
            News::TrailDoubted(_, true) => (Kind::TrailLost, Came::NotSound),
            _ => return None,
        })
    }

    /// What was seen, for people.
    pub(super) fn seen(&self, rule: &str) -> String {
        match self {
            News::Started { version, shadow } => {
                format!("sophron {version}{}", if *shadow { ", all in shadow" } else { "" })
            }
            News::RulesLoaded { origin, names, digest, owner, before } => {
                let names: Vec<&str> = names.iter().map(|name| &**name).collect();
                let before = before.as_ref().map(|(before, why)| format!(", before {before}; {why}"));
                let before = before.unwrap_or_default();
                format!("{origin}, of {owner}: {}; SHA-256 {digest}{before}", names.join(", "))
            }
            News::RulesRefused { origin, why } => {
                format!(
                    "{origin} is not used as it is now, and the rules from before count on: {why}; `sophron rules check` shows where"
                )
            }
            News::NotKept(why) => format!("the next start will not know what is open: {why}"),
            News::Forgotten(why) => {
                format!(
                    "the cases that the run before had open, and stand-backs, are forgotten: {why}; what was in force is put back"
                )
            }
            News::Watching { host, every, rules, armed } => {
                let acting = match *armed {
                    0 => "all in shadow: nothing is acted upon".to_owned(),
                    armed if armed == *rules => "all armed".to_owned(),
                    armed => format!("{armed} armed, the others in shadow"),
                };
                let rules = counted(*rules, "rule");
                format!("{host} every {}; {rules}, {acting}", exact_duration(*every))
            }
            News::Places { rules, trail } => format!("rules: {rules}; record: {trail}"),
            News::Settling(_) => "nothing is done yet".to_owned(),
            News::AsUser(user) => format!("as {user}: acts on processes of {user}; on the others it only alerts"),
            News::CannotBeAsked(why) => format!("cannot be asked: {why}"),
            News::Ending => "undoing what is in force".to_owned(),
            News::Ended { open, undone } => format!("{}, {} undone", cases(*open), processes(*undone)),
            News::Blind(why) => why.clone(),
            News::BeyondShare(owner, most, case) => format!(
                "half of what all rules together may do in an hour ({}) was done to processes of {owner}: what more of his breaches is \
                 answered one at a time, a minute apart, and counts as one with case {case}",
                cap(*most)
            ),
            News::Pace(Every { every, used, asked }) => {
                let (every, asked) = (scaled_duration(*every), scaled_duration(*asked));
                format!(
                    "watching used {} of a core: a sample every {every} (the rules ask for {asked})",
                    scaled_percent(*used)
                )
            }
            News::Exposed(what) => what.clone(),
            News::ByNameAlone(part) => format!(
                "[protect] {part}: a name alone protects root's own processes only, since anybody can take it; add `and owner = …` or `and unit = …`"
            ),
            News::ClockSet(step) => format!("the wall clock was set by {step:+.1} s"),
            News::Unreadable { count, fields, help } => {
                let who = help.unwrap_or("not even root may");
                format!("{rule} cannot judge {count} of its subjects: {} cannot be read ({who})", fields.join(", "))
            }
            News::Late(count) => format!(
                "{rule} does not know yet of {count} processes what they run: it was not to be read in time, and is tried again at each tick"
            ),
            News::Uncounted(count) => format!(
                "{rule} judges a group without the memory of {}, which cannot be read in time: what the others hold is a lower bound",
                processes(*count)
            ),
            News::SummedUp(left_out, most) => {
                format!(
                    "{left_out} more breaches, calms and whatever else was no act in an hour, beyond the {most} and {most} of each user that are \
                     recorded"
                )
            }
            News::TrailLost(why) => format!("the audit trail cannot be written, so nothing is acted upon: {why}"),
            News::TrailBack => "the audit trail can be written again".to_owned(),
            News::TrailDoubted(what, _) => what.clone(),
            News::LossAccepted(user) => format!("{user} has taken note of it: rules act again"),
            News::Unchecked(why) => format!("the older files of the audit trail could not be checked: {why}"),
            News::Unsigned(why) => format!("the audit trail cannot be signed: {why}"),
            News::Unlogged(why) => format!("the system log does not take the trail's stamps: {why}"),
            News::Lookback(Some(why)) => format!("this machine's last days are not kept: {why}"),
            News::Lookback(None) => "kept again".to_owned(),
            News::Usage(Some(why)) => format!("the history of usage: {why}"),
            News::Usage(None) => "kept again".to_owned(),
            News::Unrecorded(why) => format!("the recording cannot be written, and ends here: {why}"),
            News::LinesLost(count) => {
                let lines = if *count == 1 { "1 line was".to_owned() } else { format!("{count} lines were") };
                format!("{lines} lost: nobody took them; all that matters is in the record")
            }
            News::Told(told) => {
                let what = match (&told.outcome, &told.records[..]) {
                    (ToldWord::GivenUp, [one]) => format!("has not taken record {one}, and never will"),
                    (ToldWord::GivenUp, more) => format!("has not taken {} records, and never will", more.len()),
                    (outcome, _) => format!("is {outcome}"),
                };
                let why = if told.seen.is_empty() { String::new() } else { format!(": {}", told.seen) };
                format!("channel {} {what}{why}", told.channel)
            }
            News::Unheard(channel, why) => format!("channel {channel} cannot be used: {why}"),
            News::NoFigures(why) => format!("nobody can read its figures: {why}"),
            News::RecordsLost(count) => {
                let records = counted(*count, "record");
                format!("{records} lost while the audit trail could not be written: there was no more room for them")
            }
        }
    }
}

fn cases(open: usize) -> String {
    format!("{} open", counted(open, "case"))
}

/// How many acts an hour may have, for people.
pub(super) fn cap(cap: Cap) -> String {
    format!("{} acts, at most {} of them terminations", cap.acts, cap.terminations.min(cap.acts))
}
