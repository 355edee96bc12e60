//! People at their desks: who sees what of which case, how much of it, and what became of that. One notice a case, replaced as the case goes
//! on and taken down when it is over; in bounds, since a desk that is full of notices is looked at by nobody.

use std::collections::VecDeque;
use std::time::Duration;

use jiff::tz::TimeZone;

use super::notice::{Course, Notice, Sight};
use crate::act::Act;
use crate::audit::{Record, ToldRecord, ToldWord};
use crate::happening::{CarriedOut, Happening, Scribe, What};
use crate::rules::RuleSet;
use crate::sorted::{SortedMap, SortedSet};
use crate::text::counted;

/// Most notices that one person has before him.
const MOST_OPEN: usize = 6;

/// Most cases of which he is told in an hour.
const MOST_NEW: usize = 12;
const HOUR: Duration = Duration::from_secs(3600);

/// The notice that counts what is beyond that.
pub const AND_MORE: u64 = 0;

/// What is to be done at a desk.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AtDesk {
    /// The person with that user ID is to see it, instead of what he has seen of that case.
    Show(u32, Box<Notice>),
    /// He is not to see anything of that case any more.
    TakeDown(u32, u64),
    /// What he sees of that case is the last of it, and is left to him.
    Leave(u32, u64),
}

/// Everybody who is told at his desk.
#[derive(Debug)]
pub struct Desks {
    channel: String,
    /// Whether no rule acts: then nobody is told.
    shadow: bool,
    people: SortedMap<u32, Person>,
    cases: SortedMap<u64, OfCase>,
}

#[derive(Debug, Default)]
struct Person {
    /// Cases of which a notice is open.
    open: SortedSet<u64>,
    /// When others were first told of.
    begun: VecDeque<Duration>,
    /// Cases of which he is not told one by one.
    more: SortedSet<u64>,
}

#[derive(Debug)]
struct OfCase {
    uid: u32,
    course: Course,
    /// Whether the last notice of it was shown; and if not, why.
    came: Option<Result<(), String>>,
}

impl Desks {
    /// By that channel.
    pub fn new(channel: &str, shadow: bool) -> Desks {
        Desks { channel: channel.to_owned(), shadow, people: SortedMap::new(), cases: SortedMap::new() }
    }

    /// Somebody may be concerned by it.
    pub fn happened(&mut self, happening: &Happening, now: Duration, rules: &RuleSet, scribe: &Scribe) -> Vec<AtDesk> {
        let Some((case, uid)) = happening.case.zip(happening.subject.lead().map(|lead| lead.person())) else {
            return Vec::new();
        };
        // What is asked is shown by whoever asks.
        if matches!(happening.what, What::Asks(..)) {
            return Vec::new();
        }
        let is_over = matches!(happening.what, What::Closed { .. });
        let all = match self.sight(happening, (case, uid), rules, scribe) {
            Some(Sight::Shown(notice)) => self.show(uid, notice, now),
            Some(Sight::Last(notice)) => self.show_last(uid, notice),
            Some(Sight::Gone) => self.take_down(uid, case),
            Some(Sight::Same) | None if is_over => self.leave(uid, case),
            Some(Sight::Same) | None => Vec::new(),
        };
        if is_over {
            self.cases.remove(&case);
        }
        all
    }

    /// The notice of a question, as its record is; it is shown whatever else is.
    ///
    /// # Errors
    /// Nobody is told at his desk of it.
    pub fn asks(&mut self, asked: &Happening, rules: &RuleSet, scribe: &Scribe) -> Result<(u32, Box<Notice>), String> {
        let case = asked.case.zip(asked.subject.lead().map(|lead| lead.person()));
        let (case, uid) = case.ok_or("it is about nobody's program")?;
        if uid == 0 {
            return Err("nobody sits at a desk as root".to_owned());
        }
        match self.sight(asked, (case, uid), rules, scribe) {
            Some(Sight::Shown(notice)) => {
                self.people.entry(uid).or_default().open.insert(case);
                Ok((uid, notice))
            }
            _ => Err("no [[tell]] has it told to people at their desks".to_owned()),
        }
    }

