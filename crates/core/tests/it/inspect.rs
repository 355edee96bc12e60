//! What a process does, and what hangs on it.

use std::time::Duration;

use sophron_core::inspect::{Answer, Sightings, ThreadSeen, Wait, ancestors, family, judge};
use sophron_core::model::{Boot, Process, ProcessId, Snapshot};
use sophron_core::state::State;

fn process(pid: u32, parent: u32, app: &str, unit: &str) -> Process {
    let mut process = Process::unread(ProcessId { pid, start: u64::from(pid), boot: Boot(1) });
    (process.parent, process.session) = (parent, pid);
    let names = process.names_mut();
    (names.app, names.unit) = (app.to_owned(), Some(unit.to_owned()));
    process
}

#[test]
fn a_service_ends_with_its_main_process() {
    let service = "kioskview.service";
    let snapshot = Snapshot {
        processes: vec![
            process(1, 0, "groundkeeper", "init.scope"),
            process(20, 1, "kioskview", service),
            process(21, 20, "kioskview", service),
            process(22, 21, "trailmap", service),
            process(23, 21, "trailmap", service),
        ],
        ..Snapshot::default()
    };
    let main = family(&snapshot, &snapshot.processes[1]);
    assert_eq!((main.children, main.descendants), (1, 3));
    assert_eq!(main.apps[0], ("trailmap".to_owned(), 2));
    assert!(main.ends_with_it[0].contains("ends its 3 other processes"), "{:?}", main.ends_with_it);
    let child = family(&snapshot, &snapshot.processes[2]);
    assert!(child.goes_on.unwrap().contains("its 2 children go on"));
    assert!(family(&snapshot, &snapshot.processes[4]).ends_with_it.is_empty());
    let names: Vec<u32> = ancestors(&snapshot, &snapshot.processes[4]).iter().map(|parent| parent.id.pid).collect();
    assert_eq!(names, [21, 20, 1]);
}

fn thread(cpu: f64) -> ThreadSeen {
    ThreadSeen {
        tid: 752,
        name: "labelpress".to_owned(),
        cpu: Some(cpu),
        looks: 20,
        running: if cpu > 50.0 { 20 } else { 0 },
        waiting: 0,
        state: State::Sleeping,
        yields: Some(0.0),
        waits: Vec::new(),
    }
}

fn seen(threads: Vec<ThreadSeen>) -> Sightings {
    Sightings {
        length: Duration::from_secs(5),
        looks: 20,
        threads,
        moved: Some(0.0),
        growth: Some(0.0),
        ..Sightings::default()
    }
}

fn answer(sightings: &Sightings) -> Answer {
    let doing = judge(sightings).unwrap();
    assert!(!doing.evidence.is_empty());
    doing.answer
}

#[test]
fn a_full_core_is_work_only_where_something_shows_it() {
    assert_eq!(answer(&seen(vec![thread(0.1), thread(99.0)])), Answer::Spinning);
    for working in [
        Sightings { moved: Some(2e6), ..seen(vec![thread(99.0)]) },
        Sightings { growth: Some(9e6), ..seen(vec![thread(99.0)]) },
        seen(vec![ThreadSeen { yields: Some(300.0), ..thread(99.0) }]),
        seen(vec![thread(30.0), thread(40.0)]),
    ] {
        assert_eq!(answer(&working), Answer::Working);
    }
    // Others want that core as well.
    let contested = ThreadSeen { running: 20, ..thread(47.0) };
    assert_eq!(answer(&seen(vec![contested])), Answer::SpinningSlowed);
    // Eight of them on two cores: each is one of those who take the cores, and none a victim.
    let crowded = |cpu: f64| ThreadSeen { running: 19, ..thread(cpu) };
    assert_eq!(answer(&seen(vec![crowded(4.0)])), Answer::SpinningSlowed);
    assert_eq!(answer(&seen(vec![crowded(22.0)])), Answer::SpinningSlowed);
    // What may not be read speaks neither way.
    let dark = Sightings { moved: None, growth: None, ..seen(vec![thread(99.0)]) };
    assert_eq!(answer(&dark), Answer::Spinning);
}

#[test]
fn idle_hands_wait_for_something() {
    let pipe = ThreadSeen { waits: vec![(Wait::Pipe, 20)], ..thread(0.0) };
    assert_eq!(answer(&seen(vec![pipe])), Answer::Waiting(Wait::Pipe));
    let ready = ThreadSeen { running: 19, yields: Some(30.0), ..thread(4.0) };
    assert_eq!(answer(&seen(vec![ready])), Answer::Waiting(Wait::Core));
    assert_eq!(answer(&seen(vec![thread(0.0)])), Answer::Waiting(Wait::Other("sleeping".to_owned())));
}

#[test]
fn what_does_not_go_on() {
    let stuck = ThreadSeen { waiting: 20, state: State::Waiting, waits: vec![(Wait::NetworkDisk, 20)], ..thread(0.0) };
    assert_eq!(answer(&seen(vec![stuck.clone()])), Answer::Stuck(Some(Wait::NetworkDisk)));
    // A writer is found in the kernel at every look as well, but it gets on.
    let writer = Sightings { moved: Some(5e6), ..seen(vec![ThreadSeen { cpu: Some(3.0), ..stuck }]) };
    assert_eq!(answer(&writer), Answer::Working);
    let suspended = ThreadSeen { state: State::Suspended, ..thread(0.0) };
    assert_eq!(answer(&seen(vec![suspended.clone(), suspended.clone()])), Answer::Suspended);
    assert_ne!(answer(&seen(vec![suspended.clone(), thread(0.0)])), Answer::Suspended);
    assert_eq!(answer(&Sightings { frozen: true, ..seen(vec![thread(0.0)]) }), Answer::Frozen);
    let zombie = ThreadSeen { state: State::Zombie, ..thread(0.0) };
    assert_eq!(answer(&seen(vec![zombie])), Answer::Zombie);
    assert_eq!(judge(&seen(Vec::new())), None);
}
