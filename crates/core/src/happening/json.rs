//! For programs: what happened as one JSON object, described in docs/output.md.

use jiff::tz::TimeZone;
use serde_json::{Map, Value as Json, json};

use super::{Grounds, Happening, Next, Subject, What};
use crate::condition::Measure;
use crate::units::Value;

impl Happening {
    /// The object; none for what is only recorded. Times are RFC 3339, readings in base units, unknown is null.
    pub fn json(&self, zone: &TimeZone) -> Option<Json> {
        let line = self.line(zone)?;
        let process = self.subject.lead();
        let mut object = Map::new();
        let mut put = |key: &str, value: Json| object.insert(key.to_owned(), value);
        put("at", json!(self.at.to_string()));
        put("happened", json!(line.word));
        put("case", json!(self.case));
        put("rule", json!(self.rule.as_deref()));
        put("subject", json!((!line.who.is_empty()).then_some(&line.who)));
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
        put("outcome", json!(self.outcome()));
        put("text", json!(line.text));
        put("next", next(self.next));
        Some(Json::Object(object))
    }

    fn grounds(&self) -> Option<&Grounds> {
        match &self.what {
            What::Opened { grounds, .. }
            | What::Reminded(grounds)
            | What::Closed { grounds, .. }
            | What::Decided { grounds, .. } => Some(grounds),
            _ => None,
        }
    }

    fn measure(&self) -> Option<&Measure> {
        match &self.what {
            What::Easing { measure, .. } | What::BreachedAgain(measure) | What::Came { measure, .. } => {
                measure.as_ref()
            }
            _ => self.grounds()?.measure.as_ref(),
        }
    }

    /// The step of the ladder that it is about, by its place.
    pub fn step(&self) -> Option<usize> {
        match &self.what {
            What::Decided { step, .. } => Some(*step),
            What::Came { step, .. } => *step,
            What::Announced(_, announced) | What::Calls(announced) => announced.step,
            _ => None,
        }
    }

    fn outcome(&self) -> Option<String> {
        match &self.what {
            What::Came { outcome, .. } => Some(outcome.came().to_string()),
            _ => None,
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
    match next {
        Next::Step { action, at } => json!({ "do": action.word(), "at": at.to_string() }),
        Next::Unsaid | Next::Nothing => Json::Null,
    }
}
