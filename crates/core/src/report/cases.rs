//! Cases of a report: from a rehearsal of rules, or from the record.

use std::time::Duration;

use jiff::Timestamp;

use crate::act::{Came, Verb};
use crate::audit::{Kind, Record};
use crate::happening::Over;
use crate::order::InOrder;
use crate::rehearsal::{StepWord, Story};
use crate::rules::{Action, Rule, RuleSet};
use crate::severity::Severity;
use crate::sorted::SortedMap;
use crate::subject::Judged;
use crate::units::Value;

/// A case, as a report tells it.
#[derive(Debug, Clone, PartialEq)]
pub struct Case {
    /// Its number.
    pub number: u64,
    /// The rule.
    pub rule: String,
    /// How serious the rule calls it.
    pub severity: Severity,
    /// Its subject, as people call it.
    pub whom: String,
    /// The program that it is about; empty where it is the machine.
    pub app: String,
    /// When it opened.
    pub opened: Timestamp,
    /// When and how it was over; none where it was open at the end.
    pub closed: Option<(Timestamp, &'static str)>,
    /// What is measured.
    pub quantity: String,
    /// The reading at its opening, the limit, and the worst, for people; empty where they are not known.
    pub reading: String,
    /// The limit.
    pub limit: Option<(f64, String)>,
    /// The worst reading.
    pub worst: String,
    /// Whether less is worse.
    pub falls: bool,
    /// For how long it was in breach, where that is known.
    pub breached: Option<Duration>,
    /// Readings, in base units.
    pub points: Vec<(Timestamp, f64)>,
    /// What happened, in order.
    pub steps: Vec<(Timestamp, String)>,
}

impl Case {
    /// A case of a rehearsal.
    pub fn of_story(story: &Story, rules: &RuleSet) -> Case {
        let rule: Option<&Rule> = rules.rule(&story.rule);
        let number = |value: &Option<Value>| value.as_ref().and_then(Value::number);
        let scaled = |value: &Option<Value>| value.as_ref().map(Value::scaled).unwrap_or_default();
        let limit = number(&story.limit).map(|limit| (limit, scaled(&story.limit)));
        let falls = number(&story.worst).zip(number(&story.limit)).is_some_and(|(worst, limit)| worst < limit);
        let machine = rule.is_some_and(|rule| rule.judge == Judged::Machine);
        let mut steps: Vec<(Timestamp, String)> = vec![(story.opened, "told".to_owned())];
        for step in &story.steps {
            let word = match &step.word {
                StepWord::Told => "told".to_owned(),
                StepWord::Reminded => "told again".to_owned(),
                StepWord::Done(action) => done(*action).to_owned(),
                StepWord::Asked(..) => "asked".to_owned(),
                StepWord::HeldBack(action, _) => format!("{}, held back", done(*action)),
                StepWord::HoursEnded => "hours over".to_owned(),
                StepWord::CameBack => "back again".to_owned(),
                StepWord::Turned(_) => continue,
            };
            push(&mut steps, step.at, word);
        }
        Case {
            number: story.case,
            rule: story.rule.to_string(),
            severity: rule.map_or(Severity::Warning, |rule| rule.severity),
            whom: story.label.clone(),
            app: if machine { String::new() } else { story.app.clone() },
            opened: story.opened,
            closed: story.closed.map(|(at, why)| {
                let word = match why {
                    Over::Calm => "calm",
                    why if why.end() == "ended" => "ended",
                    _ => "no longer covered",
                };
                (at, word)
            }),
            quantity: story.quantity.clone(),
            reading: scaled(&story.reading),
            limit,
            worst: scaled(&story.worst),
            falls,
            breached: Some(story.breached),
            points: story.points.clone(),
            steps,
        }
    }

