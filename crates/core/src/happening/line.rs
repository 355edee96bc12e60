//! The line for people: what happened in one word, the case, who, the reading against the limit, what comes next and when.

use jiff::Timestamp;
use jiff::tz::TimeZone;

use super::news::cap;
use super::{CarriedOut, Happening, Next, Over, Subject, What};
use crate::act::{Act, Outcome};
use crate::condition::Measure;
use crate::decide::Verdict;
use crate::dispatch::ActsAgain;
use crate::rules::Action;
use crate::severity::{Severity, Tone};
use crate::stand_back::Whom;
use crate::units::{Value, exact_duration, scaled_duration};

/// What is seen of a case whose subject we have ended ourselves, which has been told by then.
pub(crate) const ENDED_BY_US: &str = "ended by us";

/// One line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Line {
    /// When.
    pub at: Timestamp,
    /// What happened, in one word.
    pub word: &'static str,
    /// How grave it is.
    pub tone: Tone,
    /// The case.
    pub case: Option<u64>,
    /// App, checked PID and owner; empty where it is about nobody.
    pub who: String,
    /// The rest.
    pub text: String,
}

impl Happening {
    /// Its line, with times in that zone; none for what is only recorded.
    pub fn line(&self, zone: &TimeZone) -> Option<Line> {
        let (word, tone, text) = self.words(zone)?;
        let who = match &self.what {
            What::Watcher(_) => String::new(),
            _ => self.whom(),
        };
        Some(Line { at: self.at, word, tone, case: self.case, who, text })
    }

    /// How the subject is named: a step on one of a group names that process.
    pub fn whom(&self) -> String {
        match &self.subject {
            Subject::Process(process) => process.label(),
            Subject::Group(group) if self.is_about_one() => group.lead.label(),
            Subject::Group(group) => group.key.label(Some(&group.lead), group.members.len()),
            Subject::Machine => "the machine".to_owned(),
        }
    }

    /// Whether it is about one process, though a group is judged.
    fn is_about_one(&self) -> bool {
        match &self.what {
            What::Decided { action, .. } => action.is_act(),
            What::Came(out) => out.act.is_some(),
            What::Announced(..) | What::Measured(_) | What::LeftTheGroup { .. } => true,
            _ => false,
        }
    }

    fn words(&self, zone: &TimeZone) -> Option<(&'static str, Tone, String)> {
        let rule = self.rule.as_deref().unwrap_or_default();
        let next = self.next.words(zone);
        Some(match &self.what {
            What::Announced(..) | What::Calls(_) => return None,
            What::Opened { returned, grounds, note, alerts, .. } => {
                let note = note.as_ref().map(|note| format!("\n{note}")).unwrap_or_default();
                let back = if *returned { "back under another PID; " } else { "" };
                let text = format!("{back}{rule}: {}{next}{note}", field_words(grounds.measure.as_ref(), "is"));
                // Where the ladder begins with an alert, this line is it.
                (if *alerts { "alert" } else { "breach" }, grounds.severity.into(), text)
            }
            What::Reminded(grounds) => ("reminder", grounds.severity.into(), self.seen(zone)),
            What::Easing { measure, wait } => {
                let wait = scaled_duration(*wait);
                ("easing", Tone::Faint, format!("{}; calm if that lasts {wait}", field_words(measure.as_ref(), "is")))
            }
            What::BreachedAgain(measure) => {
                ("breach", Tone::Warning, format!("again: {}{next}", field_words(measure.as_ref(), "is")))
            }
            What::HoursEnded => ("hours", Tone::Notice, "its hours are over: what is in force is undone".to_owned()),
            What::Closed { why: Over::EndedByUs, .. } => return None,
            What::Closed { why, .. } => (why.word(), Tone::Notice, self.seen(zone)),
            // The line that says the case is open has alerted already.
            What::Decided { verdict: Verdict::Alert, at_opening: true, .. } => return None,
            What::Decided { verdict, grounds, .. } => {
                let (word, tone) = decided(verdict, grounds.severity)?;
                (word, tone, self.seen(zone))
            }
            What::Came(out) => self.came(out, zone),
            What::Measured(effect) => ("effect", Tone::Faint, effect.words()),
            What::LeftTheGroup { .. } => ("left", Tone::Notice, self.seen(zone)),
            What::StoodBack { .. } => ("hands", Tone::Notice, self.seen(zone)),
            What::StandsBack(_) => ("back", Tone::Notice, self.seen(zone)),
            What::ActsAgain(..) => ("acting", Tone::Notice, self.seen(zone)),
            What::LetLoose { .. } => ("resumed", Tone::Warning, self.seen(zone)),
            What::Asks(_, grounds) => (
                "asked",
                grounds.severity.into(),
                format!("{}; {}{next}", self.seen(zone), field_words(grounds.measure.as_ref(), "is")),
            ),
            What::Turned(_, turn) => (turn.word(), turn.tone(), format!("{}{next}", self.seen(zone))),
            What::WaitedFor { by } => (
                "waited for",
                Tone::Warning,
                format!("process {by} waits for a file lock that it holds: resumed at once"),
            ),
            What::Watcher(news) => news.line(self.rule.as_deref(), |at| clock(at, zone))?,
        })
    }

