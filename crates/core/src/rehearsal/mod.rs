//! What rules would have done: recorded snapshots through the very same dispatcher as on a live machine.
//!
//! Every rule is taken for armed. An act is taken for done: who is terminated has no readings from then on, who is
//! suspended none until he is resumed.

mod asking;
mod compare;
mod story;
mod vary;

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

use jiff::Timestamp;
use jiff::tz::TimeZone;

pub use compare::{Change, Difference, compare};
pub use story::{Step, StepWord, Story};
pub use vary::{Varied, VaryError, vary};

use crate::act::{Act, Ending, Lowering, Outcome as Came, Restoring, Standstill, Verb};
use crate::condition::{Condition, Truth};
use crate::decide::Verdict;
use crate::dispatch::{Beside, Command, Commission, Dispatcher, Done, Input, Recorded, Settings};
use crate::facts::Facts;
use crate::happening::{Happening, Over, Subject, What};
use crate::model::{Field, Moment, ProcessId, Snapshot};
use crate::protect::Protections;
use crate::recording::{self, Ours, Outcome};
use crate::rules::{Action, RuleName, RuleSet};
use crate::sorted::{SortedMap, SortedSet};
use crate::stand_back::StandsBack;
use crate::subject::Judged;

/// What one rule would have done in all.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct RuleSum {
    /// Cases opened.
    pub cases: u32,
    /// Times people would have been told.
    pub alerts: u32,
    /// Acts by their word, each on one process.
    pub acts: SortedMap<&'static str, u32>,
    /// Times somebody would have been asked first.
    pub asked: u32,
    /// Different subjects.
    pub subjects: BTreeSet<String>,
    /// Cases that were calm by themselves before a further step came.
    pub calmed: u32,
    /// Acts that protection, a budget or the cap held back.
    pub held_back: u32,
    /// Ticks at which it covered somebody.
    covered: u64,
    /// Of these, those at which the recording lacked a reading.
    blind: u64,
    lacking: SortedSet<Field>,
}

impl RuleSum {
    /// The readings that the recording lacks, where the rule could not be judged for want of them.
    pub fn cannot_be_judged(&self) -> Option<&SortedSet<Field>> {
        (self.blind > 0 && self.blind * 2 > self.covered).then_some(&self.lacking)
    }
}

/// Somebody that must not be touched would have been.
#[derive(Debug, Clone, PartialEq)]
pub struct Hit {
    /// When.
    pub at: Timestamp,
    /// The rule.
    pub rule: RuleName,
    /// The case.
    pub case: u64,
    /// Whom.
    pub whom: String,
    /// What would have been done.
    pub action: Action,
}

/// A rehearsal under way.
#[derive(Debug)]
pub struct Rehearsal {
    rules: Arc<RuleSet>,
    dispatcher: Dispatcher,
    spare: Option<Condition>,
    zone: TimeZone,
    /// Who would have ended.
    gone: SortedSet<ProcessId>,
    /// Whom a step has suspended at the latest tick.
    just_suspended: Vec<ProcessId>,
    /// Acts that are taken for done while the watcher that recorded was still at them: in which case, on whom, and what.
    at_it: Vec<(u64, ProcessId, Verb)>,
    /// What is asked, and when that was.
    asked: asking::Asked,
    /// What happened at the latest sample.
    told: Vec<Happening>,
    stories: SortedMap<u64, Story>,
    sums: Vec<RuleSum>,
    hits: Vec<Hit>,
    first: Option<Timestamp>,
    last: Option<Timestamp>,
    samples: u64,
    /// What the watcher that recorded did itself.
    done: Vec<Outcome>,
}

impl Rehearsal {
    /// A rehearsal of these rules; `spare` is true of processes that must not be touched. Of a recording whose samples are
    /// further apart than the rules ask for, `every` is that distance: its intervals are no gaps.
    pub fn new(
        rules: &RuleSet,
        every: Duration,
        protections: Protections,
        spare: Option<Condition>,
        zone: TimeZone,
    ) -> Rehearsal {
        let mut armed = rules.clone();
        armed.every = armed.every.max(every);
        armed.rules.iter_mut().for_each(|rule| rule.armed = true);
        let rules = Arc::new(armed);
        let settings = Settings { shadow: false, assumed: true, own: None, only: None, zone: zone.clone() };
        Rehearsal {
            dispatcher: Dispatcher::new(settings, Arc::clone(&rules), protections, 1),
            sums: vec![RuleSum::default(); rules.rules.len()],
            rules,
            spare,
            zone,
            gone: SortedSet::new(),
            just_suspended: Vec::new(),
            at_it: Vec::new(),
            asked: asking::Asked::default(),
            told: Vec::new(),
            stories: SortedMap::new(),
            hits: Vec::new(),
            first: None,
            last: None,
            samples: 0,
            done: Vec::new(),
        }
    }

