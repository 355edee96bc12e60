//! A judge on a made-up machine, told by script what passes between its ticks.

use std::sync::Arc;
use std::time::Duration;

use sophron_core::judge::{Event, Judge, Tick};
use sophron_core::rules::{self, RuleSet};
use sophron_core::sorted::SortedSet;
use sophron_core::stand_back::StandsBack;
use sophron_testkit::{World, process};

pub const PID: u32 = 51907;
pub const MIB: u64 = 1 << 20;

pub fn seconds(count: u64) -> Duration {
    Duration::from_secs(count)
}

/// A rules file of one rule on `labelpress` with a limit of 750 MiB held, sampled every second.
pub fn rule(keys: &str) -> Arc<RuleSet> {
    load(&format!(
        "[[rule]]\nname = 'press-leak'\nwhere = 'app = \"labelpress\"'\nbreach = 'memory.held > 750 MiB'\narmed = true\n{keys}"
    ))
}

pub fn load(text: &str) -> Arc<RuleSet> {
    let text = format!("format = 1\nevery = '1s'\n{text}");
    Arc::new(rules::load(text.as_bytes()).unwrap_or_else(|rejected| panic!("{text}\n{:?}", rejected.errors)))
}

pub struct Script {
    pub world: World,
    pub judge: Judge,
    pub suspended: bool,
    pub busy: bool,
    /// From whom rules stand back.
    pub back: StandsBack,
    pub zone: jiff::tz::TimeZone,
    /// Whether outcomes are told at once, as if every act took no time.
    pub prompt: bool,
}

impl Script {
    pub fn new(rules: &Arc<RuleSet>) -> Script {
        let world = World::new(vec![process(PID, "labelpress")]);
        let zone = jiff::tz::TimeZone::UTC;
        Script {
            world,
            judge: Judge::new(rules, 1),
            suspended: false,
            busy: false,
            back: StandsBack::default(),
            zone,
            prompt: true,
        }
    }

    /// One tick after `passed`, with that much memory held; `None` cannot be read.
    pub fn tick_after(&mut self, passed: Duration, held: Option<u64>) -> Vec<String> {
        self.world.pass(passed);
        self.world.process(PID).memory_held = held.map(|mib| mib * MIB);
        self.judge_now()
    }

    /// A tick a second later.
    pub fn tick(&mut self, held: u64) -> Vec<String> {
        self.tick_after(seconds(1), Some(held))
    }

    /// That many ticks, a second apart; what happened at which of them.
    pub fn ticks(&mut self, count: u64, held: u64) -> Vec<String> {
        (1..=count).flat_map(|tick| self.tick(held).into_iter().map(move |word| format!("{tick}:{word}"))).collect()
    }

    pub fn judge_now(&mut self) -> Vec<String> {
        let events = self.events_now();
        events.iter().map(|event| self.word(event)).collect()
    }

    pub fn events_now(&mut self) -> Vec<Event> {
        let snapshot = self.world.snapshot();
        let ids: SortedSet<_> = snapshot.processes.iter().map(|process| process.id).collect();
        let (none, none_of_ours) = (SortedSet::new(), SortedSet::new());
        self.judge.tick(
            &snapshot,
            &Tick {
                suspended: if self.suspended { &ids } else { &none },
                busy: if self.busy { &ids } else { &none },
                helpers: &none_of_ours,
                only: None,
                back: &self.back,
                zone: &self.zone,
            },
        )
    }

    fn word(&mut self, event: &Event) -> String {
        match event {
            Event::Building { .. } => "building".to_owned(),
            Event::Remind { .. } => "remind".to_owned(),
            Event::HoursEnded { .. } => "hours ended".to_owned(),
            Event::Revised { .. } => "revised".to_owned(),
            Event::Abandoned { .. } => "abandoned".to_owned(),
            Event::Opened { case } => format!("opened {case}"),
            Event::Easing { .. } => "easing".to_owned(),
            Event::BreachedAgain { .. } => "again".to_owned(),
            Event::Closed { case, why } => format!("closed {} {why:?}", case.number),
            Event::Due { case, step } => {
                let word = self
                    .judge
                    .case(*case)
                    .map(|found| self.judge.rule(&found.rule).unwrap().ladder[*step].action.word());
                if self.prompt {
                    self.judge.settled(*case, None, true);
                }
                word.unwrap_or_default().to_owned()
            }
        }
    }

    pub fn clock(&self) -> Duration {
        self.judge.cases().next().map(|case| case.ladder.clock).expect("an open case")
    }
}
