//! Decisions carried out: what becomes of each due step, told or set going.

use std::sync::Arc;

use super::commission::StandsFor;
use super::{Call, Check, Command, Commission, Dispatcher};
use crate::act::{Act, Order, Originals, Outcome, Whole};
use crate::decide::{Beyond, Decision, Verdict};
use crate::facts::Facts;
use crate::happening::{Announced, CarriedOut, Grounds, Happening, News, Subject, What};
use crate::judge::Case;
use crate::model::{Process, ProcessId, Snapshot};
use crate::rules::{Action, Rule};
use crate::sorted::SortedMap;
use crate::subject::SubjectKey;

/// Most children that a record names.
const MOST_CHILDREN: usize = 32;

impl Dispatcher {
    pub(super) fn carry_out(&mut self, decision: &Decision, snapshot: &Snapshot) {
        let rule = self.judge.case(decision.case).and_then(|case| self.judge.rule(&case.rule));
        let Some(rule) = rule.map(Arc::clone) else { return };
        // First, since by then it is known when it is tried again.
        let hindrance = decision.verdict.hindrance();
        if hindrance.as_ref().is_some_and(|why| !self.hinder(decision, why)) {
            return;
        }
        let Some(case) = self.judge.case(decision.case) else { return };
        let at = snapshot.moment.wall;
        let what = What::Decided {
            action: decision.action,
            step: decision.step,
            verdict: decision.verdict.clone(),
            grounds: Grounds::of(case, &rule),
            at_opening: case.ladder.clock.is_zero(),
        };
        let subject = decision.target.as_ref().map_or_else(|| Subject::of(case), |one| Subject::one_of(case, one));
        let next = self.next_of(case, &rule, at);
        let happening = Happening::of_case(at, case, what).on(subject).followed_by(next);
        match (&decision.verdict, &decision.target) {
            _ if hindrance.is_some() => self.tell(happening),
            // What waits has been told by the trail's own line. The step stays due.
            // He is asked for all of the step at once; it stays due, and waits.
            (Verdict::Waits(_) | Verdict::Ask(..), _) => self.judge.postponed(decision.case),
            (Verdict::Act(Action::Run), _) => {
                self.tell(happening);
                self.call(decision, &rule, snapshot);
            }
            (Verdict::Act(action), Some(target)) => {
                if let Some(Beyond { with, first: true }) = decision.beyond_share {
                    let news = Happening::news(at, News::BeyondShare(target.owner.clone(), self.rules.cap, with));
                    self.tell(news);
                }
                self.set_going(decision, *action, target, happening, snapshot);
            }
            (verdict, _) => {
                let joins = match verdict {
                    Verdict::Overtaken { by } => self.join_a_lowering(decision, *by),
                    _ => false,
                };
                self.tell(happening);
                self.judge.settled(decision.case, decision.target.as_ref().map(|target| target.id), joins);
            }
        }
    }

    /// Something is in the way of a step, which stays due; whether that is news.
    fn hinder(&mut self, decision: &Decision, why: &str) -> bool {
        self.judge.hindered(decision.case);
        let on = decision.target.as_ref().map(|target| target.id);
        self.is_news((decision.case, decision.step, on), why)
    }

    /// A lowering overtaken by a greater one is part of it: this case holds it as well, at its own niceness.
    fn join_a_lowering(&mut self, decision: &Decision, by: u64) -> bool {
        let (Action::Lower { nice }, Some(target)) = (decision.action, &decision.target) else { return false };
        let winner = self.judge.case(by).and_then(|winner| {
            let step = winner.ladder.next.checked_sub(1)?;
            Some(self.judge.rule(&winner.rule)?.ladder.get(step)?.action)
        });
        let joins = matches!(winner, Some(Action::Lower { .. }));
        if joins {
            self.joining.entry(target.id).or_default().push((decision.case, nice));
        }
        joins
    }

    /// Hands an act out; until its outcome is in, no other is on anybody that it is done to.
    fn set_going(
        &mut self,
        decision: &Decision,
        action: Action,
        target: &Process,
        decided: Happening,
        snapshot: &Snapshot,
    ) {
        let Some(act) = Act::of_step(action) else { return };
        let at = snapshot.moment.wall;
        if let (Act::Lower { nice, .. }, Some(already)) = (&act, self.effects.lowered_to(&target.id))
            && already >= *nice
            && !self.busy.contains(&target.id)
        {
            self.effects.lower(target.id, decision.case, *nice, Originals::default());
            self.tell(decided);
            self.tell_what_came(at, decision, &act, target, Outcome::Joined { nice: already });
            self.judge.settled(decision.case, Some(target.id), true);
            return;
        }
        let Some(commission) = self.commission_of(decision, act, target, snapshot) else { return };
        if commission.touches().iter().any(|id| self.busy.contains(id)) {
            // Something is being taken back from it, or done to one of its tree: the step stays due.
            self.judge.postponed(decision.case);
            return;
        }
        self.tell(decided);
        self.commission(commission);
    }