    fn came(&self, out: &CarriedOut, zone: &TimeZone) -> (&'static str, Tone, String) {
        let (act, outcome, remark) = (out.act.as_deref(), &out.outcome, out.remark.as_deref());
        let next = match outcome {
            Outcome::Ended(_) => String::new(),
            // It stays in force by the record, and a start takes back what is.
            Outcome::Unrecorded(_) if matches!(act, Some(Act::Restore { .. })) => {
                "; the next start puts it back".to_owned()
            }
            _ => self.next.words(zone),
        };
        let seen = match outcome {
            Outcome::Suspended(still) => format!("until {}", clock(still.over, zone)),
            // Nothing was seen of it.
            _ if out.assumed => "taken for done".to_owned(),
            Outcome::Ended(ending) if ending.forced => format!("by force, {}", outcome.seen()),
            other => other.seen(),
        };
        let seen = remark.map_or(seen.clone(), |remark| format!("{seen}: {remark}"));
        let undoes = act.is_some_and(Act::is_undo);
        let tone = match outcome {
            Outcome::StillThere(_)
            | Outcome::CalledOff(..)
            | Outcome::PendingInTheKernel(_)
            | Outcome::PendingFrozen
            | Outcome::Refused(_)
            | Outcome::Failed(_) => Tone::Warning,
            Outcome::Resumed(_) if remark.is_some() => Tone::Warning,
            Outcome::Ran(_) => Tone::Faint,
            _ => Tone::Notice,
        };
        let failed = !outcome.is_success() && !undoes && act.is_some() && !outcome.has_effect();
        let deed = act.filter(|_| failed).map(|act| format!("{act}: ")).unwrap_or_default();
        let reading = match (act, undoes, self.case) {
            (Some(_), false, Some(_)) => format!("; {}", field_words(out.measure.as_ref(), "was")),
            _ => String::new(),
        };
        (word(outcome), tone, format!("{deed}{seen}{reading}{next}"))
    }

