//! The record of the audit trail.

use std::time::Duration;

use jiff::tz::TimeZone;

use super::{Announced, CarriedOut, Grounds, Group, Happening, Next, Over, Subject, What};
use crate::act::{Act, Came, Only, Outcome, Verb};
use crate::answer::{Question, Turn};
use crate::audit::{
    ActionRecord, AnswerRecord, Draft, Evidence, GroupRecord, JudgedWord, Kind, NextRecord, ResultRecord,
    SubjectRecord, ToldRecord, Who,
};
use crate::command_lines::CommandLines;
use crate::condition::Measure;
use crate::decide::Verdict;
use crate::dispatch::ActsAgain;
use crate::model::Boot;
use crate::rules::Action;
use crate::subject::SubjectKey;
use crate::units::Value;

/// Most processes of a group that a record names.
const MOST_NAMED: usize = 32;

/// What every record of one writer has in common.
#[derive(Debug, Clone)]
pub struct Scribe {
    /// The machine's name.
    pub host: String,
    /// Its boot.
    pub boot: Boot,
    /// On whose behalf.
    pub who: Who,
    /// The zone of times in words.
    pub zone: TimeZone,
    /// How much of command lines is written down.
    pub command_lines: CommandLines,
}

/// The parts of a record that depend on what happened.
struct Parts {
    kind: Kind,
    evidence: Option<Evidence>,
    action: Option<ActionRecord>,
    result: Option<(Came, Option<Duration>)>,
}

impl Scribe {
    /// An empty record.
    pub fn plain(&self, at: jiff::Timestamp, kind: Kind) -> Draft {
        Draft::new(at, kind, &self.host, &self.boot.to_string(), self.who.clone())
    }

    /// What became of messages to people.
    pub fn told(&self, at: jiff::Timestamp, told: ToldRecord) -> Draft {
        Draft { told: Some(told), ..self.plain(at, Kind::Told) }
    }

    /// The record of a happening; none for what is only told.
    pub fn record(&self, happening: &Happening) -> Option<Draft> {
        let Parts { kind, evidence, action, result } = parts(&happening.what)?;
        let mut subject = of_subject(&happening.subject);
        if let (Some(record), Some(lead)) = (&mut subject, happening.subject.lead()) {
            match self.command_lines {
                CommandLines::Masked => {}
                CommandLines::Full => record.command = lead.unmasked.clone().or_else(|| record.command.take()),
                CommandLines::PathOnly => record.command = None,
            }
        }
        if let (What::Announced(_, announced) | What::Calls(announced), Some(subject)) = (&happening.what, &mut subject)
        {
            let lead = happening.subject.lead();
            subject.held = lead.and_then(|process| process.memory_held);
            subject.cpu = lead.and_then(|process| process.cpu).map(|cpu| cpu.round() as u32);
            subject.children.clone_from(&announced.children);
            subject.open.clone_from(&announced.open);
        }
        let wording = match &happening.what {
            What::Opened { wording, .. } => Some((**wording).clone()),
            _ => None,
        };
        let answer = match &happening.what {
            What::Turned(_, Turn::Answered(answered, _) | Turn::TurnedDown(answered, _)) => {
                Some(AnswerRecord { answer: answered.answer.clone(), by: answered.by.clone() })
            }
            _ => None,
        };
        let told = |(outcome, took): (Came, Option<Duration>)| ResultRecord {
            outcome,
            seen: happening.seen(&self.zone),
            took: took.map(|took| (took.as_secs_f64() * 1000.0).round() / 1000.0),
        };
        // What somebody says is his.
        let who = match &happening.what {
            What::StandsBack(said) => said.by.clone(),
            What::ActsAgain(_, ActsAgain::Said(by, _)) => by.clone(),
            _ => self.who.clone(),
        };
        Some(Draft {
            who,
            case: happening.case,
            rule: happening.rule.as_ref().map(|rule| rule.to_string()),
            subject,
            evidence,
            action,
            result: result.map(told),
            next: next(happening.next),
            wording,
            answer,
            ..self.plain(happening.at, kind)
        })
    }
}

fn next(next: Next) -> Option<NextRecord> {
    next.act().map(|(action, at)| NextRecord { verb: action.into(), at })
}

