//! Recordings: what was sampled is what is replayed; damage is an error with its line, never more.

use std::time::Duration;

use proptest::prelude::*;
use sophron_core::model::Snapshot;
use sophron_core::recording::{Header, Ours, ReadError, Replay, Writer};
use sophron_core::state::State;
use sophron_testkit::{World, process};

fn header(world: &World) -> Header {
    Header {
        sophron: "recording".to_owned(),
        format: 1,
        host: world.machine.host.clone(),
        boot: world.machine.boot.to_string(),
        every: 2.0,
        begun: world.moment.wall,
        zone: None,
        uid: 0,
    }
}

/// Three samples with a birth, an end, a reused PID, a nap, and figures that change; the last of them, and the lines.
fn day() -> (Vec<Snapshot>, String) {
    let mut world = World::new(vec![process(10, "plantledger"), process(20, "labelpress")]);
    let mut writer = Writer::new(header(&world));
    let mut lines = String::new();
    let mut snapshots = Vec::new();
    let mut take = |world: &World| {
        lines.push_str(&writer.line(&world.snapshot(), |_| true, Ours::default()).unwrap());
        snapshots.push(world.snapshot());
    };
    take(&world);
    world.pass(Duration::from_secs(2));
    let press = world.process(20);
    press.memory_held = Some(812 << 20);
    press.cpu_time = Duration::from_millis(1500);
    press.cpu = Some(75.0);
    let mut baker = process(30, "tilebaker");
    baker.cpu = Some(50.0);
    baker.cpu_time = Duration::from_secs(1);
    baker.age = Duration::from_secs(1);
    world.processes.push(baker);
    world.machine.cpu = Some(61.5);
    take(&world);
    world.nap(Duration::from_secs(3600));
    world.pass(Duration::from_secs(2));
    world.processes.remove(0);
    world.process(20).id.start += 7;
    world.process(20).cpu = None;
    world.process(30).nice = 10;
    world.process(30).cpu = Some(0.0);
    take(&world);
    (snapshots, lines)
}

#[test]
fn what_was_sampled_is_what_is_replayed() {
    let (snapshots, lines) = day();
    let mut lines = lines.lines();
    let mut replay = Replay::begin(lines.next().unwrap().as_bytes()).unwrap();
    for (line, wanted) in lines.zip(&snapshots) {
        let found = replay.next(line.as_bytes()).unwrap();
        assert_eq!(found.moment.wall, wanted.moment.wall);
        assert_eq!(found.machine.cpu, wanted.machine.cpu);
        assert_eq!(found.processes.len(), wanted.processes.len());
        for (found, wanted) in found.processes.iter().zip(&wanted.processes) {
            assert_eq!((found.id, &found.names), (wanted.id, &wanted.names));
            assert_eq!(
                (found.memory_held, found.nice, found.cpu_time),
                (wanted.memory_held, wanted.nice, wanted.cpu_time)
            );
        }
    }
    let last = replay.next(b"{\"t\":6000,\"b\":3606000}").unwrap();
    assert_eq!(last.interval, Some(Duration::from_secs(2)), "a nap is no interval");
    assert_eq!(last.process(30).map(|baker| (baker.cpu, baker.age.as_secs())), Some((Some(0.0), 3605)));
}

/// Unknown stays unknown: a load that could not be read is no load of 0, and a figure that is read no more does not keep its
/// last value.
#[test]
fn what_becomes_unknown_is_unknown_when_it_is_replayed() {
    let mut world = World::new(vec![process(20, "labelpress")]);
    world.machine.iowait = Some(12.5);
    world.machine.load = None;
    let mut writer = Writer::new(header(&world));
    let mut lines = writer.line(&world.snapshot(), |_| true, Ours::default()).unwrap();
    world.pass(Duration::from_secs(2));
    (world.machine.iowait, world.machine.cpu, world.machine.load) = (None, Some(7.5), Some([1.0, 0.5, 0.25]));
    world.process(20).memory_held = None;
    lines += &writer.line(&world.snapshot(), |_| true, Ours::default()).unwrap();
    world.pass(Duration::from_secs(2));
    (world.machine.load, world.machine.memory_available) = (None, None);
    lines += &writer.line(&world.snapshot(), |_| true, Ours::default()).unwrap();
    let mut lines = lines.lines();
    let mut replay = Replay::begin(lines.next().unwrap().as_bytes()).unwrap();
    let mut next = || replay.next(lines.next().unwrap().as_bytes()).unwrap().clone();
    let (first, second, third) = (next(), next(), next());
    assert_eq!((first.machine.load, first.machine.iowait), (None, Some(12.5)));
    assert_eq!((second.machine.load, second.machine.iowait), (Some([1.0, 0.5, 0.25]), None));
    assert_eq!((first.processes[0].memory_held, second.processes[0].memory_held), (Some(30 << 20), None));
    assert_eq!((third.machine.load, third.machine.memory_available, third.machine.cpu), (None, None, Some(7.5)));
}

