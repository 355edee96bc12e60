//! What happened, as a value: everything that is said, shown, recorded or sent is a function of it.
//!
//! The record of the trail is made in `record`, the line for people in `line`, the object for programs in `json`, what a
//! recording keeps in `kept`. A new kind of happening is one variant of [`What`], and what the compiler then asks for.

mod asking;
mod effect;
mod json;
mod kept;
mod line;
mod news;
mod record;

use std::time::Duration;

pub use effect::{Effect, Look, Measured, Why};
use jiff::Timestamp;
pub use line::Line;
pub(crate) use line::{ENDED_BY_US, clock};
pub use news::News;
pub use record::Scribe;

use crate::act::{Act, Originals, Outcome};
use crate::answer::{Question, Turn};
use crate::audit::Wording;
use crate::condition::Measure;
use crate::decide::Verdict;
use crate::dispatch::ActsAgain;
use crate::judge::{Case, Closing, Points, Wait};
use crate::model::{Process, ProcessId};
use crate::rules::{Action, Rule, RuleName};
use crate::severity::Severity;
use crate::stand_back::StandBack;
use crate::subject::{Judged, SubjectKey};

/// Something that happened.
#[derive(Debug, Clone, PartialEq)]
pub struct Happening {
    /// When: of what a sample showed, when that was taken.
    pub at: Timestamp,
    /// By which rule, if by one.
    pub rule: Option<RuleName>,
    /// In which case, if in one.
    pub case: Option<u64>,
    /// To whom.
    pub subject: Subject,
    /// What.
    pub what: What,
    /// What comes next.
    pub next: Next,
}

/// Whom it is about.
#[derive(Debug, Clone, PartialEq)]
pub enum Subject {
    /// A process.
    Process(Box<Process>),
    /// A group that is judged as one.
    Group(Box<Group>),
    /// The machine, or whoever watches it.
    Machine,
}

/// A group.
#[derive(Debug, Clone, PartialEq)]
pub struct Group {
    /// Which.
    pub key: SubjectKey,
    /// The process that stands for it, or that it is about.
    pub lead: Process,
    /// Its processes.
    pub members: Vec<ProcessId>,
}

/// What comes next in the case, and when.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Next {
    /// Nothing is said of that.
    #[default]
    Unsaid,
    /// A step, if the breach goes on.
    Step {
        /// What it does.
        action: Action,
        /// When.
        at: Timestamp,
        /// For how long whose it is is asked first, from then on.
        ask: Option<Duration>,
    },
    /// A step that could not be taken is tried again, if the breach goes on.
    Again {
        /// What it does.
        action: Action,
        /// When.
        at: Timestamp,
    },
    /// Nothing: the ladder is at its end.
    Nothing,
}

/// What a decision rests on.
#[derive(Debug, Clone, PartialEq)]
pub struct Grounds {
    /// How serious the rule calls it.
    pub severity: Severity,
    /// The breach, as the rule has it.
    pub breach: String,
    /// The reading beside its limit.
    pub measure: Option<Measure>,
    /// What it read from and wrote to disks, bytes a second: a sign of honest work.
    pub disk: Option<[f64; 2]>,
    /// The readings that led here.
    pub points: Points,
}

/// An act that is announced.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Announced {
    /// The step of the ladder, by its place; `None` for what no step asked for.
    pub step: Option<usize>,
    /// What it rests on.
    pub grounds: Option<Box<Grounds>>,
    /// Whether all that descend from it are meant.
    pub tree: bool,
    /// Why, in the words of the person who does it by hand.
    pub because: Option<String>,
    /// What everything had before, where it is lowered.
    pub originals: Option<Originals>,
    /// The case that it counts with, where it is beyond its owner's share of the cap.
    pub counts_with: Option<u64>,
    /// Its children, named as everywhere.
    pub children: Vec<String>,
    /// What it holds open.
    pub open: Vec<String>,
}

