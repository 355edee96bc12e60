//! A watch and the rehearsal of what it recorded tell the same: one code decides in both, whatever the machine does and however
//! long acts take. And its trail tells at any moment what is in force.

use std::sync::Arc;
use std::time::Duration;

use jiff::tz::TimeZone;
use proptest::prelude::*;
use sophron_core::act::{Act, Ending, Originals, Outcome, Restoring};
use sophron_core::answer::Answer;
use sophron_core::audit::{InForce, Link};
use sophron_core::dispatch::{Asking, Beside, Command, Commission, Dispatcher, Done, Input, Word};
use sophron_core::happening::{Happening, What};
use sophron_core::model::ProcessId;
use sophron_core::protect::Protections;
use sophron_core::recording::{Header, Ours, Replay, Writer};
use sophron_core::rehearsal::Rehearsal;
use sophron_core::rules::RuleSet;
use sophron_core::sorted::SortedSet;
use sophron_core::stand_back::Whom;
use sophron_core::state::State;
use sophron_testkit::{World, process};

use crate::asking::incoming;
use crate::happening::scribe;
use crate::script::{MIB, load, seconds};
use crate::watch::{lowered, settings, suspended};

const RULES: &str = "[cap]\nacts = 10000\nterminations = 10000\n\
    [[rule]]\nname = 'leak'\nwhere = 'app = labelpress'\nbreach = 'memory.held > 700 MiB and avg(memory.held, 3s) > 500 MiB'\nlasting = '1s'\narmed = true\n\
    again = { after = '4s' }\nbudget = { cases = 3, per = '1h' }\n\
    ladder = [ { at = '0s', do = 'alert' }, { at = '1s', do = 'lower', nice = 12 }, { at = '2s', do = 'suspend', for = '2s' }, { at = '6s', do = 'terminate', ask = '5s' } ]\nkeep = { for = '4s', times = 2 }\n\
    [[rule]]\nname = 'family'\njudge = 'app'\nbreach = 'memory.held > 1200 MiB'\ncalm = 'memory.held < 900 MiB'\nlasting = '0s'\narmed = true\n\
    unasked = 'leave'\nladder = [ { at = '1s', do = 'lower', ask = '5s' }, { at = '4s', do = 'alert' } ]\n\
    [[rule]]\nname = 'machine'\njudge = 'machine'\nwhere = 'app = tilebaker'\nbreach = 'machine.memory.available < 300 MiB'\nlasting = '1s'\narmed = true\npick = 'most memory'\n\
    ladder = [ { at = '0s', do = 'lower', nice = 5 }, { at = '3s', do = 'terminate' } ]\n";

/// One second of the machine: what each process holds in MiB (above 1000 unknown), whether it is born anew if it is gone, what
/// is free, how many of the acts that are under way come to something before the sample, and what becomes of a question, or
/// is said of standing back.
type Second = (Vec<(u64, bool)>, u64, usize, usize);

fn second() -> impl Strategy<Value = Second> {
    let figures = prop::collection::vec((prop_oneof![3 => 600_u64..1000, 1 => 0_u64..1050], any::<bool>()), 4);
    (
        figures,
        prop_oneof![1 => 0_u64..300, 2 => 300_u64..900],
        0_usize..4,
        prop_oneof![9 => 0_usize..9, 1 => 20_usize..24],
    )
}

/// The watch, with a machine that does what it is told when it comes to it.
struct Live {
    world: World,
    dispatcher: Dispatcher,
    under_way: Vec<(Duration, Commission)>,
    asks: Vec<Asking>,
    told: Vec<String>,
    ours: Ours,
    generation: u64,
    /// What the trail says is in force.
    link: Link,
    in_force: InForce,
    /// Who is lowered in truth.
    lowered: SortedSet<ProcessId>,
}

impl Live {
    fn new(rules: &Arc<RuleSet>) -> Live {
        let app = |pid: u32| if pid < 12 { "labelpress" } else { "tilebaker" };
        Live {
            world: World::new((10..14).map(|pid| process(pid, app(pid))).collect()),
            dispatcher: Dispatcher::new(settings(), Arc::clone(rules), Protections::default(), 1),
            under_way: Vec::new(),
            asks: Vec::new(),
            told: Vec::new(),
            ours: Ours::default(),
            generation: 0,
            link: Link::default(),
            in_force: InForce::default(),
            lowered: SortedSet::new(),
        }
    }

    fn record(&mut self, happening: &Happening) {
        if let Some(draft) = scribe().record(happening) {
            let line = self.link.seal(&draft).unwrap();
            self.in_force.take(&serde_json::from_str(&line).unwrap());
        }
    }