fn parts(what: &What) -> Option<Parts> {
    let told = |kind, came| Parts { kind, evidence: None, action: None, result: Some((came, None)) };
    let rests = |parts: Parts, grounds: &Grounds| Parts { evidence: Some(grounds.into()), ..parts };
    let doing = |parts: Parts, verb: Verb| Parts { action: Some(ActionRecord::word(verb)), ..parts };
    Some(match what {
        What::Opened { returned, grounds, .. } => {
            rests(told(Kind::Breach, if *returned { Came::CameBack } else { Came::Opened }), grounds)
        }
        What::Reminded(grounds) => doing(rests(told(Kind::Alert, Came::Reminder), grounds), Verb::Alert),
        What::Easing { .. } | What::BreachedAgain(_) | What::HoursEnded | What::WaitedFor { .. } => return None,
        What::Closed { why, grounds } => {
            let (kind, came) = match why {
                Over::Calm => (Kind::Calm, Came::Calm),
                Over::Left | Over::Unseen => (Kind::Left, Came::Left),
                Over::RuleGone => (Kind::Left, Came::RuleChanged),
                Over::EndedByUs | Over::EndedByItself | Over::NoneLeft => (Kind::Ended, Came::Ended),
            };
            rests(told(kind, came), grounds)
        }
        What::Decided { action, step, verdict, grounds, .. } => {
            let (kind, came) = decided(verdict)?;
            Parts { action: Some(of_step(*action, *step)), ..rests(told(kind, came), grounds) }
        }
        What::Announced(act, announced) => intent(of_act(act, announced), announced),
        What::Calls(announced) => intent(ActionRecord::word(Verb::Run), announced),
        What::Came(CarriedOut { act, step, tree, outcome, took, because, .. }) => {
            let act = act.as_deref();
            let word = act.map_or_else(|| ActionRecord::word(Verb::Run), ActionRecord::from);
            let step = step.map(|step| step + 1);
            let action = ActionRecord { step, tree: *tree, because: because.clone(), ..word };
            let result = Some((outcome.came(), *took));
            let kind = came(act.is_some_and(Act::is_undo), outcome);
            Parts { kind, evidence: None, action: Some(action), result }
        }
        What::Measured(_) => doing(told(Kind::Effect, Came::Effect), Verb::Lower),
        What::LeftTheGroup { .. } => told(Kind::Left, Came::Left),
        What::StoodBack { act, .. } => doing(told(Kind::StoodBack, Came::StoodBack), act.clone()),
        What::Asks(question, grounds) => {
            Parts { action: Some(asking(question)), ..rests(told(Kind::Asked, Came::Asked), grounds) }
        }
        What::Turned(question, turn) => {
            let kind = if matches!(turn, Turn::Shown(..)) { Kind::Asked } else { Kind::Answer };
            Parts { action: Some(asking(question)), ..told(kind, turn.came()) }
        }
        What::StandsBack(said) => {
            let seconds = Some(said.length.as_secs_f64());
            let action = ActionRecord { seconds, because: said.because.clone(), ..ActionRecord::word(Verb::StandBack) };
            Parts { action: Some(action), ..told(Kind::StoodBack, Came::StoodBack) }
        }
        What::ActsAgain(_, why) => {
            let because = if let ActsAgain::Said(_, because) = why { because.clone() } else { None };
            let action = ActionRecord { because, ..ActionRecord::word(Verb::StandBack) };
            Parts { action: Some(action), ..told(Kind::ActsAgain, Came::ActsAgain) }
        }
        What::LetLoose { .. } => doing(told(Kind::Superseded, Came::LetLoose), Verb::Resume),
        What::Watcher(news) => {
            let (kind, came) = news.recorded()?;
            told(kind, came)
        }
    })
}

fn intent(word: ActionRecord, announced: &Announced) -> Parts {
    let action = ActionRecord {
        step: announced.step.map(|step| step + 1),
        tree: announced.tree,
        because: announced.because.clone(),
        counts_with: announced.counts_with,
        originals: announced.originals.clone(),
        ..word
    };
    let evidence = announced.grounds.as_deref().map(Evidence::from);
    Parts { kind: Kind::Intent, evidence, action: Some(action), result: None }
}

