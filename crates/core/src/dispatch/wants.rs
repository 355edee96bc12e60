//! What has to be read for the rules.

use std::sync::Arc;

use crate::model::{Cost, Field, Needs};
use crate::rules::{Action, Rule, RuleSet};
use crate::subject::Judged;

/// What the rules have to have read.
#[derive(Debug, Clone)]
pub struct Wants {
    rules: Arc<RuleSet>,
}

impl Wants {
    /// Of these rules.
    pub fn of(rules: &Arc<RuleSet>) -> Wants {
        Wants { rules: Arc::clone(rules) }
    }

    /// What every sample reads of everybody: what the rules name, what a record says of a process, and what the choice of a
    /// lever and its effect rest on.
    pub fn of_everybody(&self) -> Needs {
        let needs = self.but_for_a_lowering();
        let lowers = |rule: &Rule| rule.ladder.iter().any(|step| matches!(step.action, Action::Lower { .. }));
        match self.rules.rules.iter().any(lowers) {
            true => needs.with(Cost::Stat).with(Cost::Cgroup).with(Cost::Machine),
            false => needs,
        }
    }

    /// What of that nothing rests on but a lowering: in which control group somebody is.
    pub fn for_acts(&self) -> Needs {
        self.of_everybody().only(Needs::NONE.with(Cost::Cgroup)).without(self.but_for_a_lowering())
    }

    fn but_for_a_lowering(&self) -> Needs {
        let needs = Needs::of(&self.rules.fields()).and(Needs::IDENTITY);
        let needs = match self.judge_by_cpu(Judged::Unit) || self.judge_by_cpu(Judged::Owner) {
            true => needs.with(Cost::Cgroup).with(Cost::Groups),
            false => needs,
        };
        // Whether what somebody is asked about is a unit of his own manager's.
        if self.rules.rules.iter().any(Rule::asks) { needs.with(Cost::Cgroup) } else { needs }
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

    /// Whether nothing goes by what others than a process itself are called or have used: then it may stay unknown for some ticks
    /// what somebody runs of whom nothing can be true, whoever it is.
    pub fn none_by_others(&self) -> bool {
        let rules = &self.rules.rules;
        let by_others = |field: &Field| field.info().cost == Cost::Family || *field == Field::MachineCpuUnseen;
        rules.iter().all(|rule| rule.judge == Judged::Process && !rule.fields().iter().any(by_others))
    }
}
