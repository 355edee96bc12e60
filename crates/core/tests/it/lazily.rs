//! What is read only where something hangs on it gives the same cases at the same ticks as what is read in full at every tick.

use std::sync::Arc;
use std::time::Duration;

use proptest::prelude::*;
use proptest::test_runner::TestRunner;
use sophron_core::cost::Every;
use sophron_core::dispatch::{Beside, Command, Commission, Dispatcher, Input, Settings, Wants};
use sophron_core::model::{Cost, Needs, Process, ProcessId, Promise, Reader, Snapshot};
use sophron_core::protect::Protections;
use sophron_core::rules::RuleSet;
use sophron_core::sorted::SortedMap;
use sophron_core::state::State;
use sophron_testkit::{World, process};

use crate::happening::scribe;
use crate::script::{MIB, load, seconds};
use crate::watch::settings;

/// Ticks within which everybody is read in full.
const TURN: u32 = 10;

/// How fast the fastest fill memory: bytes a nanosecond of their CPU time, resident and held.
const FASTEST: [f64; 2] = [30.0, 14.0];

/// What happens to a process between two ticks.
#[derive(Debug, Clone)]
enum Life {
    Rests,
    /// Uses so much CPU, of which that share fills memory as fast as can be.
    Runs(Duration, f64),
    Shrinks(f64),
    /// Waits for children that have used so much, of one core.
    Reaps(f64),
    /// Becomes another program, or another owner's.
    Execs(u8),
    Forks,
    Ends,
    /// More threads, milder.
    Changes(u32, i32),
    Zombie,
    /// Others write to its memory: no clock of its own tells of that.
    Written(u64),
}

fn lives() -> impl Strategy<Value = Vec<Vec<Life>>> {
    let used = prop_oneof![3 => 1u64..50, 3 => 50u64..900, 1 => 900u64..4000].prop_map(Duration::from_millis);
    let one = prop_oneof![
        40 => Just(Life::Rests),
        20 => (used, prop_oneof![4 => Just(0.0), 4 => 0.0..0.05, 2 => 0.05..1.0]).prop_map(|(used, share)| Life::Runs(used, share)),
        3 => (0.1..1.0).prop_map(Life::Shrinks),
        3 => (0.1..4.0).prop_map(Life::Reaps),
        2 => (0u8..4).prop_map(Life::Execs),
        1 => Just(Life::Forks),
        1 => Just(Life::Ends),
        2 => (1u32..200, 0i32..19).prop_map(|(threads, nice)| Life::Changes(threads, nice)),
        1 => Just(Life::Zombie),
    ];
    // Some are long enough for windows of which a slot is two ticks.
    let ticks = prop_oneof![4 => 20..90usize, 1 => 130..190usize];
    ticks.prop_flat_map(move |ticks| prop::collection::vec(prop::collection::vec(one.clone(), 6), ticks))
}