    /// What the trail has as in force that is not, and what is in force that it does not have: by it the next start takes back.
    fn untold(&self) -> (Vec<ProcessId>, Vec<ProcessId>) {
        let lives = |id: &ProcessId| self.world.processes.iter().any(|process| process.id == *id);
        let stand = self.world.processes.iter().filter(|process| process.state == State::Suspended);
        let lowered = self.lowered.iter().copied().filter(lives);
        let truly: SortedSet<ProcessId> = stand.map(|process| process.id).chain(lowered).collect();
        let suspended = self.in_force.suspensions().map(|(id, _)| id);
        let told: SortedSet<ProcessId> =
            self.in_force.holds().map(|hold| hold.id).chain(suspended).filter(lives).collect();
        let only = |of: &SortedSet<ProcessId>, other: &SortedSet<ProcessId>| {
            of.iter().filter(|id| !other.contains(id)).copied().collect()
        };
        (only(&told, &truly), only(&truly, &told))
    }

    fn follow(&mut self, commands: Vec<Command>) {
        for command in commands {
            match command {
                Command::Act(commission) => {
                    let mut announced = commission.announced.clone();
                    if let What::Announced(act, about) = &mut announced.what
                        && matches!(**act, Act::Lower { .. })
                    {
                        about.originals = Some(Originals::default());
                    }
                    self.record(&announced);
                    self.under_way.push((self.world.moment.monotonic, *commission));
                }
                Command::Tell(happening) => {
                    self.record(&happening);
                    self.told.extend(words(&happening));
                }
                Command::Say(happening) => self.told.extend(words(&happening)),
                Command::Ask(asking) => {
                    self.record(&asking.asked);
                    self.told.extend(words(&asking.asked));
                    self.asks.push(*asking);
                }
                Command::Keep(ours) => self.ours = *ours,
                _ => {}
            }
        }
    }

    fn step(&mut self, input: Input<'_>) {
        let commands = self.dispatcher.step(self.world.moment, input);
        self.follow(commands);
    }

    /// What was under way for longest comes to what was wanted.
    fn come(&mut self) {
        if self.under_way.is_empty() {
            return;
        }
        let (_, commission) = self.under_way.remove(0);
        let id = commission.target().unwrap().id;
        let place = self.world.processes.iter().position(|process| process.id == id);
        let outcome = match (&commission.order.act, place) {
            (Act::Restore { still, .. }, Some(_)) => {
                if still.is_none() {
                    self.lowered.remove(&id);
                }
                Outcome::Restored(Restoring::default())
            }
            (_, None) => Outcome::Gone,
            (Act::Lower { nice, .. }, _) => {
                self.lowered.insert(id);
                lowered(*nice)
            }
            (Act::Suspend { length }, Some(place)) => {
                self.world.processes[place].state = State::Suspended;
                suspended(self.world.moment, *length)
            }
            (Act::Resume, Some(place)) => {
                self.world.processes[place].state = State::Running;
                Outcome::Resumed(None)
            }
            (Act::Terminate { .. } | Act::Restart, Some(place)) => {
                self.world.processes.remove(place);
                Outcome::Ended(Ending::default())
            }
        };
        self.step(Input::Acted(Box::new(Done { commission, outcome, took: seconds(0), announced: true })));
    }

    /// Somebody has rules stand back, or act again.
    fn word(&mut self, how: usize) {
        let whom = match how {
            0 => Whom::All,
            1 => Whom::Rule("leak".to_owned()),
            _ => Whom::process(&process(10, "labelpress")),
        };
        let length = (how < 3).then(|| seconds(4));
        let whom = if how < 3 { vec![whom] } else { vec![Whom::All] };
        self.step(Input::Word(Box::new(Word { ticket: 1, whom, length, by: scribe().who, because: None })));
    }

    /// What becomes of the latest question: it is shown, it cannot be, it is answered; or nothing.
    fn turn(&mut self, how: usize) {
        if how >= 20 {
            return self.word(how - 20);
        }
        let Some(question) = self.asks.last().map(|asking| asking.question.clone()) else { return };
        let number = question.number;
        match how {
            0..3 => self.step(Input::Shown(number, Ok("at the desk".to_owned()))),
            3 => self.step(Input::Shown(number, Err("locked".to_owned()))),
            4..7 => {
                let answer = Answer::ALL[how - 4].clone();
                self.step(Input::Answer(Box::new(incoming(Some(number), answer, question.person.0))));
            }
            _ => {}
        }
    }

