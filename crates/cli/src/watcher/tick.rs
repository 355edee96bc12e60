//! One tick: sample, judge, decide, and set going what follows.

use std::sync::{Arc, PoisonError};
use std::time::Duration;

use sophron_core::audit::{ActionRecord, Kind};
use sophron_core::condition::Truth;
use sophron_core::decide::{self, Circumstances, Decision, Verdict};
use sophron_core::judge::{Case, Closing, Event, Tick};
use sophron_core::model::{Cost, Facts, Field, Needs, Process, ProcessId, Snapshot, State};
use sophron_core::rules::{Action, Rule};
use sophron_linux::{SampleError, here, jobs};

use super::act;
use super::drafts::DraftExt;
use super::outcome::{field_words, next_words, reading_words};
use super::{Fixed, STAND_BACK, Wake, Watcher};
use crate::lowering::Reach;
use crate::ui::style::Label;
use crate::ui::when;

/// How long a costly file is waited for; what takes longer is unknown.
const COSTLY_WAIT: Duration = Duration::from_millis(200);

impl Watcher<'_> {
    pub(super) fn tick(&mut self) {
        let mut snapshot = std::mem::take(&mut self.snapshot);
        match self.sample(&mut snapshot) {
            Ok(()) => self.judge_and_act(&snapshot),
            Err(error) => {
                let why = super::recorder::chain(&error);
                self.recorder.note(self.drafter.plain(Kind::Unreadable).came_of_it("no sample", why.clone()));
                self.say("blind", Label::Critical, why);
            }
        }
        self.snapshot = snapshot;
    }

    /// Samples: fresh what the rules name, and what is costly only where all else in the condition holds.
    fn sample(&mut self, snapshot: &mut Snapshot) -> Result<(), SampleError> {
        let (rules, needs, only) = (&self.rules.rules, &self.needs, self.only.as_ref());
        let machine = snapshot.machine.clone();
        let named = |process: &Process| {
            if only.is_some_and(|only| !only.contains(&process.id)) {
                return Needs::NONE;
            }
            let facts = Facts::lasting(process, &machine);
            let covers =
                |rule: &Rule| rule.covers.as_ref().is_none_or(|covers| covers.evaluate(&facts) != Truth::False);
            let named = rules.iter().zip(needs).filter(|(rule, _)| covers(rule));
            named.fold(Needs::NONE, |all, (_, needs)| all.and(*needs))
        };
        self.sampler.sample(snapshot, named)?;
        for (rule, needs) in rules.iter().zip(needs) {
            let costly = needs.only(Needs::NONE.with(Cost::Rollup).with(Cost::Files));
            if costly == Needs::NONE {
                continue;
            }
            for process in &mut snapshot.processes {
                let facts = Facts::new(process, &snapshot.machine);
                let covered = rule.covers.as_ref().is_none_or(|covers| covers.evaluate(&facts) == Truth::True);
                if covered && rule.breach.evaluate(&facts) == Truth::Unknown {
                    self.sampler.read_costly(process, costly, COSTLY_WAIT);
                }
            }
        }
        Ok(())
    }

    fn judge_and_act(&mut self, snapshot: &Snapshot) {
        self.ticks += 1;
        self.note_clock_step(snapshot);
        self.protections.refresh_ancestors(snapshot, std::process::id());
        self.protections.own = act::own_processes(self.guards.values().map(sophron_linux::guard::Guard::pid));
        self.look_after_the_suspended(snapshot);
        let now = snapshot.moment.monotonic;
        self.stand_back_from_hands(snapshot);
        self.standing_back.retain(|_, until| *until > now);
        let busy = &self.busy;
        self.joining.retain(|id, _| busy.contains(id));

        self.touched.extend(self.effects.suspended().map(|(id, _)| *id));
        let tick = Tick { snapshot, suspended: &self.touched, busy: &self.busy, only: self.only.as_ref() };
        let events = self.judge.tick(&tick);
        self.touched = self.effects.suspended().map(|(id, _)| *id).collect();
        self.publish_verdicts();
        let circumstances = Circumstances {
            snapshot,
            protections: &self.protections,
            standing_back: &self.standing_back,
            all_in_shadow: self.shadow,
        };
        let decisions = decide::decide(&events, &self.judge, &circumstances);
        for event in events {
            self.follow(event);
        }
        for decision in decisions {
            self.carry_out(&decision, snapshot);
        }
        self.say_effects(snapshot);
        self.say_what_is_unreadable();
    }

    /// The wall clock set by more than a second is recorded: times in the trail jump there.
    fn note_clock_step(&mut self, snapshot: &Snapshot) {
        let now = snapshot.moment;
        if let Some(last) = self.last.replace(now) {
            let passed = now.boottime.saturating_sub(last.boottime).as_secs_f64();
            let step = now.wall.duration_since(last.wall).as_secs_f64() - passed;
            if step.abs() > 1.0 {
                let seen = format!("the wall clock was set by {step:+.1} s");
                self.recorder.note(self.drafter.plain(Kind::ClockStepped).came_of_it("stepped", seen.clone()));
                self.say("clock", Label::Notice, seen);
            }
        }
    }

    /// After a hand has acted on a process, rules stand back from it.
    fn stand_back_from_hands(&mut self, snapshot: &Snapshot) {
        for record in self.hands.news() {
            let Some(id) = record.identity().filter(|id| id.boot == self.drafter.boot) else { continue };
            let Some(process) = snapshot.process(id.pid).filter(|process| process.id == id) else { continue };
            if self.standing_back.insert(id, snapshot.moment.monotonic + STAND_BACK).is_none() {
                let verb = record.action.as_ref().map_or("act on", |action| action.verb.as_str()).to_owned();
                let seen = format!(
                    "{} did `{verb}` by hand: rules stand back from it until {}",
                    record.who.user,
                    when::clock_after(snapshot.moment.wall, STAND_BACK)
                );
                let mut draft = self.drafter.plain(Kind::StoodBack).doing(ActionRecord::word(&verb));
                draft.subject = Some(sophron_core::audit::SubjectRecord::from(process));
                self.recorder.note(draft.came_of_it("stood back", seen.clone()));
                self.tell("hands", Label::Notice, None, process, seen);
            }
        }
    }

    /// Somebody who resumes what we suspended knows something that we do not: rules stand back from it. A guard that
    /// is gone has resumed it for us.
    fn look_after_the_suspended(&mut self, snapshot: &Snapshot) {
        let held: Vec<ProcessId> =
            self.effects.suspended().map(|(id, _)| *id).filter(|id| !self.busy.contains(id)).collect();
        for id in held {
            let Some(process) = snapshot.process(id.pid).filter(|process| process.id == id) else { continue };
            let still =
                matches!(process.state, State::Suspended | State::Traced | State::Waiting) || process.has_ended();
            let on_watch = self.guards.get_mut(&id).is_some_and(sophron_linux::guard::Guard::is_on_watch);
            if on_watch && still {
                if let Some(waiter) = jobs::waiting_for(&[id.pid]).first() {
                    let seen = format!("process {waiter} waits for a file lock that it holds: resumed at once");
                    self.tell("waited for", Label::Warning, None, process, seen);
                    self.effects.end_suspension(&id);
                }
                continue;
            }
            let cases = self.effects.resumed(&id);
            if let Some(guard) = self.guards.remove(&id) {
                guard.release();
            }
            let case = cases.first().copied();
            let mut draft = self.drafter.plain(Kind::StoodBack).doing(ActionRecord::word("resume"));
            draft.case = case;
            draft.subject = Some(process.into());
            if on_watch {
                let until = snapshot.moment.monotonic + STAND_BACK;
                self.standing_back.insert(id, until);
                let seen = format!(
                    "somebody else has resumed it: rules stand back from it until {}",
                    when::clock_after(snapshot.moment.wall, STAND_BACK)
                );
                self.recorder.note(draft.came_of_it("stood back", seen.clone()));
                self.tell("resumed", Label::Notice, case, process, seen);
            } else {
                let seen = "its guard was ended, and resumed it".to_owned();
                self.recorder.note(draft.as_kind(Kind::Restored).came_of_it("resumed", seen.clone()));
                self.tell("resumed", Label::Warning, case, process, seen);
            }
        }
    }

    fn publish_verdicts(&self) {
        let mut verdicts = self.verdicts.lock().unwrap_or_else(PoisonError::into_inner);
        verdicts.tick = self.ticks;
        verdicts.breached = self.judge.cases().filter(|case| case.breached).map(|case| case.number).collect();
    }

    fn follow(&mut self, event: Event) {
        match event {
            Event::Building { rule, subject } => self.fix(rule, subject),
            Event::Abandoned { rule, subject } => self.unfix(rule, subject),
            Event::Opened { case } => {
                let Some(case) = self.judge.case(case).cloned() else { return };
                let rule = self.judge.rule_of(&case).clone();
                self.recorder.note(
                    self.drafter
                        .with_evidence(Kind::Breach, &case, &rule)
                        .came_of_it("opened", rule.note.clone().unwrap_or_default()),
                );
                let note = rule.note.as_ref().map(|note| format!("\n{note}")).unwrap_or_default();
                let next = next_words(&case, &rule);
                let text = format!("{}: {}{next}{note}", rule.name, field_words(&case, "is"));
                // Where the ladder begins with an alert, this line is it.
                let alerts = rule.ladder.first().is_some_and(|step| step.action == Action::Alert && step.at.is_zero());
                self.tell(
                    if alerts { "alert" } else { "breach" },
                    rule.severity.into(),
                    Some(case.number),
                    &case.subject,
                    text,
                );
            }
            Event::Easing { case } => {
                let Some(case) = self.judge.case(case).cloned() else { return };
                let wait = sophron_core::units::scaled_duration(case.wait);
                let text = format!("{}; calm if that lasts {wait}", field_words(&case, "is"));
                self.tell("easing", Label::Faint, Some(case.number), &case.subject, text);
            }
            Event::BreachedAgain { case } => {
                let Some(case) = self.judge.case(case).cloned() else { return };
                let next = next_words(&case, self.judge.rule_of(&case));
                let text = format!("again: {}{next}", field_words(&case, "is"));
                self.tell("breach", Label::Warning, Some(case.number), &case.subject, text);
            }
            Event::Closed { case, why: Closing::Ended } if self.busy.contains(&case.subject.id) => {
                self.closing.push(*case)
            }
            Event::Closed { case, why } => self.close(&case, why),
            Event::Due { .. } => {}
        }
    }

    /// The process is fixed by a handle as soon as a breach begins to build up.
    fn fix(&mut self, rule: usize, id: ProcessId) {
        if let Some(fixed) = self.fixed.get_mut(&id) {
            fixed.rules.insert(rule);
        } else if let Ok(handle) = act::fix_by_handle(&id) {
            self.fixed.insert(id, Fixed { handle, rules: [rule].into() });
        }
    }

    fn unfix(&mut self, rule: usize, id: ProcessId) {
        if let Some(fixed) = self.fixed.get_mut(&id) {
            fixed.rules.remove(&rule);
            if fixed.rules.is_empty() {
                self.fixed.remove(&id);
            }
        }
    }

    /// A case is over: what it holds is undone, unless the process took it along.
    pub(super) fn close(&mut self, case: &Case, why: Closing) {
        let id = case.subject.id;
        let rule = self.judge.rule_of(case).clone();
        // A process that one sample missed has not ended while its handle says that it lives: what is in force on it
        // is undone like on any other that is no longer judged.
        let lives = self.fixed.get(&id).is_some_and(|fixed| !fixed.handle.has_ended());
        let (kind, word, text) = match why {
            Closing::Calm => (Kind::Calm, "calm", format!("{}; case closed", field_words(case, "is"))),
            Closing::Left => (Kind::Left, "left", "the rule no longer covers it; case closed".to_owned()),
            Closing::Ended if lives => (Kind::Left, "left", "it is no longer seen; case closed".to_owned()),
            Closing::Ended if self.ended_by_us.remove(&id) => (Kind::Ended, "", "ended by us".to_owned()),
            Closing::Ended => (Kind::Ended, "gone", "it ended by itself; case closed".to_owned()),
        };
        self.recorder
            .note(self.drafter.with_evidence(kind, case, &rule).came_of_it(kind.word().as_str(), text.clone()));
        if !word.is_empty() {
            self.tell(word, Label::Notice, Some(case.number), &case.subject, text);
        }
        if why == Closing::Ended && !lives {
            if let Some(undo) = self.effects.forget(&id) {
                self.take_back(case.subject.clone(), self.drafter.of_case(Kind::Intent, case, &rule), None, undo);
            }
            if let Some(guard) = self.guards.remove(&id) {
                guard.release();
            }
        } else {
            for undo in self.effects.let_go(&id, case.number) {
                self.begin_undo(id, undo, Some(case.number));
            }
        }
        self.unfix(case.rule, id);
    }

    fn carry_out(&mut self, decision: &Decision, snapshot: &Snapshot) {
        let Some(case) = self.judge.case(decision.case).cloned() else { return };
        let rule = self.judge.rule_of(&case).clone();
        let record = |watcher: &Self, kind| {
            watcher.drafter.with_evidence(kind, &case, &rule).doing(ActionRecord::step(decision.action, decision.step))
        };
        let action = decision.action;
        let next = next_words(&case, &rule);
        let (kind, word, label, outcome, text) = match &decision.verdict {
            Verdict::Act(action) => {
                let intent = record(self, Kind::Intent);
                self.set_going(&case, *action, intent, snapshot);
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
        self.tell(word, label, Some(case.number), &case.subject, text);
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
            self.joining.entry(case.subject.id).or_default().push((case.number, nice));
        }
        joins
    }

    /// Starts an act on a thread of its own; until its outcome is in, no other step is taken on that process.
    fn set_going(&mut self, case: &Case, action: Action, intent: sophron_core::audit::Draft, snapshot: &Snapshot) {
        if !self.recorder.is_sound() {
            // The trail's own line has said why. The step stays due.
            self.judge.postponed(case.number);
            return;
        }
        let id = case.subject.id;
        if let (Action::Lower { nice }, Some(already)) = (action, self.effects.lowered_to(&id))
            && already >= nice
        {
            self.effects.lower(id, case.number, nice, sophron_core::effects::Originals::default());
            let seen = format!("nice {already} already, for another case");
            self.recorder.note(intent.as_kind(Kind::Outcome).came_of_it("lowered", seen.clone()));
            self.tell("lowered", Label::Notice, Some(case.number), &case.subject, seen);
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
                self.tell("refused", Label::Warning, Some(case.number), &case.subject, why);
                self.judge.settled(case.number, false);
                return;
            }
        };
        let meant = |process: &Process| process.id == id;
        let reach = match action {
            Action::Lower { .. } => Reach::of(snapshot, &case.subject, self.direct.clone(), meant),
            _ => Reach::default(),
        };
        let request = act::Request {
            case: case.number,
            rules: Arc::clone(&self.rules),
            rule: case.rule,
            action,
            subject: case.subject.clone(),
            machine: snapshot.machine.clone(),
            protections: self.protections.clone(),
            handle,
            reach,
            tick: self.ticks,
            verdicts: Arc::clone(&self.verdicts),
            intent,
        };
        self.busy.insert(id);
        let (recorder, wake) = (self.recorder.clone(), self.wake.clone());
        std::thread::spawn(move || {
            // The watcher waits for busy processes before it ends.
            let _ = wake.send(Wake::Acted(Box::new(act::perform(request, &recorder))));
        });
    }

    /// Says once for each rule what it cannot judge for want of which reading.
    fn say_what_is_unreadable(&mut self) {
        let mut lines = Vec::new();
        for (index, status) in self.judge.status().iter().enumerate() {
            // A rate is unknown at a process's first sample; that is no want of rights.
            let fields: Vec<&str> =
                status.unreadable.iter().filter(|field| !field.info().rate).copied().map(Field::name).collect();
            if fields.is_empty() || !self.said_unreadable.insert(index) {
                continue;
            }
            let name = self.rules.rules[index].name.clone();
            let count = status.undecided + status.unjudged;
            let who = if here::is_privileged() { "not even root may" } else { "root may" };
            let seen = format!("{name} cannot judge {count} processes: {} cannot be read ({who})", fields.join(", "));
            lines.push((name, seen));
        }
        for (name, seen) in lines {
            let mut draft = self.drafter.plain(Kind::Unreadable).came_of_it("unreadable", seen.clone());
            draft.rule = Some(name);
            self.recorder.note(draft);
            self.say("unknown", Label::Notice, seen);
        }
    }
}

/// Time left, for people.
pub(super) fn clock_in(left: Duration) -> String {
    when::clock_after(here::now().wall, left)
}
