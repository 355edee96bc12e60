//! What the judge found, followed: who is fixed by a handle, what is told, and the undoing of what a case holds.

use std::sync::Arc;

use super::{Beside, Command, Dispatcher};
use crate::audit::Wording;
use crate::facts::Facts;
use crate::happening::{Grounds, Happening, Next, Over, Subject, What};
use crate::judge::{Case, Closing, Event, Stays, Wait};
use crate::model::{Moment, ProcessId, Snapshot};
use crate::protect::Protections;
use crate::rules::{Action, Rule, RuleSet};
use crate::sorted::SortedSet;
use crate::subject::Judged;

/// A case that is over, and waits until nothing is under way on its processes any more.
#[derive(Debug)]
pub(super) struct Leaving {
    pub case: Box<Case>,
    pub rule: Arc<Rule>,
    pub why: Closing,
    /// Of its processes, those that lived when it closed.
    pub alive: SortedSet<ProcessId>,
}

impl Dispatcher {
    pub(super) fn follow(&mut self, event: &Event, snapshot: &Snapshot, beside: &Beside) {
        let now = snapshot.moment;
        match event {
            Event::Building { rule, members } => {
                for id in members {
                    if self.held.fix(rule, *id) {
                        self.out.push(Command::Fix(*id));
                    }
                }
            }
            Event::Abandoned { rule, members } => self.release(rule, members),
            Event::Opened { case } => self.opened(*case),
            Event::Easing { case } => {
                self.tell_of(*case, now, |case, _| What::Easing { measure: case.measure.clone(), wait: case.wait })
            }
            Event::BreachedAgain { case } => {
                self.tell_of(*case, now, |case, _| What::BreachedAgain(case.measure.clone()));
            }
            Event::Remind { case } => self.tell_of(*case, now, |case, rule| What::Reminded(Grounds::of(case, rule))),
            Event::HoursEnded { case } => {
                self.tell_of(*case, now, |_, _| What::HoursEnded);
                for id in self.effects.of_case(*case) {
                    self.let_go(id, *case, None);
                }
            }
            Event::Revised { case, stays } => self.revise(*case, *stays),
            Event::Closed { case, why } => {
                let Some(rule) = self.judge.rule(&case.rule).map(Arc::clone) else { return };
                let alive = alive(case, snapshot, beside);
                self.leave(now, Leaving { case: case.clone(), rule, why: *why, alive });
            }
            Event::Due { .. } => {}
        }
    }

    fn tell_of(&mut self, case: u64, now: Moment, what: impl FnOnce(&Case, &Rule) -> What) {
        let Some(case) = self.judge.case(case) else { return };
        let Some(rule) = self.judge.rule(&case.rule) else { return };
        let what = what(case, rule);
        let next = match what {
            What::Easing { .. } | What::HoursEnded => Next::Unsaid,
            _ => self.next_of(case, rule, now.wall),
        };
        let happening = Happening::of_case(now.wall, case, what).followed_by(next);
        self.tell(happening);
    }

    fn opened(&mut self, case: u64) {
        let Some(case) = self.judge.case(case) else { return };
        let Some(rule) = self.judge.rule(&case.rule) else { return };
        let opening = self.opening(case, rule);
        self.tell(opening);
    }

    pub(super) fn opening(&self, case: &Case, rule: &Rule) -> Happening {
        let now = self.now;
        let what = What::Opened {
            returned: case.returned,
            grounds: Grounds::of(case, rule),
            note: rule.note.clone(),
            wording: Box::new(Wording { text: rule.text.clone(), digest: self.rules.digest.clone() }),
            alerts: rule.ladder.first().is_some_and(|step| step.action == Action::Alert && step.at.is_zero()),
        };
        let next = self.next_of(case, rule, now.wall);
        Happening::of_case(now.wall, case, what).followed_by(next)
    }

