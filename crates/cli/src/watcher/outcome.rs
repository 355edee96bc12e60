//! What came of acts and undos, told to the judge, the effects and the person.

use sophron_core::judge::Case;
use sophron_core::rules::{Action, Rule};
use sophron_core::units::Value;
use sophron_linux::here;

use super::effect::Due;
use super::tick::clock_in;
use super::{Watcher, act, undo};
use crate::ui::style::Label;
use act::Outcome;

impl Watcher<'_> {
    pub(super) fn acted(&mut self, done: act::Done) {
        let id = done.subject.id;
        self.busy.remove(&id);
        if !matches!(done.outcome, Outcome::Lowered { .. }) {
            self.joining.remove(&id);
        }
        let case = self.judge.case(done.case).cloned();
        let word = done.outcome.word();
        self.note_outcome(Some(done.case), &done.subject, done.action.word(), word);
        let mut label = Label::Notice;
        let mut text = done.seen;
        let mut effect = false;
        let mut ended = false;
        let unrecorded = matches!(done.outcome, Outcome::Unrecorded);
        match done.outcome {
            Outcome::Lowered { nice, originals } => {
                for (case, nice) in self.joining.remove(&id).unwrap_or_default() {
                    self.effects.lower(id, case, nice, originals.clone());
                }
                let (case, before) = (done.case, done.subject.clone());
                let whole_session = originals.session.is_some();
                let over = self.snapshot.interval.unwrap_or(self.rules.every);
                self.effects_due.push(Due { case, before, whole_session, over, since: None });
                self.effects.lower(id, done.case, nice, originals);
                effect = true;
            }
            Outcome::Suspended { guard, until, holds_locks } => {
                self.effects.suspend(id, done.case, until);
                if holds_locks {
                    self.lock_holders.insert(id);
                }
                self.touched.insert(id);
                self.guards.insert(id, guard);
                effect = true;
                text = format!("until {}", clock_in(until.saturating_sub(here::monotonic())));
            }
            Outcome::Restarted => {
                self.ended_by_us.insert(id);
            }
            Outcome::Ended { by_force } => {
                self.ended_by_us.insert(id);
                ended = true;
                text = format!("{}{text}", if by_force { "by force, " } else { "" });
            }
            Outcome::StillThere | Outcome::Pending | Outcome::Refused | Outcome::Failed => {
                label = Label::Warning;
                text = format!("{}: {text}", done.action);
            }
            Outcome::Dropped | Outcome::Unrecorded => text = format!("{}: {text}", done.action),
        }
        if unrecorded {
            // It is tried again as soon as the trail can be written.
            self.judge.postponed(done.case);
        } else {
            self.judge.settled(done.case, effect);
        }
        if let Some(case) = &case {
            let rule = self.judge.rule_of(case);
            let next = if ended { String::new() } else { next_words(case, rule) };
            text = format!("{text}; {}{next}", reading_words(case, "was"));
        }
        // The word column is one word wide; the rest of a longer outcome is in the text.
        let word = match word {
            "still there" => "remains",
            longer => longer.split(' ').next().unwrap_or(longer),
        };
        self.tell(word, label, Some(done.case), done.subject.label(), text);
        self.close_what_waited();
    }

    pub(super) fn undone(&mut self, done: undo::Done) {
        let id = done.subject.id;
        self.busy.remove(&id);
        if done.resumed {
            self.effects.resumed(&id);
            self.touched.insert(id);
        }
        let verb = if done.resumed { "resume" } else { "restore" };
        self.note_outcome(done.case, &done.subject, verb, done.word);
        let mut text = done.seen;
        if let Some(case) = done.case.and_then(|case| self.judge.case(case)) {
            let next = next_words(case, self.judge.rule_of(case));
            text = if text.is_empty() { next.trim_start_matches("; ").to_owned() } else { format!("{text}{next}") };
        }
        self.tell(done.word, Label::Notice, done.case, done.subject.label(), text);
        self.close_what_waited();
    }

    /// Cases that closed while an act on one of their processes was under way.
    fn close_what_waited(&mut self) {
        let busy = &self.busy;
        let waits = |case: &Case| case.members.iter().chain([&case.subject.id]).any(|id| busy.contains(id));
        let (waiting, ready) = std::mem::take(&mut self.closing).into_iter().partition(|(case, _)| waits(case));
        self.closing = waiting;
        for (case, why) in ready {
            self.close(&case, why, None);
        }
    }
}

/// `memory.held is 812 MiB, limit 750 MiB`, for the lines that begin or close a case.
pub(super) fn field_words(case: &Case, verb: &str) -> String {
    let field = case.measure.as_ref().map(|measure| format!("{} ", measure.quantity)).unwrap_or_default();
    format!("{field}{}", reading_words(case, verb))
}

/// `was 812 MiB, limit 750 MiB`.
pub(super) fn reading_words(case: &Case, verb: &str) -> String {
    let Some(measure) = &case.measure else { return "in breach".to_owned() };
    let scaled = |value: &Option<Value>| value.as_ref().map_or("unknown".to_owned(), Value::scaled);
    let limit = measure.limit.as_ref().map(|limit| format!(", limit {}", limit.scaled())).unwrap_or_default();
    format!("{verb} {}{limit}", scaled(&measure.reading))
}

/// `; next: terminate 09:34:20`.
pub(super) fn next_words(case: &Case, rule: &Rule) -> String {
    match case.upcoming(rule) {
        // What is due at this very moment says so itself.
        Some((step, left)) if left.is_zero() && step.action == Action::Alert => String::new(),
        Some((step, left)) => format!("; next: {} {}", step.action.word(), clock_in(left)),
        None => "; next: nothing".to_owned(),
    }
}
