//! One tick: sample, judge, decide; what follows is set going.

use std::sync::PoisonError;
use std::time::Duration;

use rustix::process::Signal;
use sophron_core::audit::{ActionRecord, Draft, Kind, Record};
use sophron_core::condition::Truth;
use sophron_core::decide::{self, Circumstances};
use sophron_core::judge::Tick;
use sophron_core::model::{Cost, Facts, Field, Needs, Process, ProcessId, Snapshot, State};
use sophron_core::rules::Rule;
use sophron_core::subject::Judged;
use sophron_linux::{SampleError, here, locks};

use super::act;
use super::drafts::DraftExt;
use super::left::HAND_MARGIN;
use super::{STAND_BACK, Watcher};
use crate::ui::style::Label;
use crate::ui::when;

/// How long a costly file is waited for; what takes longer is unknown.
const COSTLY_WAIT: Duration = Duration::from_millis(200);

impl Watcher<'_> {
    pub(super) fn tick(&mut self) {
        let mut snapshot = std::mem::take(&mut self.snapshot);
        match self.sample(&mut snapshot) {
            Ok(()) => {
                self.judge_and_act(&snapshot);
            }
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
            // Of a group's memory the judge says when it wants to know more.
            if rule.judge != Judged::Process {
                continue;
            }
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
        self.fixed.retain(|_, fixed| !fixed.handle.has_ended());
        self.end_what_hands_left(snapshot);
        let busy = &self.busy;
        self.joining.retain(|id, _| busy.contains(id));

        self.touched.extend(self.effects.suspended().map(|(id, _)| *id));
        self.record(snapshot);
        let (suspended, busy, only) = (&self.touched, &self.busy, self.only.as_ref());
        let tick = Tick { snapshot, suspended, busy, only, zone: &self.zone };
        let events = self.judge.tick(&tick);
        self.touched = self.effects.suspended().map(|(id, _)| *id).collect();
        self.publish_verdicts();
        let circumstances = Circumstances {
            snapshot,
            protections: &self.protections,
            standing_back: &self.standing_back,
            all_in_shadow: self.shadow,
            disarmed: !self.recorder.is_sound(),
        };
        let cap = self.rules.cap;
        let decisions = decide::decide(&events, &mut self.judge, &circumstances, cap, &mut self.ledger);
        for event in events {
            self.follow(event, snapshot);
        }
        self.let_go_of_those_that_left(snapshot);
        for decision in decisions {
            self.carry_out(&decision, snapshot);
        }
        self.ask_for_memory();
        self.say_effects(snapshot);
        self.sum_up();
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
            if record.kind == Kind::LossAccepted {
                self.recorder.doubt(false);
                self.say("armed", Label::Notice, format!("{} has taken note of it: rules act again", record.who.user));
                continue;
            }
            self.note_suspension_by_hand(&record);
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
                self.tell("hands", Label::Notice, None, process.label(), seen);
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
                if let Some(waiter) = self.waiter_for(&id) {
                    let seen = format!("process {waiter} waits for a file lock that it holds: resumed at once");
                    self.tell("waited for", Label::Warning, None, process.label(), seen);
                    self.effects.end_suspension(&id);
                }
                continue;
            }
            if still && !process.has_ended() {
                // A guard that was killed outright has resumed nobody.
                let _ = self.handle_of(&id).map(|handle| handle.signal(Signal::CONT));
            }
            let cases = self.effects.resumed(&id);
            self.lock_holders.remove(&id);
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
                self.tell("resumed", Label::Notice, case, process.label(), seen);
            } else {
                let seen = "its guard was ended: resumed".to_owned();
                self.recorder.note(draft.as_kind(Kind::Restored).came_of_it("resumed", seen.clone()));
                self.tell("resumed", Label::Warning, case, process.label(), seen);
            }
        }
    }

    /// A suspension by hand is ended by its own command; where that is gone, and its guard with it, by us.
    fn note_suspension_by_hand(&mut self, record: &Record) {
        let (Some(id), Some(action)) = (record.identity(), &record.action) else { return };
        match (action.verb.as_str(), action.seconds) {
            ("suspend", Some(seconds)) => {
                let length = Duration::try_from_secs_f64(seconds).unwrap_or_default();
                let until = here::monotonic() + length + HAND_MARGIN;
                self.by_hand.insert(id, (until, self.left_by_hand(record)));
            }
            _ => {
                self.by_hand.remove(&id);
            }
        }
    }

    /// What is recorded where we end it.
    pub(super) fn left_by_hand(&self, record: &Record) -> Draft {
        let draft = self.drafter.plain(Kind::Restored).doing(ActionRecord::word("resume"));
        Draft { subject: record.subject.clone(), ..draft }
    }

    fn end_what_hands_left(&mut self, snapshot: &Snapshot) {
        let now = snapshot.moment.monotonic;
        let over: Vec<ProcessId> =
            self.by_hand.iter().filter(|(_, (until, _))| *until <= now).map(|(id, _)| *id).collect();
        for id in over {
            let Some((_, draft)) = self.by_hand.remove(&id) else { continue };
            let process = snapshot.process(id.pid).filter(|process| process.id == id);
            // What we hold suspended ourselves is ended in its own time.
            let stands =
                |process: &&Process| process.state == State::Suspended && self.effects.suspension(&id).is_none();
            let Some(process) = process.filter(stands) else { continue };
            if self.handle_of(&id).is_some_and(|handle| handle.signal(Signal::CONT).is_ok()) {
                let seen = "its time is over, and the command that had suspended it is gone".to_owned();
                self.recorder.note(draft.came_of_it("resumed", seen.clone()));
                self.tell("resumed", Label::Warning, None, process.label(), seen);
            }
        }
    }

    /// Who waits for a file lock of a process that we hold suspended, as far as that is known by now: it is read beside.
    fn waiter_for(&self, id: &ProcessId) -> Option<u32> {
        if !self.lock_holders.contains(id) {
            return None;
        }
        let waits = locks::last_waits()?;
        waits.iter().find(|(holder, waiter)| *holder == id.pid && *waiter != id.pid).map(|(_, waiter)| *waiter)
    }

    fn publish_verdicts(&self) {
        let mut verdicts = self.verdicts.lock().unwrap_or_else(PoisonError::into_inner);
        verdicts.tick = self.ticks;
        verdicts.breached = self.judge.cases().filter(|case| case.breached).map(|case| case.number).collect();
    }

    /// Says once for each rule what it cannot judge for want of which reading.
    fn say_what_is_unreadable(&mut self) {
        let mut lines = Vec::new();
        for (index, status) in self.judge.status().iter().enumerate() {
            if status.late > 0 && self.said_late.insert(index) {
                let name = self.rules.rules[index].name.clone();
                let seen = format!(
                    "{name} does not know yet of {} processes what they run: it was not to be read in time, and is tried again at each tick",
                    status.late
                );
                lines.push((name, seen));
            }
            // A rate is unknown at a process's first sample; that is no want of rights.
            let fields: Vec<&str> =
                status.unreadable.iter().filter(|field| !field.info().rate).copied().map(Field::name).collect();
            if fields.is_empty() || !self.said_unreadable.insert(index) {
                continue;
            }
            let name = self.rules.rules[index].name.clone();
            let count = status.undecided + status.unjudged;
            let who = if here::is_privileged() { "not even root may" } else { "root may" };
            let seen =
                format!("{name} cannot judge {count} of its subjects: {} cannot be read ({who})", fields.join(", "));
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