    /// What the record tells people of it, and most lines as well.
    pub(crate) fn seen(&self, zone: &TimeZone) -> String {
        let rule = self.rule.as_deref().unwrap_or_default();
        let next = self.next.words(zone);
        match &self.what {
            What::Opened { note, .. } => note.clone().unwrap_or_default(),
            What::Reminded(grounds) => format!("{rule}: {}{next}", field_words(grounds.measure.as_ref(), "still is")),
            What::Closed { why, grounds } => why.seen(grounds.measure.as_ref()),
            What::Decided { action, verdict, grounds, .. } => {
                self.decided(*action, verdict, grounds.measure.as_ref(), zone)
            }
            What::Came(CarriedOut { outcome, remark, .. }) => match (outcome.seen(), remark) {
                (seen, None) => seen,
                (seen, Some(remark)) if seen.is_empty() => remark.clone(),
                (seen, Some(remark)) => format!("{seen}; {remark}"),
            },
            What::Measured(effect) => effect.words(),
            What::LeftTheGroup { group } => format!("no longer of {group}: what is in force is undone"),
            What::StoodBack { act, by, until } => {
                format!("{by} did `{act}` by hand: rules stand back from it until {}", clock(*until, zone))
            }
            What::StandsBack(said) => {
                let because = said.because.as_ref().map(|because| format!(": {because}")).unwrap_or_default();
                let until = clock(said.over.1, zone);
                format!("{} has rules stand back from {} until {until}{because}", said.by.user, in_short(&said.whom))
            }
            What::ActsAgain(said, why) => {
                let why = match why {
                    ActsAgain::Over => "the time for it is over".to_owned(),
                    ActsAgain::Ended => "it has ended".to_owned(),
                    ActsAgain::Said(by, None) => format!("{} says so", by.user),
                    ActsAgain::Said(by, Some(because)) => format!("{} says so: {because}", by.user),
                };
                format!("rules stand back from {} no longer: {why}", in_short(&said.whom))
            }
            What::LetLoose { again: true } => {
                "by somebody who left no record of it: suspended again for the rest of its time".to_owned()
            }
            What::LetLoose { again: false } => format!("it does not stay suspended: its ladder goes on{next}"),
            What::Asks(question, _) => {
                format!("{} is asked for {}", question.person.1, exact_duration(question.window))
            }
            What::Turned(question, turn) => turn.seen(question, zone),
            What::Watcher(news) => news.seen(self.rule.as_deref().unwrap_or("a rule")),
            What::Announced(..)
            | What::Calls(_)
            | What::Easing { .. }
            | What::BreachedAgain(_)
            | What::HoursEnded
            | What::WaitedFor { .. } => String::new(),
        }
    }

    fn decided(&self, action: Action, verdict: &Verdict, measure: Option<&Measure>, zone: &TimeZone) -> String {
        let rule = self.rule.as_deref().unwrap_or_default();
        let next = self.next.words(zone);
        match verdict {
            Verdict::Alert => format!("{rule}: {}{next}", field_words(measure, "is")),
            Verdict::Act(_) | Verdict::Ask(..) | Verdict::Waits(_) => format!("{action}{next}"),
            Verdict::Shadow(_) => format!("would {action}; {}{next}", field_words(measure, "is")),
            Verdict::Spared(why) => format!("would {action}, but {why}{next}"),
            Verdict::OverBudget(_) => {
                format!("would {action}, but its budget is spent: people are told, and nothing is done{next}")
            }
            Verdict::Capped(_, most) => format!(
                "would {action}, but all rules together have acted as often as they may in an hour ({}){next}",
                cap(*most)
            ),
            Verdict::Overtaken { by } => format!("{action}: case {by} takes a stronger step{next}"),
            Verdict::StandingBack { until } => {
                format!("would {action}, but stands back until {}{next}", clock(*until, zone))
            }
        }
    }
}

fn decided(verdict: &Verdict, severity: Severity) -> Option<(&'static str, Tone)> {
    Some(match verdict {
        // What came of it tells itself; what waits is told by the trail's own line.
        Verdict::Act(_) | Verdict::Ask(..) | Verdict::Waits(_) => return None,
        Verdict::Alert => ("alert", severity.into()),
        Verdict::Shadow(_) => ("shadow", Tone::Notice),
        Verdict::Spared(_) => ("spared", Tone::Notice),
        Verdict::OverBudget(_) => ("budget", Tone::Critical),
        Verdict::Capped(..) => ("capped", Tone::Critical),
        Verdict::Overtaken { .. } => ("overtaken", Tone::Faint),
        Verdict::StandingBack { .. } => ("back", Tone::Notice),
    })
}