fn rules() -> impl Strategy<Value = String> {
    let wheres = prop_oneof![
        4 => Just(""),
        2 => Just("where = 'app = \"labelpress\"'"),
        1 => Just("where = 'owner != ines'"),
        1 => Just("where = 'memory.held > 50 MiB'"),
        1 => Just("where = 'threads < 50 and app in (labelpress, sheetlamp)'"),
    ];
    let conditions = [
        "memory > 300 MiB",
        "memory >= 2 GiB",
        "memory.held > 200 MiB",
        "memory.part > 20%",
        "cpu > 60%",
        "cpu >= 150%",
        "cpu.time > 3s",
        "threads > 100",
        "nice > 5",
        "disk.read > 1 MB/s",
        "memory < 30 MiB",
        "memory > memory.held",
        "growth(memory, 4s) > 100 MiB",
        "growth(memory.held) > 150 MiB",
        "peak(memory.held, 5s) > 250 MiB",
        "avg(cpu, 3s) > 40%",
        "avg(memory, 3s) > 200 MiB",
        "low(memory, 3s) > 100 MiB",
        "avg(disk, 3s) > 500 kB/s",
        "avg(disk, 2m) < 100 kB/s",
        "avg(disk.read, 2m) > 300 kB/s",
        "avg(faults, 2m) > 2",
        "avg(cpu, 2m) > 20%",
        "avg(cpu.children, 2m) > 25%",
        "avg(cpu.children, 3s) > 60%",
        "climb(memory.held, 2m) > 20 MiB",
        "growth(memory.held, 2m) > 100 MiB",
        "low(memory, 2m) < 90 MiB",
        "avg(threads, 2m) > 20",
        "age > 615s",
    ];
    let judge = prop_oneof![5 => Just("process"), 1 => Just("app"), 1 => Just("owner"), 1 => Just("tree")];
    let breach = (prop::sample::select(conditions.to_vec()), prop::sample::select(conditions.to_vec()), 0..4u8)
        .prop_map(|(one, other, how)| match how {
            0 => one.to_owned(),
            1 => format!("{one} and {other}"),
            2 => format!("{one} or {other}"),
            _ => format!("{one} and not ({other})"),
        });
    let rule = (wheres, breach, judge, 0..4u8);
    prop::collection::vec(rule, 1..6).prop_map(|rules| {
        let one = |(at, (covers, breach, judge, lasting)): (usize, (&str, String, &str, u8))| {
            // Of a group not every field means something.
            let breach = if judge == "process" { breach } else { breach.replace("nice > 5", "cpu > 70%").replace("memory > memory.held", "memory > 400 MiB") };
            let covers = if judge == "tree" && covers.is_empty() { "where = 'app = \"labelpress\"'" } else { covers };
            format!("[[rule]]\nname = 'r{at}'\njudge = '{judge}'\n{covers}\nbreach = '{breach}'\nlasting = '{lasting}s'\nladder = [ {{ at = '0s', do = 'alert' }}, {{ at = '3s', do = 'terminate' }} ]\n")
        };
        rules.into_iter().enumerate().map(one).collect()
    })
}

/// The world as it is, and who reads of it only what he has to.
struct Stage {
    world: World,
    next_pid: u32,
    /// What the reader knows, by PID.
    known: SortedMap<u32, Process>,
    tick: u32,
    unnamed: bool,
    files_read: usize,
}

impl Stage {
    fn new(wants: &Wants) -> Stage {
        let of = |at: u32| {
            let mut process = process(1000 + at * 7, ["labelpress", "sheetlamp", "herbarium"][at as usize % 3]);
            process.names_mut().owner = ["ines", "tomas"][at as usize % 2].to_owned();
            process.uid = 1001 + at % 2;
            process.parent = if at < 3 { 1 } else { 1000 };
            process.has_counted(Duration::ZERO);
            process
        };
        let world = World::new((0..6).map(of).collect());
        let unnamed = wants.none_by_others();
        Stage { world, next_pid: 2000, known: SortedMap::new(), tick: 0, unnamed, files_read: 0 }
    }

