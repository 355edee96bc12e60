//! Asking first: before a step that says so, the person whose program it is is asked. Until he has answered, or the time for it is over,
//! or it is clear that he cannot be asked, the step waits; there is always an outcome.

use std::collections::VecDeque;
use std::time::Duration;

use jiff::Timestamp;

use super::answering::Wish;
use super::{Command, Dispatcher};
use crate::answer::{Answer, Question, Turn};
use crate::decide::{Decision, Verdict};
use crate::happening::{Grounds, Happening, Next, Subject, What};
use crate::judge::{COMES_BACK, Case, Wait};
use crate::model::{Manager, Moment, Process, ProcessId, Snapshot};
use crate::open::Answers;
use crate::rules::{Action, Hours, Pick, Rule, RuleName, Unasked};
use crate::sorted::{SortedMap, SortedSet};
use crate::subject::{Judged, SubjectKey};

/// Of what is asked it has to be known within that time whether it is shown.
const UNTIL_SHOWN: Duration = Duration::from_secs(5);

/// What everybody has been asked about is done within that time, or asked about once more.
const GRANTED_FOR: Duration = Duration::from_secs(600);

/// Whoever could not be asked is asked again after that long, and then after twice as long each time, at most five minutes.
const FIRST_PAUSE: Duration = Duration::from_secs(5);
const LONGEST_PAUSE: Duration = Duration::from_secs(300);

/// Most questions that one person has before him.
const MOST_OPEN: usize = 6;

/// Most questions to one person in an hour.
const MOST_AN_HOUR: u32 = 60;
const HOUR: Duration = Duration::from_secs(3600);

/// Questions that are over, and of which it is known why an answer comes too late.
const MOST_PAST: usize = 64;

/// What is to be asked: shown only once `asked` is on disk.
#[derive(Debug, Clone)]
pub struct Asking {
    /// The question.
    pub question: Question,
    /// The processes that it is about: he decides where all of them are wholly his.
    pub concerned: Vec<Process>,
    /// What is recorded before.
    pub asked: Happening,
}

/// A question that is open.
#[derive(Debug, Clone)]
pub(super) struct Open {
    pub question: Question,
    pub case: u64,
    pub rule: RuleName,
    pub subject: Subject,
    pub targets: Vec<ProcessId>,
    /// When it was put, and when the time to answer is over, once it is shown.
    put: Duration,
    pub ends: Option<(Duration, Timestamp)>,
    pub turned_down: u32,
}

/// Before which step everybody has been asked who is to be.
#[derive(Debug, Clone)]
struct Grant {
    until: Duration,
    /// Of which processes; of a `group` of all that are his, or of everybody where it has no single person.
    targets: SortedSet<ProcessId>,
    group: bool,
    person: Option<u32>,
}

/// All of them.
#[derive(Debug, Clone, Default)]
pub struct Grants(SortedMap<(u64, usize), Grant>);

impl Grants {
    /// Whether nobody has to be asked any more before that step of a case on that process.
    pub(crate) fn covers(&self, case: &Case, step: usize, process: &Process) -> bool {
        let covers = |grant: &Grant| {
            let his = grant.person.is_none_or(|person| person == process.person());
            grant.targets.contains(&process.id) || (grant.group && his)
        };
        self.0.get(&(case.number, step)).is_some_and(covers)
    }
}

/// What is remembered of a case.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Asked {
    /// How often it was let run.
    pub kept: u32,
    /// Whether it was suspended for whoever was asked.
    pub suspended: bool,
    /// Until when he has let it run, or nobody is asked: also when it is back under another PID meanwhile.
    pub wait: Wait,
    /// For how long it was left after the last time that nobody could be asked.
    pause: Duration,
    /// When something was last asked in it, on the boot clock.
    last: Duration,
}

/// Nobody lets a program run for longer.
const LONGEST_KEPT: Duration = Duration::from_secs(7 * 86_400);

