//! Rules that judge each process by itself: one round over the processes, in which each is looked at once for all rules.

use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::time::Duration;

use super::covers::Covers;
use super::sight::Sight;
use super::subjects::Round;
use super::{CLEAN, Judge, RuleStatus, Tick, Watched};
use crate::condition::{Condition, Truth};
use crate::model::{Needs, Process, ProcessId, Promise, Snapshot};
use crate::sorted::SortedSet;
use crate::subject::{Judged, SubjectKey};
use crate::window::{History, Spec};

/// What rules with the same `where` fill windows with: they are filled alike, and so are the same.
#[derive(Debug)]
pub(super) struct Filled {
    pub covers: Option<Condition>,
    pub specs: Vec<Spec>,
    /// Those of them that go on when others than before are filled.
    pub go_on: Vec<Spec>,
}

/// The windows of processes: there are many.
#[derive(Debug, Default)]
pub(super) struct Windows {
    pub all: Vec<Filled>,
    of: HashMap<ProcessId, OfProcess>,
}

#[derive(Debug, Default)]
struct OfProcess {
    /// Each with the place of its kind.
    histories: Vec<(usize, History)>,
    seen: u64,
}

impl Windows {
    pub fn of(&self, id: &ProcessId, place: Option<usize>) -> Option<&History> {
        self.of.get(id)?.of(place?)
    }

    /// Where the windows of rules with that `where` are kept, which reads these.
    pub fn place(&mut self, covers: Option<&Condition>) -> usize {
        self.all.iter().position(|known| known.covers.as_ref() == covers).unwrap_or_else(|| {
            self.all.push(Filled { covers: covers.cloned(), specs: Vec::new(), go_on: Vec::new() });
            self.all.len() - 1
        })
    }

    /// Samples come that far apart from now on.
    pub fn sampled_every(&mut self, every: Duration) {
        self.histories().for_each(|history| history.fed_every(every));
    }

    /// After a gap what was before it says nothing.
    pub fn clear(&mut self) {
        self.histories().for_each(History::clear);
    }

    /// By other rules: what they fill windows with as well goes on.
    pub fn adopt(&mut self, before: Windows, every: Duration) {
        self.of = before.of;
        let places: Vec<Option<usize>> =
            before.all.iter().map(|was| self.all.iter().position(|now| now.covers == was.covers)).collect();
        for (id, kept) in &mut self.of {
            let histories = std::mem::take(&mut kept.histories).into_iter();
            kept.histories = histories
                .filter_map(|(was, history)| {
                    let (was, place) = (&before.all[was], places[was]?);
                    let now = &self.all[place];
                    let goes_on = |spec: &Spec| now.go_on.contains(spec);
                    Some((place, history.fitted(&was.specs, &now.specs, goes_on, (every, seed(id)))))
                })
                .collect();
        }
    }

    fn clean(&mut self, tick: u64, snapshot: &Snapshot) {
        if tick.is_multiple_of(CLEAN) {
            // Whether a rule still covers whoever needed no look is not known, so who is covered no more is kept as well.
            self.of.retain(|id, kept| kept.seen + CLEAN > tick || snapshot.find(id).is_some());
        }
    }

    fn histories(&mut self) -> impl Iterator<Item = &mut History> {
        self.of.values_mut().flat_map(|kept| &mut kept.histories).map(|(_, history)| history)
    }
}

impl OfProcess {
    fn of(&self, place: usize) -> Option<&History> {
        self.histories.iter().find(|(of, _)| *of == place).map(|(_, history)| history)
    }

    fn history(&mut self, place: usize, specs: &[Spec], every: Duration, id: &ProcessId) -> &mut History {
        let at = self.histories.iter().position(|(of, _)| *of == place).unwrap_or_else(|| {
            self.histories.reserve_exact(1);
            self.histories.push((place, History::new(specs, every, seed(id))));
            self.histories.len() - 1
        });
        &mut self.histories[at].1
    }
}

/// In which of the ticks of a slot a subject is read: by a number that is the same in every run, so that a rehearsal does as a watch.
pub(super) fn seed(of: &impl Hash) -> u64 {
    let mut hasher = DefaultHasher::new();
    of.hash(&mut hasher);
    hasher.finish()
}

/// What a rule found of one process that is of interest to it.
pub(super) struct Found {
    pub at: usize,
    pub covered: Truth,
    pub truth: Truth,
}

/// What the rules found, each in its place.
pub(super) struct Findings {
    pub found: Vec<Vec<Found>>,
    pub statuses: Vec<RuleStatus>,
}

