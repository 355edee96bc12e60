//! Protection: unknown protects, and a name that anybody can give himself does not.

use sophron_core::condition::{Condition, Place};
use sophron_core::facts::Facts;
use sophron_core::model::{Basis, Process};
use sophron_core::protect::Protections;
use sophron_testkit::{World, process};

fn reason(condition: &str, change: impl FnOnce(&mut Process)) -> Option<String> {
    let mut world = World::new(vec![process(2000, "fernpanel")]);
    change(world.process(2000));
    let condition = Condition::parse(condition, Place::Protect).unwrap();
    let protections = Protections { conditions: vec![(condition, "rules.toml".to_owned())], ..Protections::default() };
    let snapshot = world.snapshot();
    protections.reason(&Facts::new(&snapshot.processes[0], &snapshot.machine))
}

#[test]
fn a_known_match_protects_and_a_known_miss_does_not() {
    let panel = "app = fernpanel and owner = ines";
    assert_eq!(reason(panel, |_| {}), Some("[protect] in rules.toml".to_owned()));
    assert_eq!(reason(panel, |process| process.names_mut().app = "labelpress".to_owned()), None);
}

#[test]
fn unknown_protects() {
    let unreadable = |process: &mut Process| process.names_mut().path = None;
    let said = reason("path = \"/opt/fernpanel\"", unreadable).unwrap();
    assert!(said.contains("path cannot be read"), "{said}");
    assert_eq!(reason("path = \"/opt/fernpanel\" and owner = root", unreadable), None, "known to be false");
}

/// Anybody can give his program a name, and start the one that stands at a path with a library of his own in it.
#[test]
fn a_name_protects_only_together_with_whose_it_is() {
    let proven = |process: &mut Process| {
        let names = process.names_mut();
        (names.app_rests_on, names.path_rests_on) = (Basis::Proof, Basis::Proof);
        (names.unit, names.group) =
            (Some("fernpanel.service".to_owned()), Some("/system.slice/fernpanel.service".to_owned()));
    };
    for alone in [
        "app = fernpanel",
        "path = \"/opt/mossgate/fernpanel\"",
        "not (app != fernpanel)",
        "app = fernpanel and threads = 1",
        "app = fernpanel and owner != root",
        "app = fernpanel and not (owner = root)",
    ] {
        assert_eq!(reason(alone, proven), None, "{alone}");
        assert!(reason(alone, |process| process.uid = 0).is_some() || alone.contains("root"), "{alone}: of root's own");
    }
    for whose in [
        "app = fernpanel and owner = ines",
        "app = fernpanel and uid in (1001, 1002)",
        "app = fernpanel or owner = ines",
        "app = fernpanel and unit = \"fernpanel.service\"",
    ] {
        assert!(reason(whose, proven).is_some(), "{whose}");
    }
    let own_unit = |process: &mut Process| {
        let group = "/user.slice/user-1001.slice/user@1001.service/app.slice/fernpanel.service";
        let names = process.names_mut();
        (names.unit, names.group) = (Some("fernpanel.service".to_owned()), Some(group.to_owned()));
    };
    assert_eq!(reason("app = fernpanel and unit = \"fernpanel.service\"", own_unit), None);
}

/// Below a user's own service manager, or in a container, anybody can call his group like a service of the machine.
#[test]
fn a_unit_protects_only_where_the_machine_vouches_for_it() {
    let by = |unit: &'static str, group: &'static str| {
        reason(&format!("unit = \"{unit}\""), |process| {
            process.names_mut().unit = Some(unit.to_owned());
            process.names_mut().group = Some(group.to_owned());
        })
    };
    assert!(by("gatekeys.service", "/system.slice/gatekeys.service").is_some());
    let user = "/user.slice/user-1001.slice/user@1001.service/app.slice/gatekeys.service";
    assert_eq!(by("gatekeys.service", user), None);
    assert!(by("x.scope", "/system.slice/x.scope/system.slice/gatekeys.service").is_some(), "the container's own");
}

#[test]
fn the_built_in_protections() {
    let mut world = World::new(vec![
        process(1, "init"),
        process(40, "terminal"),
        process(50, "shell"),
        process(60, "sophron"),
        process(70, "kworker"),
    ]);
    for (pid, parent) in [(40, 1), (50, 40), (60, 50)] {
        world.process(pid).parent = parent;
    }
    world.process(70).kernel = true;
    let snapshot = world.snapshot();
    let mut protections = Protections { own: [60].into(), ..Protections::default() };
    protections.refresh_ancestors(&snapshot, 60);
    let said = |process: &Process| protections.reason(&Facts::new(process, &snapshot.machine));
    let reasons: Vec<Option<String>> = snapshot.processes.iter().map(said).collect();
    insta::assert_debug_snapshot!(reasons, @r#"
    [
        Some(
            "PID 1: the machine ends with it",
        ),
        Some(
            "Sophron was started from it",
        ),
        Some(
            "Sophron was started from it",
        ),
        Some(
            "Sophron itself",
        ),
        Some(
            "a kernel thread",
        ),
    ]
    "#);
}