    /// The rules.
    pub fn rules(&self) -> &RuleSet {
        &self.rules
    }

    /// The zone in which hours are meant.
    pub fn zone(&self) -> &TimeZone {
        &self.zone
    }

    /// Every case, in the order in which they opened.
    pub fn stories(&self) -> impl Iterator<Item = &Story> {
        self.stories.values()
    }

    /// What each rule would have done in all, in the file's order.
    pub fn sums(&self) -> &[RuleSum] {
        &self.sums
    }

    /// When people were first told, and when something was first done.
    pub fn firsts(&self) -> (Option<Timestamp>, Option<Timestamp>) {
        let opened = self.stories().map(|story| story.opened).min();
        (opened, self.stories().filter_map(Story::first_act).min())
    }

    /// Who must not be touched, and would have been.
    pub fn hits(&self) -> &[Hit] {
        &self.hits
    }

    /// From when to when, and how many samples.
    pub fn span(&self) -> Option<(Timestamp, Timestamp, u64)> {
        Some((self.first?, self.last?, self.samples))
    }

    /// What the watcher that made the recording did at that time: readings after it are not those of a machine left
    /// alone.
    pub fn done(&self) -> &[Outcome] {
        &self.done
    }

    /// What would have happened at the latest sample, in its order: the very values that a watcher tells.
    pub fn happenings(&self) -> &[Happening] {
        &self.told
    }

    /// The next sample, and what the watcher that recorded it was doing: what it had suspended is not judged here either.
    pub fn take(&mut self, snapshot: &Snapshot, ours: &Ours) {
        let wall = snapshot.moment.wall;
        self.first.get_or_insert(wall);
        self.last = Some(wall);
        self.samples += 1;
        self.done.extend(ours.outcomes.iter().cloned());
        self.gone.retain(|id| snapshot.find(id).is_some());
        self.told.clear();
        // Whoever would have ended is not there any more, but for those with whom the watcher that recorded was still at it.
        let away = |id: &ProcessId| self.gone.contains(id) && !ours.busy.contains(&id.pid);
        if !self.gone.iter().any(away) {
            self.dispatch(snapshot, ours);
        } else {
            let mut left = snapshot.clone();
            left.processes.retain(|process| !away(&process.id));
            self.dispatch(&left, ours);
        }
    }

    fn dispatch(&mut self, snapshot: &Snapshot, ours: &Ours) {
        let now = snapshot.moment;
        let did = |id: &ProcessId| {
            let suspends = |done: &Outcome| done.pid == id.pid && done.verb == "suspend";
            ours.busy.contains(&id.pid) || ours.outcomes.iter().any(suspends)
        };
        let busy = recording::identities(&ours.busy, snapshot);
        let over = |id: &ProcessId, verb: &Verb| {
            let mut over = ours.outcomes.iter().filter(|done| (done.pid, done.start) == (id.pid, id.start));
            over.any(|done| done.verb == verb.word())
        };
        self.at_it.retain(|(_, id, verb)| busy.contains(id) && !over(id, verb));
        let recorded = Recorded {
            acting: self.at_it.iter().map(|(case, ..)| *case).collect(),
            suspended: recording::identities(&ours.suspended, snapshot),
            busy,
            back: recording::identities(&ours.back, snapshot),
            by_word: by_word(ours, snapshot),
            did: std::mem::take(&mut self.just_suspended).into_iter().filter(did).collect(),
        };
        let beside = Beside { recorded, helpers: ours.helpers.clone(), ..Beside::default() };
        self.answer_as_recorded(snapshot, ours);
        let due = self.dispatcher.step(now, Input::Time);
        self.follow(due, snapshot);
        let commands = self.dispatcher.step(now, Input::Sample(snapshot, &beside));
        self.follow(commands, snapshot);
        for story in self.stories.values_mut().filter(|story| story.closed.is_none()) {
            if let Some(case) = self.dispatcher.judge().case(story.case) {
                story.read(case, now.wall);
            }
        }
        self.count_the_blind();
    }

