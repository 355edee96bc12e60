//! What the dispatcher is given, and what it commands.

use std::sync::{Arc, PoisonError};

use sophron_core::act::Outcome;
use sophron_core::audit::Kind;
use sophron_core::dispatch::{Beside, Call, Command, Commission, Hand, Input, Trail};
use sophron_core::happening::{Happening, News, What};
use sophron_core::judge::MemoryWish;
use sophron_core::model::{Boot, ProcessId, Snapshot};
use sophron_core::sorted::{SortedMap, SortedSet};
use sophron_core::text::with_causes;
use sophron_linux::act::Actuator;
use sophron_linux::handle::Handle;
use sophron_linux::{here, locks};

use super::control::Reply;
use super::pulse::At;
use super::workers::Report;
use super::{Fixed, Wake, Watcher, commissions, group_memory, program};

impl Watcher {
    pub(super) fn tick(&mut self) {
        let mut snapshot = std::mem::take(&mut self.snapshot);
        self.beat.is_at(At::Reading);
        match self.sampler.sample(&mut snapshot) {
            Ok(()) => {
                self.beat.is_at(At::Judging);
                self.hear_hands(snapshot.machine.boot);
                snapshot.machine.usual.clone_from(&self.usual);
                let beside = self.beside(&snapshot);
                let moment = snapshot.moment;
                let commands = self.dispatcher.step(moment, Input::Look(&mut snapshot, &mut self.sampler, &beside));
                self.renew_leave();
                self.snapshot = snapshot;
                self.beat.is_at(At::SettingGoing);
                self.follow(commands);
            }
            Err(error) => {
                self.snapshot = snapshot;
                self.step(Input::NoSample(with_causes(&error)));
            }
        }
    }

    /// Hands the dispatcher an input, and has done what it commands.
    pub(super) fn step(&mut self, input: Input<'_>) {
        let commands = self.dispatcher.step(here::now(), input);
        self.renew_leave();
        self.follow(commands);
    }

    /// Before anybody hears that his word is taken, and before anything is set going: what is under way asks this.
    fn renew_leave(&self) {
        *self.leave.lock().unwrap_or_else(PoisonError::into_inner) = self.dispatcher.leave_now();
    }

    /// What people have done beside us, by the trail.
    fn hear_hands(&mut self, boot: Boot) {
        for record in self.hands.news() {
            if record.kind == Kind::LossAccepted {
                self.recorder.doubt(false);
                self.step(Input::Trail(Trail::Accepted(record.who.user.clone())));
            } else if let Some(hand) = Hand::of(&record, boot) {
                self.step(Input::Hand(Box::new(hand)));
            }
        }
    }

    /// What is known beside a sample: guards, locks, and whom it does not show.
    fn beside(&mut self, snapshot: &Snapshot) -> Beside {
        let seen = |id: &ProcessId| snapshot.find(id).is_some();
        let guards = self.standing.values().flat_map(|standing| standing.guards());
        let helpers: SortedSet<u32> = guards.chain(self.helpers.pids(snapshot)).collect();
        let own = helpers.iter().copied().chain([std::process::id()]).collect();
        let guarded = self.standing.iter_mut().filter_map(|(id, standing)| standing.is_guarded().then_some(*id));
        let guarded: SortedSet<ProcessId> = guarded.collect();
        let suspended = self.dispatcher.effects().suspended().map(|(id, _)| *id);
        let unguarded = suspended.filter(|id| !guarded.contains(id)).collect();
        let alive = |(id, fixed): (&ProcessId, &Fixed)| (!fixed.handle.has_ended()).then_some(*id);
        let unseen = self.fixed.iter().filter(|(id, _)| !seen(id)).filter_map(alive).collect();
        // As far as that is known by now: it is read beside.
        let waits = self.dispatcher.minds_locks().then(locks::last_waits).flatten();
        let waits = waits.map(|waits| waits.to_vec()).unwrap_or_default();
        let unread = self.sampler.unread();
        Beside { unguarded, waits, unseen, own, helpers, unread, ..Beside::default() }
    }