    fn pass(&mut self, lives: &[Life]) {
        self.world.pass(seconds(1));
        let mut born = Vec::new();
        for (at, process) in self.world.processes.iter_mut().enumerate() {
            process.age += seconds(1);
            let before = process.cpu_time;
            let ran = |process: &mut Process, used: Duration| process.cpu_time += used;
            // Whoever has ended does nothing any more.
            let life = if process.state == State::Zombie { &Life::Rests } else { &lives[at % lives.len()] };
            match life {
                Life::Rests => {}
                Life::Runs(used, share) => {
                    ran(process, *used);
                    let grown = |pace: f64| (used.as_nanos() as f64 * share * pace) as u64;
                    process.memory = process.memory.map(|memory| memory + grown(FASTEST[0]));
                    process.memory_held = process.memory_held.map(|held| held + grown(FASTEST[1]));
                    process.disk_read = Some(if *share > 0.02 { 2e6 } else { 0.0 });
                }
                Life::Shrinks(to) => {
                    ran(process, Duration::from_millis(3));
                    process.memory = process.memory.map(|memory| (memory as f64 * to) as u64);
                    process.memory_held = process.memory_held.map(|held| (held as f64 * to) as u64);
                }
                Life::Reaps(cores) => {
                    ran(process, Duration::from_millis(2));
                    (process.waited, process.faults) = (Some((cores * 100.0) as f32), Some(40.0));
                }
                Life::Execs(program) => {
                    ran(process, Duration::from_millis(5));
                    process.names_mut().app =
                        ["labelpress", "sheetlamp", "herbarium", "fernpanel"][*program as usize].to_owned();
                    (process.memory, process.memory_held) = (Some(9 * MIB), Some(5 * MIB));
                }
                Life::Forks => {
                    ran(process, Duration::from_millis(2));
                    let id = ProcessId { pid: self.next_pid, start: u64::from(self.next_pid), ..process.id };
                    let parent = process.id.pid;
                    process.has_counted(Duration::ZERO);
                    born.push(Process {
                        id,
                        parent,
                        cpu_time: Duration::ZERO,
                        cpu: Some(0.0),
                        age: Duration::ZERO,
                        ..process.clone()
                    });
                    self.next_pid += 1;
                }
                Life::Ends => process.threads = 0,
                Life::Changes(threads, nice) => {
                    ran(process, Duration::from_millis(1));
                    (process.threads, process.nice) = (*threads, *nice);
                }
                Life::Zombie => {
                    ran(process, Duration::from_millis(1));
                    (process.state, process.threads) = (State::Zombie, 1);
                }
                Life::Written(bytes) => {
                    process.memory = process.memory.map(|memory| memory + bytes);
                    process.memory_held = process.memory_held.map(|held| held + bytes);
                }
            }
            let used = process.cpu_time - before;
            process.cpu = Some(used.as_secs_f64() * 100.0);
            if used.is_zero() {
                (process.disk_read, process.disk_write, process.faults) = (Some(0.0), Some(0.0), Some(0.0));
            }
            if !matches!(life, Life::Reaps(_)) {
                process.waited = Some(0.0);
            }
            process.has_counted(seconds(1));
        }
        let gone: Vec<u32> =
            self.world.processes.iter().filter(|process| process.threads == 0).map(|process| process.id.pid).collect();
        self.world.processes.retain(|process| process.threads > 0);
        for process in &mut self.world.processes {
            if gone.contains(&process.parent) {
                process.parent = 1;
            }
        }
        if self.world.processes.len() < 12 {
            self.world.processes.extend(born);
        }
        self.world.processes.sort_by_key(|process| process.id.pid);
    }

    /// A sample as a reader takes it who reads only who it is of whoever ran and is not promised to need no look.
    fn sample(&mut self, before: &Snapshot) -> Snapshot {
        self.tick += 1;
        let mut sample = self.world.snapshot();
        for process in &mut sample.processes {
            let promise = before.find(&process.id).map_or(Promise::NONE, |before| before.promise);
            let now = process.clone();
            let known = self.known.entry(process.id.pid).or_insert_with(|| now.clone());
            let is_new = before.find(&process.id).is_none();
            if is_new || process.id.pid % TURN == self.tick % TURN {
                *known = Process { read_at: [used(&now); 2], ..now };
                process.promise = promise;
                continue;
            }
            let moved = known.cpu_time != now.cpu_time;
            let lost_its_parent = known.parent != now.parent;
            let mut seen = Process { cpu: now.cpu, cpu_time: now.cpu_time, age: now.age, ..known.clone() };
            (seen.promise, seen.stale, seen.quiet) = (promise, Needs::FILES, false);
            seen.outrun = if moved { Needs::FILES } else { seen.outrun };
            let rates = (seen.cpu_time, seen.cpu);
            let in_time = promise.is_in_time(sample.moment.monotonic);
            if !moved {
                (seen.disk_read, seen.disk_write, seen.faults) = (Some(0.0), Some(0.0), Some(0.0));
                seen.waited = Some(0.0);
                seen.quiet = in_time && promise.being().holds(rates.0, rates.1);
            } else if in_time && self.unnamed && promise.whoever().holds(rates.0, rates.1) {
                seen.quiet = true;
            } else {
                self.files_read += 1;
                who_it_is(&mut seen, &now);
                seen.quiet = in_time && seen.promise.being().holds(rates.0, rates.1);
            }
            if lost_its_parent {
                who_it_is(&mut seen, &now);
                (seen.promise, seen.quiet) = (Promise::NONE, false);
            }
            *known = seen.clone();
            *process = seen;
        }
        sample
    }