impl Judge {
    /// Looks at every process that is not quiet, for all the rules that judge processes.
    pub(super) fn look_at_processes(
        &mut self,
        sight: &mut Sight<'_>,
        tick: &Tick<'_>,
        since_begun: Duration,
    ) -> Findings {
        let mut findings = Findings {
            found: self.watched.iter().map(|_| Vec::new()).collect(),
            statuses: vec![RuleStatus::default(); self.watched.len()],
        };
        let ours = |(_, watched): &(usize, &Watched)| watched.rule.judge == Judged::Process;
        let rules: Vec<(usize, &Watched)> = self.watched.iter().enumerate().filter(ours).collect();
        let followed: SortedSet<ProcessId> = rules.iter().flat_map(|(_, watched)| watched.state.followed()).collect();
        let anew = std::mem::take(&mut self.anew);
        let unpromised = std::mem::take(&mut self.unpromised);
        let Windows { all, of } = &mut self.windows;
        // Windows count from the first tick on, and promises by the machine's clock.
        let begun = self.begun.unwrap_or_default().as_millis() as u64;
        let covering = vec![None; self.covers.count()];
        // Nobody who concerned no rule concerns one now.
        let known = !self.concerned.is_empty();
        let mut concerned = std::mem::take(&mut self.concerned);
        concerned.resize(sight.snapshot().processes.len(), false);
        let mut look = Look {
            at: 0,
            covers: &mut self.covers,
            covering,
            fed: vec![false; all.len()],
            since_begun,
            tick: self.ticks,
            every: self.every,
            filled: all,
        };
        for (at, concerned) in concerned.iter_mut().enumerate() {
            if known && !*concerned && (followed.is_empty() || !followed.contains(&sight.process(at).id)) {
                continue;
            }
            let process = sight.process(at);
            let id = process.id;
            if process.has_ended() || tick.leaves_out(&id) {
                // A helper's number is another's one day.
                let never = tick.leaves_out(&id) && !tick.helpers.contains(&id.pid);
                sight.promise(at, if never { Promise::ALWAYS } else { Promise::NONE });
                continue;
            }
            let is_followed = followed.contains(&id) || tick.suspended.contains(&id) || tick.busy.contains(&id);
            if anew {
                sight.read(at, Needs::FILES);
            } else if process.quiet && !is_followed && !unpromised {
                continue;
            }
            look.begin(at);
            // What is kept of it is looked up once, where it is needed.
            let (mut all_kept, mut kept) = (Some(&mut *of), None);
            let mut promise = if is_followed || !sight.is_lazy() { Promise::NONE } else { Promise::ALWAYS };
            for (place, watched) in &rules {
                let covered = look.covered(sight, watched);
                *concerned |=
                    covered != Truth::False || !watched.covers.is_some_and(|place| look.covers.is_lasting(place));
                let mut truth = Truth::Unknown;
                if covered == Truth::True {
                    let history = match watched.filled {
                        None => None,
                        Some(filled) => {
                            if let Some(all) = all_kept.take() {
                                kept = Some(all.entry(id).or_default());
                            }
                            kept.as_deref_mut().and_then(|kept| look.fill(sight, filled, kept, tick))
                        }
                    };
                    truth = sight.settle(&watched.rule.breach, at, history, Needs::FILES);
                    // What was read for that may show that it is somebody else by now.
                    if truth == Truth::True && sight.is_lazy() {
                        let still = watched.covers.map_or(Truth::True, |place| look.covers.settle(place, sight, at));
                        truth = if still == Truth::True { truth } else { Truth::Unknown };
                    }
                    findings.statuses[*place].covered += 1;
                    if truth == Truth::Unknown {
                        findings.statuses[*place].not_judged(&watched.rule, &sight.facts(at).with_history(history));
                    }
                } else if covered == Truth::Unknown {
                    findings.statuses[*place].not_decided(&watched.rule, &sight.facts(at));
                }
                if truth == Truth::True || watched.state.follows(&id) {
                    findings.found[*place].push(Found { at, covered, truth });
                }
                if !promise.is_none() {
                    let history = watched.filled.filter(|_| covered == Truth::True);
                    let history = history.zip(kept.as_deref()).and_then(|(filled, kept)| kept.of(filled));
                    promise = promise.both(stays_within(watched, sight, at, covered, truth, history));
                }
            }
            if let Some(kept) = kept.filter(|_| !promise.is_none()) {
                promise = promise.both(look.stays_fed(sight.process(at), kept)).ahead(begun);
            }
            sight.promise(at, promise);
        }
        self.windows.clean(self.ticks, sight.snapshot());
        self.concerned = concerned;
        findings
    }
}