/// The word column is one word wide; the rest of a longer outcome is in the text.
fn word(outcome: &Outcome) -> &'static str {
    match outcome {
        Outcome::Lowered(_) | Outcome::Joined { .. } => "lowered",
        Outcome::Suspended(_) => "suspended",
        Outcome::Resumed(_) => "resumed",
        Outcome::Ended(_) => "ended",
        Outcome::StillThere(_) | Outcome::CalledOff(..) => "remains",
        Outcome::PendingInTheKernel(_) | Outcome::PendingFrozen => "pending",
        Outcome::Restarted { .. } => "restarted",
        Outcome::Restored(_) => "restored",
        Outcome::ChangedSince | Outcome::NotSuspended => "kept",
        Outcome::Ran(_) => "ran",
        Outcome::CameBack(_) => "back",
        Outcome::Gone => "gone",
        Outcome::Refused(_) => "refused",
        Outcome::Dropped(_) | Outcome::Unrecorded(_) => "dropped",
        Outcome::Failed(_) | Outcome::Untold { .. } => "failed",
    }
}

impl Over {
    /// How a case ends, in one word: `calm`, `ended` or `left`.
    pub fn end(self) -> &'static str {
        match self {
            Over::Calm => "calm",
            Over::Left | Over::Unseen | Over::RuleGone => "left",
            Over::EndedByUs | Over::EndedByItself | Over::NoneLeft => "ended",
        }
    }

    fn word(self) -> &'static str {
        match self {
            Over::Calm => "calm",
            Over::Left | Over::Unseen | Over::RuleGone => "left",
            Over::EndedByUs => "ended",
            Over::EndedByItself | Over::NoneLeft => "gone",
        }
    }

    fn seen(self, measure: Option<&Measure>) -> String {
        let why = match self {
            Over::Calm => field_words(measure, "is"),
            Over::Left => "the rule no longer covers it".to_owned(),
            Over::Unseen => "it is no longer seen".to_owned(),
            Over::RuleGone => "its rule is no longer watched with, or means something else now".to_owned(),
            Over::EndedByUs => return ENDED_BY_US.to_owned(),
            Over::EndedByItself => "it ended by itself".to_owned(),
            Over::NoneLeft => "none of its processes is left".to_owned(),
        };
        format!("{why}; case closed")
    }
}

impl Next {
    /// `; next: terminate 09:34:20`.
    pub(super) fn words(&self, zone: &TimeZone) -> String {
        match self {
            Next::Unsaid => String::new(),
            Next::Step { action, at, ask: None } => format!("; next: {} {}", action.word(), clock(*at, zone)),
            Next::Step { action, at, ask: Some(ask) } => {
                let act = at.checked_add(*ask).unwrap_or(*at);
                format!("; next: ask {}, {} {}", clock(*at, zone), action.word(), clock(act, zone))
            }
            Next::Again { action, at } => format!("; next: {}, tried again {}", action.word(), clock(*at, zone)),
            Next::Nothing => "; next: nothing".to_owned(),
        }
    }
}

/// `memory.held is 812 MiB, limit 750 MiB`, for the lines that begin or close a case.
fn field_words(measure: Option<&Measure>, verb: &str) -> String {
    let field = measure.map(|measure| format!("{} ", measure.quantity)).unwrap_or_default();
    format!("{field}{}", reading_words(measure, verb))
}

/// `was 812 MiB, limit 750 MiB`.
fn reading_words(measure: Option<&Measure>, verb: &str) -> String {
    let Some(measure) = measure else { return "in breach".to_owned() };
    let scaled = |value: &Option<Value>| value.as_ref().map_or("unknown".to_owned(), Value::scaled);
    let limit = measure.limit.as_ref().map(|limit| format!(", limit {}", limit.scaled())).unwrap_or_default();
    format!("{verb} {}{limit}", scaled(&measure.reading))
}

/// `09:32:20`.
pub(crate) fn clock(at: Timestamp, zone: &TimeZone) -> String {
    at.to_zoned(zone.clone()).strftime("%H:%M:%S").to_string()
}

/// A process is named where the line begins.
fn in_short(whom: &Whom) -> String {
    if let Whom::Process { .. } = whom { "it".to_owned() } else { whom.to_string() }
}