    fn tell_what_came(
        &mut self,
        at: jiff::Timestamp,
        decision: &Decision,
        act: &Act,
        target: &Process,
        outcome: Outcome,
    ) {
        let Some(case) = self.judge.case(decision.case) else { return };
        let what = What::Came(CarriedOut {
            step: Some(decision.step),
            measure: case.measure.clone(),
            assumed: self.settings.assumed,
            ..CarriedOut::of(act.clone(), outcome)
        });
        let subject = Subject::one_of(case, target);
        let happening = Happening::of_case(at, case, what).on(subject);
        self.tell(happening);
    }

    pub(super) fn commission_of(
        &self,
        decision: &Decision,
        act: Act,
        target: &Process,
        snapshot: &Snapshot,
    ) -> Option<Commission> {
        let case = self.judge.case(decision.case)?;
        let rule = self.judge.rule(&case.rule)?;
        let is_root = matches!(&case.key, SubjectKey::Tree(root) if *root == target.id);
        let tree = is_root && matches!(act, Act::Terminate { .. });
        let meant = |process: &Process| case.members.contains(&process.id);
        let order = Order {
            whole: tree.then(|| self.whole_of(case, snapshot)),
            ..Order::among(&snapshot.processes, target, act.clone(), meant)
        };
        let announced = Announced {
            step: Some(decision.step),
            grounds: Some(Grounds::of(case, rule)),
            counts_with: decision.beyond_share.map(|beyond| beyond.with).filter(|with| *with != decision.case),
            tree,
            children: children(snapshot, target.id.pid),
            ..Announced::default()
        };
        let what = What::Announced(Box::new(act), Box::new(announced));
        let check = Check {
            rule: Arc::clone(rule),
            // Of a tree all descendants are members, whatever they match; of a group its members.
            by_where: !matches!(&case.key, SubjectKey::Tree(root) if *root != target.id),
            machine: snapshot.machine.clone(),
            step: Some((decision.step, decision.action)),
            tick: Some(self.ticks),
            wholly_of: None,
        };
        let at = snapshot.moment.wall;
        Some(Commission {
            order,
            announced: Happening::of_case(at, case, what).on(Subject::one_of(case, target)),
            check: Some(check),
            remark: None,
            stands_for: StandsFor::AStep,
        })
    }

    /// A tree as it was judged, and whom its ending leaves alone, with all that descends from them.
    fn whole_of(&self, case: &Case, snapshot: &Snapshot) -> Whole {
        let why = |process: &Process| {
            let reason = self.protections.reason(&Facts::new(process, &snapshot.machine));
            let back = self.stands_back(case.number, &process.id).then(|| "rules stand back from it".to_owned());
            Some((process.id.pid, reason.or(back)?))
        };
        let own = self.protections.own.iter().map(|pid| (*pid, "Sophron itself".to_owned()));
        let spared: SortedMap<u32, String> = snapshot.processes.iter().filter_map(why).chain(own).collect();
        let member = |id: &ProcessId| {
            let process = snapshot.find(id)?;
            Some((*id, process.comes_from()))
        };
        Whole { spared, members: case.members.iter().filter_map(member).collect() }
    }

    /// Has the rule's program run, one at a time.
    fn call(&mut self, decision: &Decision, rule: &Arc<Rule>, snapshot: &Snapshot) {
        let Some(case) = self.judge.case(decision.case) else { return };
        let command = rule.ladder.get(decision.step).map(|step| Arc::clone(&step.run)).unwrap_or_default();
        let (step, grounds) = (Some(decision.step), Some(Grounds::of(case, rule)));
        let announced = Box::new(Announced { step, grounds, ..Announced::default() });
        let announced = Happening::of_case(snapshot.moment.wall, case, What::Calls(announced));
        let call = Call { case: decision.case, rule: rule.name.clone(), step: decision.step, command, announced };
        if self.running.insert(rule.name.clone()) {
            self.record_its_opening(decision.case);
            self.out.push(Command::Run(Box::new(call)));
            return;
        }
        let why = "its program is still running: one at a time";
        if self.hinder(decision, why) {
            self.tell_of_call(snapshot.moment, &call, Outcome::Refused(why.to_owned()));
        }
    }
}

/// The children of a process, named as everywhere.
pub fn children(snapshot: &Snapshot, pid: u32) -> Vec<String> {
    let is_child = |process: &&Process| process.parent == pid && process.id.pid != pid && !process.has_ended();
    snapshot.processes.iter().filter(is_child).take(MOST_CHILDREN).map(Process::label).collect()
}