    pub(super) fn release(&mut self, rule: &crate::rules::RuleName, members: &[ProcessId]) {
        for id in members {
            if self.held.unfix(rule, id) {
                self.out.push(Command::Release(*id));
            }
        }
    }

    /// Whoever a case is no longer about, as one that has left its group, is undone, and that is recorded.
    pub(super) fn let_go_of_those_that_left(&mut self, snapshot: &Snapshot) {
        if self.effects.is_empty() {
            return;
        }
        let now = snapshot.moment;
        let mut left = Vec::new();
        for case in self.judge.cases().filter(|case| case.ladder.has_effect) {
            for id in self.effects.of_case(case.number).into_iter().filter(|id| !case.concerns(id)) {
                let process = snapshot.find(&id).filter(|process| !process.has_ended());
                let told = process.map(|process| {
                    let what = What::LeftTheGroup { group: case.label() };
                    Happening::of_case(now.wall, case, what).on(Subject::process(process))
                });
                left.push((case.number, id, told));
            }
        }
        for (case, id, told) in left {
            match told {
                Some(told) => {
                    self.tell(told);
                    self.let_go(id, case, None);
                }
                None => self.forget(id, case),
            }
        }
    }

    /// A case is over. While an act on one of its processes is under way it is not known what it holds.
    fn leave(&mut self, now: Moment, leaving: Leaving) {
        self.ask_no_more(now, leaving.case.number, leaving.why.in_words());
        if self.is_acting_for(&leaving.case) {
            self.closing.push(leaving);
        } else {
            self.close(now, leaving);
        }
    }

    fn is_acting_for(&self, case: &Case) -> bool {
        self.acting.contains(&case.number) || self.busy.iter().any(|id| case.concerns(id))
    }

    /// Cases that closed while an act on one of their processes was under way.
    pub(super) fn close_what_waited(&mut self, now: Moment) {
        while let Some(place) = self.closing.iter().position(|leaving| !self.is_acting_for(&leaving.case)) {
            let leaving = self.closing.remove(place);
            self.close(now, leaving);
        }
    }

    /// Whether the case was back under another PID meanwhile: then what is not of this story is not its to take back.
    fn is_again(&self, case: &Case) -> bool {
        let leaving = self.closing.iter().map(|leaving| leaving.case.number);
        self.judge.cases().map(|open| open.number).chain(leaving).any(|number| number == case.number)
    }

    /// What it holds is undone, unless the process took it along.
    fn close(&mut self, now: Moment, leaving: Leaving) {
        let Leaving { case, rule, why, mut alive } = leaving;
        let group = case.key.judged() != Judged::Process;
        let ended: Vec<ProcessId> = case.members.iter().filter(|id| self.ended_by_us.remove(*id)).copied().collect();
        for id in &ended {
            alive.remove(id);
        }
        let lives = case.lead.as_ref().is_some_and(|lead| alive.contains(&lead.id));
        let over = Over::of(why, group, !ended.is_empty(), lives);
        let what = What::Closed { why: over, grounds: Grounds::of(&case, &rule) };
        let happening = Happening::of_case(now.wall, &case, what);
        let again = self.is_again(&case);
        if !again {
            self.tell(happening);
        }
        let mut held = self.effects.of_case(case.number);
        held.retain(|id| !again || case.concerns(id));
        held.extend(case.lead.iter().filter(|_| !group).map(|lead| lead.id));
        for id in held {
            // Of whoever had left it before, nobody knows: then it is tried.
            if why == Closing::Ended && case.concerns(&id) && !alive.contains(&id) {
                self.forget(id, case.number);
            } else {
                self.let_go(id, case.number, None);
            }
        }
        // Meanwhile the rule may have begun another story with them.
        let followed: SortedSet<ProcessId> = self.judge.followed_by(&case.rule).collect();
        let left: Vec<ProcessId> = case.members.iter().filter(|id| !followed.contains(id)).copied().collect();
        self.release(&case.rule, &left);
        self.in_the_way.retain(|(number, ..), _| again || *number != case.number);
    }