    fn pass(&mut self, (figures, free, outcomes, turn): &Second) {
        self.world.pass(seconds(1));
        self.step(Input::Time);
        // No act takes longer than that.
        let late =
            self.under_way.iter().filter(|(since, _)| *since + seconds(4) <= self.world.moment.monotonic).count();
        (0..late.max(*outcomes)).for_each(|_| self.come());
        self.turn(*turn);
        for (place, (held, born)) in figures.iter().enumerate() {
            let pid = 10 + u32::try_from(place).unwrap();
            if *born && !self.world.processes.iter().any(|process| process.id.pid == pid) {
                self.generation += 1;
                let mut new = process(pid, if place < 2 { "labelpress" } else { "tilebaker" });
                new.id.start += self.generation;
                self.world.processes.push(new);
                self.world.processes.sort_by_key(|process| process.id.pid);
            }
            if let Some(process) = self.world.processes.iter_mut().find(|process| process.id.pid == pid) {
                process.memory_held = (*held < 1000).then_some(held * MIB);
            }
        }
        self.world.machine.memory_available = Some(free * MIB);
    }
}

/// What a sample brought: when, in which case, about whom, what, and with which verdict. What came of acts, and a case that closes
/// when that is known, no sample tells.
fn words(happening: &Happening) -> Option<String> {
    let told = happening.json(&TimeZone::UTC);
    match &happening.what {
        What::Opened { .. }
        | What::Reminded(_)
        | What::Easing { .. }
        | What::BreachedAgain(_)
        | What::Asks(..)
        | What::Decided { .. } => {}
        _ => return None,
    }
    let keys = ["at", "happened", "case", "rule", "subject", "step", "action", "came", "reading", "limit"];
    Some(keys.map(|key| told[key].to_string()).join(" "))
}

fn live(rules: &Arc<RuleSet>, course: &[Second]) -> (Vec<String>, String) {
    let mut live = Live::new(rules);
    let header = Header {
        sophron: "recording".to_owned(),
        format: 1,
        host: live.world.machine.host.clone(),
        boot: live.world.machine.boot.to_string(),
        every: 1.0,
        begun: live.world.moment.wall,
        zone: None,
        uid: 0,
    };
    let mut writer = Writer::new(header);
    let mut lines = String::new();
    for second in course {
        live.pass(second);
        let snapshot = live.world.snapshot();
        live.step(Input::Sample(&snapshot, &Beside::default()));
        lines += &writer.line(&snapshot, |_| true, std::mem::take(&mut live.ours)).unwrap();
    }
    (live.told, lines)
}

fn rehearsed(rules: &Arc<RuleSet>, lines: &str) -> Vec<String> {
    let mut rehearsal = Rehearsal::new(rules, rules.every, Protections::default(), None, TimeZone::UTC);
    let mut lines = lines.lines();
    let mut replay = Replay::begin(lines.next().unwrap().as_bytes()).unwrap();
    let mut told = Vec::new();
    for line in lines {
        let snapshot = replay.next(line.as_bytes()).unwrap().clone();
        rehearsal.take(&snapshot, replay.ours());
        told.extend(rehearsal.happenings().iter().filter_map(words));
    }
    told
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, ..ProptestConfig::default() })]

    /// Whoever is killed at any moment leaves a trail by which the next start takes everything back; and where nothing is under
    /// way it has nothing that is not in force.
    #[test]
    fn the_trail_tells_at_any_moment_what_is_in_force(course in prop::collection::vec(second(), 1..60)) {
        let mut live = Live::new(&load(RULES));
        for second in course {
            live.pass(&second);
            prop_assert_eq!(live.untold().1, vec![], "in force, and the trail does not tell");
            let snapshot = live.world.snapshot();
            live.step(Input::Sample(&snapshot, &Beside::default()));
            let (too_much, untold) = live.untold();
            prop_assert_eq!(untold, vec![], "in force, and the trail does not tell");
            prop_assert!(!live.dispatcher.is_settled() || too_much.is_empty(), "told, and not in force: {:?}", too_much);
        }
    }

    #[test]
    fn a_watch_and_its_rehearsal_tell_the_same(course in prop::collection::vec(second(), 1..60)) {
        let rules = load(RULES);
        let (told, lines) = live(&rules, &course);
        let again = rehearsed(&rules, &lines);
        for (place, (live, again)) in told.iter().zip(&again).enumerate() {
            prop_assert_eq!(live, again, "the {}th of {} and {}", place, told.len(), again.len());
        }
        prop_assert_eq!(&told[again.len().min(told.len())..], &again[told.len().min(again.len())..]);
    }
}