/// A look at one process after the other.
struct Look<'f> {
    at: usize,
    covers: &'f mut Covers,
    /// What is known of its `where`s at this tick: rules with the same one share it.
    covering: Vec<Option<Truth>>,
    /// Which of its windows have been filled at this tick.
    fed: Vec<bool>,
    since_begun: Duration,
    tick: u64,
    every: Duration,
    filled: &'f [Filled],
}

impl Look<'_> {
    fn begin(&mut self, at: usize) {
        self.at = at;
        self.covering.fill(None);
        self.fed.fill(false);
    }

    /// Whether a rule covers the process.
    fn covered(&mut self, sight: &mut Sight<'_>, watched: &Watched) -> Truth {
        let Some(place) = watched.covers else { return Truth::True };
        match self.covering[place] {
            Some(known) => known,
            None => *self.covering[place].insert(self.covers.settle(place, sight, self.at)),
        }
    }

    /// Until when the windows that were filled at this tick miss nothing.
    fn stays_fed(&self, process: &Process, kept: &OfProcess) -> Promise {
        let fed = kept.histories.iter().filter(|(place, _)| self.fed[*place]);
        fed.map(|(place, history)| history.stays_fed(&self.filled[*place].specs, process))
            .fold(Promise::ALWAYS, Promise::both)
    }

    /// Its windows of that place, with the readings of this tick.
    fn fill<'k>(
        &mut self,
        sight: &mut Sight<'_>,
        place: usize,
        kept: &'k mut OfProcess,
        tick: &Tick<'_>,
    ) -> Option<&'k History> {
        if std::mem::replace(&mut self.fed[place], true) {
            return kept.of(place);
        }
        let filled = &self.filled[place];
        kept.seen = self.tick;
        let id = &sight.process(self.at).id;
        let history = kept.history(place, &filled.specs, self.every, id);
        // Who has not run still has what it had.
        let takes = history.takes(&filled.specs, self.since_begun);
        sight.read(self.at, takes.only(sight.process(self.at).outrun));
        // While it is suspended by us its readings say nothing about it.
        if !tick.suspended.contains(&sight.process(self.at).id) {
            history.feed(&filled.specs, self.since_begun, &sight.facts(self.at));
        }
        Some(history)
    }
}

/// Until when a rule has no reason to look at a process again, but for filling its windows.
fn stays_within(
    watched: &Watched,
    sight: &Sight<'_>,
    at: usize,
    covered: Truth,
    truth: Truth,
    history: Option<&History>,
) -> Promise {
    let (facts, process, rule) = (sight.facts(at).with_history(history), sight.process(at), &watched.rule);
    let out = match &rule.covers {
        Some(covers) if covered == Truth::False => covers.stays_untrue(&facts, process),
        _ => Promise::NONE,
    };
    let rests_on_breach = match (covered, truth) {
        (Truth::True, Truth::False) => true,
        // What cannot be read is told at every tick.
        (Truth::True, Truth::Unknown) => rule.breach.unreadable(&facts).is_empty(),
        // Whoever comes to be covered has his windows filled from then on, whatever becomes of the breach.
        _ => watched.filled.is_none() && (truth == Truth::False || covered == Truth::False),
    };
    if rests_on_breach { out.longer(rule.breach.stays_untrue(&facts, process), process) } else { out }
}

impl super::subjects::State {
    /// What the round over the processes found, rule by rule.
    pub fn judge_processes(
        &mut self,
        round: &mut Round<'_, '_>,
        sight: &Sight<'_>,
        found: &[Found],
        windows: &Windows,
        filled: Option<usize>,
    ) {
        for Found { at, covered, truth } in found {
            let id = &sight.process(*at).id;
            let history = if *covered == Truth::True { windows.of(id, filled) } else { None };
            let facts = sight.facts(*at).with_history(history);
            let key = SubjectKey::Process(*id);
            round.see(&mut self.tracks, &key, std::slice::from_ref(id), &facts, *covered, *truth);
        }
    }

    fn follows(&self, id: &ProcessId) -> bool {
        !self.tracks.is_empty() && self.tracks.contains_key(&SubjectKey::Process(*id))
    }
}

impl Tick<'_> {
    pub(super) fn leaves_out(&self, id: &ProcessId) -> bool {
        self.helpers.contains(&id.pid) || self.only.is_some_and(|only: &SortedSet<ProcessId>| !only.contains(id))
    }
}