    /// What he sees of it from now on; none where he is not told of such things.
    fn sight(
        &mut self,
        happening: &Happening,
        (case, uid): (u64, u32),
        rules: &RuleSet,
        scribe: &Scribe,
    ) -> Option<Sight> {
        let rule = rules.rule(happening.rule.as_deref()?).filter(|rule| rule.armed && !self.shadow)?;
        if happening.subject.lead().is_some_and(|lead| lead.person() == 0) {
            return None;
        }
        // What is taken back once a case is over begins no story.
        let undoes = |out: &CarriedOut| out.act.as_deref().is_some_and(Act::is_undo);
        if matches!(&happening.what, What::Came(out) if undoes(out)) && !self.cases.contains_key(&case) {
            return None;
        }
        let record = Record::unsealed(scribe.record(happening)?);
        let of_desk = |record: &Record| rules.telling.fits(record, &self.channel, rule.severity);
        if !of_desk(&record) {
            return None;
        }
        let zone: &TimeZone = &scribe.zone;
        let of_case = self.cases.entry(case).or_insert_with(|| OfCase { uid, course: Course::default(), came: None });
        (of_case.uid == uid).then(|| of_case.course.follow(happening, rule, zone))
    }

    fn show(&mut self, uid: u32, notice: Box<Notice>, now: Duration) -> Vec<AtDesk> {
        let person = self.people.entry(uid).or_default();
        if person.open.contains(&notice.case) {
            return vec![AtDesk::Show(uid, notice)];
        }
        person.begun.retain(|at| now.saturating_sub(*at) < HOUR);
        if person.open.len() >= MOST_OPEN || person.begun.len() >= MOST_NEW {
            let new = person.more.insert(notice.case);
            return if new { vec![AtDesk::Show(uid, and_more(person.more.len()))] } else { Vec::new() };
        }
        person.open.insert(notice.case);
        person.begun.push_back(now);
        vec![AtDesk::Show(uid, notice)]
    }

    /// The last of it goes by itself.
    fn show_last(&mut self, uid: u32, notice: Box<Notice>) -> Vec<AtDesk> {
        let known = self.people.get(&uid).is_some_and(|person| person.open.contains(&notice.case));
        let last = known.then_some(AtDesk::Show(uid, notice.clone()));
        last.into_iter().chain(self.leave(uid, notice.case)).collect()
    }

    fn take_down(&mut self, uid: u32, case: u64) -> Vec<AtDesk> {
        let Some(person) = self.people.get_mut(&uid) else { return Vec::new() };
        let mut all = Vec::new();
        if person.more.remove(&case) {
            all.push(match person.more.len() {
                0 => AtDesk::TakeDown(uid, AND_MORE),
                count => AtDesk::Show(uid, and_more(count)),
            });
        }
        if person.open.remove(&case) {
            all.push(AtDesk::TakeDown(uid, case));
        }
        all
    }

    /// A case is over, and has been told of as far as it is to be: what is to be seen of it stays, until he has read it.
    fn leave(&mut self, uid: u32, case: u64) -> Vec<AtDesk> {
        let leave = |one| match one {
            AtDesk::TakeDown(_, of) if of == case => AtDesk::Leave(uid, case),
            other => other,
        };
        self.take_down(uid, case).into_iter().map(leave).collect()
    }

    /// Whether somebody has a notice before him.
    pub fn is_watched(&self, uid: u32) -> bool {
        self.people.get(&uid).is_some_and(|person| !person.open.is_empty() || !person.more.is_empty())
    }

    /// What became of the notice of a case: for the record, where that is news.
    pub fn came(&mut self, case: u64, came: Result<(), String>) -> Option<(u64, ToldRecord)> {
        let of_case = self.cases.get_mut(&case)?;
        if of_case.came.as_ref() == Some(&came) {
            return None;
        }
        of_case.came = Some(came.clone());
        let (outcome, seen) = match came {
            Ok(()) => (ToldWord::Shown, String::new()),
            Err(why) => (ToldWord::NotShown, why),
        };
        Some((case, ToldRecord { seen, ..ToldRecord::of(&self.channel, outcome) }))
    }
}

fn and_more(count: usize) -> Box<Notice> {
    Box::new(Notice {
        case: AND_MORE,
        question: None,
        title: format!("And {} of yours", counted(count, "more program")),
        body: "They use too much as well.".to_owned(),
        answers: Vec::new(),
        stays: false,
    })
}
