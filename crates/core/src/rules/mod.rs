//! Rules: what is too much, for how long, and what is done about it, mildest first.

mod asking;
mod channels;
mod checkup;
mod explain;
mod figures;
mod hours;
mod keeping;
pub mod keys;
mod ladder;
mod load;
mod meaning;
mod name;
mod options;
mod review;
mod section;
mod telling;
mod wording;

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

pub use asking::{Keep, Unasked};
pub use explain::{Sentence, explain};
pub use figures::Figures;
pub use hours::{Hours, Span};
pub use keeping::{Audit, Lookback, Usage};
pub use load::{File, LARGEST, Rejected, load, load_files};
pub use meaning::Meaning;
pub(crate) use meaning::Revision;
pub use name::RuleName;
pub use review::{Present, Warning, by_name_alone, review};

use crate::condition::{Condition, Truth};
use crate::facts::Facts;
use crate::model::Field;
pub use crate::severity::Severity;
use crate::sorted::{SortedMap, SortedSet};
use crate::subject::Judged;
use crate::telling::Telling;
use crate::units::{Value, exact_duration};
use crate::window::Spec;

/// The rules-file format that this version reads.
pub const FORMAT: i64 = 1;

/// A loaded rules file.
#[derive(Debug, Clone)]
pub struct RuleSet {
    /// The sampling interval.
    pub every: Duration,
    /// How long nothing is done after the start, a start of the machine, or a nap.
    pub settle: Duration,
    /// The last safety.
    pub cap: Cap,
    /// `[protect] where`, of each file that has one.
    pub protect: Vec<Condition>,
    /// The rules, in the file's order.
    pub rules: Vec<Rule>,
    /// What `[hours]` says: times of the week by their name.
    pub hours: SortedMap<String, Arc<[Span]>>,
    /// What `[checkup]` says.
    pub checkup: crate::checkup::Settings,
    /// What `[audit]` says.
    pub audit: Audit,
    /// What `[lookback]` says.
    pub lookback: Lookback,
    /// What `[usage]` says.
    pub usage: Usage,
    /// What `[[channel]]` and `[[tell]]` say.
    pub telling: Telling,
    /// What others' monitoring reads of the watcher; nothing, if not given.
    pub figures: Option<Figures>,
    /// SHA-256 of the bytes that were read, lower-case hex.
    pub digest: String,
}

/// One rule.
#[derive(Debug, Clone)]
pub struct Rule {
    /// Its name, unique in the file.
    pub name: RuleName,
    /// Its own lines in the file, and those that adjust it.
    pub text: String,
    /// What people see in the alert.
    pub note: Option<String>,
    /// `where`: the processes it covers; `None` for all.
    pub covers: Option<Condition>,
    /// What it judges as one.
    pub judge: Judged,
    /// What is too much.
    pub breach: Condition,
    /// How long the breach must hold before a case opens.
    pub lasting: Duration,
    /// When a case closes; `None` for "the breach no longer holds".
    pub calm: Option<Condition>,
    /// How serious a case of it is.
    pub severity: Severity,
    /// Whether it acts; else it is in shadow.
    pub armed: bool,
    /// When it may act; outside of that its ladder stands still.
    pub hours: Hours,
    /// When people are told again.
    pub again: Again,
    /// How often it may act on one subject.
    pub budget: Option<Budget>,
    /// On whom of a group or of the machine's processes it acts.
    pub pick: Pick,
    /// How far the person whose program it is may let it run.
    pub keep: Option<Keep>,
    /// What becomes of a step before which nobody can be asked.
    pub unasked: Unasked,
    /// What is done, by breached time.
    pub ladder: Vec<Step>,
    /// The windows that its functions over time read.
    pub windows: Vec<Spec>,
    /// Its place among the files that were read.
    pub file: usize,
}

/// The most acts of all rules together in an hour.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Cap {
    /// Acts of any kind.
    pub acts: u32,
    /// Of these, terminations and restarts.
    pub terminations: u32,
}

impl Default for Cap {
    fn default() -> Self {
        Cap { acts: 20, terminations: 5 }
    }
}

/// When people are told again of a breach that goes on.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Again {
    /// After that time since they were last told.
    pub after: Option<Duration>,
    /// When the reading has gone that much further since.
    pub risen: Option<Value>,
}

/// How many cases of one subject may be acted upon in a sliding time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Budget {
    /// That many.
    pub cases: u32,
    /// In that time.
    pub per: Duration,
}

/// On whom of several a step acts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Pick {
    /// On all of them.
    #[default]
    All,
    /// On the one that uses most CPU when the case opens.
    MostCpu,
    /// On the one that has most memory.
    MostMemory,
    /// On the one that began last.
    Newest,
}

impl Pick {
    /// Every choice.
    pub const ALL: [Pick; 4] = [Pick::All, Pick::MostCpu, Pick::MostMemory, Pick::Newest];

