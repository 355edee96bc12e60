//! The judge: per rule and subject, within → building → breached → easing → within.
//!
//! Snapshots come in with their time; events come out. The judge never acts: a due step is an event, and the
//! step's outcome is told back with [`Judge::settled`] before the next may fall due.

mod case;
pub mod counted;
mod covers;
mod event;
mod ladder;
mod members;
mod pace;
mod processes;
mod returns;
mod sight;
mod status;
mod subjects;
mod track;

use std::sync::Arc;
use std::time::Duration;

pub use case::{Case, Closing, MOST_POINTS, Points};
use covers::Covers;
pub use event::{Event, Stays, Tick};
use ladder::Fate;
pub use ladder::{Allowance, Choice, Ladder, Owed, Wait};
use members::Covered;
pub use pace::Pace;
use processes::{Findings, Windows};
pub use returns::COMES_BACK;
use returns::Memory;
pub use sight::Sight;
pub use status::{Lacking, RuleStatus};
pub use subjects::{MemoryWish, Part};
use subjects::{Round, State};
use track::Track;

use crate::condition::Condition;
use crate::model::{Boot, Field, Machine, Moment, Process, ProcessId, Snapshot};
use crate::open::OpenCase;
use crate::order::InOrder;
use crate::rules::{Meaning, Rule, RuleName, RuleSet};
use crate::sorted::{SortedMap, SortedSet};
use crate::subject::{Judged, Likeness, SubjectKey};

/// For how long an undo is remembered: breached again within it, the next undo waits longer.
pub(crate) const RELAPSE: Duration = Duration::from_secs(600);

/// Longest wait before an undo, however often a subject relapses.
pub(crate) const LONGEST_WAIT: Duration = Duration::from_secs(3600);

/// What is kept of subjects that are gone is dropped every so many ticks.
const CLEAN: u64 = 32;

/// One rule, and what is known of its subjects.
#[derive(Debug)]
struct Watched {
    rule: Arc<Rule>,
    meaning: Meaning,
    state: State,
    status: RuleStatus,
    /// Which of the different `where`s it has.
    covers: Option<usize>,
    /// Where its windows of processes are kept.
    filled: Option<usize>,
    named: Named,
}

/// What a rule names, as far as judging it goes by that.
#[derive(Debug, Clone, Copy)]
struct Named {
    /// Whether its breach names CPU, and whether it has anything to do with resident memory.
    leads_by_cpu: bool,
    by_memory: bool,
    /// Whether it has windows of resident memory.
    over_memory: bool,
    /// Whether it judges units or owners by CPU, and goes by no more than whose a process is: then whoever ended unseen counts.
    by_the_unseen: bool,
}

/// The judge over one set of rules.
#[derive(Debug)]
pub struct Judge {
    every: Duration,
    settle: Duration,
    watched: Vec<Watched>,
    covers: Covers,
    /// Of the last sample, where it was a whole one: whom rules that judge groups covered, and which processes concerned any rule that
    /// judges processes, by their places.
    covered: SortedMap<(Option<usize>, Judged), Covered>,
    concerned: Vec<bool>,
    /// Whom the last tick left out.
    helpers: SortedSet<u32>,
    windows: Windows,
    /// Whether nothing that was promised of a process counts at the next tick; whether nothing that was read does either.
    unpromised: bool,
    anew: bool,
    memory: Memory,
    wishes: Vec<MemoryWish>,
    last: Option<Moment>,
    /// The first tick, on the monotonic clock: windows count from there, so that a recording gives the same slots.
    begun: Option<Duration>,
    /// Since when acts may begin, on the monotonic clock.
    acting_from: Duration,
    ticks: u64,
}

impl Judge {
    /// A judge that numbers its cases from `next_case` on.
    pub fn new(rules: &RuleSet, next_case: u64) -> Self {
        let mut judge = Judge {
            every: rules.every,
            settle: rules.settle,
            watched: Vec::new(),
            covers: Covers::default(),
            covered: SortedMap::new(),
            concerned: Vec::new(),
            helpers: SortedSet::new(),
            windows: Windows::default(),
            unpromised: true,
            anew: true,
            memory: Memory::new(next_case),
            wishes: Vec::new(),
            last: None,
            begun: None,
            acting_from: Duration::ZERO,
            ticks: 0,
        };
        judge.watch_by(rules.rules.iter().map(Watched::new).collect(), &SortedSet::new());
        judge
    }

