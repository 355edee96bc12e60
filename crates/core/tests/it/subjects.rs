//! What is judged as one: sums, bounds, keys, and who counts.

use sophron_core::judge::Event;
use sophron_core::model::{Field, GroupUse, Passing, Process};
use sophron_core::subject::{Judged, SubjectKey};
use sophron_testkit::{World, process};

use crate::script::{MIB, Script, load, seconds};

fn rule(judge: &str, keys: &str) -> Script {
    let mut script = Script::new(&load(&format!(
        "[[rule]]\nname = 'a'\njudge = '{judge}'\nlasting = '0s'\narmed = true\nladder = [ {{ at = '0s', do = 'alert' }} ]\n{keys}"
    )));
    script.world = World::new(Vec::new());
    script
}

fn with(pid: u32, app: &str, change: impl FnOnce(&mut Process)) -> Process {
    let mut made = process(pid, app);
    change(&mut made);
    made
}

fn tick(script: &mut Script) -> Vec<String> {
    script.world.pass(seconds(1));
    script.judge_now()
}

fn members(script: &Script) -> Vec<u32> {
    script.judge.cases().flat_map(|case| case.members.iter().map(|id| id.pid)).collect()
}

/// A program of the same name that another user starts pushes nobody over a limit.
#[test]
fn an_app_is_one_owners() {
    let mut script = rule("app", "where = 'app = tilebaker'\nbreach = 'cpu > 100%'");
    let busy = |pid, uid| {
        with(pid, "tilebaker", |process| {
            process.cpu = Some(60.0);
            process.uid = uid;
        })
    };
    script.world.processes = vec![busy(10, 1001), busy(11, 1002)];
    assert_eq!(tick(&mut script), Vec::<String>::new());
    script.world.processes.push(busy(12, 1001));
    assert_eq!(tick(&mut script), ["building", "opened 1", "alert"]);
    assert_eq!(members(&script), [10, 12]);
    let key = script.judge.cases().next().unwrap().key.clone();
    assert_eq!(key, SubjectKey::App { uid: 1001, app: "tilebaker".to_owned() });
    script.world.processes.retain(|process| process.uid == 1002);
    assert_eq!(tick(&mut script), ["closed 1 Ended"], "none of them is left");
}

/// What a user's containers run as is his; and what the kernel counts for a unit, or for a user's slice, is used, whoever of them
/// was seen to. What others use in his slice is theirs.
#[test]
fn what_an_owner_uses_is_counted_to_him() {
    let mut script = rule("owner", "where = 'not kernel'\nbreach = 'cpu > 100%'");
    let busy = |pid, uid, person| {
        with(pid, "tilebaker", |process| {
            (process.cpu, process.uid) = (Some(60.0), uid);
            process.names_mut().person = person;
            process.names_mut().group = Some("/user.slice/user-1001.slice/session-3.scope".to_owned());
        })
    };
    script.world.processes = vec![busy(10, 1001, None), busy(11, 100_999, None)];
    assert_eq!(tick(&mut script), Vec::<String>::new());
    script.world.processes.push(busy(12, 100_998, Some(1001)));
    assert_eq!(tick(&mut script), ["building", "opened 1", "alert"]);
    assert_eq!(members(&script), [10, 12]);
    script.world.processes.pop();
    let slice = |cpu| vec![GroupUse { group: "/user.slice/user-1001.slice".to_owned(), cpu }];
    script.world.machine.groups = slice(165.0);
    assert_eq!(tick(&mut script), Vec::<String>::new(), "105% of that is his: the breach goes on");
    script.world.machine.groups = slice(150.0);
    assert_eq!(tick(&mut script), ["easing"]);
    // What came and went, where the kernel tells of it, and there is no clock of the slice.
    script.world.machine.groups = Vec::new();
    let passing = |uid, cpu| Passing { owner: "mara".to_owned(), uid, name: "mill".to_owned(), count: 25, cpu };
    script.world.machine.passing = vec![passing(1001, 30.0), passing(1001, 15.0), passing(1002, 90.0)];
    assert_eq!(tick(&mut script), ["again"]);
    // A rule that goes by the program as well knows nothing of the programs of those it did not see.
    let mut script = rule("owner", "where = 'app = tilebaker'\nbreach = 'cpu > 100%'");
    script.world.processes = vec![
        busy(10, 1001, None),
        with(11, "sheetlamp", |process| {
            (process.cpu, process.uid) = (Some(90.0), 1001);
            process.names_mut().group = Some("/user.slice/user-1001.slice/session-3.scope".to_owned());
        }),
    ];
    script.world.machine.groups = slice(150.0);
    script.world.machine.passing = vec![passing(1001, 90.0)];
    assert_eq!(tick(&mut script), Vec::<String>::new());
    let mut script = rule("unit", "where = 'unit = \"sheetlamp.service\"'\nbreach = 'cpu > 100%'");
    script.world.processes = vec![with(10, "sheetlamp", |process| {
        let names = process.names_mut();
        (names.unit, names.group) =
            (Some("sheetlamp.service".to_owned()), Some("/system.slice/sheetlamp.service".to_owned()));
    })];
    assert_eq!(tick(&mut script), Vec::<String>::new());
    script.world.machine.groups = vec![GroupUse { group: "/system.slice/sheetlamp.service".to_owned(), cpu: 101.0 }];
    assert_eq!(tick(&mut script), ["building", "opened 1", "alert"]);
}