#[test]
fn rates_follow_from_the_clocks() {
    let (_, lines) = day();
    let lines: Vec<&str> = lines.lines().collect();
    let mut replay = Replay::begin(lines[0].as_bytes()).unwrap();
    assert_eq!(replay.next(lines[1].as_bytes()).unwrap().process(20).unwrap().cpu, None, "the first only primes");
    let second = replay.next(lines[2].as_bytes()).unwrap();
    assert_eq!(second.process(20).unwrap().cpu, Some(75.0));
    assert_eq!(second.process(30).unwrap().cpu, Some(50.0), "born since the last sample");
}

#[test]
fn files_that_are_no_recordings() {
    let begin = |line: &str| Replay::begin(line.as_bytes()).err().map(|error| error.to_string());
    assert!(matches!(Replay::begin(b"hello"), Err(ReadError::Foreign)));
    assert!(matches!(Replay::begin(b"{\"format\":1}"), Err(ReadError::Foreign)));
    assert!(begin("{\"sophron\":\"recording\",\"format\":2}").unwrap().contains("newer version"));
    let (_, lines) = day();
    let mut lines = lines.lines();
    let mut replay = Replay::begin(lines.next().unwrap().as_bytes()).unwrap();
    let error = replay.next(b"{\"t\":0,\"c\":[[99,{\"nice\":3}]]}").unwrap_err().to_string();
    assert_eq!(error, "line 2 is damaged: process 99 changes before it is there");
}

proptest! {
    #[test]
    fn no_damage_crashes_the_reader(at in any::<prop::sample::Index>(), byte: u8) {
        let (_, lines) = day();
        let mut bytes = lines.into_bytes();
        let at = at.index(bytes.len());
        bytes[at] = byte;
        let mut lines = bytes.split(|byte| *byte == b'\n');
        if let Ok(mut replay) = Replay::begin(lines.next().unwrap_or_default()) {
            for line in lines {
                if replay.next(line).is_err() {
                    break;
                }
            }
        }
    }
}

/// Figures as a sample may show them, or not; of a process and of the machine.
fn figures() -> impl Strategy<Value = Vec<Option<u32>>> {
    prop::collection::vec(prop::option::of(0_u32..1_000_000), 16)
}

fn set(world: &mut World, of: &[Option<u32>]) {
    let size = |place: usize| of[place].map(u64::from);
    let rate = |place: usize| of[place].map(|value| value as f32);
    let percent = |place: usize| of[place].map(|value| f64::from(value) / 8.0);
    let press = world.process(20);
    (press.memory, press.memory_held, press.memory_swapped) = (size(0), size(1), size(2));
    (press.memory_virtual, press.disk_read, press.disk_write) = (size(3), rate(4), rate(5));
    press.nice = of[6].map_or(0, |value| i32::try_from(value % 40).unwrap() - 20);
    press.threads = of[7].unwrap_or(1);
    press.state = if of[8].is_some() { State::Waiting } else { State::Sleeping };
    press.names_mut().command = of[9].map(|value| format!("labelpress --spool {value}"));
    press.names_mut().unit = of[10].map(|value| format!("press-{value}.service"));
    let machine = &mut world.machine;
    (machine.cpu, machine.iowait, machine.files_full) = (percent(11), percent(12), percent(13));
    (machine.memory_available, machine.swap_used) = (size(14), size(15));
    machine.load = of[11].map(|value| [f64::from(value), 0.5, 0.25]);
    machine.running = of[12];
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

    /// Whatever a sample shows, and whatever becomes unknown or known again from one to the next, is what is replayed.
    #[test]
    fn any_figures_are_replayed_as_they_were(course in prop::collection::vec(figures(), 1..8)) {
        let mut world = World::new(vec![process(10, "plantledger"), process(20, "labelpress")]);
        let mut writer = Writer::new(header(&world));
        let (mut lines, mut wanted) = (String::new(), Vec::new());
        for of in &course {
            world.pass(Duration::from_secs(2));
            set(&mut world, of);
            lines += &writer.line(&world.snapshot(), |_| true, Ours::default()).unwrap();
            wanted.push(world.snapshot());
        }
        let mut lines = lines.lines();
        let mut replay = Replay::begin(lines.next().unwrap().as_bytes()).unwrap();
        for (line, wanted) in lines.zip(&wanted) {
            let found = replay.next(line.as_bytes()).unwrap();
            let told = |snapshot: &Snapshot| {
                let press = snapshot.process(20).unwrap();
                let memory = [press.memory, press.memory_held, press.memory_swapped, press.memory_virtual];
                let names = (press.command.clone(), press.unit.clone(), press.owner.clone(), press.path.clone());
                (memory, press.disk_read, press.disk_write, press.nice, press.threads, press.state, names)
            };
            prop_assert_eq!(told(found), told(wanted));
            let of_machine = |snapshot: &Snapshot| {
                let machine = &snapshot.machine;
                let sizes = [machine.memory_available, machine.swap_used];
                (machine.cpu, machine.iowait, machine.files_full, sizes, machine.load, machine.running)
            };
            prop_assert_eq!(of_machine(found), of_machine(wanted));
        }
    }
}
