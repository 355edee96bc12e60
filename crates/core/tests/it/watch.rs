//! A dispatcher on a made-up machine, with handed-in time: what it commands is kept, what it tells as well.

use std::sync::Arc;
use std::time::Duration;

use jiff::tz::TimeZone;
use sophron_core::act::{Act, Lowering, Only, Outcome, Standstill, Verb};
use sophron_core::audit::Draft;
use sophron_core::dispatch::{
    Asking, Beside, Call, Command, Commission, Dispatcher, Done, Hand, Heeded, Input, Settings,
};
use sophron_core::happening::{Happening, What};
use sophron_core::judge::MemoryWish;
use sophron_core::model::{Moment, ProcessId};
use sophron_core::protect::Protections;
use sophron_core::recording::Ours;
use sophron_core::rules::RuleSet;
use sophron_core::sorted::SortedSet;
use sophron_testkit::{World, process};

use crate::happening::scribe;
use crate::script::{MIB, PID, seconds};

pub fn settings() -> Settings {
    Settings { shadow: false, assumed: false, own: None, only: None, zone: TimeZone::UTC }
}

pub fn lowered(nice: i32) -> Outcome {
    Outcome::Lowered(Box::new(Lowering::assumed(nice, Only::Both)))
}

pub fn suspended(now: Moment, length: Duration) -> Outcome {
    let over = now.wall.checked_add(length).unwrap();
    let until = now.monotonic + length;
    Outcome::Suspended(Standstill { took: None, until, over, holds_locks: true, more: 0 })
}

/// A watch whose acts are under way until they are told to have come to something.
pub struct Watch {
    pub world: World,
    pub dispatcher: Dispatcher,
    pub under_way: Vec<Commission>,
    /// Programs that run.
    pub calls: Vec<Call>,
    pub wishes: Vec<MemoryWish>,
    /// What is to be asked, and what became of answers.
    pub asks: Vec<Asking>,
    pub heard: Vec<Heeded>,
    /// How many stand-backs each word has ended.
    pub said: Vec<usize>,
    pub told: Vec<Happening>,
    /// Of that, what is recorded.
    pub recorded: Vec<Happening>,
    /// Told, and not recorded.
    pub only_said: usize,
    pub beside: Beside,
    /// Fixed by a handle, and not released yet.
    pub fixed: SortedSet<ProcessId>,
    /// Whose guard is needed no longer.
    pub dismissed: Vec<ProcessId>,
    /// What the last sample keeps of the watcher.
    pub kept: Ours,
}

impl Watch {
    pub fn new(rules: &Arc<RuleSet>) -> Watch {
        Watch::with(rules, settings(), Protections::default())
    }

    pub fn with(rules: &Arc<RuleSet>, settings: Settings, protections: Protections) -> Watch {
        Watch {
            world: World::new(vec![process(PID, "labelpress")]),
            dispatcher: Dispatcher::new(settings, Arc::clone(rules), protections, 1),
            under_way: Vec::new(),
            calls: Vec::new(),
            wishes: Vec::new(),
            asks: Vec::new(),
            heard: Vec::new(),
            said: Vec::new(),
            told: Vec::new(),
            recorded: Vec::new(),
            only_said: 0,
            beside: Beside::default(),
            fixed: SortedSet::new(),
            dismissed: Vec::new(),
            kept: Ours::default(),
        }
    }

    pub fn follow(&mut self, commands: Vec<Command>) {
        for command in commands {
            match command {
                Command::Act(commission) => self.under_way.push(*commission),
                Command::Tell(happening) => {
                    self.recorded.push((*happening).clone());
                    self.told.push(*happening);
                }
                Command::Say(happening) => {
                    self.only_said += 1;
                    self.told.push(*happening);
                }
                Command::Run(call) => self.calls.push(*call),
                Command::Read(wish) => self.wishes.push(*wish),
                Command::Fix(id) => assert!(self.fixed.insert(id), "{id:?} has a handle already"),
                Command::Release(id) => assert!(self.fixed.remove(&id), "{id:?} has no handle"),
                Command::Dismiss(id) => self.dismissed.push(id),
                Command::Keep(ours) => self.kept = *ours,
                Command::Ask(asking) => {
                    self.told.push(asking.asked.clone());
                    self.asks.push(*asking);
                }
                Command::Heard(_, heeded) => self.heard.push(heeded),
                Command::Said(_, ended) => self.said.push(ended.len()),
                Command::Reply(..) => {}
            }
        }
    }

    pub fn step(&mut self, input: Input<'_>) {
        let commands = self.dispatcher.step(self.world.moment, input);
        self.follow(commands);
    }

    /// That many samples a second apart, with that much held.
    pub fn ticks(&mut self, count: u64, held: u64) {
        for _ in 0..count {
            self.world.pass(seconds(1));
            for process in &mut self.world.processes {
                process.memory_held = Some(held * MIB);
            }
            self.step(Input::Time);
            self.sample();
        }
    }

    /// A sample of this very moment.
    pub fn sample(&mut self) {
        let snapshot = self.world.snapshot();
        let commands = self.dispatcher.step(snapshot.moment, Input::Sample(&snapshot, &self.beside));
        self.follow(commands);
    }

    /// The oldest act that is under way came to this.
    pub fn came(&mut self, outcome: Outcome) -> Act {
        self.done(outcome, true)
    }

    /// The same where it was not even announced.
    pub fn came_unannounced(&mut self, outcome: Outcome) {
        self.done(outcome, false);
    }

    fn done(&mut self, outcome: Outcome, announced: bool) -> Act {
        let commission = self.under_way.remove(0);
        let act = commission.order.act.clone();
        self.step(Input::Acted(Box::new(Done { commission, outcome, took: Duration::ZERO, announced })));
        act
    }

    pub fn acts(&self) -> Vec<String> {
        self.under_way.iter().map(|commission| commission.order.act.to_string()).collect()
    }

    /// The words of what was told since the last time it was asked.
    pub fn words(&mut self) -> Vec<String> {
        let lines = std::mem::take(&mut self.told);
        lines.iter().filter_map(|happening| Some(happening.line(&TimeZone::UTC)?.word.to_owned())).collect()
    }

    /// The records of what was told since the last time it was asked, and the intents of what is under way.
    pub fn drafts(&mut self) -> Vec<Draft> {
        let announced: Vec<_> = self.under_way.iter().map(|commission| commission.announced.clone()).collect();
        let told = std::mem::take(&mut self.told);
        told.iter().chain(&announced).filter_map(|happening| scribe().record(happening)).collect()
    }

    /// What `ines` did by hand.
    pub fn hand(&mut self, pid: u32, verb: Verb, length: Option<Duration>) {
        let process = self.world.process(pid).clone();
        self.step(Input::Hand(Box::new(Hand { process, verb, length, by: "ines".to_owned() })));
    }

    /// What became of the steps that were due since the last time words were asked for.
    pub fn verdicts(&self) -> Vec<&'static str> {
        let verdict = |what: &What| match what {
            What::Decided { verdict, .. } => Some(verdict.word()),
            _ => None,
        };
        self.told.iter().filter_map(|happening| verdict(&happening.what)).collect()
    }
}
