//! What a person sees at his desk of a case with a program of his: from how much to how much, what comes next, and what he can decide. No
//! command lines, and nothing of other users: every program of his can read it.

use std::time::Duration;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};

use crate::act::{Act, Outcome};
use crate::answer::{Answer, Question, SUSPENDED_FOR, Turn};
use crate::condition::Measure;
use crate::happening::{CarriedOut, Happening, Measured, Next, Over, What, clock};
use crate::rules::{Action, Rule};
use crate::text::{clean, counted, cut};
use crate::units::{Value, scaled_percent};

/// Longest name from outside, bytes.
const LONGEST_NAME: usize = 64;

/// A notice.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Notice {
    /// The case: one notice each, replaced as it goes on.
    pub case: u64,
    /// The question that it puts, if it does.
    pub question: Option<u64>,
    /// The one sentence.
    pub title: String,
    /// The rest.
    pub body: String,
    /// What can be answered, and how that is called there.
    pub answers: Vec<(Answer, String)>,
    /// Whether it stays until it is taken down.
    pub stays: bool,
}

impl Notice {
    /// To see whether anything is shown.
    pub fn trial(said: &str) -> Notice {
        let (title, body) = ("This is a trial".to_owned(), format!("{said}; nothing has happened."));
        Notice { case: 0, question: None, title, body, answers: Vec::new(), stays: false }
    }

    /// The notice of a question; none of anything else.
    pub fn of_question(asked: &Happening, rule: &Rule, zone: &TimeZone) -> Option<Notice> {
        let teller = Teller { happening: asked, rule, zone };
        match &asked.what {
            What::Asks(question, _) => Some(teller.question(&teller.app(), question)),
            _ => None,
        }
    }
}

/// What is to be seen of a case.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Sight {
    /// That, from now on.
    Shown(Box<Notice>),
    /// That, and then nothing more.
    Last(Box<Notice>),
    /// Nothing any more.
    Gone,
    /// What was there before.
    Same,
}

/// What is remembered of a case, so that a person is told from how much to how much.
#[derive(Debug, Clone, Default)]
pub(super) struct Course {
    /// When it opened, and what was read then; and last.
    opened: Option<Timestamp>,
    told: Option<(Timestamp, Value)>,
    worst: Option<Value>,
}

impl Course {
    /// What a person sees of a case from now on.
    pub fn follow(&mut self, happening: &Happening, rule: &Rule, zone: &TimeZone) -> Sight {
        let teller = Teller { happening, rule, zone };
        if let Some(reading) = teller.measure().and_then(|measure| measure.reading.clone()) {
            let worse = |worst: &Value| {
                let upward = teller.measure().is_none_or(|measure| measure.comparison.is_upward());
                reading.compare(worst).is_some_and(|order| if upward { order.is_gt() } else { order.is_lt() })
            };
            if self.worst.as_ref().is_none_or(worse) {
                self.worst = Some(reading);
            }
        }
        let sight = teller.sight(self);
        if matches!(sight, Sight::Shown(_)) {
            self.opened.get_or_insert(happening.at);
            let reading = teller.measure().and_then(|measure| measure.reading.clone());
            self.told = reading.map(|reading| (happening.at, reading)).or(self.told.take());
        }
        sight
    }
}

struct Teller<'a> {
    happening: &'a Happening,
    rule: &'a Rule,
    zone: &'a TimeZone,
}

