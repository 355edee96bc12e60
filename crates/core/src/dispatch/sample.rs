//! One sample: judged, decided upon, and what follows set going.

use super::{Beside, Command, Dispatcher};
use crate::decide::{Circumstances, Decision, Verdict, decide};
use crate::judge::{Event, Sight, Tick};
use crate::model::{Cost, Moment, Needs, Snapshot};
use crate::recording::Ours;
use crate::sorted::{SortedMap, SortedSet};
use std::time::Duration;

use crate::model::ProcessId;

impl Dispatcher {
    pub(super) fn sample(&mut self, mut sight: Sight<'_>, beside: &Beside) {
        self.read_whom_it_concerns(&mut sight);
        let snapshot = sight.snapshot();
        let now = snapshot.moment;
        self.ticks += 1;
        self.sees_again();
        self.say_whom_it_misses(now, beside.unread);
        self.interval = snapshot.interval;
        self.note_clock_step(now);
        self.last = Some(now);
        self.protections.own.clone_from(&beside.own);
        if let Some(own) = self.settings.own {
            self.protections.refresh_ancestors(snapshot, own);
        }
        self.drop_what_was_recorded(beside);
        self.wait_as_was_recorded(&beside.recorded.acting);
        self.take_hands(snapshot);
        if !self.settings.assumed {
            self.look_after_the_suspended(snapshot, beside);
        }
        self.end_what_hands_left(snapshot);
        self.mind_the_stand_backs(snapshot, beside);
        self.back = self.by_word(now, beside);
        self.mind_the_asked(now);
        self.forget_the_released(snapshot, beside);
        let busy = &self.busy;
        self.joining.retain(|id, _| busy.contains(id));

        let (suspended, busy) = self.hold_on(beside);
        self.keep(snapshot, &suspended, &beside.helpers);
        let tick = Tick {
            suspended: &suspended,
            busy: &busy,
            helpers: &beside.helpers,
            only: self.settings.only.as_ref(),
            back: &self.back,
            zone: &self.settings.zone,
        };
        let events = self.judge.look(&mut sight, &tick);
        self.read_how_far_it_reaches(&mut sight, &events);
        let snapshot = sight.snapshot();
        self.touched = self.effects.suspended().map(|(id, _)| *id).collect();
        self.do_as_answered(snapshot, &busy);
        self.decide(snapshot, beside, &events);
        self.undo_where_rules_stand_back(&busy);
        self.ask_for_memory();
        self.say_effects(snapshot);
        self.sum_up(now);
        self.say_what_is_unreadable(now);
    }

    /// Of those whom something of ours is about, or a rule has a story with, everything is read that rules name.
    fn read_whom_it_concerns(&self, sight: &mut Sight<'_>) {
        let ours =
            self.effects.processes().into_iter().chain(self.busy.iter().copied()).chain(self.touched.iter().copied());
        let ids: SortedSet<ProcessId> = ours.chain(self.judge.followed()).collect();
        for id in ids {
            if let Some(at) = sight.snapshot().place(id.pid) {
                sight.read(at, Needs::FILES);
            }
        }
    }

    /// How far some acts reach hangs on who is in the same control group, and who rests may have been moved there.
    fn read_how_far_it_reaches(&self, sight: &mut Sight<'_>, events: &[Event]) {
        let goes_by_the_group = |event: &Event| {
            let Event::Due { case, step } = event else { return false };
            let rule = self.judge.case(*case).and_then(|case| self.judge.rule(&case.rule));
            let step = rule.and_then(|rule| rule.ladder.get(*step));
            step.is_some_and(|step| step.action.goes_by_the_group())
        };
        if events.iter().any(goes_by_the_group) {
            (0..sight.snapshot().processes.len()).for_each(|at| sight.read(at, Needs::NONE.with(Cost::Cgroup)));
        }
    }

    /// On whom a suspension was in force since the last tick, and on whom something is under way: ours, and that of the
    /// watcher that recorded.
    fn hold_on(&mut self, beside: &Beside) -> (SortedSet<ProcessId>, SortedSet<ProcessId>) {
        self.touched.extend(self.effects.suspended().map(|(id, _)| *id));
        let suspended = self.touched.iter().chain(&beside.recorded.suspended).copied().collect();
        let busy = self.busy.iter().chain(&beside.recorded.busy).copied().collect();
        (suspended, busy)
    }

    /// Where the watcher that recorded took the same step at the same tick, it is known when its suspension began and
    /// ended: that is what the readings tell of.
    fn drop_what_was_recorded(&mut self, beside: &Beside) {
        for id in &beside.recorded.did {
            let _ = self.effects.resumed(id);
            self.touched.remove(id);
        }
    }