/// What happened.
#[derive(Debug, Clone, PartialEq)]
pub enum What {
    /// A case opened, or its subject came back under another PID.
    Opened {
        /// Whether it came back.
        returned: bool,
        /// What it rests on.
        grounds: Box<Grounds>,
        /// The rule's note for people.
        note: Option<String>,
        /// The rule in its own words.
        wording: Box<Wording>,
        /// Whether the first step of the ladder tells people at once: this line is that.
        alerts: bool,
    },
    /// People are told again of a breach that goes on.
    Reminded(Box<Grounds>),
    /// The subject is calm so far; how long that must last.
    Easing {
        /// The reading.
        measure: Option<Measure>,
        /// For how long.
        wait: Duration,
    },
    /// It was easing, and breaches again.
    BreachedAgain(Option<Measure>),
    /// The hours are over: what is in force is undone.
    HoursEnded,
    /// The case is over.
    Closed {
        /// Why.
        why: Over,
        /// What it rests on.
        grounds: Box<Grounds>,
    },
    /// A step was due and is not an act that is set going: what became of it.
    Decided {
        /// What the step says.
        action: Action,
        /// Its place in the ladder.
        step: usize,
        /// What became of it.
        verdict: Verdict,
        /// What it rests on.
        grounds: Box<Grounds>,
        /// Whether it is due at the very opening.
        at_opening: bool,
    },
    /// An act is about to be taken: recorded before it is.
    Announced(Box<Act>, Box<Announced>),
    /// A program is about to be run.
    Calls(Box<Announced>),
    /// What came of an act, or of a program that was run.
    Came(CarriedOut),
    /// What a lowering did to the reading.
    Measured(Effect),
    /// A process is no longer of the group: what is in force on it is undone.
    LeftTheGroup {
        /// How the group is named.
        group: String,
    },
    /// Rules stand back from a process.
    StoodBack {
        /// What was done to it.
        act: crate::act::Verb,
        /// Who did it.
        by: String,
        /// Until when.
        until: Timestamp,
    },
    /// Rules stand back by somebody's word.
    StandsBack(Box<StandBack>),
    /// They do so no longer, and why.
    ActsAgain(Box<StandBack>, ActsAgain),
    /// What we had suspended runs, and no hand was at work.
    LetLoose {
        /// Whether it is suspended once more; otherwise it does not stay suspended, and its ladder goes on.
        again: bool,
    },
    /// Somebody waits for what a suspended process holds: it goes on at once.
    WaitedFor {
        /// The waiting process.
        by: u32,
    },
    /// The person whose program it is is about to be asked before a step.
    Asks(Box<Question>, Box<Grounds>),
    /// What became of a question.
    Turned(Box<Question>, Turn),
    /// About the watcher itself.
    Watcher(News),
}

/// An act that was carried out, or was to be.
#[derive(Debug, Clone, PartialEq)]
pub struct CarriedOut {
    /// The act; `None` for a program.
    pub act: Option<Box<Act>>,
    /// The step of the ladder, by its place.
    pub step: Option<usize>,
    /// Whether all that descend from it were meant.
    pub tree: bool,
    /// What came of it.
    pub outcome: Outcome,
    /// How long it took.
    pub took: Option<Duration>,
    /// The reading before.
    pub measure: Option<Measure>,
    /// Whether it is only assumed, as in a rehearsal.
    pub assumed: bool,
    /// What is said beyond that.
    pub remark: Option<String>,
    /// Why, in the words of the person who did it; of what was answered, who has.
    pub because: Option<String>,
}

impl CarriedOut {
    /// Of an act, or of a program, with nothing else to be said of it.
    pub fn of(act: impl Into<Option<Act>>, outcome: Outcome) -> CarriedOut {
        CarriedOut {
            act: act.into().map(Box::new),
            step: None,
            tree: false,
            outcome,
            took: None,
            measure: None,
            assumed: false,
            remark: None,
            because: None,
        }
    }
}

/// Why a case is over, as it is told.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Over {
    /// It was calm for long enough.
    Calm,
    /// The rule no longer covers it.
    Left,
    /// A process that is no longer seen, though it has not ended.
    Unseen,
    /// We ended it.
    EndedByUs,
    /// It ended by itself.
    EndedByItself,
    /// None of the processes of a group is left.
    NoneLeft,
    /// The rule is no longer watched with.
    RuleGone,
}

impl Subject {
    /// Of a case.
    pub fn of(case: &Case) -> Subject {
        match &case.lead {
            Some(lead) if case.key.judged() == Judged::Process => Subject::process(lead),
            Some(lead) => Subject::of_group(case, lead),
            None => Subject::Machine,
        }
    }

    /// One process of a case: of a group with the group.
    pub fn one_of(case: &Case, process: &Process) -> Subject {
        match case.key.judged() {
            Judged::Process => Subject::process(process),
            _ => Subject::of_group(case, process),
        }
    }

    /// A process.
    pub fn process(process: &Process) -> Subject {
        Subject::Process(Box::new(process.clone()))
    }

    fn of_group(case: &Case, lead: &Process) -> Subject {
        let (key, members) = (case.key.clone(), case.members.clone());
        Subject::Group(Box::new(Group { key, lead: lead.clone(), members }))
    }

