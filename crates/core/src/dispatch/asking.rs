//! Asking first: before a step that says so, the person whose program it is is asked. Until he has answered, or the time for it is over,
//! or it is clear that he cannot be asked, the step waits; there is always an outcome.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::time::Duration;

use jiff::Timestamp;

use super::{Command, Commission, Dispatcher, commission};
use crate::act::{Act, Outcome};
use crate::answer::{Answer, Answered, Answerer, Question, SUSPENDED_FOR, Turn};
use crate::decide::{Decision, Verdict};
use crate::facts::Facts;
use crate::happening::{CarriedOut, Grounds, Happening, Next, Subject, What};
use crate::judge::{COMES_BACK, Case, Wait};
use crate::model::{Manager, Moment, Process, ProcessId, Snapshot};
use crate::rules::{Action, Hours, Pick, Rule, RuleName, Unasked};

/// Of what is asked it has to be known within that time whether it is shown.
const UNTIL_SHOWN: Duration = Duration::from_secs(5);

/// What everybody has been asked about is done within that time, or asked about once more.
const GRANTED_FOR: Duration = Duration::from_secs(600);

/// Whoever could not be asked is asked again after that long, and then after twice as long each time, at most five minutes.
const FIRST_PAUSE: Duration = Duration::from_secs(5);
const LONGEST_PAUSE: Duration = Duration::from_secs(300);

/// Questions that are over, and of which it is known why an answer comes too late.
const MOST_PAST: usize = 64;

/// Answers to one question that do not count and are recorded.
const MOST_TURNED_DOWN: u32 = 8;

/// What is to be asked: shown only once `asked` is on disk.
#[derive(Debug, Clone)]
pub struct Asking {
    /// The question.
    pub question: Question,
    /// Of which processes.
    pub targets: Vec<Process>,
    /// What is recorded before.
    pub asked: Happening,
}

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

/// A question that is open.
#[derive(Debug, Clone)]
struct Open {
    question: Question,
    case: u64,
    rule: RuleName,
    subject: Subject,
    targets: Vec<ProcessId>,
    /// When it was put, and when the time to answer is over, once it is shown.
    put: Duration,
    ends: Option<(Duration, Timestamp)>,
    turned_down: u32,
}

/// What somebody who was asked wants done, at the next sample.
#[derive(Debug)]
struct Wish {
    open: Open,
    answered: Answered,
}

/// Before which step everybody has been asked who is to be.
#[derive(Debug, Clone)]
struct Grant {
    until: Duration,
    /// Of whom: of all his in a group, otherwise of these; of everybody where the group has no single person.
    person: Option<u32>,
    targets: BTreeSet<ProcessId>,
}

/// All of them.
#[derive(Debug, Clone, Default)]
pub struct Grants(BTreeMap<(u64, usize), (Grant, bool)>);

impl Grants {
    /// Whether nobody has to be asked any more before that step of a case on that process.
    pub(crate) fn covers(&self, case: &Case, step: usize, process: &Process) -> bool {
        let Some((grant, group)) = self.0.get(&(case.number, step)) else { return false };
        match grant.person {
            _ if grant.targets.contains(&process.id) => true,
            Some(person) => *group && person == process.person(),
            None => *group,
        }
    }
}

/// What is remembered of a case.
#[derive(Debug, Clone, Copy, Default)]
struct Asked {
    /// How often it was let run.
    kept: u32,
    /// Whether it was suspended for whoever was asked.
    suspended: bool,
    /// Until when he has let it run, or nobody is asked: also when it is back under another PID meanwhile.
    wait: Wait,
    /// For how long it was left after the last time that nobody could be asked.
    pause: Duration,
    /// When something was last asked in it, on the boot clock.
    last: Duration,
}

/// What is asked, and was.
#[derive(Debug, Default)]
pub(super) struct Asks {
    numbers: u64,
    open: Vec<Open>,
    wishes: Vec<Wish>,
    pub grants: Grants,
    cases: BTreeMap<u64, Asked>,
    past: VecDeque<(Open, &'static str)>,
}

impl Asks {
    fn place(&self, number: Option<u64>, case: u64) -> Option<usize> {
        let is_it = |open: &Open| number.map_or(open.case == case, |number| open.question.number == number);
        self.open.iter().position(is_it)
    }

    /// He does not decide, and is only told.
    pub fn offer_nothing(&mut self, number: u64) {
        let open = self.open.iter_mut().filter(|open| open.question.number == number);
        open.for_each(|open| open.question.offers.clear());
    }