    /// By these rules from now on; windows go on that one of those reads which `go_on`.
    fn watch_by(&mut self, mut watched: Vec<Watched>, go_on: &SortedSet<usize>) {
        let mut covers = Covers::default();
        for watched in &mut watched {
            watched.covers = watched.rule.covers.as_ref().map(|condition| covers.place(condition));
        }
        let mut windows = Windows::default();
        for (at, watched) in watched.iter_mut().enumerate() {
            let rule = Arc::make_mut(&mut watched.rule);
            if rule.judge != Judged::Process || rule.windows.is_empty() {
                continue;
            }
            let place = windows.place(rule.covers.as_ref());
            let filled = &mut windows.all[place];
            rule.breach.bind(&mut filled.specs);
            rule.calm.iter_mut().for_each(|calm| calm.bind(&mut filled.specs));
            if go_on.contains(&at) {
                filled.go_on.extend(&rule.windows);
            }
            watched.filled = Some(place);
        }
        windows.adopt(std::mem::take(&mut self.windows), self.every);
        self.windows = windows;
        (self.watched, self.covers, self.anew) = (watched, covers, true);
    }

    /// Judges by other rules from now on. What a rule judges by decides whether it is the same: then its stories go on, whatever
    /// its note, its place or its spelling is now, with the ladder that it has now. The cases of the others are closed.
    #[must_use]
    pub(crate) fn adopt(&mut self, rules: &RuleSet) -> Vec<Event> {
        let mut before: Vec<Watched> = std::mem::take(&mut self.watched);
        let (mut after, mut go_on, mut events) = (Vec::new(), SortedSet::new(), Vec::new());
        let other_pace = rules.every != self.every;
        for rule in &rules.rules {
            let mut next = Watched::new(rule);
            let same = before.iter().position(|known| next.meaning.revises(&known.meaning).is_some());
            if let Some(known) = same.map(|place| before.swap_remove(place)) {
                let revision = next.meaning.revises(&known.meaning).filter(|_| !next.meaning.does_as(&known.meaning));
                (next.state, next.status) = (known.state, known.status);
                if revision.is_some_and(|revision| revision.arms) {
                    next.state.tracks.values_mut().for_each(Track::arm);
                }
                if let Some(revision) = revision {
                    for case in next.state.cases_mut().filter(|_| revision.other_budget) {
                        let now = self.last.unwrap_or(case.opened);
                        case.ladder.budget = self.memory.by_another_budget(case, rule.budget, &now);
                    }
                    events.extend(next.state.cases_mut().filter_map(|case| case.revise(rule, &known.rule, revision)));
                }
                if other_pace {
                    next.state.empty_windows();
                    next.state.sampled_every(rules.every);
                } else {
                    go_on.insert(after.len());
                }
            }
            after.push(next);
        }
        (self.every, self.settle) = (rules.every, rules.settle);
        self.watch_by(after, &go_on);
        self.wishes.clear();
        before.order_by(|a, b| a.rule.name.cmp(&b.rule.name));
        for mut gone in before {
            events.extend(gone.state.give_up(&gone.rule.name, Closing::RuleGone));
            self.memory.forget_rule(&gone.rule.name);
        }
        events
    }

    /// Samples come that far apart from now on.
    pub(crate) fn sampled_every(&mut self, every: Duration) {
        // Windows count as full earlier than was promised.
        self.unpromised |= every > self.every;
        self.every = every;
        self.watched.iter_mut().for_each(|watched| watched.state.sampled_every(every));
        self.windows.sampled_every(every);
    }

    /// What each rule saw at the last tick, in the file's order.
    pub fn status(&self) -> impl Iterator<Item = (&Rule, &RuleStatus)> {
        self.watched.iter().map(|watched| (&*watched.rule, &watched.status))
    }

    /// An open case.
    pub fn case(&self, number: u64) -> Option<&Case> {
        self.cases().find(|case| case.number == number)
    }