    /// Its rule does something else from now on. While an act of it is under way it is not known what it holds.
    fn revise(&mut self, case: u64, stays: Stays) {
        let before = stays.before;
        self.in_the_way.retain(|(of, step, _), _| *of != case || *step < before);
        let asked = self.asks.place(None, case);
        if asked.is_some_and(|place| self.asks.open[place].question.step >= before) {
            self.ask_no_more(self.now, case, "its rule says something else now");
            self.judge.wait(case, Wait::Nothing);
        }
        if !stays.less {
            return;
        }
        for joining in self.joining.values_mut() {
            joining.retain(|(of, _)| *of != case);
        }
        // Of two files that were read one after the other the least stays.
        let known = self.revised.entry(case).or_insert(stays);
        (known.before, known.nice) = (known.before.min(before), known.nice.min(stays.nice));
        self.undo_what_is_no_step_any_more();
    }

    pub(super) fn undo_what_is_no_step_any_more(&mut self) {
        let ready: Vec<u64> = self.revised.keys().copied().filter(|case| !self.acting.contains(case)).collect();
        for case in ready {
            let Some(Stays { nice, before, .. }) = self.revised.remove(&case) else { continue };
            for id in self.effects.of_case(case) {
                let stays = self.held.stay(&id).is_some_and(|stay| stay.case == case && stay.step < before);
                for undo in self.effects.want_less(&id, case, nice, stays) {
                    let remark = Some("the rule does not ask for it any more".to_owned());
                    self.take_back(self.now, id, undo, Some(case), remark);
                }
            }
        }
    }

    /// Whoever is protected by other rules than before is let go of.
    pub(super) fn let_go_of_the_protected(&mut self, snapshot: &Snapshot) {
        if !self.protected_anew {
            return;
        }
        // What is under way may leave something in force yet, and whoever is not seen is looked at when he is.
        self.protected_anew = !self.acting.is_empty();
        for id in self.effects.processes() {
            let Some(process) = snapshot.find(&id) else {
                self.protected_anew = true;
                continue;
            };
            let Some(why) = self.protections.reason(&Facts::new(process, &snapshot.machine)) else { continue };
            let why = format!("it is protected now: {why}");
            self.effects.cases_of(&id).into_iter().for_each(|case| self.let_go(id, case, Some(&why)));
        }
    }

    /// Other rules from now on: the stories of those that judge the same go on, the cases of the others are closed.
    pub(super) fn adopt(&mut self, now: Moment, rules: Arc<RuleSet>, protections: Protections) {
        let before = std::mem::replace(&mut self.rules, rules);
        self.revision += 1;
        let Protections { conditions, .. } = protections;
        (self.protections.conditions, self.protected_anew) = (conditions, true);
        let events = self.judge.adopt(&self.rules);
        for event in events {
            match event {
                Event::Abandoned { rule, members } => self.release(&rule, &members),
                Event::Revised { case, stays } => self.revise(case, stays),
                Event::Closed { case, why } => {
                    let Some(rule) = before.rule(&case.rule).cloned().map(Arc::new) else { continue };
                    let alive = case.members.iter().copied().collect();
                    self.leave(now, Leaving { case, rule, why, alive });
                }
                _ => {}
            }
        }
        self.said.forget_all();
    }
}

/// Who of a case lives. A process that one sample missed has not ended while its handle says that it lives: what is in force
/// on it is undone like on any other that is no longer judged.
fn alive(case: &Case, snapshot: &Snapshot, beside: &Beside) -> SortedSet<ProcessId> {
    let group = case.key.judged() != Judged::Process;
    let seen = |id: &ProcessId| snapshot.find(id).is_some();
    let lives = |id: &ProcessId| beside.unseen.contains(id) || (group && seen(id));
    case.members.iter().chain(case.lead.iter().map(|lead| &lead.id)).filter(|id| lives(id)).copied().collect()
}
