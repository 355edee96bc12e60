//! How a rule stands to a process, and what follows from it: the same words from a running watcher and from a file alone.

use std::time::Duration;

use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};

use crate::condition::{Condition, InWords, Truth};
use crate::facts::Facts;
use crate::model::Moment;
use crate::protect::Protections;
use crate::rules::Rule;
use crate::subject::Judged;
use crate::text::counted;
use crate::units::{Value, scaled_duration};

/// One part of a condition: in words, whether it holds (`true`, `false`, `unknown`), and what was read.
pub type PartInWords = (String, String, Option<String>);

/// How a rule stands to the subject that a process is of. Times in seconds.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Standing {
    /// The subject, as people call it.
    pub subject: String,
    /// How the rule judges, where that is not one process at a time: `an app`.
    pub judged: Option<String>,
    /// Whether the rule covers the process: `true`, `false` or `unknown`.
    pub covered: String,
    /// Whether it would belong to it as a descendant of another that is covered.
    pub by_tree: bool,
    /// Each part of `where`.
    pub covers: Vec<PartInWords>,
    /// Each part of the breach.
    pub parts: Vec<PartInWords>,
    /// How long a breach has to hold.
    pub lasting: f64,
    /// Why nothing would be done at all, whatever the breach: in shadow, or disarmed.
    pub only_tells: Option<String>,
    /// Why the process is protected.
    pub protected: Option<String>,
    /// The hours outside of which now is, of the rule.
    pub outside: Option<String>,
    /// Steps that wait for their own hours.
    pub waiting_steps: Vec<String>,
    /// How many cases may be acted upon, and in what time.
    pub budget: Option<(u32, f64)>,
    /// What a watcher knows; `None` where it is judged by the file alone.
    pub story: Option<Story>,
}

/// What only a running watcher knows.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Story {
    /// For how long a breach has held that opened no case yet.
    pub building: Option<f64>,
    /// The open case.
    pub case: Option<OpenCase>,
    /// Cases acted upon in the time of the budget.
    pub spent: Option<usize>,
    /// For how long rules stand back from it.
    pub standing_back: Option<f64>,
    /// Whether they do so by somebody's word, and not because a hand was at work.
    #[serde(default)]
    pub by_word: bool,
    /// For how long nothing is done after a start.
    pub settling: Option<f64>,
}

/// An open case.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct OpenCase {
    /// Its number.
    pub number: u64,
    /// Breached time.
    pub clock: f64,
    /// The next step, and when.
    pub next: Option<String>,
    /// Whether the budget was spent before it.
    pub over_budget: bool,
}

impl Standing {
    /// Of a rule to a process as it is now, with the readings of one look. `subject` is how people call it.
    pub fn of(
        rule: &Rule,
        facts: &Facts<'_>,
        subject: String,
        protections: &Protections,
        now: Moment,
        zone: &TimeZone,
    ) -> Standing {
        let waiting = rule.ladder.iter().filter(|step| !step.hours.covers(now.wall, zone));
        let seconds = |time: Duration| time.as_secs_f64();
        Standing {
            subject,
            judged: (rule.judge != Judged::Process).then(|| rule.judge.with_article().to_owned()),
            covered: word(rule.covering(facts)).to_owned(),
            by_tree: rule.judge == Judged::Tree,
            covers: rule.covers.iter().flat_map(Condition::parts).map(|part| in_words(part, facts)).collect(),
            parts: rule.breach.parts().into_iter().map(|part| in_words(part, facts)).collect(),
            lasting: seconds(rule.lasting),
            only_tells: (!rule.armed).then(|| "the rule is in shadow".to_owned()),
            protected: protections.reason(facts),
            outside: (!rule.hours.covers(now.wall, zone)).then(|| rule.hours.to_string()),
            waiting_steps: waiting.map(|step| format!("{} (`{}`)", step.action, step.hours)).collect(),
            budget: rule.budget.map(|budget| (budget.cases, seconds(budget.per))),
            story: None,
        }
    }