    /// Every open case, as the next run has to know it.
    pub(crate) fn open(&self) -> impl Iterator<Item = OpenCase> {
        let of = |watched: &'_ Watched| -> Vec<OpenCase> {
            watched.state.cases().map(|case| OpenCase::of(case, &watched.meaning)).collect()
        };
        self.watched.iter().flat_map(of)
    }

    /// Goes on with a case of the run before; whether there is a rule for it.
    pub(crate) fn restore(&mut self, kept: &OpenCase, boot: Boot, now: Moment) -> bool {
        let rule = self.watched.iter_mut().find(|watched| *watched.rule.name == *kept.rule);
        let Some(watched) = rule else { return false };
        let Some(revision) = watched.meaning.revises(&kept.meaning) else { return false };
        let mut case = Case::restored(kept, &watched.rule, revision, boot, now);
        if revision.other_budget {
            case.ladder.budget = self.memory.by_another_budget(&case, watched.rule.budget, &now);
        }
        watched.state.tracks.insert(case.key.clone(), Track::of(case));
        self.memory.is_taken(kept.number);
        self.anew = true;
        true
    }

    /// Every open case.
    pub fn cases(&self) -> impl Iterator<Item = &Case> {
        self.watched.iter().flat_map(|watched| watched.state.cases())
    }

    /// The processes that a rule has a story with.
    pub(crate) fn followed(&self) -> impl Iterator<Item = ProcessId> {
        self.watched.iter().flat_map(|watched| watched.state.followed())
    }

    /// The processes that one rule has a story with.
    pub(crate) fn followed_by(&self, rule: &RuleName) -> impl Iterator<Item = ProcessId> {
        self.watched(rule).into_iter().flat_map(|watched| watched.state.followed())
    }

    /// A rule that is watched with.
    pub fn rule(&self, name: &RuleName) -> Option<&Arc<Rule>> {
        Some(&self.watched(name)?.rule)
    }

    fn watched(&self, name: &RuleName) -> Option<&Watched> {
        self.watched.iter().find(|watched| watched.rule.name == *name)
    }

    /// Whether a breach of a rule holds anywhere that has opened no case yet.
    pub(crate) fn builds(&self, rule: &RuleName) -> bool {
        self.watched(rule).is_some_and(|watched| watched.state.tracks.values().any(|track| track.building().is_some()))
    }

    /// How long a breach has held that has opened no case yet.
    pub fn building(&self, rule: &RuleName, key: &SubjectKey) -> Option<Duration> {
        self.watched(rule)?.state.building(key)
    }

    /// The subject of a rule that a process is of, as last seen, with the process that stands for it.
    pub(crate) fn subject_of(&self, rule: &RuleName, process: &Process) -> Option<(SubjectKey, Option<Process>)> {
        let judge = self.rule(rule)?.judge;
        let in_case = self.cases().find(|case| case.rule == *rule && case.members.contains(&process.id));
        if let Some(case) = in_case {
            return Some((case.key.clone(), case.lead.clone()));
        }
        Some((judge.key_of(process)?, Some(process.clone())))
    }

    /// How each part of a rule's breach stands for a subject, with its windows.
    pub fn parts(&self, rule: &RuleName, key: &SubjectKey, lead: Option<&Process>, machine: &Machine) -> Vec<Part> {
        let Some(watched) = self.watched(rule) else { return Vec::new() };
        let windows = match key {
            SubjectKey::Process(id) => self.windows.of(id, watched.filled),
            _ => None,
        };
        watched.state.parts(&watched.rule, (key, lead), windows, machine)
    }

    /// How many processes a subject had at the last sample, case or none.
    pub fn members(&self, rule: &RuleName, key: &SubjectKey) -> usize {
        self.watched(rule).and_then(|watched| watched.state.members(key)).unwrap_or(1)
    }

    /// How many cases of a subject were acted upon in the time of its rule's budget.
    pub fn spent(&self, rule: &RuleName, key: &SubjectKey, lead: Option<&Process>) -> Option<usize> {
        let budget = self.rule(rule)?.budget?;
        Some(self.memory.spent(rule, &key.likeness(lead), budget, self.last.as_ref()?))
    }

    /// A case of an earlier run was acted upon at that time (boot clock): it counts towards the budget of its rule.
    pub fn remember(&mut self, rule: &RuleName, likeness: Likeness, at: Duration) {
        if self.rule(rule).is_some_and(|rule| rule.budget.is_some()) {
            self.memory.remember(rule, likeness, at);
        }
    }

    /// From when on acts may begin, on the monotonic clock.
    pub(crate) fn acting_from(&self) -> Duration {
        self.acting_from
    }

    /// Judges one sample in which everything is read.
    #[must_use]
    pub fn tick(&mut self, snapshot: &Snapshot, tick: &Tick<'_>) -> Vec<Event> {
        self.look(&mut Sight::Whole(snapshot), tick)
    }

    /// Judges one sample, of which is read what something hangs on.
    #[must_use]
    pub(crate) fn look(&mut self, sight: &mut Sight<'_>, tick: &Tick<'_>) -> Vec<Event> {
        let moment = sight.snapshot().moment;
        let pace = Pace::between(self.last.as_ref(), &moment, self.every);
        let napped = self.last.is_some_and(|last| moment.napped_since(&last) > Duration::from_secs(1));
        if self.last.is_none() || napped {
            self.acting_from = moment.monotonic + self.settle;
        }
        if self.last.is_some() && pace.is_gap() {
            self.watched.iter_mut().for_each(|watched| watched.state.empty_windows());
            self.windows.clear();
            self.anew = true;
        }
        self.last = Some(moment);
        self.ticks += 1;
        self.wishes.clear();
        let since_begun = moment.monotonic.saturating_sub(*self.begun.get_or_insert(moment.monotonic));
        let mut events = Vec::new();
        // Who is gone first: whoever comes back at this very tick is the same case.
        for watched in &mut self.watched {
            let gone = watched.state.drop_the_ended(&watched.rule.name, sight.snapshot(), &mut self.memory, self.every);
            remember_the_gone(&mut self.memory, gone, &moment, &mut events);
        }
        let all = tick.only.is_none() && self.helpers == *tick.helpers;
        if self.helpers != *tick.helpers {
            self.helpers.clone_from(tick.helpers);
        }
        let is_whole = !sight.is_lazy() && all;
        let same = self.covers.keep_up(sight.snapshot()) && all && !self.anew;
        self.go_on_with_the_covered(same, sight.is_lazy());
        // Who ran: what of control groups is somebody else's is looked for among them.
        let ran: Vec<usize> = match self.watched.iter().any(|watched| watched.named.by_the_unseen) {
            true => {
                let ran = |(_, process): &(usize, &Process)| process.cpu.is_some_and(|cpu| cpu > 0.0);
                sight.snapshot().processes.iter().enumerate().filter(ran).map(|(at, _)| at).collect()
            }
            false => Vec::new(),
        };
        let Findings { found, statuses } = self.look_at_processes(sight, tick, since_begun);
        let mut covered = std::mem::take(&mut self.covered);
        for (watched, (found, status)) in self.watched.iter_mut().zip(found.into_iter().zip(statuses)) {
            let rule = Arc::clone(&watched.rule);
            let mut round = Round {
                rule: &rule,
                tick,
                moment,
                named: watched.named,
                pace,
                number: self.ticks,
                since_begun,
                every: self.every,
                in_hours: rule.hours.covers(moment.wall, tick.zone),
                settled: moment.monotonic >= self.acting_from,
                status,
                memory: &mut self.memory,
                wishes: &mut self.wishes,
                events: &mut events,
                ran: &ran,
            };
            if rule.judge == Judged::Process {
                watched.state.judge_processes(&mut round, sight, &found, &self.windows, watched.filled);
            } else {
                let known = covered.entry((watched.covers, rule.judge));
                let covered =
                    known.or_insert_with(|| members::covered(&rule, watched.covers, &mut self.covers, sight, tick));
                round.status = covered.status();
                match rule.judge {
                    Judged::Machine => watched.state.judge_machine(&mut round, sight, covered),
                    _ => watched.state.judge_groups(&mut round, sight, covered, (&mut self.covers, watched.covers)),
                }
            }
            watched.status = round.status;
        }
        for watched in &mut self.watched {
            let gone = watched.state.drop_the_gone(&watched.rule.name, self.ticks, &mut self.memory, self.every);
            remember_the_gone(&mut self.memory, gone, &moment, &mut events);
            if self.ticks.is_multiple_of(CLEAN) {
                watched.state.clean(self.ticks);
            }
        }
        self.covered = covered;
        if !is_whole {
            self.concerned.clear();
        }
        self.memory.forget(&moment);
        events
    }

    /// Where everybody is the `same`, those are still covered whose `where` goes by that. Which control group somebody is in who ran
    /// is not always read.
    fn go_on_with_the_covered(&mut self, same: bool, lazy: bool) {
        if !same {
            self.covered.clear();
            self.concerned.clear();
        }
        self.covered.retain(|(place, judge), covered| {
            covered.go_on();
            let lasts = |place: usize| self.covers.is_lasting(place) && !(lazy && self.covers.goes_by_group(place));
            covered.is_decided() && place.is_none_or(lasts) && !(lazy && *judge == Judged::Unit)
        });
    }

    /// Groups whose exact memory would decide.
    pub fn wishes(&self) -> &[MemoryWish] {
        &self.wishes
    }

    /// The exact memory of a group, as it was wished for.
    pub fn memory_read(&mut self, wish: &MemoryWish, bytes: u64) {
        if let Some(watched) = self.watched.iter_mut().find(|watched| watched.rule.name == wish.rule) {
            watched.state.memory_read(wish, bytes, self.ticks);
        }
    }

    /// How many outcomes a step of a case has: one for each process that it acts on.
    pub(crate) fn awaits(&mut self, case: u64, outcomes: u32) {
        self.with(case, |case, _| case.ladder.awaits(outcomes));
    }

    /// On whom of several the steps of a case act from now on.
    pub fn pick(&mut self, case: u64, picked: ProcessId) {
        self.with(case, |case, _| case.ladder.choice = Choice::Made(picked));
    }

    /// Tells the judge that one outcome of a case's step is in, on that process of it. `effect` says whether something is
    /// now in force that will have to be undone.
    pub fn settled(&mut self, case: u64, on: Option<ProcessId>, effect: bool) {
        self.with(case, |case, now| {
            case.ladder.has_effect |= effect;
            case.ladder.one_outcome(Fate::Spent, on, now)
        });
    }

    /// Tells the judge that a step could not be taken now and stays due: nothing was done.
    pub fn postponed(&mut self, case: u64) {
        self.with(case, |case, now| case.ladder.one_outcome(Fate::Postponed, None, now));
    }

    /// One outcome of a case's step is that it has ended meanwhile. Whether all are in, and nobody was found.
    pub(crate) fn found_nobody(&mut self, case: u64) -> bool {
        self.with(case, |case, now| case.ladder.one_outcome(Fate::Spent, None, now)).unwrap_or(false)
    }

    /// Tells the judge that something was in the way of a step: it stays due, and is tried again after a pause, counted from
    /// the last sample. Whether it was taken on nobody, and all its outcomes are in.
    pub fn hindered(&mut self, case: u64) -> bool {
        self.with(case, |case, now| case.ladder.one_outcome(Fate::Hindered, None, now)).unwrap_or(false)
    }

    /// An act is under way for somebody who has answered: until its outcome is in the case goes no further.
    pub(crate) fn answers(&mut self, case: u64) {
        self.with(case, |case, _| case.ladder.answering += 1);
    }

    /// What came of it is in; `effect` as of a step's.
    pub(crate) fn has_answered(&mut self, case: u64, effect: bool) {
        self.with(case, |case, _| {
            case.ladder.answering = case.ladder.answering.saturating_sub(1);
            case.ladder.has_effect |= effect;
        });
    }

    /// Has the steps of a case that act wait.
    pub(crate) fn wait(&mut self, case: u64, wait: Wait) {
        self.with(case, |case, _| case.ladder.wait = wait);
    }

    /// What that step of a case has waited for is there.
    pub(crate) fn go_on(&mut self, case: u64, step: usize) {
        self.with(case, |case, now| case.ladder.go_on(step, now));
    }

    fn with<T>(&mut self, number: u64, change: impl FnOnce(&mut Case, &Moment) -> T) -> Option<T> {
        let now = self.last.unwrap_or_default();
        let mut cases = self.watched.iter_mut().flat_map(|watched| watched.state.cases_mut());
        cases.find(|case| case.number == number).map(|case| change(case, &now))
    }
}

impl Watched {
    fn new(rule: &Rule) -> Watched {
        let named = |fields: [Field; 2], by: &SortedSet<Field>| fields.iter().any(|field| by.contains(field));
        Watched {
            meaning: rule.meaning(),
            rule: Arc::new(rule.clone()),
            state: State::default(),
            status: RuleStatus::default(),
            covers: None,
            filled: None,
            named: Named {
                leads_by_cpu: named([Field::Cpu, Field::CpuPart], &rule.breach.fields()),
                by_memory: named([Field::Memory, Field::MemoryPart], &rule.fields()),
                over_memory: rule.windows.iter().any(|spec| matches!(spec.field, Field::Memory | Field::MemoryPart)),
                by_the_unseen: matches!(rule.judge, Judged::Unit | Judged::Owner)
                    && named([Field::Cpu, Field::CpuPart], &rule.fields())
                    && rule.covers.iter().flat_map(Condition::fields).all(Field::is_whose),
            },
        }
    }
}

fn remember_the_gone(memory: &mut Memory, gone: Vec<Event>, now: &Moment, events: &mut Vec<Event>) {
    for event in gone {
        if let Event::Closed { case, .. } = &event {
            memory.ended(case, now);
        }
        events.push(event);
    }
}