    /// When it was over, or `until` where it was not.
    pub fn until(&self, until: Timestamp) -> Timestamp {
        self.closed.map_or(until, |(at, _)| at)
    }
}

fn done(action: Action) -> &'static str {
    match action {
        Action::Alert => "told",
        Action::Run => "program run",
        Action::Lower { .. } => "lowered",
        Action::Suspend { .. } => "suspended",
        Action::Restart => "restarted",
        Action::Terminate { .. } => "ended",
    }
}

/// What happens at one moment is one step.
fn push(steps: &mut Vec<(Timestamp, String)>, at: Timestamp, word: String) {
    match steps.last_mut().filter(|(last, _)| *last == at) {
        Some((_, known)) if known.split(" and ").any(|one| one == word) => {}
        Some((_, known)) => *known = format!("{known} and {word}"),
        None => steps.push((at, word)),
    }
}

/// The cases of the record that were open in a stretch of time.
pub fn of_records(records: &[Record], from: Timestamp, until: Timestamp) -> Vec<Case> {
    let mut cases: SortedMap<u64, Case> = SortedMap::new();
    for record in records {
        let Some(number) = record.case else { continue };
        if record.kind == Kind::Breach {
            cases.entry(number).or_insert_with(|| opened(number, record));
        }
        let Some(case) = cases.get_mut(&number) else { continue };
        if let Some(evidence) = &record.evidence {
            case.points.extend(evidence.points.iter().filter_map(|(at, value)| Some((*at, value.as_f64()?))));
        }
        let came = record.came();
        let word = match (&record.kind, came) {
            (Kind::Outcome | Kind::Restored, Some(Came::Refused)) => None,
            (Kind::Outcome | Kind::Restored, Some(came)) => Some(came.to_string()),
            (Kind::Spared, _) => Some(format!("{}, held back", record.verb().map_or(String::new(), Verb::to_string))),
            _ => None,
        };
        if let Some(word) = word {
            push(&mut case.steps, record.at, word);
        }
        case.closed = match record.kind {
            Kind::Calm => Some((record.at, "calm")),
            Kind::Ended => Some((record.at, "ended")),
            Kind::Left => Some((record.at, "no longer covered")),
            _ => case.closed,
        };
    }
    let mut cases: Vec<Case> =
        cases.into_values().filter(|case| case.opened <= until && case.until(until) >= from).collect();
    for case in &mut cases {
        case.points.order_by_key(|(at, _)| *at);
        case.points.dedup_by_key(|(at, _)| *at);
    }
    cases
}

fn opened(number: u64, record: &Record) -> Case {
    let subject = record.subject.as_ref();
    let evidence = record.evidence.as_ref();
    let group = subject.and_then(|subject| subject.of.as_ref());
    let (reading, limit) =
        evidence.map_or((None, None), |evidence| (evidence.reading.as_f64(), evidence.limit.as_f64()));
    let words = evidence.and_then(|of| of.reading_in_words()).unwrap_or_default();
    let label = |number: f64| evidence.and_then(|of| of.reads_as.as_ref()?.scaled(&serde_json::json!(number)));
    Case {
        number,
        rule: record.rule.clone().unwrap_or_default(),
        severity: evidence.and_then(|of| of.severity.known()).unwrap_or(Severity::Warning),
        whom: match (group, subject) {
            (Some(group), _) => group.name.clone(),
            (None, Some(subject)) => subject.label(),
            (None, None) => "the machine".to_owned(),
        },
        app: match group.is_some_and(|group| group.judge.word() == Judged::Machine.word()) {
            true => String::new(),
            false => subject.map(|subject| subject.app.clone()).unwrap_or_default(),
        },
        opened: record.at,
        closed: None,
        quantity: evidence.and_then(|of| of.field.clone()).unwrap_or_default(),
        reading: words,
        limit: limit.map(|limit| (limit, label(limit).unwrap_or_default())),
        worst: String::new(),
        falls: reading.zip(limit).is_some_and(|(reading, limit)| reading < limit),
        breached: None,
        points: Vec::new(),
        steps: vec![(record.at, "told".to_owned())],
    }
}