    fn reader(&mut self) -> OnDemand<'_> {
        OnDemand { truth: &self.world.processes, known: &mut self.known, files_read: &mut self.files_read }
    }
}

/// CPU time used, nanoseconds.
fn used(process: &Process) -> u64 {
    process.cpu_time.as_nanos() as u64
}

/// What comes with `stat`: who it is, whose, and what it does.
fn who_it_is(seen: &mut Process, now: &Process) {
    if seen.names != now.names || seen.uid != now.uid {
        seen.promise = Promise::NONE;
        (seen.names, seen.uid) = (now.names.clone(), now.uid);
    }
    (seen.parent, seen.threads, seen.nice, seen.state) = (now.parent, now.threads, now.nice, now.state);
    (seen.faults, seen.waited) = (now.faults, now.waited);
    seen.counts.set_faults(now.counts.faults().expect("it has counted"));
    seen.counts.set_children(now.counts.children().expect("it has counted"));
    seen.stale = seen.stale.without(Needs::NONE.with(Cost::Stat));
    seen.outrun = seen.outrun.without(Needs::NONE.with(Cost::Stat));
}

#[derive(Debug)]
struct OnDemand<'s> {
    truth: &'s [Process],
    known: &'s mut SortedMap<u32, Process>,
    files_read: &'s mut usize,
}

impl Reader for OnDemand<'_> {
    fn read(&mut self, process: &mut Process, needs: Needs) {
        let now = self.truth.iter().find(|truth| truth.id == process.id).expect("it is there");
        let wanted = process.stale.only(needs);
        let known = self.known.get_mut(&process.id.pid).expect("it is known");
        if wanted.has(Cost::Stat) {
            who_it_is(process, now);
        }
        if wanted.has(Cost::Statm) {
            (process.memory, process.memory_virtual) = (now.memory, now.memory_virtual);
            process.read_at[0] = used(now);
        }
        if wanted.has(Cost::Status) {
            (process.memory_held, process.memory_shared) = (now.memory_held, now.memory_shared);
            process.memory_swapped = now.memory_swapped;
            process.read_at[1] = used(now);
        }
        if wanted.has(Cost::Io) {
            (process.disk_read, process.disk_write) = (now.disk_read, now.disk_write);
            process.counts.set_disk(now.counts.disk());
        }
        process.stale = process.stale.without(needs);
        process.outrun = process.outrun.without(needs);
        *known = process.clone();
        *self.files_read += 1;
    }
}

/// What a dispatcher tells, as it would be recorded. The exact memory of groups is read at once.
fn told(dispatcher: &mut Dispatcher, commands: Vec<Command>, world: &World) -> Vec<String> {
    let mut told = Vec::new();
    for command in commands {
        match command {
            Command::Tell(happening) => told.push(format!("{:?}", scribe().record(&happening))),
            Command::Read(wish) => {
                let members = world.processes.iter().filter(|process| wish.members.contains(&process.id));
                let bytes = members.filter_map(|process| process.memory).sum::<u64>() / 10 * 9;
                let _ = dispatcher.step(world.moment, Input::Memory(wish, Some((bytes, 0)), Duration::ZERO));
            }
            _ => {}
        }
    }
    told
}

/// Both courses: who reads everything, and who reads what he has to; and how many files that one read.
fn courses(rules: &Arc<RuleSet>, lives: &[Vec<Life>]) -> ([Vec<Vec<String>>; 2], usize) {
    let wants = Wants::of(rules);
    let mut stage = Stage::new(&wants);
    let settings = Settings { shadow: true, ..settings() };
    let new = || Dispatcher::new(settings.clone(), Arc::clone(rules), Protections::default(), 1);
    let (mut full, mut lazy) = (new(), new());
    let mut before = Snapshot::default();
    let mut told_by = [Vec::new(), Vec::new()];
    for (at, one) in lives.iter().enumerate() {
        stage.pass(one);
        let whole = stage.world.snapshot();
        if at == lives.len() * 2 / 3 {
            // Windows are full earlier from here on.
            let slower = || Every { every: seconds(2), used: 1.2, asked: seconds(1) };
            let _ = full.step(whole.moment, Input::Every(slower()));
            let _ = lazy.step(whole.moment, Input::Every(slower()));
        }
        let commands = full.step(whole.moment, Input::Sample(&whole, &Beside::default()));
        told_by[0].push(told(&mut full, commands, &stage.world));
        let mut sample = stage.sample(&before);
        let beside = Beside::default();
        let commands = lazy.step(whole.moment, Input::Look(&mut sample, &mut stage.reader(), &beside));
        told_by[1].push(told(&mut lazy, commands, &stage.world));
        before = sample;
    }
    (told_by, stage.files_read)
}

