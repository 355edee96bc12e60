//! Answers: whether one counts, and what follows. What somebody wants done who was asked is done at the next sample, by the same actuator,
//! with an intent of its own, and only as far as it may be.

use std::time::Duration;

use super::asking::Open;
use super::commission::StandsFor;
use super::{Command, Commission, Dispatcher};
use crate::act::{Act, Outcome};
use crate::answer::{Answer, Answered, Answerer, Question, SUSPENDED_FOR, Turn};
use crate::decide::{Decision, Verdict};
use crate::facts::Facts;
use crate::happening::{CarriedOut, Happening, Next, Subject, What};
use crate::judge::Wait;
use crate::model::{Moment, Process, ProcessId, Snapshot};
use crate::rules::Action;
use crate::sorted::SortedSet;
use crate::subject::SubjectKey;

/// Answers to one question that do not count and are recorded.
const MOST_TURNED_DOWN: u32 = 8;

/// An answer that comes in.
#[derive(Debug, Clone)]
pub struct Incoming {
    /// By which the reply is handed back.
    pub ticket: u64,
    /// The question; where only its case is known, the one that is open in it.
    pub question: Option<u64>,
    /// The case.
    pub case: u64,
    /// What is answered, and by whom.
    pub answered: Answered,
    /// Why it does not count, where that is known already.
    pub unsound: Option<String>,
}

/// What becomes of an answer: in words what follows from it, or why nothing does.
pub type Heeded = Result<String, String>;

/// What somebody who was asked wants done, at the next sample.
#[derive(Debug)]
pub(super) struct Wish {
    open: Open,
    answered: Answered,
}

impl Dispatcher {
    /// An answer comes in; the first that counts does. What follows for whoever gave it.
    pub(super) fn answer(&mut self, now: Moment, incoming: Incoming) {
        let Incoming { ticket, question, case, answered, unsound } = incoming;
        let heeded = match self.asks.place(question, case) {
            Some(place) => match unsound.or_else(|| self.not_his(place, &answered, now)) {
                None => Ok(self.heed(now, place, answered)),
                Some(why) => {
                    self.turn_down(now, place, answered, why.clone());
                    Err(why)
                }
            },
            None => Err(self.too_late(now, question, case, answered)),
        };
        self.out.push(Command::Heard(ticket, heeded));
    }

    /// Why an answer to an open question does not count.
    fn not_his(&self, place: usize, answered: &Answered, now: Moment) -> Option<String> {
        let open = &self.asks.open[place];
        let Question { person: (uid, name), offers, .. } = &open.question;
        let Answerer { uid: by, .. } = answered.by;
        if by != *uid && by != 0 {
            return Some(format!("{name} is asked, and not the user with the ID {by}"));
        }
        if open.ends.is_some_and(|(over, _)| over <= now.monotonic) {
            return Some("it came too late".to_owned());
        }
        if !offers.contains(&answered.answer) {
            let all: Vec<&str> = offers.iter().map(Answer::word).collect();
            let all = if all.is_empty() { "nothing".to_owned() } else { all.join(", ") };
            return Some(format!("what can be answered is {all}"));
        }
        None
    }

    /// Recorded, a few times: whoever answers without end fills nothing.
    fn turn_down(&mut self, now: Moment, place: usize, answered: Answered, why: String) {
        let open = &mut self.asks.open[place];
        open.turned_down += 1;
        if open.turned_down <= MOST_TURNED_DOWN {
            let open = open.clone();
            self.turned(now, &open, Turn::TurnedDown(answered, why));
        }
    }

    fn too_late(&mut self, now: Moment, question: Option<u64>, case: u64, answered: Answered) -> String {
        let is_it = |(open, _): &&mut (Open, &'static str)| {
            question.map_or(open.case == case, |number| open.question.number == number)
        };
        let Some((open, why)) = self.asks.past.iter_mut().rev().find(is_it) else {
            return format!("nothing is asked in case {case}");
        };
        open.turned_down += 1;
        let (why, told) = ((*why).to_owned(), (open.turned_down <= MOST_TURNED_DOWN).then(|| open.clone()));
        if let Some(open) = told {
            self.turned(now, &open, Turn::TurnedDown(answered, why.clone()));
        }
        why
    }

    fn heed(&mut self, now: Moment, place: usize, answered: Answered) -> String {
        let open = self.asks.open.remove(place);
        let (case, step) = (open.case, open.question.step);
        self.revision += 1;
        let asked = self.asks.cases.entry(case).or_default();
        let keep = self.judge.case(case).and_then(|case| self.judge.rule(&case.rule)).and_then(|rule| rule.keep);
        let until = |length: Duration| now.wall.checked_add(length).unwrap_or(now.wall);
        let (until, said) = match (&answered.answer, keep) {
            (Answer::LetRun, Some(keep)) => {
                asked.kept = asked.kept.saturating_add(1);
                let over = (now.monotonic + keep.length, until(keep.length));
                asked.wait = Wait::Until { over, anew: true };
                let wait = asked.wait;
                self.judge.go_on(case, step);
                self.judge.wait(case, wait);
                (Some(over.1), "it runs on")
            }
            (Answer::Suspend, _) => {
                asked.suspended = true;
                let mut all = open.clone();
                all.targets = self.all_of(&open);
                self.asks.wishes.push(Wish { open: all, answered: answered.clone() });
                (Some(until(SUSPENDED_FOR)), "it is suspended")
            }
            _ => {
                // Where that fails, the step goes on from here.
                let person = open.question.person.0;
                self.grant(now, &open, Some(person));
                self.judge.wait(case, Wait::Answer);
                self.asks.wishes.push(Wish { open: open.clone(), answered: answered.clone() });
                (None, if answered.answer == Answer::Restart { "its unit is restarted" } else { "it is asked to end" })
            }
        };
        let clock = |at| format!(" until {}", crate::happening::clock(at, &self.settings.zone));
        let said = format!("{said}{}", until.map(clock).unwrap_or_default());
        self.turned(now, &open, Turn::Answered(answered, until));
        self.asks.over(open, "it was answered before");
        said
    }