    fn over(&mut self, open: Open, why: &'static str) {
        if self.past.len() == MOST_PAST {
            self.past.pop_front();
        }
        self.past.push_back((open, why));
    }
}

impl Dispatcher {
    /// Has the person asked whose program it is. All these are one step of one case.
    pub(super) fn ask(&mut self, decisions: &[&Decision], snapshot: &Snapshot) {
        let Some(Decision { case, step, verdict: Verdict::Ask(action, window), .. }) = decisions.first() else {
            return;
        };
        let targets: Vec<&Process> = decisions.iter().filter_map(|decision| decision.target.as_ref()).collect();
        let Some(first) = targets.first() else { return };
        let Some(case) = self.judge.case(*case) else { return };
        let Some(rule) = self.judge.rule(&case.rule) else { return };
        let person = (first.person(), first.owner.clone());
        let alone = targets.iter().all(|target| target.person() == person.0);
        let asked = self.asks.cases.get(&case.number).copied().unwrap_or_default();
        let now = snapshot.moment;
        if let Wait::Until { over, .. } = asked.wait
            && now.monotonic < over.0
        {
            let number = case.number;
            self.judge.wait(number, asked.wait);
            return;
        }
        let offers = self.offers(case, rule, *action, &targets, asked);
        self.asks.numbers += 1;
        let question = Question {
            number: self.asks.numbers,
            action: *action,
            step: *step,
            person,
            window: *window,
            offers: if alone { offers } else { Vec::new() },
        };
        let at = now.wall.checked_add(*window).unwrap_or(now.wall);
        let what = What::Asks(Box::new(question.clone()), Grounds::of(case, rule));
        let happening = Happening::of_case(now.wall, case, what).on(Subject::one_of(case, first));
        let asked = happening.followed_by(Next::Step { action: *action, at });
        let open = Open {
            question: question.clone(),
            case: case.number,
            rule: case.rule.clone(),
            subject: asked.subject.clone(),
            targets: targets.iter().map(|target| target.id).collect(),
            put: now.monotonic,
            ends: None,
            turned_down: 0,
        };
        let number = case.number;
        self.record_its_opening(number);
        self.asks.cases.entry(number).or_default().last = now.boottime;
        self.judge.wait(number, Wait::Answer);
        if alone {
            self.asks.open.push(open);
            self.kept_of_asking.extend(asked.kept_of_asking());
            let targets = targets.into_iter().cloned().collect();
            self.out.push(Command::Ask(Box::new(Asking { question, targets, asked })));
        } else {
            self.tell(asked);
            self.unasked(now, open, None, "its processes belong to several people".to_owned());
        }
    }

    /// What may be answered: to let it run as the rule allows, and what puts an end to it.
    fn offers(&self, case: &Case, rule: &Rule, action: Action, targets: &[&Process], asked: Asked) -> Vec<Answer> {
        let keeps = rule.keep.is_some_and(|keep| asked.kept < keep.times);
        let suspends = !asked.suspended && !matches!(action, Action::Suspend { .. });
        let restarts = |process: &Process| {
            let unit = process.own_unit().filter(|unit| unit.name.ends_with(".service"));
            // Another's unit takes the rights to become him.
            let may = self.protections.service == 0 || self.protections.service == process.uid;
            may && unit.is_some_and(|unit| unit.manager == Manager::User(process.uid))
        };
        let of_one = matches!(targets, [one] if restarts(one)) && case.members.len() == 1;
        let all = [
            keeps.then_some(Answer::LetRun),
            suspends.then_some(Answer::Suspend),
            (of_one && action != Action::Restart).then_some(Answer::Restart),
            Some(Answer::End),
        ];
        all.into_iter().flatten().collect()
    }

    /// Whether it is shown to him whom it asks: where, or why not.
    pub(super) fn shown(&mut self, now: Moment, number: u64, came: Result<String, String>) {
        let Some(place) = self.asks.open.iter().position(|open| open.question.number == number) else { return };
        let open = &mut self.asks.open[place];
        match came {
            // Where outcomes are assumed, a recording knows better when that was.
            Ok(_) if open.ends.is_some() && !self.settings.assumed => {}
            Ok(place) => {
                let window = open.question.window;
                let ends = now.wall.checked_add(window).unwrap_or(now.wall);
                open.ends = Some((now.monotonic + window, ends));
                let open = open.clone();
                self.turned(now, &open, Turn::Shown(place, ends));
            }
            // Who has seen it once was asked.
            Err(_) if open.ends.is_some() && !self.settings.assumed => {}
            Err(why) => {
                let open = self.asks.open.remove(place);
                let person = open.question.person.0;
                self.unasked(now, open, Some(person), why);
            }
        }
    }