    /// The process that it is about, or that stands for it.
    pub fn lead(&self) -> Option<&Process> {
        match self {
            Subject::Process(process) => Some(process),
            Subject::Group(group) => Some(&group.lead),
            Subject::Machine => None,
        }
    }
}

impl Next {
    /// The act that comes next, and when it does: not before somebody was asked.
    pub(super) fn act(&self) -> Option<(Action, Timestamp)> {
        match *self {
            Next::Step { action, at, ask } => Some((action, at.checked_add(ask.unwrap_or_default()).unwrap_or(at))),
            Next::Again { action, at } => Some((action, at)),
            Next::Unsaid | Next::Nothing => None,
        }
    }

    /// What comes next in a case, counted from `at`.
    pub fn of(case: &Case, rule: &Rule, at: Timestamp) -> Next {
        let due = |action: Action, left| {
            let due = at.checked_add(left).unwrap_or(at);
            match case.ladder.wait {
                Wait::Until { over, anew } if action.is_act() => {
                    let again = if anew { rule.lasting } else { Duration::ZERO };
                    due.max(over.1.checked_add(again).unwrap_or(over.1))
                }
                _ => due,
            }
        };
        let regular = case.upcoming(rule).map(|(step, left)| (step, due(step.action, left), left));
        let again = case.ladder.owed.iter().min_by_key(|owed| owed.from.1);
        let again = again.and_then(|owed| Some((rule.ladder.get(owed.step)?.action, owed.from.1)));
        match (regular, again) {
            (regular, Some((action, at))) if regular.is_none_or(|(_, due, _)| at < due) => Next::Again { action, at },
            // Until when somebody is asked has been told.
            (Some((step, ..)), _) if step.action.is_act() && case.ladder.wait == Wait::Answer => Next::Unsaid,
            // What is due at this very moment says so itself.
            (Some((step, _, left)), _) if step.action == Action::Alert && left.is_zero() => Next::Unsaid,
            (Some((step, at, _)), _) => Next::Step { action: step.action, at, ask: step.ask },
            (None, _) => Next::Nothing,
        }
    }
}

impl Grounds {
    /// Of a case as it stands.
    pub fn of(case: &Case, rule: &Rule) -> Box<Grounds> {
        let disk = case.lead.as_ref().and_then(|lead| lead.disk_read.zip(lead.disk_write));
        Box::new(Grounds {
            severity: rule.severity,
            breach: rule.breach.to_string(),
            measure: case.measure.clone(),
            disk: disk.map(|(read, write)| [f64::from(read), f64::from(write)]),
            points: case.points.clone(),
        })
    }
}

impl Over {
    /// By what the judge says, and what is known of who ended it. `lives`: its handle says that it has not ended.
    pub fn of(why: Closing, group: bool, by_us: bool, lives: bool) -> Over {
        match why {
            Closing::Calm => Over::Calm,
            Closing::Left => Over::Left,
            Closing::RuleGone => Over::RuleGone,
            Closing::Ended if !group && lives => Over::Unseen,
            Closing::Ended if by_us => Over::EndedByUs,
            Closing::Ended if group => Over::NoneLeft,
            Closing::Ended => Over::EndedByItself,
        }
    }
}

impl Happening {
    /// In a case, about its subject.
    pub(crate) fn of_case(at: Timestamp, case: &Case, what: What) -> Happening {
        let (rule, number) = (Some(case.rule.clone()), Some(case.number));
        Happening { at, rule, case: number, subject: Subject::of(case), what, next: Next::Unsaid }
    }

    /// The same with what comes next.
    #[must_use]
    pub(crate) fn followed_by(self, next: Next) -> Happening {
        Happening { next, ..self }
    }

    /// The same about one process.
    #[must_use]
    pub fn on(self, subject: Subject) -> Happening {
        Happening { subject, ..self }
    }

    /// The same question, of which whoever is asked decides nothing.
    #[must_use]
    pub fn without_offers(mut self) -> Happening {
        if let What::Asks(question, _) = &mut self.what {
            question.offers.clear();
        }
        self
    }

    /// About the watcher itself.
    pub fn news(at: Timestamp, news: News) -> Happening {
        let what = What::Watcher(news);
        Happening { at, rule: None, case: None, subject: Subject::Machine, what, next: Next::Unsaid }
    }

    /// About a process, and no case.
    pub fn about(at: Timestamp, process: &Process, what: What) -> Happening {
        let subject = Subject::process(process);
        Happening { at, rule: None, case: None, subject, what, next: Next::Unsaid }
    }
}