    /// Every act is taken for done, at once.
    fn follow(&mut self, commands: Vec<Command>, snapshot: &Snapshot) {
        let mut commands: std::collections::VecDeque<Command> = commands.into();
        while let Some(command) = commands.pop_front() {
            let next = match command {
                Command::Tell(happening) | Command::Say(happening) => {
                    self.tell(&happening, snapshot);
                    self.told.push(*happening);
                    continue;
                }
                Command::Act(commission) => {
                    self.note(&commission);
                    let outcome = assumed(&commission, snapshot.moment);
                    let done = Done { commission: *commission, outcome, took: Duration::ZERO, announced: true };
                    Input::Acted(Box::new(done))
                }
                Command::Ask(asking) => {
                    self.asked.put(&asking, snapshot.moment);
                    self.tell(&asking.asked, snapshot);
                    self.told.push(asking.asked);
                    continue;
                }
                Command::Run(call) => Input::Ran(call, Came::Ran(String::new())),
                Command::Keep(_)
                | Command::Fix(_)
                | Command::Release(_)
                | Command::Dismiss(_)
                | Command::Read(_)
                | Command::Heard(..)
                | Command::Said(..)
                | Command::Reply(..) => continue,
            };
            commands.extend(self.dispatcher.step(snapshot.moment, next));
        }
    }

    /// Whom an act takes away, or lets stand still.
    fn note(&mut self, commission: &Commission) {
        let order = &commission.order;
        let Some(target) = commission.target() else { return };
        self.at_it.extend(commission.acts_for().map(|case| (case, target.id, order.act.verb())));
        match order.act {
            Act::Suspend { .. } => self.just_suspended.push(target.id),
            Act::Terminate { .. } | Act::Restart => {
                self.gone.insert(target.id);
                self.gone.extend(order.whole.iter().flat_map(|whole| &whole.members).map(|(id, _)| *id));
                self.gone.extend(order.mates.iter().map(|mate| mate.id));
            }
            _ => {}
        }
    }

    fn sum(&mut self, happening: &Happening) -> Option<&mut RuleSum> {
        let name = happening.rule.as_ref()?;
        let place = self.rules.rules.iter().position(|rule| rule.name == *name)?;
        self.sums.get_mut(place)
    }

    fn tell(&mut self, happening: &Happening, snapshot: &Snapshot) {
        let Some(number) = happening.case else { return };
        let at = happening.at;
        match &happening.what {
            What::Opened { returned, grounds, .. } => {
                let who = match happening.subject.lead() {
                    Some(lead) => (lead.app.clone(), lead.owner.clone()),
                    None => (snapshot.machine.host.clone(), String::new()),
                };
                let known = self.stories.contains_key(&number) && *returned;
                if let Some(sum) = self.sum(happening) {
                    sum.alerts += 1;
                    sum.subjects.insert(format!("{} {}", who.0, who.1));
                    sum.cases += u32::from(!known);
                }
                match self.stories.get_mut(&number).filter(|_| known) {
                    Some(story) => story.came_back(happening),
                    None => {
                        self.stories.insert(number, Story::of(happening, number, who, grounds));
                    }
                }
            }
            What::Reminded(_) => {
                if let Some(sum) = self.sum(happening) {
                    sum.alerts += 1;
                }
                self.step(number, at, StepWord::Reminded, String::new());
            }
            What::HoursEnded => self.step(number, at, StepWord::HoursEnded, String::new()),
            What::Asks(question, _) => {
                if let Some(sum) = self.sum(happening) {
                    (sum.asked, sum.alerts) = (sum.asked + 1, sum.alerts + 1);
                }
                let word = StepWord::Asked(question.action, question.window);
                self.step(number, at, word, question.person.1.clone());
            }
            What::Turned(_, turn) if turn.is_the_end() => {
                self.step(number, at, StepWord::Turned(happening.seen(&self.zone.clone())), String::new());
            }
            What::Closed { why, grounds } => {
                let Some(story) = self.stories.get_mut(&number) else { return };
                story.close(at, *why, grounds);
                let upcoming = story.reached;
                let rule = happening.rule.as_ref().and_then(|rule| self.rules.rule(rule));
                let upcoming = rule.is_some_and(|rule| upcoming < rule.ladder.len());
                if let Some(sum) = self.sum(happening).filter(|_| *why == Over::Calm && upcoming) {
                    sum.calmed += 1;
                }
            }
            What::Decided { action, verdict, at_opening, .. } => {
                self.decided(happening, number, *action, verdict, *at_opening, snapshot);
            }
            _ => {}
        }
    }

    fn step(&mut self, case: u64, at: Timestamp, word: StepWord, whom: String) {
        if let Some(story) = self.stories.get_mut(&case) {
            story.step(at, word, whom);
        }
    }

