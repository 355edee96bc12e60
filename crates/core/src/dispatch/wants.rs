//! What has to be read for the rules: fresh what they name, and what is costly only where all else in a condition holds.

use std::collections::BTreeSet;
use std::sync::Arc;

use crate::condition::Truth;
use crate::facts::Facts;
use crate::model::{Cost, Field, Machine, Needs, Process, ProcessId};
use crate::rules::{Action, Rule, RuleSet};
use crate::subject::Judged;

/// What the rules have to have read.
#[derive(Debug, Clone)]
pub struct Wants {
    rules: Arc<RuleSet>,
    /// Of each rule, in the file's order.
    needs: Vec<Needs>,
    only: Option<BTreeSet<ProcessId>>,
}

impl Wants {
    /// Of these rules; if `only` is given, of these processes alone.
    pub fn of(rules: &Arc<RuleSet>, only: Option<BTreeSet<ProcessId>>) -> Wants {
        let needs = rules.rules.iter().map(|rule| Needs::of(&rule.fields())).collect();
        Wants { rules: Arc::clone(rules), needs, only }
    }

    /// What every sample reads of everybody: what the rules name, what a record says of a process, and what the choice of a
    /// lever and its effect rest on.
    pub fn of_everybody(&self) -> Needs {
        let needs = Needs::of(&self.rules.fields()).and(Needs::IDENTITY);
        let needs = match self.judge_by_cpu(Judged::Unit) || self.judge_by_cpu(Judged::Owner) {
            true => needs.with(Cost::Cgroup).with(Cost::Groups),
            false => needs,
        };
        let lowers = |rule: &Rule| rule.ladder.iter().any(|step| matches!(step.action, Action::Lower { .. }));
        match self.rules.rules.iter().any(lowers) {
            true => needs.with(Cost::Stat).with(Cost::Cgroup).with(Cost::Machine),
            false => needs,
        }
    }

    fn judge_by_cpu(&self, judged: Judged) -> bool {
        let by_cpu = |field: &Field| matches!(field, Field::Cpu | Field::CpuPart | Field::CpuTime);
        self.rules.rules.iter().any(|rule| rule.judge == judged && rule.fields().iter().any(by_cpu))
    }

    /// Whether somebody judges owners by their CPU: then it is heard who comes and goes between samples.
    pub fn passing(&self) -> bool {
        self.judge_by_cpu(Judged::Owner)
    }

    /// Whether somebody judges trees: then it is followed who descends from whom.
    pub fn trees(&self) -> bool {
        self.rules.rules.iter().any(|rule| rule.judge == Judged::Tree)
    }

    /// What has to be fresh of a process: what those rules read that may cover it.
    pub fn of_one(&self, process: &Process, machine: &Machine) -> Needs {
        if self.only.as_ref().is_some_and(|only| !only.contains(&process.id)) {
            return Needs::NONE;
        }
        let facts = Facts::lasting(process, machine);
        let covers = |rule: &Rule| rule.covering(&facts) != Truth::False;
        let named = self.rules.rules.iter().zip(&self.needs).filter(|(rule, _)| covers(rule));
        named.fold(Needs::NONE, |all, (_, needs)| all.and(*needs))
    }

    /// The rules that may want something costly.
    pub fn costly(&self) -> impl Iterator<Item = (&Rule, Needs)> {
        let costly = |needs: &Needs| needs.only(Needs::NONE.with(Cost::Rollup).with(Cost::Files));
        let each = self.rules.rules.iter().zip(&self.needs).map(move |(rule, needs)| (rule, costly(needs)));
        // Of a group's memory the judge says when it wants to know more.
        each.filter(|(rule, needs)| rule.judge == Judged::Process && *needs != Needs::NONE)
    }

    /// Whether a rule that wants something costly cannot decide on a process without it.
    pub fn hangs_on_it(rule: &Rule, process: &Process, machine: &Machine) -> bool {
        let facts = Facts::new(process, machine);
        let covered = rule.covering(&facts) == Truth::True;
        covered && rule.breach.evaluate(&facts) == Truth::Unknown
    }
}