/// All that descends from the topmost match belongs to a tree, whatever it matches; time of ended children counts.
#[test]
fn a_tree_is_rooted_at_the_topmost_match() {
    let mut script = rule("tree", "where = 'app = tilebaker'\nbreach = 'cpu > 100%'");
    script.world.processes = vec![
        with(10, "tilebaker", |process| process.cpu = Some(5.0)),
        with(11, "tilebaker", |process| {
            process.parent = 10;
            process.waited = Some(50.0);
        }),
        with(12, "sh", |process| {
            process.parent = 11;
            process.cpu = Some(50.0);
        }),
        with(13, "sh", |process| process.cpu = Some(300.0)),
    ];
    assert_eq!(tick(&mut script), ["building", "opened 1", "alert"]);
    assert_eq!(members(&script), [10, 11, 12]);
    assert_eq!(
        script.judge.cases().next().unwrap().measure.as_ref().unwrap().reading.as_ref().unwrap().scaled(),
        "105%"
    );
}

/// The resident sum counts shared pages more than once: below the limit it decides, above it the exact sum is asked for.
#[test]
fn the_memory_of_a_group_is_bounded_until_it_is_read() {
    let mut script = rule("app", "where = 'app = kioskview'\nbreach = 'memory > 750 MiB'");
    let kiosk = |pid, mib: u64| with(pid, "kioskview", |process| process.memory = Some(mib * MIB));
    script.world.processes = vec![kiosk(10, 300), kiosk(11, 300)];
    assert_eq!(tick(&mut script), Vec::<String>::new());
    assert!(
        script.judge.wishes().is_empty() && script.judge.status().next().unwrap().1.unjudged == 0,
        "the bound decides"
    );
    script.world.processes.push(kiosk(12, 300));
    assert_eq!(tick(&mut script), Vec::<String>::new());
    assert_eq!(
        script.judge.status().next().unwrap().1.unjudged,
        1,
        "at most 900 MiB is not over 750 MiB, and not under"
    );
    let wish = script.judge.wishes()[0].clone();
    assert_eq!(wish.members.len(), 3);
    script.judge.memory_read(&wish, 700 * MIB);
    assert_eq!(tick(&mut script), Vec::<String>::new());
    assert!(script.judge.wishes().is_empty(), "read lately, and the sum has not moved");
    script.world.process(12).memory = Some(330 * MIB);
    tick(&mut script);
    let wish = script.judge.wishes()[0].clone();
    script.judge.memory_read(&wish, 760 * MIB);
    assert_eq!(tick(&mut script), ["building", "opened 1", "alert"]);
}