    /// He cannot be asked: then the rule says what becomes of the step.
    fn unasked(&mut self, now: Moment, open: Open, person: Option<u32>, why: String) {
        let rule = self.judge.case(open.case).and_then(|case| self.judge.rule(&case.rule));
        let unasked = rule.map(|rule| rule.unasked).unwrap_or_default();
        let (case, step) = (open.case, open.question.step);
        match unasked {
            Unasked::GoOn => self.grant(now, &open, person),
            Unasked::Leave => {
                let asked = self.asks.cases.entry(case).or_default();
                asked.pause = (asked.pause * 2).clamp(FIRST_PAUSE, LONGEST_PAUSE);
                let over = (now.monotonic + asked.pause, now.wall.checked_add(asked.pause).unwrap_or(now.wall));
                asked.wait = Wait::Until { over, anew: false };
                let wait = asked.wait;
                self.judge.go_on(case, step);
                self.judge.wait(case, wait);
            }
        }
        self.turned(now, &open, Turn::Unasked(why, unasked));
        self.asks.over(open, "it could not be asked, and is over");
    }

    /// The step waits for nobody any more.
    fn grant(&mut self, now: Moment, open: &Open, person: Option<u32>) {
        let rule = self.judge.case(open.case).and_then(|case| self.judge.rule(&case.rule));
        let group = rule.is_some_and(|rule| rule.judge != crate::subject::Judged::Process && rule.pick == Pick::All);
        let grant =
            Grant { until: now.monotonic + GRANTED_FOR, person, targets: open.targets.iter().copied().collect() };
        self.asks.grants.0.insert((open.case, open.question.step), (grant, group));
        self.judge.go_on(open.case, open.question.step);
    }

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
        let asked = self.asks.cases.entry(case).or_default();
        let keep = self.judge.case(case).and_then(|case| self.judge.rule(&case.rule)).and_then(|rule| rule.keep);
        let until = |length: Duration| now.wall.checked_add(length).unwrap_or(now.wall);
        let (until, said) = match (&answered.answer, keep) {
            (Answer::LetRun, Some(keep)) => {
                asked.kept += 1;
                let over = (now.monotonic + keep.length, until(keep.length));
                asked.wait = Wait::Until { over, anew: true };
                let wait = asked.wait;
                self.judge.go_on(case, step);
                self.judge.wait(case, wait);
                (Some(over.1), "it runs on")
            }
            (Answer::Suspend, _) => {
                asked.suspended = true;
                self.asks.wishes.push(Wish { open: open.clone(), answered: answered.clone() });
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

    /// At a sample, before it is judged: whose time to answer is over, and who could not be asked in time.
    pub(super) fn mind_the_asked(&mut self, now: Moment) {
        for open in std::mem::take(&mut self.asks.open) {
            let person = Some(open.question.person.0);
            if let Some(why) = self.stands_no_more(&open, now) {
                self.judge.go_on(open.case, open.question.step);
                self.withdraw(now, open, why);
            } else if open.ends.is_some_and(|(over, _)| over <= now.monotonic) {
                self.grant(now, &open, person);
                self.turned(now, &open, Turn::Unanswered);
                self.asks.over(open, "it came too late");
            } else if open.ends.is_none() && open.put + UNTIL_SHOWN <= now.monotonic {
                let why = format!("nothing was heard of it within {} s", UNTIL_SHOWN.as_secs());
                self.unasked(now, open, person, why);
            } else {
                self.asks.open.push(open);
            }
        }
        self.asks.grants.0.retain(|_, (grant, _)| grant.until > now.monotonic);
        let cases: BTreeSet<u64> = self.judge.cases().map(|case| case.number).collect();
        let asks = &mut self.asks;
        asks.cases.retain(|case, asked| cases.contains(case) || now.boottime.saturating_sub(asked.last) <= COMES_BACK);
        asks.grants.0.retain(|(case, _), _| cases.contains(case));
    }

    /// Why a question is of no use any more.
    fn stands_no_more(&self, open: &Open, now: Moment) -> Option<&'static str> {
        let case = self.judge.case(open.case);
        let Some(rule) = case.and_then(|case| self.judge.rule(&case.rule)) else { return Some("its case is over") };
        let step = rule.ladder.get(open.question.step).map(|step| &step.hours);
        let outside = |hours: &Hours| !hours.covers(now.wall, &self.settings.zone);
        [Some(&rule.hours), step].into_iter().flatten().any(outside).then_some("its hours are over")
    }

    /// A case is over, and with it what is asked in it.
    pub(super) fn ask_no_more(&mut self, now: Moment, case: u64, why: &'static str) {
        while let Some(place) = self.asks.place(None, case) {
            let open = self.asks.open.remove(place);
            self.withdraw(now, open, why);
        }
        self.asks.grants.0.retain(|(of, _), _| *of != case);
        if let Some(asked) = self.asks.cases.get_mut(&case) {
            asked.last = now.boottime;
        }
    }

    /// The watcher ends.
    pub(super) fn ask_nobody_any_more(&mut self, now: Moment) {
        for open in std::mem::take(&mut self.asks.open) {
            self.withdraw(now, open, "the watcher ends");
        }
        self.asks.wishes.clear();
    }

    fn withdraw(&mut self, now: Moment, open: Open, why: &'static str) {
        self.turned(now, &open, Turn::Withdrawn(why.to_owned()));
        self.asks.over(open, "it is asked no more");
    }

    fn turned(&mut self, now: Moment, open: &Open, turn: Turn) {
        let case = self.judge.case(open.case);
        let rule = case.and_then(|case| self.judge.rule(&case.rule));
        let next = match (&turn, case.zip(rule)) {
            (Turn::Answered(..) | Turn::Unasked(_, Unasked::Leave), Some((case, rule))) => {
                Next::of(case, rule, now.wall)
            }
            _ => Next::Unsaid,
        };
        let what = What::Turned(Box::new(open.question.clone()), turn);
        let (case, rule, subject) = (Some(open.case), Some(open.rule.clone()), open.subject.clone());
        self.tell(Happening { at: now.wall, rule, case, subject, what, next });
    }

    /// What those want done who were asked: by the same actuator, with an intent of its own, and only as far as it may be. Whoever is `busy`
    /// at present comes next time.
    pub(super) fn do_as_answered(&mut self, snapshot: &Snapshot, busy: &BTreeSet<ProcessId>) {
        for mut wish in std::mem::take(&mut self.asks.wishes) {
            let (later, now): (Vec<ProcessId>, Vec<ProcessId>) =
                wish.open.targets.iter().copied().partition(|id| busy.contains(id) || self.busy.contains(id));
            for id in now {
                let found = snapshot.find(&id).filter(|process| !process.has_ended());
                if let Some(process) = found {
                    self.do_for(process, &wish.open, &wish.answered, snapshot);
                }
            }
            self.judge.go_on(wish.open.case, wish.open.question.step);
            if !later.is_empty() {
                wish.open.targets = later;
                self.asks.wishes.push(wish);
            }
        }
    }

    fn do_for(&mut self, process: &Process, open: &Open, answered: &Answered, snapshot: &Snapshot) {
        let action = open.question.action;
        let act = match (&answered.answer, action) {
            (Answer::Suspend, _) => Act::Suspend { length: SUSPENDED_FOR },
            (Answer::End, Action::Terminate { force_after }) => Act::Terminate { force_after },
            (Answer::End, _) => Act::Terminate { force_after: None },
            (Answer::Restart, _) => Act::Restart,
            _ => return,
        };
        let reason = self.protections.reason(&Facts::new(process, &snapshot.machine));
        let reason = reason.map(|why| Outcome::Refused(format!("it is protected: {why}")));
        let back = self.hands.standing_back.contains_key(&process.id);
        let back = back.then(|| Outcome::Refused("rules stand back from it".to_owned()));
        let over = self.judge.case(open.case).is_none().then(|| Outcome::Dropped("its case is over".to_owned()));
        if let Some(outcome) = reason.or(back).or(over) {
            let came = CarriedOut { because: Some(answered.because()), ..CarriedOut::of(act, outcome) };
            let (rule, case, at) = (Some(open.rule.clone()), Some(open.case), snapshot.moment.wall);
            let (subject, what) = (Subject::process(process), What::Came(came));
            self.tell(Happening { at, rule, case, subject, what, next: Next::Unsaid });
            return;
        }
        let (case, step, verdict) = (open.case, open.question.step, Verdict::Act(action));
        let target = Some(process.clone());
        let decision = Decision { case, step, action, target, picked: false, verdict, beyond_share: None };
        let Some(commission) = self.commission_of(&decision, act, process, snapshot) else { return };
        let commission = commission.as_answered(answered, open.question.person.0);
        self.judge.answers(open.case);
        self.commission(commission);
    }
}

impl Commission {
    /// The same for somebody who was asked: his processes alone, in breach or not.
    fn as_answered(mut self, answered: &Answered, person: u32) -> Commission {
        if let What::Announced(_, announced) = &mut self.announced.what {
            (announced.step, announced.counts_with) = (None, None);
            announced.because = Some(answered.because());
        }
        if let Some(check) = &mut self.check {
            (check.tick, check.wholly_of) = (None, Some(person));
        }
        self.order.on_behalf_of = Some(person);
        self.stands_for = commission::StandsFor::AnAnswer;
        self
    }
}