/// The step that is asked about.
fn asking(question: &Question) -> ActionRecord {
    ActionRecord { ask: Some(question.window.as_secs_f64()), ..of_step(question.action, question.step) }
}

/// Where niceness is not touched, what is recorded as set is what it was.
fn of_act(act: &Act, announced: &Announced) -> ActionRecord {
    let word = ActionRecord::from(act);
    match (act, &announced.originals) {
        (Act::Lower { only: Only::Disk, .. }, Some(originals)) => ActionRecord { nice: Some(originals.was), ..word },
        _ => word,
    }
}

/// As what it is recorded that something came of an act, or of taking something back.
fn came(undo: bool, outcome: &Outcome) -> Kind {
    match outcome {
        Outcome::Refused(_) => Kind::Refused,
        Outcome::Unrecorded(_) if undo => Kind::Refused,
        Outcome::Restored(_) | Outcome::Resumed(_) => Kind::Restored,
        Outcome::ChangedSince | Outcome::NotSuspended | Outcome::Gone if undo => Kind::Superseded,
        _ => Kind::Outcome,
    }
}

fn decided(verdict: &Verdict) -> Option<(Kind, Came)> {
    Some(match verdict {
        // The intent and the outcome tell of it; what waits is told by the trail's own line.
        Verdict::Act(_) | Verdict::Ask(..) | Verdict::Waits(_) => return None,
        Verdict::Alert => (Kind::Alert, Came::Shown),
        Verdict::Shadow(_) => (Kind::Shadow, Came::Would),
        Verdict::Spared(_) => (Kind::Spared, Came::Spared),
        Verdict::OverBudget(_) => (Kind::BudgetSpent, Came::BudgetSpent),
        Verdict::Capped(..) => (Kind::Capped, Came::Capped),
        Verdict::Overtaken { .. } => (Kind::Overtaken, Came::Overtaken),
        Verdict::StandingBack { .. } => (Kind::StoodBack, Came::StoodBack),
    })
}

/// A step of a ladder; `step` counts from 0.
fn of_step(action: Action, step: usize) -> ActionRecord {
    let word = match Act::of_step(action) {
        Some(act) => ActionRecord::from(&act),
        None => ActionRecord::word(action.into()),
    };
    ActionRecord { step: Some(step + 1), ..word }
}

fn of_subject(subject: &Subject) -> Option<SubjectRecord> {
    match subject {
        Subject::Process(process) => Some((&**process).into()),
        Subject::Group(group) => {
            Some(SubjectRecord { of: Some((&**group).into()), ..SubjectRecord::from(&group.lead) })
        }
        Subject::Machine => None,
    }
}

impl From<&Group> for GroupRecord {
    fn from(group: &Group) -> Self {
        let ids = group.members.iter().take(MOST_NAMED).map(|id| id.checked().to_string()).collect();
        GroupRecord {
            judge: JudgedWord::from(group.key.judged().word()),
            name: group.key.label(Some(&group.lead), group.members.len()),
            processes: group.members.len(),
            group: match &group.key {
                SubjectKey::Unit(path) => Some(path.clone()),
                _ => None,
            },
            ids,
        }
    }
}

impl From<&Grounds> for Evidence {
    fn from(grounds: &Grounds) -> Self {
        let json = |value: Option<&Value>| value.map_or(serde_json::Value::Null, Value::to_json);
        let measure = grounds.measure.as_ref();
        Evidence {
            severity: grounds.severity.into(),
            breach: grounds.breach.clone(),
            field: measure.map(|measure| measure.quantity.to_string()),
            reads_as: measure.map(|measure| measure.quantity.kind().into()),
            reading: json(measure.and_then(|measure| measure.reading.as_ref())),
            limit: json(measure.and_then(|measure| measure.limit.as_ref())),
            words: measure.map(in_words).unwrap_or_default(),
            disk: grounds.disk,
            points: grounds.points.iter().map(|(at, value)| (*at, json(value.as_ref()))).collect(),
        }
    }
}

fn in_words(measure: &Measure) -> String {
    let scaled = |value: &Option<Value>| value.as_ref().map_or("unknown".to_owned(), Value::scaled);
    format!("{} {}, limit {}", measure.quantity, scaled(&measure.reading), scaled(&measure.limit))
}