#[test]
fn what_is_read_lazily_comes_to_the_same() {
    // PROPTEST_CASES=10000 tries more of them.
    let mut runner = TestRunner::new(ProptestConfig::default());
    let cases_opened = std::cell::Cell::new(0);
    let outcome = runner.run(&(rules(), lives()), |(text, lives)| {
        let ([full, lazy], _) = courses(&load(&text), &lives);
        cases_opened
            .set(cases_opened.get() + full.iter().flatten().filter(|told| told.contains("kind: Breach")).count());
        for (at, (full, lazy)) in full.iter().zip(&lazy).enumerate() {
            prop_assert_eq!(full, lazy, "at tick {}", at);
        }
        Ok(())
    });
    outcome.unwrap();
    assert!(cases_opened.get() > 500, "too little happened: {}", cases_opened.get());
}

/// Memory that others write is no news of a process's own clock: it is seen in its turn.
#[test]
fn what_others_write_is_seen_within_ten_ticks() {
    let rules = load("[[rule]]\nname = 'big'\nbreach = 'memory > 300 MiB'\nlasting = '0s'\n");
    for at in 0..6 {
        let rest = vec![Life::Rests; 6];
        let mut lives = vec![rest.clone(); 30];
        lives[12][at] = Life::Written(900 * MIB);
        let ([full, lazy], _) = courses(&rules, &lives);
        let first = |told: &[Vec<String>]| told.iter().position(|told| !told.is_empty()).expect("a case");
        assert_eq!(first(&full), 12);
        assert!((12..12 + TURN as usize).contains(&first(&lazy)), "{}", first(&lazy));
    }
}

/// And it reads next to nothing of who rests: everybody once in ten ticks.
#[test]
fn of_who_rests_nothing_is_read() {
    let rules = load(
        "[[rule]]\nname = 'big'\nbreach = 'memory > 900 MiB'\nlasting = '1s'\n[[rule]]\nname = 'held'\nbreach = 'memory.held > 900 MiB and cpu > 50%'\nlasting = '1s'\n",
    );
    let (_, read) = courses(&rules, &vec![vec![Life::Rests; 6]; 60]);
    assert_eq!(read, 0);
    let little = Life::Runs(Duration::from_micros(300), 0.0);
    let (_, read) = courses(&rules, &vec![vec![little; 6]; 60]);
    assert_eq!(read, 0, "nor of who runs a little, whoever he is");
}

/// Windows take what costs a file once a slot, of whoever has run since; of who rests nothing.
#[test]
fn windows_are_filled_at_the_borders_of_their_slots() {
    let rules = load(
        "[[rule]]\nname = 'leak'\nwhere = 'not kernel'\nbreach = 'memory.held > 900 MiB and climb(memory.held, 10m) > 20 MiB and avg(disk, 10m) < 100 kB/s'\nlasting = '1s'\n",
    );
    let (_, read) = courses(&rules, &vec![vec![Life::Rests; 6]; 60]);
    assert_eq!(read, 0);
    // A slot is ten ticks: of six processes in sixty ticks 36 times, and each time who it is, what it holds and what it moved.
    let little = Life::Runs(Duration::from_micros(300), 0.0);
    let (_, read) = courses(&rules, &vec![vec![little; 6]; 60]);
    assert!((36..=36 * 3 + 6).contains(&read), "{read}");
}

