//! For programs: what happened as one JSON object, described in docs/output.md.

use jiff::tz::TimeZone;
use serde_json::{Map, Value as Json, json};

use super::{CarriedOut, Grounds, Happening, Next, Subject, What};
use crate::condition::Measure;
use crate::decide::Verdict;
use crate::units::Value;

impl Happening {
    /// The object. Times are RFC 3339, readings in base units, unknown is null; `word` and `text` are those of the line for
    /// people, where it has one.
    pub fn json(&self, zone: &TimeZone) -> Json {
        let line = self.line(zone);
        let process = self.subject.lead();
        let mut object = Map::new();
        let mut put = |key: &str, value: Json| object.insert(key.to_owned(), value);
        put("at", json!(self.at.to_string()));
        put("happened", json!(self.what.word()));
        put("word", json!(line.as_ref().map(|line| line.word)));
        put("case", json!(self.case));
        put("rule", json!(self.rule.as_deref()));
        put("subject", json!((!matches!(self.what, What::Watcher(_))).then(|| self.whom())));
        put("id", json!(process.map(|process| process.id.checked().to_string())));
        put("app", json!(process.map(|process| &process.app)));
        put("owner", json!(process.map(|process| &process.owner)));
        put("processes", json!(processes(&self.subject)));
        put("severity", json!(self.grounds().map(|grounds| grounds.severity)));
        let measure = self.measure();
        put("field", json!(measure.map(|measure| measure.quantity.to_string())));
        put("reading", base(measure.and_then(|measure| measure.reading.as_ref())));
        put("limit", base(measure.and_then(|measure| measure.limit.as_ref())));
        put("step", json!(self.step().map(|step| step + 1)));
        put("action", json!(self.action()));
        put("came", json!(self.came_of_it()));
        put("text", json!(line.map(|line| line.text)));
        put("next", next(self.next));
        Json::Object(object)
    }

    /// What is done, or would be.
    fn action(&self) -> Option<String> {
        match &self.what {
            What::Decided { action, .. } => Some(action.word().to_owned()),
            What::Came(CarriedOut { act, .. }) => {
                Some(act.as_ref().map_or("run".to_owned(), |act| act.verb().to_string()))
            }
            What::StoodBack { act, .. } => Some(act.to_string()),
            What::Asks(question, _) | What::Turned(question, _) => Some(question.action.word().to_owned()),
            _ => None,
        }
    }

    fn grounds(&self) -> Option<&Grounds> {
        match &self.what {
            What::Opened { grounds, .. }
            | What::Reminded(grounds)
            | What::Asks(_, grounds)
            | What::Closed { grounds, .. }
            | What::Decided { grounds, .. } => Some(grounds),
            _ => None,
        }
    }

    fn measure(&self) -> Option<&Measure> {
        match &self.what {
            What::Easing { measure, .. } | What::BreachedAgain(measure) | What::Came(CarriedOut { measure, .. }) => {
                measure.as_ref()
            }
            _ => self.grounds()?.measure.as_ref(),
        }
    }

    /// The step of the ladder that it is about, by its place.
    pub fn step(&self) -> Option<usize> {
        match &self.what {
            What::Decided { step, .. } => Some(*step),
            What::Asks(question, _) | What::Turned(question, _) => Some(question.step),
            What::Came(CarriedOut { step, .. }) => *step,
            What::Announced(_, announced) | What::Calls(announced) => announced.step,
            _ => None,
        }
    }

    /// What came of it: of an act its outcome, of a step that was due its verdict, of a case how it ends.
    fn came_of_it(&self) -> Option<String> {
        match &self.what {
            What::Came(CarriedOut { outcome, .. }) => Some(outcome.came().to_string()),
            What::Decided { verdict, .. } => Some(verdict.word().to_owned()),
            What::Closed { why, .. } => Some(why.end().to_owned()),
            What::Turned(_, turn) => Some(turn.came().to_string()),
            _ => None,
        }
    }
}

impl What {
    /// Its word for programs.
    pub fn word(&self) -> &'static str {
        match self {
            What::Opened { returned: false, .. } => "opened",
            What::Opened { .. } => "came back",
            What::Reminded(_) => "reminded",
            What::Easing { .. } => "easing",
            What::BreachedAgain(_) => "breached again",
            What::HoursEnded => "hours ended",
            What::Closed { .. } => "closed",
            What::Decided { .. } => "decided",
            What::Announced(..) | What::Calls(_) => "announced",
            What::Came(_) => "came",
            What::Measured(_) => "measured",
            What::LeftTheGroup { .. } => "left the group",
            What::StoodBack { .. } => "stood back",
            What::StandsBack(_) => "stands back",
            What::ActsAgain(..) => "acts again",
            What::LetLoose { .. } => "let loose",
            What::WaitedFor { .. } => "waited for",
            What::Asks(..) => "asks",
            What::Turned(..) => "turned",
            What::Watcher(_) => "watcher",
        }
    }
}

impl Verdict {
    /// Its word for programs.
    pub fn word(&self) -> &'static str {
        match self {
            Verdict::Alert => "alert",
            Verdict::Act(_) => "act",
            Verdict::Ask(..) => "ask",
            Verdict::Waits(_) => "waits",
            Verdict::Shadow(_) => "shadow",
            Verdict::Spared(_) => "spared",
            Verdict::Overtaken { .. } => "overtaken",
            Verdict::OverBudget(_) => "over budget",
            Verdict::Capped(..) => "capped",
            Verdict::StandingBack { .. } => "standing back",
        }
    }
}

fn processes(subject: &Subject) -> Option<usize> {
    match subject {
        Subject::Group(group) => Some(group.members.len()),
        Subject::Process(_) => Some(1),
        Subject::Machine => None,
    }
}

fn base(value: Option<&Value>) -> Json {
    value.map_or(Json::Null, Value::to_json)
}

fn next(next: Next) -> Json {
    next.act().map_or(Json::Null, |(action, at)| json!({ "do": action.word(), "at": at.to_string() }))
}