    pub(super) fn follow(&mut self, commands: Vec<Command>) {
        for command in commands {
            match command {
                Command::Tell(happening) => self.tell(self.with_disk(*happening)),
                Command::Say(happening) => self.publish(Arc::new(*happening)),
                Command::Keep(ours) => {
                    let snapshot = std::mem::take(&mut self.snapshot);
                    let ended = self.kept.sample(&snapshot, *ours);
                    self.snapshot = snapshot;
                    if let Some(why) = ended {
                        self.say(News::Unrecorded(why));
                    }
                }
                Command::Fix(id) => self.fix(id),
                Command::Release(id) => {
                    self.fixed.remove(&id);
                }
                Command::Dismiss(id) => {
                    if let Some(standing) = self.standing.remove(&id) {
                        standing.release();
                    }
                }
                Command::Act(commission) => self.act(*commission),
                Command::Run(call) => self.call(*call),
                Command::Read(wish) => self.read(*wish),
                Command::Ask(asking) => self.have_asked(*asking),
                Command::Heard(ticket, heeded) => {
                    if let Some(reply) = self.answering.remove(&ticket) {
                        reply.say(&heeded);
                    }
                }
                Command::Said(ticket, ended) => self.heard(ticket, ended),
                Command::Reply(ticket, standing) => {
                    if let Some((about, reply)) = self.asked.remove(&ticket) {
                        let answer = self.answer(standing.map(|standing| *standing), self.snapshot.find(&about));
                        // Whoever asked may have gone.
                        let _ = reply.send(Reply::Why(Box::new(answer)));
                    }
                }
            }
        }
    }

    /// The process is fixed by a handle as soon as a breach begins to build up.
    fn fix(&mut self, id: ProcessId) {
        // Beyond that many the actuator takes its own when it comes to an act.
        if self.fixed.len() >= self.most_fixed {
            return;
        }
        if let Ok(handle) = Handle::open(&id) {
            let disk = here::disk_counters(id.pid).map(|counters| (here::monotonic(), counters));
            self.fixed.insert(id, Fixed { handle: Arc::new(handle), disk });
        }
    }

    /// With what a process has read and written a second since its breach began to build up: a sign of honest work, also
    /// where no rule asks for it.
    fn with_disk(&self, mut happening: Happening) -> Happening {
        let id = happening.subject.lead().map(|lead| lead.id);
        if let (What::Opened { grounds, .. }, Some(id)) = (&mut happening.what, id)
            && grounds.disk.is_none()
        {
            grounds.disk = self.disk_since_it_builds(&id);
        }
        happening
    }

    fn disk_since_it_builds(&self, id: &ProcessId) -> Option<[f64; 2]> {
        let (since, before) = self.fixed.get(id)?.disk?;
        let passed = here::monotonic().saturating_sub(since).as_secs_f64();
        let now = here::disk_counters(id.pid).filter(|_| passed > 0.0)?;
        let rate = |now: u64, before: u64| (now.saturating_sub(before) as f64 / passed).round();
        Some([rate(now.0, before.0), rate(now.1, before.1)])
    }

    /// An act, or the taking back of one, on a thread of its own.
    fn act(&mut self, commission: Commission) {
        let order = &commission.order;
        let ids = order.targets.iter().map(|process| process.id);
        let ids = ids.chain(order.whole.iter().flat_map(|whole| whole.members.iter().map(|(id, _)| *id)));
        let handles: SortedMap<ProcessId, Arc<Handle>> =
            ids.filter_map(|id| Some((id, Arc::clone(&self.fixed.get(&id)?.handle)))).collect();
        let standing = match (commission.resumes(), commission.target()) {
            (true, Some(target)) => self.standing.remove(&target.id),
            _ => None,
        };
        let actuator = Actuator { handles, direct: self.direct.clone(), lineage: None, standing };
        let (needs, leave) = (self.wants.of_everybody(), Arc::clone(&self.leave));
        let (recorder, scribe) = (self.recorder.clone(), self.scribe.clone());
        let if_not = commission.clone();
        let unfinished = move || Wake::Acted(Box::new(commissions::unfinished(if_not)), None);
        let report = Report::new(self.wake.clone(), unfinished);
        let crew = if commission.is_undo() { &self.crew.undos } else { &self.crew.acts };
        crew.give(move || {
            let (done, standing) = commissions::perform(commission, actuator, needs, &leave, (&recorder, &scribe));
            report.tell(Wake::Acted(Box::new(done), standing));
        });
    }

    /// A program of a rule, likewise.
    fn call(&mut self, call: Call) {
        let Some(intent) = self.scribe.record(&call.announced) else { return };
        let (recorder, helpers) = (self.recorder.clone(), self.helpers.clone());
        let if_not = call.clone();
        let report = Report::new(self.wake.clone(), move || Wake::Ran(Box::new(if_not), Outcome::unfinished()));
        self.crew.programs.give(move || {
            let outcome = program::call(&call.command, intent, &recorder, &helpers);
            report.tell(Wake::Ran(Box::new(call), outcome));
        });
    }

    /// The exact memory of a group, beside.
    fn read(&mut self, wish: MemoryWish) {
        let if_not = wish.clone();
        let rest = || here::monotonic() + group_memory::LONGEST_REST;
        let report = Report::new(self.wake.clone(), move || Wake::Memory(Box::new(if_not), None, rest()));
        self.crew.aside.give(move || {
            let (exact, from) = group_memory::read(&wish);
            report.tell(Wake::Memory(Box::new(wish), exact, from));
        });
    }
}
