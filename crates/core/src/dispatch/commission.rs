//! What is handed out to be done, and comes back with what became of it.

use std::sync::Arc;
use std::time::Duration;

use super::Leave;
use crate::act::{Act, Order, Outcome, same};
use crate::condition::Truth;
use crate::facts::Facts;
use crate::happening::Happening;
use crate::judge::Choice;
use crate::model::{Machine, Process, ProcessId};
use crate::rules::{Action, Rule, RuleName};
use crate::sorted::SortedSet;

/// An act, or the taking back of one.
#[derive(Debug, Clone)]
pub struct Commission {
    /// What, and to whom.
    pub order: Order,
    /// What is recorded before it is done: also for which case, and by which step.
    pub announced: Happening,
    /// What must still hold right before it is done; nothing where something is taken back.
    pub check: Option<Check>,
    /// What is said of it beyond its outcome.
    pub remark: Option<String>,
    /// What it is to the case.
    pub(super) stands_for: StandsFor,
}

/// What an act is to its case: only of a step's own what comes of it is the step's outcome.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum StandsFor {
    /// A step, or taking one back.
    AStep,
    /// A step that was taken is kept in force.
    TheSameOnceMore,
    /// What somebody has answered who was asked.
    AnAnswer,
}

/// What came of it.
#[derive(Debug)]
pub struct Done {
    /// What was to be done.
    pub commission: Commission,
    /// What came of it.
    pub outcome: Outcome,
    /// How long it took.
    pub took: Duration,
    /// Whether it was recorded before: then its outcome is recorded as well.
    pub announced: bool,
}

/// A program that is run for a case.
#[derive(Debug, Clone)]
pub struct Call {
    /// The case.
    pub case: u64,
    /// Its rule: one at a time for each.
    pub rule: RuleName,
    /// The step of its ladder, by its place.
    pub step: usize,
    /// The program and its arguments.
    pub command: Arc<[String]>,
    /// What is recorded before, and what the program is told.
    pub announced: Happening,
}

/// Between the decision and the act the intent was written, which may have taken seconds: what must still be as it was.
#[derive(Debug, Clone)]
pub struct Check {
    /// The rule.
    pub rule: Arc<Rule>,
    /// Whether its `where` must still cover the process: of a tree all descendants are members, whatever they match.
    pub by_where: bool,
    /// The machine as it was judged.
    pub machine: Machine,
    /// The step and what it says, where it is one of the ladder: as long as the rule says so.
    pub step: Option<(usize, Action)>,
    /// The tick at which the step fell due; none where it need not be in breach.
    pub tick: Option<u64>,
    /// Whose all four of its user IDs must be, where somebody has answered for it (proc_pid_status(5), `Uid`).
    pub wholly_of: Option<u32>,
}

impl Commission {
    /// The process that it is done to, or the root of the tree.
    pub fn target(&self) -> Option<&Process> {
        self.order.targets.first()
    }

    /// The case that it is done for.
    pub fn case(&self) -> Option<u64> {
        self.announced.case
    }

    /// The case that it acts for; none where something is taken back.
    pub(crate) fn acts_for(&self) -> Option<u64> {
        self.case().filter(|_| !self.is_undo())
    }

    /// Everybody that it is done to, as far as that is known.
    pub(super) fn touches(&self) -> SortedSet<ProcessId> {
        let targets = self.order.targets.iter().map(|process| process.id);
        let whole = self.order.whole.iter().flat_map(|whole| whole.members.iter().map(|(id, _)| *id));
        let mates = self.order.mates.iter().map(|process| process.id);
        targets.chain(whole).chain(mates).collect()
    }

    /// Whether it takes something back.
    pub fn is_undo(&self) -> bool {
        self.order.act.is_undo()
    }

    /// Whether it resumes somebody.
    pub fn resumes(&self) -> bool {
        self.order.act == Act::Resume
    }
}

impl Check {
    /// Whether it goes on, by all that can be asked without a look at the process: its rule, its arming, its step, its case, its choice,
    /// whether rules stand back, the breach if a tick has passed, the trail.
    ///
    /// # Errors
    /// Why it does not.
    pub fn goes_on(&self, case: u64, process: &Process, leave: &Leave) -> Result<(), String> {
        if let Some(why) = &leave.barred {
            return Err(why.clone());
        }
        let rule = self.rule_in(leave)?;
        if !rule.armed {
            return Err("its rule acts no more".to_owned());
        }
        let says = |step: usize| rule.ladder.get(step).map(|step| step.action);
        if self.step.is_some_and(|(step, action)| says(step) != Some(action)) {
            return Err("its rule says something else now".to_owned());
        }
        match leave.open.iter().find(|(number, _)| *number == case) {
            None => return Err("its case is over".to_owned()),
            Some((_, Choice::Open)) => {}
            Some((_, Choice::Made(picked))) if *picked == process.id => {}
            Some(_) => return Err("another one is picked now".to_owned()),
        }
        if leave.back.until(&self.rule.name, &process.id).is_some() {
            return Err("rules stand back from it".to_owned());
        }
        let facts = Facts::new(process, &self.machine);
        if let Some(reason) = leave.protections.reason(&facts) {
            return Err(format!("it is protected now: {reason}"));
        }
        if self.tick.is_some_and(|tick| leave.tick != tick) && !leave.breached.contains(&case) {
            return Err("it is no longer in breach".to_owned());
        }
        Ok(())
    }

    fn rule_in<'l>(&self, leave: &'l Leave) -> Result<&'l Rule, String> {
        let rule = leave.rules.as_ref().and_then(|rules| rules.rule(&self.rule.name));
        rule.ok_or_else(|| "its rule is no longer watched with".to_owned())
    }

    /// Whether it is still right: all that, with identity, owner and `where`. `now` is the process as it is found.
    ///
    /// # Errors
    /// Why it is not.
    pub fn still_right(&self, case: u64, judged: &Process, mut now: Process, leave: &Leave) -> Result<(), String> {
        same(judged, &now)?;
        // What it is called was known; where it could not be read again at once, the same file under the same name is it.
        if now.app_unread() && now.path == judged.path && now.name == judged.name {
            now.names = Arc::clone(&judged.names);
        }
        // A rate needs two samples, and what is costly or counted over all is read with a sample: those of the tick stand.
        (now.cpu, now.waited, now.faults) = (judged.cpu, judged.waited, judged.faults);
        (now.disk_read, now.disk_write, now.files) = (judged.disk_read, judged.disk_write, judged.files);
        (now.memory_private, now.memory_proportional) = (judged.memory_private, judged.memory_proportional);
        (now.children, now.instances) = (judged.children, judged.instances);
        let facts = Facts::new(&now, &self.machine);
        if self.by_where && self.rule_in(leave)?.covering(&facts) != Truth::True {
            return Err("the rule no longer covers it".to_owned());
        }
        self.goes_on(case, &now, leave)
    }
}