    /// Where its act took longer than ours, which is taken for done, nothing else happens in the case meanwhile.
    fn wait_as_was_recorded(&mut self, acting: &[u64]) {
        for case in std::mem::take(&mut self.still_at) {
            self.judge.awaits(case, 0);
        }
        for case in acting {
            let all = acting.iter().filter(|other| *other == case).count();
            self.judge.awaits(*case, u32::try_from(all).unwrap_or(u32::MAX));
            self.still_at.insert(*case);
        }
    }

    /// By PID: so only those that the sample shows, and not who may have their numbers by now.
    fn keep(&mut self, snapshot: &Snapshot, suspended: &SortedSet<ProcessId>, helpers: &SortedSet<u32>) {
        let seen = |id: &&ProcessId| snapshot.find(id).is_some();
        let pids = |ids: &SortedSet<ProcessId>| ids.iter().filter(seen).map(|id| id.pid).collect();
        let outcomes = std::mem::take(&mut self.kept);
        let asked = std::mem::take(&mut self.kept_of_asking);
        let back = self.hands.standing_back.keys().filter(seen).map(|id| id.pid).collect();
        let helpers = helpers.iter().copied().filter(|pid| snapshot.place(*pid).is_some()).collect();
        let word = &self.back;
        let ours = Ours {
            suspended: pids(suspended),
            busy: pids(&self.busy),
            back,
            back_from: word.processes.keys().filter(seen).map(|id| id.pid).collect(),
            back_rules: word.rules.keys().map(ToString::to_string).collect(),
            back_all: word.all.is_some(),
            helpers,
            asked,
            outcomes,
        };
        self.out.push(Command::Keep(Box::new(ours)));
    }

    fn decide(&mut self, snapshot: &Snapshot, beside: &Beside, events: &[Event]) {
        let now = snapshot.moment;
        let recorded = beside.recorded.back.iter().map(|id| (*id, now.monotonic + Duration::from_nanos(1)));
        let mut standing_back = self.back.clone();
        for (id, until) in self.hands.standing_back.iter().map(|(id, until)| (*id, *until)).chain(recorded) {
            let known = standing_back.processes.entry(id).or_insert(until);
            *known = until.max(*known);
        }
        let circumstances = Circumstances {
            snapshot,
            protections: &self.protections,
            standing_back: &standing_back,
            all_in_shadow: self.settings.shadow,
            disarmed: self.is_disarmed(),
            granted: &self.asks.grants,
        };
        self.revision += u64::from(!events.is_empty());
        let decisions = decide(events, &self.judge, &circumstances, self.rules.cap, &mut self.ledger);
        for event in events {
            if let Event::Due { case, .. } = event {
                let outcomes = decisions.iter().filter(|decision| decision.case == *case).count();
                self.judge.awaits(*case, u32::try_from(outcomes).unwrap_or(u32::MAX));
            }
        }
        for decision in decisions.iter().filter(|decision| decision.picked) {
            if let Some(target) = &decision.target {
                self.judge.pick(decision.case, target.id);
            }
        }
        for event in events {
            self.follow(event, snapshot, beside);
        }
        self.let_go_of_those_that_left(snapshot);
        self.let_go_of_the_protected(snapshot);
        let mut asked: SortedMap<u64, Vec<&Decision>> = SortedMap::new();
        for decision in &decisions {
            self.carry_out(decision, snapshot);
            if matches!(decision.verdict, Verdict::Ask(..)) {
                asked.entry(decision.case).or_default().push(decision);
            }
        }
        for decisions in asked.values() {
            self.ask(decisions, snapshot);
        }
    }

    fn note_clock_step(&mut self, now: Moment) {
        let Some(last) = self.last else { return };
        let passed = now.boottime.saturating_sub(last.boottime).as_secs_f64();
        let step = now.wall.duration_since(last.wall).as_secs_f64() - passed;
        if step.abs() > 1.0 {
            self.news(now, crate::happening::News::ClockSet(step));
        }
    }

    /// Has what the judge wants to know read, one group at a time.
    fn ask_for_memory(&mut self) {
        let now = self.last.map_or(Duration::ZERO, |last| last.monotonic);
        if self.memory_from.is_none_or(|from| now < from) {
            return;
        }
        let wishes = self.judge.wishes();
        // In turn: one that cannot be fulfilled keeps nobody waiting.
        let turn = usize::try_from(self.ticks).unwrap_or(0).checked_rem(wishes.len()).unwrap_or(0);
        if let Some(wish) = wishes.get(turn).cloned() {
            self.memory_from = None;
            self.out.push(Command::Read(Box::new(wish)));
        }
    }
}