#[test]
fn owners_units_and_the_machine() {
    let mut script = rule("owner", "breach = 'instances > 2'");
    script.world.processes =
        vec![process(10, "a"), process(11, "b"), process(12, "c"), with(13, "d", |process| process.uid = 7)];
    assert_eq!(tick(&mut script), ["building", "opened 1", "alert"]);
    assert_eq!(members(&script), [10, 11, 12]);

    let mut script = rule("unit", "where = 'unit = \"sheetlamp.service\"'\nbreach = 'threads > 5'");
    let of_unit = |pid, group: &str| {
        with(pid, "sheetlamp", |process| {
            process.names_mut().unit = Some("sheetlamp.service".to_owned());
            process.names_mut().group = Some(group.to_owned());
            process.threads = 4;
        })
    };
    script.world.processes =
        vec![of_unit(10, "/system.slice/sheetlamp.service"), of_unit(11, "/user.slice/sheetlamp.service")];
    assert_eq!(tick(&mut script), Vec::<String>::new(), "the same unit name of another manager is another unit");
    script.world.processes.push(of_unit(12, "/system.slice/sheetlamp.service"));
    assert_eq!(tick(&mut script), ["building", "opened 1", "alert"]);

    let mut script = rule("machine", "breach = 'machine.memory.available < 1 GiB'");
    assert_eq!(tick(&mut script), Vec::<String>::new());
    script.world.machine.memory_available = Some(512 * MIB);
    assert_eq!(tick(&mut script), ["building", "opened 1", "alert"]);
    assert!(members(&script).is_empty());
}

/// While one member is suspended by us, nothing is judged of its group.
#[test]
fn a_suspended_member_holds_its_group() {
    let mut script = rule("app", "breach = 'cpu > 50%'");
    script.world.processes = vec![with(10, "sheetlamp", |process| process.cpu = Some(99.0)), process(11, "sheetlamp")];
    assert_eq!(tick(&mut script), ["building", "opened 1", "alert"]);
    script.suspended = true;
    script.world.process(10).cpu = Some(0.0);
    assert_eq!(tick(&mut script), Vec::<String>::new());
    assert_eq!(script.clock(), seconds(1));
}

#[test]
fn a_field_that_means_nothing_for_a_subject_is_an_error() {
    for (judge, breach) in
        [("app", "nice > 5"), ("machine", "cpu > 5%"), ("owner", "pid > 5"), ("tree", "state = zombie")]
    {
        let text =
            format!("format = 1\n[[rule]]\nname = 'a'\njudge = '{judge}'\nbreach = '{breach}'\nlasting = '1s'\n");
        let rejected = sophron_core::rules::load(text.as_bytes()).expect_err(breach);
        assert!(rejected.errors[0].title.contains("means nothing for"), "{:?}", rejected.errors);
    }
    for judged in Judged::ALL {
        assert!(judged.summing(Field::MachineCpu).is_some(), "a figure of the machine stands beside any subject's");
    }
}

/// The same sample gives the same events, whatever the order in which groups were first seen.
#[test]
fn a_group_that_gains_a_member_goes_on() {
    let mut script = rule("app", "breach = 'cpu > 50%'\ncalm = 'cpu < 10%'");
    script.world.processes = vec![with(10, "sheetlamp", |process| process.cpu = Some(99.0))];
    tick(&mut script);
    script.world.processes.push(process(11, "sheetlamp"));
    let events = {
        script.world.pass(seconds(1));
        script.events_now()
    };
    assert!(!events.iter().any(|event| matches!(event, Event::Opened { .. } | Event::Closed { .. })), "{events:?}");
    assert_eq!(members(&script), [10, 11]);
}