    /// In one sentence whether the rule does something, and if not, why not: the reasons in the order in which they hold it back.
    pub fn verdict(&self) -> String {
        let all = |word: &str| !self.parts.is_empty() && self.parts.iter().all(|(_, truth, _)| truth == word);
        let any = |word: &str| self.parts.iter().any(|(_, truth, _)| truth == word);
        let unknown = any("unknown") && !any("false");
        let story = self.story.as_ref();
        let case = story.and_then(|story| story.case.as_ref());
        match (self.covered.as_str(), case) {
            ("false", None) if !self.by_tree => return "it does not act: the rule does not cover it".to_owned(),
            ("unknown", None) => return "it does not act: whether the rule covers it cannot be told".to_owned(),
            _ => {}
        }
        let (begins, then) = match (case, story.and_then(|story| story.building)) {
            (Some(OpenCase { number, next: Some(next), .. }), _) => {
                (format!("case {number} is open; next: {next}"), "it acts")
            }
            (Some(case), _) => {
                (format!("case {} is open", case.number), "it has done what it can, and tells until it is calm")
            }
            (None, Some(held)) => {
                let left = Duration::try_from_secs_f64(self.lasting - held).unwrap_or_default();
                let left = scaled_duration(left);
                (format!("a breach builds up, and opens a case in {left} if it holds"), "it is about to act")
            }
            (None, None) if story.is_some() && unknown => {
                return "it does not act: the breach cannot be told yet, and an unknown one never acts".to_owned();
            }
            (None, None) if story.is_none() && self.judged.is_some() => {
                return "not known: no watcher tells how it stands".to_owned();
            }
            (None, None) if story.is_none() && all("true") => {
                ("its breach holds now, and no watcher runs the rule".to_owned(), "it would act, once that has lasted")
            }
            (None, None) if story.is_none() && unknown => {
                return "not known: the breach cannot be decided from one look".to_owned();
            }
            (None, None) => return "it does not act: there is no breach".to_owned(),
        };
        format!("{}: {begins}", self.held_back().unwrap_or_else(|| then.to_owned()))
    }

    /// What keeps it from doing anything to that process.
    fn held_back(&self) -> Option<String> {
        let for_more = |seconds: f64| scaled_duration(Duration::try_from_secs_f64(seconds).unwrap_or_default());
        let story = self.story.as_ref();
        if let Some(why) = &self.only_tells {
            return Some(format!("it only tells, since {why}"));
        }
        if let Some(why) = &self.protected {
            return Some(format!("it only tells, since the process is protected ({why})"));
        }
        if let Some((left, by_word)) = story.and_then(|story| Some((story.standing_back?, story.by_word))) {
            let why =
                if by_word { "it is to stand back (`sophron stand-back` tells why)" } else { "a hand was at work" };
            return Some(format!("it does nothing for {} more, since {why}", for_more(left)));
        }
        if let Some(left) = story.and_then(|story| story.settling) {
            return Some(format!(
                "it does nothing for {} more, since the watch, or the machine, has just begun",
                for_more(left)
            ));
        }
        // A case that is open has its place in the budget, or was too many.
        let is_spent = |story: &Story, cases: u32| match &story.case {
            Some(case) => case.over_budget,
            None => story.spent.is_some_and(|spent| spent >= cases as usize),
        };
        if let Some((cases, per)) = self.budget
            && story.is_some_and(|story| is_spent(story, cases))
        {
            let cases = counted(cases, "case");
            return Some(format!("it only tells, since its budget of {cases} in {} is spent", for_more(per)));
        }
        self.outside.as_ref().map(|hours| format!("it does nothing now, since now is outside `{hours}`"))
    }
}

/// Each part of a condition as it is for these facts.
fn in_words(part: &Condition, facts: &Facts<'_>) -> PartInWords {
    let truth = if part.series().is_empty() { part.evaluate(facts) } else { Truth::Unknown };
    let reading = |field: &crate::model::Field| Some(format!("{field} is {}", shown(&facts.reading(*field)?)));
    let readings: Option<Vec<String>> = part.fields().iter().map(reading).collect();
    let readings = readings.filter(|readings| !readings.is_empty() && part.series().is_empty());
    (InWords(part).to_string(), word(truth).to_owned(), readings.map(|readings| readings.join(", ")))
}

fn shown(value: &Value) -> String {
    match value {
        Value::Text(text) if text.is_empty() => "empty".to_owned(),
        value => value.scaled(),
    }
}

/// As it stands in an answer.
pub(super) fn word(truth: Truth) -> &'static str {
    match truth {
        Truth::True => "true",
        Truth::False => "false",
        Truth::Unknown => "unknown",
    }
}