/// Whom a rule comes to cover has its windows filled from then on, however long its breach stays false.
#[test]
fn windows_are_filled_as_soon_as_a_rule_covers() {
    let rules = load(
        "[[rule]]\nname = 'long'\nwhere = 'memory.held > 50 MiB'\nbreach = 'cpu.time > 3s and not (growth(memory, 4s) > 900 MiB)'\nlasting = '0s'\n",
    );
    let mut lives = vec![vec![Life::Rests; 6]; 25];
    lives[11][0] = Life::Runs(Duration::from_millis(10), 1.0);
    lives[17][0] = Life::Runs(Duration::from_secs(4), 0.0);
    let ([full, lazy], _) = courses(&rules, &lives);
    let first = |told: &[Vec<String>]| told.iter().position(|told| !told.is_empty());
    assert_eq!((first(&full), first(&lazy)), (Some(17), Some(17)));
}

/// Where one part of a breach stays unknown whatever is read, the other parts are read all the same.
#[test]
fn a_window_that_fills_keeps_nobody_from_being_read() {
    let breach = "avg(cpu.children, 3s) > 60% or memory.held > 200 MiB";
    let rules = load(&format!(
        "[[rule]]\nname = 'r'\njudge = 'tree'\nwhere = 'app = \"labelpress\"'\nbreach = '{breach}'\nlasting = '0s'\n"
    ));
    let mut lives = vec![vec![Life::Rests; 6]; 20];
    // There is a tree again only from when the first of it is covered again: its window begins to fill then.
    lives[4][0] = Life::Execs(1);
    lives[12][4] = Life::Runs(Duration::from_millis(16), 0.65);
    lives[13][0] = Life::Execs(0);
    let ([full, lazy], _) = courses(&rules, &lives);
    assert_eq!(full, lazy);
    assert!(!full[13].is_empty());
}

/// Says of everybody that he has been moved into the unit of the press.
#[derive(Debug)]
struct Moved;

const PRESS: &str = "/system.slice/press.service";

impl Reader for Moved {
    fn read(&mut self, process: &mut Process, needs: Needs) {
        process.names_mut().group = Some(PRESS.to_owned());
        process.stale = process.stale.without(needs);
    }
}

/// How far a lowering or a restart reaches hangs on who is in the same control group: of who rests that is read for it, and at no tick
/// before.
#[test]
fn the_groups_of_others_are_read_for_an_act() {
    let lowered = act_on_the_press("do = 'lower', nice = 10");
    assert!(!lowered.order.reach.whole_unit, "another is in it by now");
    let restarted = act_on_the_press("do = 'restart'");
    assert!(restarted.order.mates.iter().any(|mate| mate.id.pid == 11), "another is in it by now");
    let lowers = "breach = 'cpu > 50%'\nlasting = '3s'\nladder = [ { at = '2s', do = 'lower', nice = 10 } ]";
    let rules = load(&format!("[[rule]]\nname = 'spin'\n{lowers}\n"));
    assert!(Wants::of(&rules).for_acts().has(Cost::Cgroup));
}

fn act_on_the_press(step: &str) -> Box<Commission> {
    let keys = format!("breach = 'cpu > 50%'\nlasting = '3s'\narmed = true\nladder = [ {{ at = '2s', {step} }} ]");
    let rules = load(&format!("[[rule]]\nname = 'spin'\n{keys}\n"));
    let mut world = World::new(vec![process(10, "labelpress"), process(11, "sheetlamp")]);
    world.process(10).cpu = Some(99.0);
    world.process(10).names_mut().group = Some(PRESS.to_owned());
    let mut dispatcher = Dispatcher::new(settings(), rules, Protections::default(), 1);
    // At the first tick everything is read of everybody.
    for tick in 0..300 {
        world.pass(seconds(1));
        let mut sample = world.snapshot();
        sample.processes[1].stale = Needs::NONE.with(Cost::Cgroup);
        let commands = dispatcher.step(world.moment, Input::Look(&mut sample, &mut Moved, &Beside::default()));
        let act = commands.into_iter().find_map(|command| match command {
            Command::Act(commission) => Some(commission),
            _ => None,
        });
        assert_eq!(sample.processes[1].stale.is_none(), tick == 0 || act.is_some());
        if let Some(commission) = act {
            return commission;
        }
    }
    panic!("{step}: nothing is done");
}
