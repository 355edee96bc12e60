//! What the judge found, followed: handles, records, lines, and the undoing of what a case holds.

use sophron_core::audit::{ActionRecord, Kind};
use sophron_core::judge::{Case, Closing, Event};
use sophron_core::model::{Process, ProcessId, Snapshot};
use sophron_core::rules::Action;
use sophron_core::subject::Judged;
use sophron_linux::here;

use super::drafts::DraftExt;
use super::outcome::{field_words, next_words};
use super::{Fixed, Watcher, act};
use crate::ui::style::Label;

impl Watcher<'_> {
    pub(super) fn follow(&mut self, event: Event, snapshot: &Snapshot) {
        match event {
            Event::Building { rule, members, .. } => members.into_iter().for_each(|id| self.fix(rule, id)),
            Event::Abandoned { rule, members, .. } => members.iter().for_each(|id| self.unfix(rule, id)),
            Event::Opened { case } => {
                let Some(case) = self.judge.case(case).cloned() else { return };
                let rule = self.judge.rule_of(&case).clone();
                let word = if case.returned { "came back" } else { "opened" };
                let mut draft = self.drafter.opening(&case, &rule, &self.rules.digest);
                if let Some(evidence) = draft.evidence.as_mut() {
                    evidence.disk = evidence.disk.or_else(|| self.disk_since_it_builds(&case.subject.id));
                }
                self.note_of_rule(case.rule, draft.came_of_it(word, rule.note.clone().unwrap_or_default()));
                let note = rule.note.as_ref().map(|note| format!("\n{note}")).unwrap_or_default();
                let next = next_words(&case, &rule);
                let back = if case.returned { "back under another PID; " } else { "" };
                let text = format!("{back}{}: {}{next}{note}", rule.name, field_words(&case, "is"));
                // Where the ladder begins with an alert, this line is it.
                let alerts = rule.ladder.first().is_some_and(|step| step.action == Action::Alert && step.at.is_zero());
                self.tell(
                    if alerts { "alert" } else { "breach" },
                    rule.severity.into(),
                    Some(case.number),
                    case.label(),
                    text,
                );
            }
            Event::Easing { case } => {
                let Some(case) = self.judge.case(case).cloned() else { return };
                let wait = sophron_core::units::scaled_duration(case.wait);
                let text = format!("{}; calm if that lasts {wait}", field_words(&case, "is"));
                self.tell("easing", Label::Faint, Some(case.number), case.label(), text);
            }
            Event::BreachedAgain { case } => {
                let Some(case) = self.judge.case(case).cloned() else { return };
                let next = next_words(&case, self.judge.rule_of(&case));
                let text = format!("again: {}{next}", field_words(&case, "is"));
                self.tell("breach", Label::Warning, Some(case.number), case.label(), text);
            }
            Event::Remind { case } => {
                let Some(case) = self.judge.case(case).cloned() else { return };
                let rule = self.judge.rule_of(&case).clone();
                let text = format!("{}: {}{}", rule.name, field_words(&case, "still is"), next_words(&case, &rule));
                let draft = self.drafter.with_evidence(Kind::Alert, &case, &rule).doing(ActionRecord::word("alert"));
                self.recorder.note(draft.came_of_it("reminder", text.clone()));
                self.tell("reminder", rule.severity.into(), Some(case.number), case.label(), text);
            }
            Event::HoursEnded { case } => {
                let Some(case) = self.judge.case(case).cloned() else { return };
                let text = "its hours are over: what is in force is undone".to_owned();
                self.tell("hours", Label::Notice, Some(case.number), case.label(), text);
                for id in self.effects.of_case(case.number) {
                    self.let_go(id, case.number);
                }
            }
            Event::Closed { case, why } if case.pending > 0 => self.closing.push((*case, why)),
            Event::Closed { case, why } => self.close(&case, why, Some(snapshot)),
            Event::Due { .. } => {}
        }
    }

    /// What a process has read and written a second since its breach began to build up: a sign of honest work, also where
    /// no rule asks for it.
    fn disk_since_it_builds(&self, id: &ProcessId) -> Option<[f64; 2]> {
        let (since, before) = self.fixed.get(id)?.disk?;
        let passed = here::monotonic().saturating_sub(since).as_secs_f64();
        let now = here::disk_counters(id.pid).filter(|_| passed > 0.0)?;
        let rate = |now: u64, before: u64| (now.saturating_sub(before) as f64 / passed).round();
        Some([rate(now.0, before.0), rate(now.1, before.1)])
    }

    /// The process is fixed by a handle as soon as a breach begins to build up.
    fn fix(&mut self, rule: usize, id: ProcessId) {
        if let Some(fixed) = self.fixed.get_mut(&id) {
            fixed.rules.insert(rule);
        } else if let Ok(handle) = act::fix_by_handle(&id) {
            let disk = here::disk_counters(id.pid).map(|counters| (here::monotonic(), counters));
            self.fixed.insert(id, Fixed { handle, rules: [rule].into(), disk });
        }
    }

    fn unfix(&mut self, rule: usize, id: &ProcessId) {
        if let Some(fixed) = self.fixed.get_mut(id) {
            fixed.rules.remove(&rule);
            if fixed.rules.is_empty() {
                self.fixed.remove(id);
            }
        }
    }

    fn let_go(&mut self, id: ProcessId, case: u64) {
        for undo in self.effects.let_go(&id, case) {
            self.begin_undo(id, undo, Some(case));
        }
    }

    /// Of a group whoever is no longer a member is undone, and that is recorded.
    pub(super) fn let_go_of_those_that_left(&mut self, snapshot: &Snapshot) {
        let groups = self.judge.cases().filter(|case| case.key.judged() != Judged::Process && case.has_effect);
        let groups: Vec<Case> = groups.cloned().collect();
        for case in groups {
            let left = self.effects.of_case(case.number).into_iter().filter(|id| !case.members.contains(id));
            for id in left.collect::<Vec<_>>() {
                let Some(process) = snapshot.process(id.pid).filter(|process| process.id == id && !process.has_ended())
                else {
                    self.forget(id, &case);
                    continue;
                };
                let rule = self.judge.rule_of(&case).clone();
                let mut draft = self.drafter.of_case(Kind::Left, &case, &rule);
                draft.subject = Some(process.into());
                let text = format!("no longer of {}: what is in force is undone", case.label());
                self.recorder.note(draft.came_of_it("left", text.clone()));
                self.tell("left", Label::Notice, Some(case.number), process.label(), text);
                self.let_go(id, case.number);
            }
        }
    }

    /// It ended, and with it whatever was in force on it; what outlives it is taken back.
    fn forget(&mut self, id: ProcessId, case: &Case) {
        let rule = self.judge.rule_of(case);
        if let Some(undo) = self.effects.forget(&id) {
            let draft = self.drafter.of_case(Kind::Intent, case, rule);
            self.take_back(Process { id, ..case.subject.clone() }, draft, None, undo);
        }
        if let Some(guard) = self.guards.remove(&id) {
            guard.release();
        }
    }

    /// A case is over: what it holds is undone, unless the process took it along.
    pub(super) fn close(&mut self, case: &Case, why: Closing, snapshot: Option<&Snapshot>) {
        let rule = self.judge.rule_of(case).clone();
        self.closing_case = Some((case.number, rule.name.clone()));
        // A process that one sample missed has not ended while its handle says that it lives: what is in force on it
        // is undone like on any other that is no longer judged.
        let lives = |watcher: &Self, id: &ProcessId| {
            let fixed = watcher.fixed.get(id).is_some_and(|fixed| !fixed.handle.has_ended());
            let seen = snapshot.and_then(|snapshot| snapshot.process(id.pid)).is_some_and(|process| process.id == *id);
            fixed || (seen && case.key.judged() != Judged::Process)
        };
        let group = case.key.judged() != Judged::Process;
        let by_us = case.members.iter().filter(|id| self.ended_by_us.remove(*id)).count() > 0;
        let (kind, word, text) = match why {
            Closing::Calm => (Kind::Calm, "calm", format!("{}; case closed", field_words(case, "is"))),
            Closing::Left => (Kind::Left, "left", "the rule no longer covers it; case closed".to_owned()),
            Closing::Ended if !group && lives(self, &case.subject.id) => {
                (Kind::Left, "left", "it is no longer seen; case closed".to_owned())
            }
            Closing::Ended if by_us => (Kind::Ended, "", "ended by us".to_owned()),
            Closing::Ended if group => (Kind::Ended, "gone", "none of its processes is left; case closed".to_owned()),
            Closing::Ended => (Kind::Ended, "gone", "it ended by itself; case closed".to_owned()),
        };
        let draft = self.drafter.with_evidence(kind, case, &rule).came_of_it(kind.word().as_str(), text.clone());
        if kind == Kind::Calm {
            self.note_of_rule(case.rule, draft);
        } else {
            self.recorder.note(draft);
        }
        if !word.is_empty() {
            self.tell(word, Label::Notice, Some(case.number), case.label(), text);
        }
        let mut held = self.effects.of_case(case.number);
        if !group {
            held.insert(case.subject.id);
        }
        for id in held {
            if why == Closing::Ended && !lives(self, &id) {
                self.forget(id, case);
            } else {
                self.let_go(id, case.number);
            }
        }
        case.members.iter().for_each(|id| self.unfix(case.rule, id));
        self.closing_case = None;
    }
}