    /// Of a tree, which ends with its root, all stand still.
    fn all_of(&self, open: &Open) -> Vec<ProcessId> {
        match self.judge.case(open.case) {
            Some(case) if matches!(case.key, SubjectKey::Tree(_)) => case.members.clone(),
            _ => open.targets.clone(),
        }
    }

    /// What those want done who were asked: by the same actuator, with an intent of its own, and only as far as it may be. Whoever is `busy`
    /// at present comes next time.
    pub(super) fn do_as_answered(&mut self, snapshot: &Snapshot, busy: &SortedSet<ProcessId>) {
        for mut wish in std::mem::take(&mut self.asks.wishes) {
            let (later, now): (Vec<ProcessId>, Vec<ProcessId>) =
                wish.open.targets.iter().copied().partition(|id| busy.contains(id) || self.busy.contains(id));
            let lives = |id: &ProcessId| snapshot.find(id).filter(|process| !process.has_ended());
            let found: Vec<&Process> = now.iter().filter_map(lives).collect();
            if found.is_empty() && later.is_empty() {
                self.not_done(&wish.open, &wish.answered, None, Outcome::Gone, snapshot);
            }
            for process in found {
                self.do_for(process, &wish.open, &wish.answered, snapshot);
            }
            self.judge.go_on(wish.open.case, wish.open.question.step);
            if !later.is_empty() {
                wish.open.targets = later;
                self.asks.wishes.push(wish);
            }
        }
    }

    /// What was answered is not done, and that is told as well.
    fn not_done(
        &mut self,
        open: &Open,
        answered: &Answered,
        on: Option<&Process>,
        outcome: Outcome,
        snapshot: &Snapshot,
    ) {
        let Some(act) = act_of(open, answered) else { return };
        let came = CarriedOut { because: Some(answered.because()), ..CarriedOut::of(act, outcome) };
        let (rule, case, at) = (Some(open.rule.clone()), Some(open.case), snapshot.moment.wall);
        let (subject, what) = (on.map_or_else(|| open.subject.clone(), Subject::process), What::Came(came));
        self.tell(Happening { at, rule, case, subject, what, next: Next::Unsaid });
    }

    fn do_for(&mut self, process: &Process, open: &Open, answered: &Answered, snapshot: &Snapshot) {
        let action = open.question.action;
        let Some(act) = act_of(open, answered) else { return };
        let reason = self.protections.reason(&Facts::new(process, &snapshot.machine));
        let reason = reason.map(|why| Outcome::Refused(format!("it is protected: {why}")));
        let back = self.stands_back(open.case, &process.id);
        let back = back.then(|| Outcome::Refused("rules stand back from it".to_owned()));
        let over = self.judge.case(open.case).is_none().then(|| Outcome::Dropped("its case is over".to_owned()));
        if let Some(outcome) = reason.or(back).or(over) {
            return self.not_done(open, answered, Some(process), outcome, snapshot);
        }
        let (case, step, verdict) = (open.case, open.question.step, Verdict::Act(action));
        let target = Some(process.clone());
        let decision = Decision { case, step, action, target, picked: false, verdict, beyond_share: None };
        let Some(commission) = self.commission_of(&decision, act, process, snapshot) else { return };
        let mut commission = commission.of_an_answer(answered, open.question.person.0);
        // Whoever has joined the tree since, and is another's, is not his to end.
        let person = open.question.person.0;
        let anothers = snapshot.processes.iter().filter(|process| process.person() != person);
        if let Some(whole) = &mut commission.order.whole {
            whole.spared.extend(anothers.map(|process| (process.id.pid, "it is another user's".to_owned())));
        }
        self.judge.answers(open.case);
        self.commission(commission);
    }
}

/// What is done by an answer; nothing by letting it run.
fn act_of(open: &Open, answered: &Answered) -> Option<Act> {
    match (&answered.answer, open.question.action) {
        (Answer::Suspend, _) => Some(Act::Suspend { length: SUSPENDED_FOR }),
        (Answer::End, Action::Terminate { force_after }) => Some(Act::Terminate { force_after }),
        (Answer::End, _) => Some(Act::Terminate { force_after: None }),
        (Answer::Restart, _) => Some(Act::Restart),
        (Answer::LetRun | Answer::Other(_), _) => None,
    }
}

impl Commission {
    /// The same for somebody who was asked: his processes alone, in breach or not.
    fn of_an_answer(mut self, answered: &Answered, person: u32) -> Commission {
        if let What::Announced(_, announced) = &mut self.announced.what {
            (announced.step, announced.counts_with) = (None, None);
            announced.because = Some(answered.because());
        }
        if let Some(check) = &mut self.check {
            (check.step, check.tick, check.wholly_of) = (None, None, Some(person));
        }
        self.order.on_behalf_of = Some(person);
        self.stands_for = StandsFor::AnAnswer;
        self
    }
}