impl Teller<'_> {
    fn sight(&self, course: &Course) -> Sight {
        let app = self.app();
        let shown = |title: String, body: String| Sight::Shown(Box::new(self.notice(title, body)));
        match &self.happening.what {
            What::Opened { .. } => shown(format!("{app} {}", self.too_much()), self.as_it_opens()),
            What::Reminded(_) => {
                shown(format!("{app} still {}", self.too_much()), format!("{}{}", self.since(course), self.next()))
            }
            What::Asks(question, _) => Sight::Shown(Box::new(self.question(&app, question))),
            What::Turned(question, turn) => self.turned(&app, question, turn),
            What::Came(out) => self.came(&app, out),
            What::Measured(effect) => match &effect.measured {
                Measured::Cpu(before, after, None) => {
                    let (before, after) = (scaled_percent(*before), scaled_percent(*after));
                    shown(
                        gives_way(&app),
                        format!("To your other programs: it took {before} of a core, now {after}.{}", self.next()),
                    )
                }
                _ => Sight::Same,
            },
            What::Closed { why, .. } => self.closed(&app, *why, course),
            _ => Sight::Same,
        }
    }

    fn notice(&self, title: String, body: String) -> Notice {
        let case = self.happening.case.unwrap_or_default();
        Notice { case, question: None, title, body: body.trim().to_owned(), answers: Vec::new(), stays: false }
    }

    fn app(&self) -> String {
        let app = self.happening.subject.lead().map_or("A program", |lead| &lead.app);
        cut(&clean(app.as_bytes()), LONGEST_NAME).to_owned()
    }

    fn measure(&self) -> Option<&Measure> {
        match &self.happening.what {
            What::Opened { grounds, .. }
            | What::Reminded(grounds)
            | What::Asks(_, grounds)
            | What::Closed { grounds, .. } => grounds.measure.as_ref(),
            What::Came(out) => out.measure.as_ref(),
            _ => None,
        }
    }

    /// `uses a lot of memory`.
    fn too_much(&self) -> String {
        let field = self.measure().map_or("", |measure| measure.quantity.field().name());
        let what = match field.split('.').next().unwrap_or_default() {
            "memory" => "uses a lot of memory",
            "cpu" => "keeps the processor busy",
            "disk" => "reads and writes a lot",
            "machine" => "is in the way of others: the machine is short",
            "threads" | "children" | "instances" => "has started a lot",
            "files" => "has a lot of files open",
            _ => "uses too much",
        };
        what.to_owned()
    }

    /// `812 MiB; the limit is 750 MiB.`
    fn reading(&self) -> String {
        let Some(Measure { reading: Some(reading), limit, .. }) = self.measure() else { return String::new() };
        match limit {
            Some(limit) => format!("{}; the limit is {}.", reading.scaled(), limit.scaled()),
            None => format!("{}.", reading.scaled()),
        }
    }

    fn as_it_opens(&self) -> String {
        let ends = |action: Action| matches!(action, Action::Terminate { .. } | Action::Restart);
        let save = self.rule.ladder.iter().any(|step| ends(step.action));
        let note = self.rule.note.as_ref().map(|note| format!(" {note}")).unwrap_or_default();
        format!("{}{}{}{note}", self.reading(), if save { " Save your work there." } else { "" }, self.next())
    }

    /// `From 812 to 944 MiB since 09:31.`
    fn since(&self, course: &Course) -> String {
        let now = self.measure().and_then(|measure| measure.reading.as_ref());
        match (&course.told, now) {
            (Some((at, before)), Some(now)) if before != now => {
                format!("From {} to {} since {}.", before.scaled(), now.scaled(), self.minute(*at))
            }
            _ => self.reading(),
        }
    }

    /// ` Next: suspended at 09:33.`
    fn next(&self) -> String {
        let (action, at, asked) = match self.happening.next {
            Next::Step { action, at, ask } => (action, at, ask.is_some()),
            Next::Again { action, at } => (action, at, false),
            Next::Unsaid | Next::Nothing => return String::new(),
        };
        let (what, joint) = match action {
            Action::Alert | Action::Run => return String::new(),
            Action::Lower { .. } => ("it gives way to your other programs", "at"),
            Action::Suspend { .. } => ("it stands still for a while", "from"),
            Action::Restart => ("it is started anew", "at"),
            Action::Terminate { .. } => ("it is ended", "at"),
        };
        let at = self.minute(at);
        match asked {
            true => format!(" Next: at {at} you are asked before {what}."),
            false => format!(" Next: {what} {joint} {at}."),
        }
    }

    fn question(&self, app: &str, question: &Question) -> Notice {
        let at = match self.happening.next {
            Next::Step { at, .. } => format!("At {}. ", clock(at, self.zone)),
            _ => String::new(),
        };
        let (what, save) = match question.action {
            Action::Lower { .. } => ("will give way to others", ""),
            Action::Suspend { .. } => ("will stand still for a while", ""),
            Action::Restart => ("will be started anew", " Save now."),
            _ => ("will be ended", " Save now."),
        };
        let label = |answer: &Answer| {
            let length = self.rule.keep.map(|keep| briefly(keep.length)).unwrap_or_default();
            let label = match answer {
                Answer::LetRun => format!("Let it run {length}"),
                Answer::Suspend => format!("Suspend {}", briefly(SUSPENDED_FOR)),
                Answer::End => "End now".to_owned(),
                Answer::Restart => "Start anew".to_owned(),
                Answer::Other(word) => word.clone(),
            };
            (answer.clone(), label)
        };
        let nobody = if question.offers.is_empty() { " Whoever looks after this machine can help." } else { "" };
        Notice {
            question: Some(question.number),
            answers: question.offers.iter().map(label).collect(),
            stays: true,
            ..self.notice(format!("{app} {what}"), format!("{at}{}{save}{nobody}", self.reading()))
        }
    }

    fn turned(&self, app: &str, question: &Question, turn: &Turn) -> Sight {
        let shown = |title: String, body: &str| Sight::Shown(Box::new(self.notice(title, body.to_owned())));
        match turn {
            Turn::Answered(answered, Some(until)) if answered.answer == Answer::LetRun => {
                let until = self.minute(*until);
                shown(format!("{app} runs on until {until}"), "As was answered.")
            }
            Turn::Answered(answered, _) => {
                let what = match answered.answer {
                    Answer::Suspend => "stands still now",
                    Answer::Restart => "is started anew now",
                    _ => "is ended now",
                };
                shown(format!("{app} {what}"), "As was answered.")
            }
            // The act tells of itself, or that it could not be done.
            Turn::Unanswered => {
                let what = match question.action {
                    Action::Terminate { .. } => "is ended now",
                    Action::Restart => "is started anew now",
                    Action::Suspend { .. } => "stands still now",
                    _ => "gives way now",
                };
                shown(format!("{app} {what}"), "Nobody has answered.")
            }
            Turn::Withdrawn(_) | Turn::Unasked(..) => Sight::Gone,
            Turn::Shown(..) | Turn::TurnedDown(..) => Sight::Same,
        }
    }

    fn came(&self, app: &str, out: &CarriedOut) -> Sight {
        let shown = |title: String, body: String| Sight::Shown(Box::new(self.notice(title, body)));
        let held = || {
            let measure = out.measure.as_ref();
            let value = |value: Option<&Value>| value.map(Value::scaled);
            let reading = value(measure.and_then(|measure| measure.reading.as_ref()));
            let limit = value(measure.and_then(|measure| measure.limit.as_ref()));
            match (reading, limit) {
                (Some(reading), Some(limit)) => format!("It was at {reading}; the limit is {limit}. "),
                _ => String::new(),
            }
        };
        match &out.outcome {
            Outcome::Lowered(_) => {
                shown(gives_way(app), format!("To your other programs. {}{}", held().trim(), self.next()))
            }
            Outcome::Suspended(still) => {
                let until = self.minute(still.over);
                shown(format!("{app} stands still until {until}"), "It goes on by itself.".to_owned())
            }
            Outcome::Resumed(_) => shown(format!("{app} goes on"), self.next()),
            Outcome::Ended(_) => shown(format!("{app} was ended"), format!("{}You can start it again.", held())),
            Outcome::Restarted { .. } => shown(format!("{app} was started anew"), held()),
            Outcome::Restored(_) if matches!(out.act.as_deref(), Some(Act::Restore { still: None, .. })) => {
                shown(format!("{app} runs as usual again"), "It gives way no longer.".to_owned())
            }
            Outcome::StillThere(_) | Outcome::CalledOff(..) => {
                shown(format!("{app} does not end"), format!("It was asked to.{}", self.next()))
            }
            _ => Sight::Same,
        }
    }

    fn closed(&self, app: &str, why: Over, course: &Course) -> Sight {
        let Over::Calm = why else {
            return match why {
                // What was done to it has been told.
                Over::EndedByUs => Sight::Same,
                _ => Sight::Gone,
            };
        };
        let reading = self.measure().and_then(|measure| measure.reading.as_ref());
        let reading = reading.map(|reading| format!("{}, ", reading.scaled())).unwrap_or_default();
        let lasted = course.opened.and_then(|at| Duration::try_from(self.happening.at.duration_since(at)).ok());
        let lasted = lasted.map(|lasted| format!("after {}", about(lasted))).unwrap_or_default();
        let worst = course.worst.as_ref().map(|worst| format!("; at most {}", worst.scaled())).unwrap_or_default();
        let body = format!("{reading}{lasted}{worst}.");
        Sight::Last(Box::new(self.notice(format!("{app} behaves again"), body)))
    }

    /// `09:33`.
    fn minute(&self, at: Timestamp) -> String {
        at.to_zoned(self.zone.clone()).strftime("%H:%M").to_string()
    }
}

/// `14 minutes`, as people say it.
fn about(time: Duration) -> String {
    let seconds = time.as_secs();
    match seconds {
        0..120 if !seconds.is_multiple_of(60) => counted(seconds, "second"),
        0..7200 => counted((seconds + 30) / 60, "minute"),
        _ => counted((seconds + 1800) / 3600, "hour"),
    }
}

/// `30 min`, where there is little room.
fn briefly(time: Duration) -> String {
    let seconds = time.as_secs();
    match seconds {
        0..120 if !seconds.is_multiple_of(60) => format!("{seconds} s"),
        0..7200 => format!("{} min", (seconds + 30) / 60),
        _ => format!("{} h", (seconds + 1800) / 3600),
    }
}

fn gives_way(app: &str) -> String {
    format!("{app} gives way now")
}