    fn decided(
        &mut self,
        happening: &Happening,
        number: u64,
        action: Action,
        verdict: &Verdict,
        at_opening: bool,
        snapshot: &Snapshot,
    ) {
        let at = happening.at;
        // A step on several processes is told once.
        let same = |step: &Step| step.at == at && step.word == StepWord::Done(action);
        let first = !self.stories.get(&number).is_some_and(|story| story.steps.last().is_some_and(same));
        let word = match verdict {
            Verdict::Alert => StepWord::Told,
            Verdict::Act(action) | Verdict::Shadow(action) => StepWord::Done(*action),
            Verdict::Spared(why) => StepWord::HeldBack(action, why.clone()),
            Verdict::OverBudget(action) => StepWord::HeldBack(*action, "the budget is spent".to_owned()),
            // In a rehearsal everything can be recorded.
            Verdict::Ask(..) | Verdict::Waits(_) => return,
            Verdict::Capped(action, _) => {
                StepWord::HeldBack(*action, "the most acts in an hour are reached".to_owned())
            }
            Verdict::Overtaken { by } => StepWord::HeldBack(action, format!("case {by} takes a stronger step")),
            Verdict::StandingBack { .. } => StepWord::HeldBack(action, "a hand was at work".to_owned()),
        };
        if let Some(sum) = self.sum(happening) {
            match verdict {
                Verdict::Alert => sum.alerts += u32::from(!at_opening),
                Verdict::Act(action) | Verdict::Shadow(action) => {
                    *sum.acts.entry(action.word()).or_default() += 1;
                    sum.alerts += u32::from(first);
                }
                Verdict::Spared(_) | Verdict::OverBudget(_) | Verdict::Capped(..) => sum.held_back += 1,
                Verdict::Ask(..) | Verdict::Waits(_) | Verdict::Overtaken { .. } | Verdict::StandingBack { .. } => {}
            }
        }
        let whom = match &happening.subject {
            Subject::Process(process) => process.label(),
            Subject::Group(group) => group.lead.label(),
            Subject::Machine => String::new(),
        };
        if matches!(word, StepWord::Done(_)) && action.is_act() {
            self.count_a_hit(happening, number, action, &whom, snapshot);
        }
        self.step(number, at, word, if action.is_act() { whom } else { String::new() });
    }

    fn count_a_hit(&mut self, happening: &Happening, case: u64, action: Action, whom: &str, snapshot: &Snapshot) {
        let (Some(process), Some(rule)) = (happening.subject.lead(), &happening.rule) else { return };
        let facts = Facts::new(process, &snapshot.machine);
        if self.spare.as_ref().is_some_and(|spare| spare.evaluate(&facts) == Truth::True) {
            self.hits.push(Hit { at: happening.at, rule: rule.clone(), case, whom: whom.to_owned(), action });
        }
    }

    fn count_the_blind(&mut self) {
        // A first sample has no rates: that is no want of the recording.
        if self.samples < 2 {
            return;
        }
        for (sum, (rule, status)) in self.sums.iter_mut().zip(self.dispatcher.judge().status()) {
            if status.covered + status.undecided == 0 && rule.judge != Judged::Machine {
                continue;
            }
            sum.covered += 1;
            let memory = |field: &Field| matches!(field, Field::Memory | Field::MemoryPart);
            if !status.unreadable.is_empty() && status.unjudged > 0 {
                sum.blind += 1;
                sum.lacking.extend(&status.unreadable);
            } else if status.unjudged > 0 && rule.judge.grouping().is_some() && rule.windows.is_empty() {
                // Only upper bounds of a group's memory are recorded.
                let fields = rule.fields();
                if fields.iter().any(memory) {
                    sum.blind += 1;
                    sum.lacking.extend(fields.into_iter().filter(memory));
                }
            }
        }
    }
}

/// What would have come of an act.
fn assumed(commission: &Commission, now: Moment) -> Came {
    match &commission.order.act {
        Act::Lower { nice, only } => Came::Lowered(Box::new(Lowering::assumed(*nice, *only))),
        Act::Suspend { length } => {
            let over = now.wall.checked_add(*length).unwrap_or(now.wall);
            let until = now.monotonic + *length;
            Came::Suspended(Standstill { took: Some(Duration::ZERO), until, over, holds_locks: false, more: 0 })
        }
        Act::Resume => Came::Resumed(Some(Duration::ZERO)),
        Act::Terminate { .. } => Came::Ended(Ending::default()),
        Act::Restart => Came::Restarted { unit: String::new(), main: None, took: Duration::ZERO },
        Act::Restore { .. } => Came::Restored(Restoring::default()),
    }
}

/// From whom the rules of the watcher that recorded stood back by somebody's word: until when is not kept, it is told anew with
/// each sample.
fn by_word(ours: &Ours, snapshot: &Snapshot) -> StandsBack {
    let until = snapshot.moment.monotonic + Duration::from_nanos(1);
    StandsBack {
        all: ours.back_all.then_some(until),
        rules: ours.back_rules.iter().map(|rule| (rule.as_str().into(), until)).collect(),
        processes: recording::identities(&ours.back_from, snapshot).into_iter().map(|id| (id, until)).collect(),
    }
}
