//! Protection: unknown protects, and a name that anybody can give himself does not.

use sophron_core::condition::{Condition, Place};
use sophron_core::facts::Facts;
use sophron_core::model::Process;
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
    assert_eq!(reason("app = fernpanel", |_| {}), Some("[protect] in rules.toml".to_owned()));
    assert_eq!(reason("app = fernpanel", |process| process.names_mut().app = "labelpress".to_owned()), None);
}

#[test]
fn unknown_protects() {
    let unreadable = |process: &mut Process| process.names_mut().path = None;
    let said = reason("path = \"/opt/fernpanel\"", unreadable).unwrap();
    assert!(said.contains("path cannot be read"), "{said}");
    assert_eq!(reason("path = \"/opt/fernpanel\" and owner = root", unreadable), None, "known to be false");
}

#[test]
fn a_claim_protects_only_together_with_its_owner() {
    let claim = |process: &mut Process| process.names_mut().app_rests_on = sophron_core::model::Basis::proven(false);
    assert_eq!(reason("app = fernpanel", claim), None);
    assert_eq!(reason("not (app != fernpanel)", claim), None);
    assert_eq!(reason("app = fernpanel and threads = 1", claim), None);
    assert!(reason("app = fernpanel and owner = ines", claim).is_some());
    assert!(reason("app = fernpanel or owner = ines", claim).is_some());
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
