//! Decisions carried out: what becomes of each due step, told, recorded or set going.

use std::collections::BTreeMap;
use std::sync::Arc;

use sophron_core::audit::{ActionRecord, Draft, Kind, SubjectRecord};
use sophron_core::decide::{Decision, Verdict};
use sophron_core::judge::Case;
use sophron_core::model::{Facts, Process, ProcessId, Snapshot};
use sophron_core::rules::Action;
use sophron_core::subject::SubjectKey;

use sophron_linux::handle::Handle;

use super::drafts::{self, DraftExt};
use super::outcome::{field_words, next_words, reading_words};
use super::workers::Report;
use super::{Wake, Watcher, act};
use crate::lowering::Reach;
use crate::ui::style::Label;
use crate::ui::when;

impl Watcher<'_> {
    pub(super) fn carry_out(&mut self, decision: &Decision, snapshot: &Snapshot) {
        let Some(case) = self.judge.case(decision.case).cloned() else { return };
        let rule = self.judge.rule_of(&case).clone();
        let record = |watcher: &Self, kind| {
            let mut draft = watcher.drafter.with_evidence(kind, &case, &rule);
            if let Some(subject) = draft.subject.as_mut() {
                *subject = SubjectRecord { of: subject.of.take(), ..SubjectRecord::from(&decision.subject) };
            }
            draft.doing(ActionRecord::step(decision.action, decision.step))
        };
        let action = decision.action;
        let next = next_words(&case, &rule);
        let (kind, word, label, outcome, text) = match &decision.verdict {
            Verdict::Act(action) => {
                let intent = record(self, Kind::Intent);
                match action {
                    Action::Run => self.run_program(&case, &rule, decision.step, intent),
                    action => self.set_going(&case, &decision.subject, *action, intent, snapshot),
                }
                return;
            }
            Verdict::Waits(_) => {
                // The trail's own line has said why.
                self.judge.postponed(case.number);
                return;
            }
            Verdict::Alert => (
                Kind::Alert,
                "alert",
                rule.severity.into(),
                "shown",
                format!("{}: {}{next}", rule.name, field_words(&case, "is")),
            ),
            Verdict::Shadow(_) => (
                Kind::Shadow,
                "shadow",
                Label::Notice,
                "would",
                format!("would {action}; {}{next}", reading_words(&case, "is")),
            ),
            Verdict::Spared(why) => (
                Kind::Spared,
                "spared",
                Label::Notice,
                "spared",
                format!("would {action}, but it is protected: {why}{next}"),
            ),
            Verdict::OverBudget(action) => (
                Kind::BudgetSpent,
                "budget",
                Label::Critical,
                "budget spent",
                format!("would {action}, but its budget is spent: people are told, and nothing is done{next}"),
            ),
            Verdict::Capped(action) => (
                Kind::Capped,
                "capped",
                Label::Critical,
                "capped",
                format!(
                    "would {action}, but all rules together have acted as often as they may in an hour ({} acts, {} of them terminations){next}",
                    self.rules.cap.acts, self.rules.cap.terminations
                ),
            ),
            Verdict::Overtaken { by } => (
                Kind::Overtaken,
                "overtaken",
                Label::Faint,
                "overtaken",
                format!("{action}: case {by} takes a stronger step{next}"),
            ),
            Verdict::StandingBack { until } => {
                let left = until.saturating_sub(snapshot.moment.monotonic);
                let clock = when::clock_after(snapshot.moment.wall, left);
                (
                    Kind::StoodBack,
                    "back",
                    Label::Notice,
                    "stood back",
                    format!("would {action}, but stands back until {clock}{next}"),
                )
            }
        };
        self.recorder.note(record(self, kind).came_of_it(outcome, text.clone()));
        if kind == Kind::Alert && case.clock.is_zero() {
            // The line that says the case is open has alerted already.
            self.judge.settled(case.number, false);
            return;
        }
        let who = if decision.action.is_act() { decision.subject.label() } else { case.label() };
        self.tell(word, label, Some(case.number), who, text);
        let joins = self.join_a_lowering(&case, decision);
        self.judge.settled(case.number, joins);
    }

    /// A lowering overtaken by a greater one is part of it: this case holds it as well, at its own niceness.
    fn join_a_lowering(&mut self, case: &Case, decision: &Decision) -> bool {
        let (Verdict::Overtaken { by }, Action::Lower { nice }) = (&decision.verdict, decision.action) else {
            return false;
        };
        let winner = self.judge.case(*by).and_then(|winner| {
            let step = winner.next.checked_sub(1)?;
            Some(self.judge.rule_of(winner).ladder.get(step)?.action)
        });
        let joins = matches!(winner, Some(Action::Lower { .. }));
        if joins {
            self.joining.entry(decision.subject.id).or_default().push((case.number, nice));
        }
        joins
    }

    /// Starts an act on a thread of its own; until its outcome is in, no other step is taken on that process.
    fn set_going(&mut self, case: &Case, subject: &Process, action: Action, mut intent: Draft, snapshot: &Snapshot) {
        if let Some(record) = intent.subject.as_mut() {
            record.children = drafts::children(snapshot, subject.id.pid);
        }
        if !self.recorder.is_sound() {
            // The trail's own line has said why. The step stays due.
            self.judge.postponed(case.number);
            return;
        }
        let id = subject.id;
        if let (Action::Lower { nice }, Some(already)) = (action, self.effects.lowered_to(&id))
            && already >= nice
        {
            self.effects.lower(id, case.number, nice, sophron_core::effects::Originals::default());
            let seen = format!("nice {already} already, for another case");
            self.recorder.note(intent.as_kind(Kind::Outcome).came_of_it("lowered", seen.clone()));
            self.tell("lowered", Label::Notice, Some(case.number), subject.label(), seen);
            self.judge.settled(case.number, true);
            return;
        }
        let handle = match self
            .fixed
            .get(&id)
            .map(|fixed| Arc::clone(&fixed.handle))
            .map_or_else(|| act::fix_by_handle(&id), Ok)
        {
            Ok(handle) => handle,
            Err(why) => {
                self.recorder.note(intent.as_kind(Kind::Refused).came_of_it("refused", why.clone()));
                self.tell("refused", Label::Warning, Some(case.number), subject.label(), why);
                self.judge.settled(case.number, false);
                return;
            }
        };
        let meant = |process: &Process| case.members.contains(&process.id);
        let mates = match action {
            Action::Restart => {
                snapshot.processes.iter().filter(|other| other.group == subject.group).cloned().collect()
            }
            _ => Vec::new(),
        };
        let reach = match action {
            Action::Lower { .. } => Reach::of(snapshot, subject, self.direct.clone(), meant),
            _ => Reach::none(self.direct.clone()),
        };
        let tree =
            matches!(&case.key, SubjectKey::Tree(root) if *root == id && matches!(action, Action::Terminate { .. }));
        // Of a tree all descendants are members, whatever they match; of a group its members.
        let by_where = !matches!(&case.key, SubjectKey::Tree(root) if *root != id);
        if let Some(action) = intent.action.as_mut().filter(|_| tree) {
            action.tree = true;
        }
        let request = act::Request {
            case: case.number,
            rules: Arc::clone(&self.rules),
            rule: case.rule,
            action,
            subject: subject.clone(),
            tree: tree
                .then(|| act::TreeMeant { spared: self.spared_in(snapshot), members: self.members_of(case, snapshot) }),
            mates,
            by_where,
            machine: snapshot.machine.clone(),
            protections: self.protections.clone(),
            handle,
            reach,
            tick: self.ticks,
            verdicts: Arc::clone(&self.verdicts),
            intent,
        };
        self.busy.insert(id);
        let recorder = self.recorder.clone();
        let unfinished = act::unfinished(&request, recorder.clone());
        let report = Report::new(self.wake.clone(), move || Wake::Acted(Box::new(unfinished())));
        self.acts.give(move || report.tell(Wake::Acted(Box::new(act::perform(request, &recorder)))));
    }

    /// Whom the ending of a tree leaves alone, with all that descends from them.
    fn spared_in(&self, snapshot: &Snapshot) -> BTreeMap<u32, String> {
        let why = |process: &Process| {
            let reason = self.protections.reason(&Facts::new(process, &snapshot.machine));
            reason.or_else(|| self.standing_back.get(&process.id).map(|_| "rules stand back from it".to_owned()))
        };
        let protected = snapshot.processes.iter().filter_map(|process| Some((process.id.pid, why(process)?)));
        protected.chain(self.protections.own.iter().map(|pid| (*pid, "Sophron itself".to_owned()))).collect()
    }

    /// All that are of a tree, as far as they can be had, each with what it descends from.
    fn members_of(&self, case: &Case, snapshot: &Snapshot) -> Vec<(Arc<Handle>, u32)> {
        let member = |id: &ProcessId| {
            let process = snapshot.process(id.pid).filter(|process| process.id == *id)?;
            Some((self.handle_of(id)?, process.comes_from()))
        };
        case.members.iter().filter_map(member).collect()
    }
}