impl Asked {
    /// As the next run has to know it; nothing where nothing was decided.
    pub(super) fn answers(&self, now: Moment) -> Option<Answers> {
        let (until, anew) = match self.wait {
            Wait::Until { over, anew } if over.0 > now.monotonic => {
                (Some((now.boottime + (over.0 - now.monotonic), over.1)), anew)
            }
            _ => (None, false),
        };
        let answers = Answers { kept: self.kept, suspended: self.suspended, until, anew };
        (until.is_some() || self.kept > 0 || self.suspended).then_some(answers)
    }

    /// As it was in the run before, of the same boot.
    pub(super) fn of(answers: &Answers, now: Moment) -> Asked {
        let left = answers.until.map(|until| (until.0.saturating_sub(now.boottime).min(LONGEST_KEPT), until.1));
        let wait = left.filter(|left| !left.0.is_zero()).map_or(Wait::Nothing, |(left, over)| Wait::Until {
            over: (now.monotonic + left, over),
            anew: answers.anew,
        });
        let (kept, suspended) = (answers.kept, answers.suspended);
        Asked { kept, suspended, wait, pause: Duration::ZERO, last: now.boottime }
    }
}

/// What is asked, and was.
#[derive(Debug, Default)]
pub(super) struct Asks {
    numbers: u64,
    pub open: Vec<Open>,
    pub wishes: Vec<Wish>,
    pub grants: Grants,
    pub cases: SortedMap<u64, Asked>,
    pub past: VecDeque<(Open, &'static str)>,
    /// By person: since when his questions are counted, and how many there were.
    hours: SortedMap<u32, (Duration, u32)>,
}

impl Asks {
    pub fn place(&self, number: Option<u64>, case: u64) -> Option<usize> {
        let is_it = |open: &Open| number.map_or(open.case == case, |number| open.question.number == number);
        self.open.iter().position(is_it)
    }

    /// Counts one more question to that person; not where there were as many in this hour as may be.
    fn counts(&mut self, person: u32, now: Duration) -> bool {
        self.hours.retain(|_, (since, _)| now.saturating_sub(*since) < HOUR);
        let (_, count) = self.hours.entry(person).or_insert((now, 0));
        *count += 1;
        *count <= MOST_AN_HOUR
    }

    /// He does not decide, and is only told.
    pub fn offer_nothing(&mut self, number: u64) {
        let open = self.open.iter_mut().filter(|open| open.question.number == number);
        open.for_each(|open| open.question.offers.clear());
    }