    /// Its words.
    pub fn words(self) -> &'static str {
        match self {
            Pick::All => "all",
            Pick::MostCpu => "most cpu",
            Pick::MostMemory => "most memory",
            Pick::Newest => "newest",
        }
    }
}

/// One step of a ladder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    /// Breached time from the opening of the case.
    pub at: Duration,
    /// What is done.
    pub action: Action,
    /// When; on top of the rule's own hours.
    pub hours: Hours,
    /// How long the person whose program it is is asked before it; not at all, if not given.
    pub ask: Option<Duration>,
    /// The program of a `run` step, with its arguments.
    pub run: Arc<[String]>,
}

impl Step {
    /// A step at any hour.
    pub fn new(at: Duration, action: Action) -> Step {
        Step { at, action, hours: Hours::default(), ask: None, run: Arc::new([]) }
    }
}

impl fmt::Display for Step {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} ", exact_duration(self.at))?;
        if let Some(ask) = self.ask {
            write!(f, "ask for {}, then ", exact_duration(ask))?;
        }
        write!(f, "{}", self.action)
    }
}

/// What a step does. The order is the order of strength.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Action {
    /// Tell people, do nothing.
    Alert,
    /// Run a program that is told of the case. It does nothing to the subject.
    Run,
    /// Raise the niceness of every thread to this value, where it is lower.
    Lower {
        /// 1 to 19.
        nice: i32,
    },
    /// Suspend every thread, and resume by itself after that time.
    Suspend {
        /// How long.
        length: Duration,
    },
    /// Have the service manager start the unit anew.
    Restart,
    /// Ask to end; end by force only after that time, if one is given.
    Terminate {
        /// How long the polite signal is given.
        force_after: Option<Duration>,
    },
}

impl Action {
    /// Whether it does something to a process.
    pub fn is_act(self) -> bool {
        !matches!(self, Action::Alert | Action::Run)
    }

    /// Whether what it comes to hangs on who else is in the same control group.
    pub(crate) fn goes_by_the_group(self) -> bool {
        matches!(self, Action::Lower { .. } | Action::Restart)
    }

    /// Its word, as in `do = "…"`.
    pub fn word(self) -> &'static str {
        match self {
            Action::Alert => "alert",
            Action::Run => "run",
            Action::Restart => "restart",
            Action::Lower { .. } => "lower",
            Action::Suspend { .. } => "suspend",
            Action::Terminate { .. } => "terminate",
        }
    }
}

impl fmt::Display for Action {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Action::Alert | Action::Run => f.write_str(self.word()),
            Action::Restart => f.write_str("restart the unit"),
            Action::Lower { nice } => write!(f, "lower to nice {nice}"),
            Action::Suspend { length } => write!(f, "suspend for {}", exact_duration(*length)),
            Action::Terminate { force_after: None } => f.write_str("terminate"),
            Action::Terminate { force_after: Some(wait) } => {
                write!(f, "terminate, by force after {}", exact_duration(*wait))
            }
        }
    }
}

impl Rule {
    /// Whether its `where` is true; without one it covers everybody.
    pub fn covering(&self, facts: &Facts<'_>) -> Truth {
        self.covers.as_ref().map_or(Truth::True, |covers| covers.evaluate(facts))
    }

    /// The fields that its conditions name, and those that make its subjects and its choice among them.
    pub fn fields(&self) -> SortedSet<Field> {
        let mut fields = self.breach.fields();
        fields.extend(self.covers.iter().chain(&self.calm).flat_map(Condition::fields));
        match self.judge {
            Judged::Tree => fields.extend([Field::Parent]),
            Judged::Unit => fields.extend([Field::Unit]),
            Judged::Process | Judged::App | Judged::Owner | Judged::Machine => {}
        }
        if self.pick == Pick::MostMemory {
            fields.insert(Field::MemoryHeld);
        }
        fields
    }
}

impl Rule {
    /// Whether it asks what is usual of an app here.
    pub fn asks_what_is_usual(&self) -> bool {
        let conditions = self.covers.iter().chain([&self.breach]).chain(&self.calm);
        let mut series = conditions.flat_map(Condition::series);
        series.any(|series| series.function == crate::window::Function::Typical)
    }
}

impl RuleSet {
    /// Whether one of them asks what is usual of an app here.
    pub fn ask_what_is_usual(&self) -> bool {
        self.rules.iter().any(Rule::asks_what_is_usual)
    }

    /// The fields that any of its conditions names.
    pub fn fields(&self) -> SortedSet<Field> {
        let protect = self.protect.iter().flat_map(Condition::fields);
        self.rules.iter().flat_map(Rule::fields).chain(protect).collect()
    }

    /// The rule of that name.
    pub fn rule(&self, name: &str) -> Option<&Rule> {
        self.rules.iter().find(|rule| rule.name == *name)
    }
}