    pub fn over(&mut self, open: Open, why: &'static str) {
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
        // With the root of a tree all of it ends.
        let whole = matches!(case.key, SubjectKey::Tree(_));
        let members = case.members.iter().filter(|_| whole).filter_map(|id| snapshot.find(id));
        let concerned: Vec<&Process> = if whole { members.collect() } else { targets.clone() };
        let alone = concerned.iter().all(|process| process.person() == person.0);
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
        let asked = happening.followed_by(Next::Step { action: *action, at, ask: None });
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
        let (number, leaves) = (case.number, rule.unasked == Unasked::Leave);
        self.record_its_opening(number);
        self.asks.cases.entry(number).or_default().last = now.boottime;
        self.judge.wait(number, Wait::Answer);
        let uid = open.question.person.0;
        let before_him = self.asks.open.iter().filter(|other| other.question.person.0 == uid).count();
        let too_often = !self.asks.counts(uid, now.monotonic);
        if too_often && leaves {
            // Whoever has it asked without end fills nothing.
            let over = (now.monotonic + LONGEST_PAUSE, now.wall.checked_add(LONGEST_PAUSE).unwrap_or(now.wall));
            self.judge.wait(number, Wait::Until { over, anew: false });
            return;
        }
        let why = match before_him {
            _ if !alone => "its processes belong to several people".to_owned(),
            MOST_OPEN.. => format!("{MOST_OPEN} questions are open already"),
            _ if too_often => format!("{MOST_AN_HOUR} questions were put in an hour already"),
            _ => {
                self.asks.open.push(open);
                self.kept_of_asking.extend(asked.kept_of_asking());
                let concerned = concerned.into_iter().cloned().collect();
                self.out.push(Command::Ask(Box::new(Asking { question, concerned, asked })));
                return;
            }
        };
        self.tell(asked);
        self.unasked(now, open, alone.then_some(uid), why);
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

    /// It could not be recorded that he is asked: so he is not, and the step waits as for any record.
    pub(super) fn not_recorded(&mut self, now: Moment, number: u64, why: &str) {
        let Some(place) = self.asks.open.iter().position(|open| open.question.number == number) else { return };
        let open = self.asks.open.remove(place);
        let over = (now.monotonic + FIRST_PAUSE, now.wall.checked_add(FIRST_PAUSE).unwrap_or(now.wall));
        self.judge.go_on(open.case, open.question.step);
        self.judge.wait(open.case, Wait::Until { over, anew: false });
        self.turned(now, &open, Turn::Withdrawn(format!("it cannot be recorded: {why}")));
        self.asks.over(open, "it is asked no more");
    }

    /// He cannot be asked: then the rule says what becomes of the step.
    fn unasked(&mut self, now: Moment, open: Open, person: Option<u32>, why: String) {
        let rule = self.judge.case(open.case).and_then(|case| self.judge.rule(&case.rule));
        let unasked = rule.map(|rule| rule.unasked).unwrap_or_default();
        let (case, step) = (open.case, open.question.step);
        match unasked {
            Unasked::GoOn => self.grant(now, &open, person),
            Unasked::Leave => {
                self.revision += 1;
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
    pub(super) fn grant(&mut self, now: Moment, open: &Open, person: Option<u32>) {
        let rule = self.judge.case(open.case).and_then(|case| self.judge.rule(&case.rule));
        let group = rule.is_some_and(|rule| rule.judge != Judged::Process && rule.pick == Pick::All);
        let (until, targets) = (now.monotonic + GRANTED_FOR, open.targets.iter().copied().collect());
        self.asks.grants.0.insert((open.case, open.question.step), Grant { until, targets, group, person });
        self.judge.go_on(open.case, open.question.step);
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
        self.asks.grants.0.retain(|_, grant| grant.until > now.monotonic);
        let cases: SortedSet<u64> = self.judge.cases().map(|case| case.number).collect();
        let asks = &mut self.asks;
        asks.cases.retain(|case, asked| cases.contains(case) || now.boottime.saturating_sub(asked.last) <= COMES_BACK);
        asks.grants.0.retain(|(case, _), _| cases.contains(case));
    }

    /// Why a question is of no use any more.
    fn stands_no_more(&self, open: &Open, now: Moment) -> Option<&'static str> {
        let case = self.judge.case(open.case);
        let Some((case, rule)) = case.and_then(|case| Some((case, self.judge.rule(&case.rule)?))) else {
            return Some("its case is over");
        };
        if !open.targets.iter().any(|id| case.concerns(id)) {
            return Some("whom it is about is there no longer");
        }
        if open.targets.iter().all(|id| self.back.until(&case.rule, id).is_some()) {
            return Some("rules stand back from it");
        }
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

    pub(super) fn turned(&mut self, now: Moment, open: &Open, turn: Turn) {
        let case = self.judge.case(open.case);
        let rule = case.and_then(|case| self.judge.rule(&case.rule));
        let next = match (&turn, case.zip(rule)) {
            (Turn::Answered(..) | Turn::Unasked(_, Unasked::Leave), Some((case, rule))) => {
                self.next_of(case, rule, now.wall)
            }
            _ => Next::Unsaid,
        };
        let what = What::Turned(Box::new(open.question.clone()), turn);
        let (case, rule, subject) = (Some(open.case), Some(open.rule.clone()), open.subject.clone());
        self.tell(Happening { at: now.wall, rule, case, subject, what, next });
    }
}
