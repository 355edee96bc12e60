//! Rules that judge several processes as one, on real families.

use std::os::unix::fs::PermissionsExt;

use sophron_testkit::{ControlGroup, StandIn, children, eventually, is_gone, is_root, is_suspended, nices};

use crate::stage;

fn rule(keys: &str) -> String {
    format!("format = 1\nevery = '250ms'\n[[rule]]\nname = 'a'\narmed = true\nlasting = '500ms'\n{keys}\n")
}

/// All members of an app are acted on, and nobody else's program of that name counts.
#[test]
fn an_app_is_lowered_as_one_and_another_owners_does_not_count() {
    if !sophron_testkit::can_be_lowered() {
        return;
    }
    let stage = stage();
    let rules = rule(
        "judge = 'app'\nwhere = 'app = \"tilebaker\" and {mine}'\nbreach = 'instances > 2'\n\
         ladder = [ { at = '0s', do = 'lower', nice = 12 } ]",
    );
    let rules = stage.write("rules.toml", rules);
    let baker = stage.offender("tilebaker", &["--children", "2"]);
    let family = eventually("its children", || Some(children(baker.pid())).filter(|children| children.len() == 2));
    let watcher = stage.watch(&rules, &[]);
    for pid in family.iter().chain([&baker.pid()]) {
        eventually("lowered", || nices(*pid).iter().all(|nice| *nice == 12).then_some(()));
    }
    eventually("recorded", || stage.story(baker.pid()).contains(&"outcome lower lowered".to_owned()).then_some(()));
    let breach = stage.records().into_iter().find(|record| record["kind"] == "breach").unwrap();
    assert_eq!((&breach["subject"]["of"]["judge"], &breach["subject"]["of"]["processes"]), (&"app".into(), &3.into()));
    let (_, status) = watcher.interrupt();
    assert_eq!(status, Some(0));
    if is_root() {
        assert!(family.iter().all(|pid| nices(*pid) == [0]), "a clean end undoes all of it");
    }
}

/// A tree of short-lived children: their CPU counts though no sample sees them, and it is ended whole.
#[test]
fn a_tree_of_short_lived_children_is_ended_whole() {
    let stage = stage();
    let command = stage.command(&[]);
    let line = format!(
        "while :; do {} misbehave --cpu 100% --for 80ms > /dev/null; done",
        command.get_program().to_string_lossy()
    );
    let mut baker = std::process::Command::new("sh").args(["-c", &line]).spawn().unwrap();
    let rules = stage.write(
        "rules.toml",
        rule(&format!(
            "judge = 'tree'\nwhere = 'pid = {}'\nbreach = 'cpu > 25%'\n\
             ladder = [ {{ at = '0s', do = 'terminate', force_after = '5s' }} ]",
            baker.id()
        )),
    );
    let watcher = stage.watch(&rules, &[]);
    eventually("the root is gone", || is_gone(baker.id()).then_some(()));
    baker.wait().unwrap();
    eventually("recorded", || stage.records().into_iter().find(|record| record["kind"] == "outcome"));
    drop(watcher);
    let outcome = stage.records().into_iter().find(|record| record["kind"] == "outcome").unwrap();
    assert!(outcome["result"]["seen"].as_str().unwrap().contains("with its tree of "), "{outcome}");
    // Nobody of it is left: what it started ran from this stage's program, or was a copy of the shell.
    let left =
        stage.json(&["list", "--where", &format!("command ~ \"*{}*\"", stage.path("").display()), "--format", "json"]);
    assert!(left["rows"].as_array().unwrap().iter().all(|row| row["app"] != "sh"), "{left}");
}

/// The resident sum is over the limit and decides nothing: the exact sum is read beside the ticks, and that does. Asked
/// why, the watcher tells the group's own reading.
#[test]
fn the_memory_of_a_group_is_read_where_its_bound_does_not_decide() {
    let stage = stage();
    let text = rule("judge = 'app'\nwhere = 'app = \"tilebaker\" and {mine}'\nbreach = 'memory > 40 MiB'\n");
    let rules = stage.write("rules.toml", text);
    let baker = stage.offender("tilebaker", &["--children", "2", "--grow", "100MiB/s", "--up-to", "30MiB"]);
    let mut watcher = stage.watch(&rules, &[]);
    let told = watcher.line_with("  alert  ");
    assert!(told.contains("tilebaker (") && told.contains("3 processes") && told.contains("a: memory is "), "{told}");
    let (rules, state) = (rules.display().to_string(), stage.state().display().to_string());
    let why = stage.run(&["rules", "why", "a", &baker.pid().to_string(), "--rules", &rules, "--state", &state]).stdout;
    assert!(why.contains("case 1 is open") && why.contains("judged       tilebaker ("), "{why}");
    assert!(why.contains("memory over 40.0 MiB: true (now "), "{why}");
    watcher.interrupt();
}

/// The machine is short of something, and one of its processes is picked.
#[test]
fn the_machine_is_judged_and_one_process_is_picked() {
    let stage = stage();
    let rules = stage.write(
        "rules.toml",
        rule(
            "judge = 'machine'\nwhere = '{mine}'\nbreach = 'machine.memory.available > 1 MiB'\npick = 'most memory'\n\
             ladder = [ { at = '0s', do = 'suspend', for = '5m' } ]",
        ),
    );
    let small = stage.offender("labelpress", &[]);
    let large = stage.offender("labelpress", &["--grow", "800MiB/s", "--up-to", "400MiB"]);
    eventually("it has grown", || {
        let held = stage.json(&[
            "list",
            "--where",
            &format!("pid = {}", large.pid()),
            "--columns",
            "memory.held",
            "--format",
            "json",
        ]);
        (held["rows"][0]["memory.held"].as_u64()? > 390 << 20).then_some(())
    });
    let watcher = stage.watch(&rules, &[]);
    eventually("the larger is suspended", || is_suspended(large.pid()).then_some(()));
    assert!(!is_suspended(small.pid()));
    watcher.interrupt();
    assert!(!is_suspended(large.pid()));
}

/// A unit is started anew through the service manager; a program is told of the case on its standard input.
#[test]
fn a_unit_is_restarted_and_a_program_is_told() {
    let stage = stage();
    let name = format!("sheetlamp-{}.service", std::process::id());
    let roots = [("/sys/fs/cgroup/systemd", ""), ("/sys/fs/cgroup", "")];
    let Some(group) = ControlGroup::make(&name, &roots, "") else {
        eprintln!("skipped: this test may make no control group");
        return;
    };
    let manager = StandIn::in_folder(&stage.path(""));
    let lamp = stage.offender_in(&group.processes(), "sheetlamp", &["--cpu", "30%"]);
    let heard = stage.path("heard");
    let program = stage.write("tell-desk", format!("#!/bin/sh\ncat > {}\necho told \"$1\"\n", heard.display()));
    std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o755)).unwrap();
    let rules = stage.write(
        "rules.toml",
        rule(&format!(
            "judge = 'unit'\nwhere = 'unit = \"{name}\"'\nbreach = 'cpu > 5%'\nladder = [ {{ at = '0s', do = 'run', run = ['{}', 'the desk'] }}, {{ at = '1s', do = 'restart' }} ]",
            program.display()
        )),
    );
    let socket = manager.socket.display().to_string();
    let mut watcher = stage.watch(&rules, &["--service-manager", &socket]);
    let told = watcher.line_with("  ran  ");
    assert!(told.contains("told the desk"), "{told}");
    let facts: serde_json::Value = serde_json::from_slice(&std::fs::read(heard).unwrap()).unwrap();
    assert_eq!((&facts["rule"], &facts["subject"]["pid"]), (&"a".into(), &lamp.pid().into()));
    let told = watcher.line_with("  restarted  ");
    assert!(told.contains("is active again"), "{told}");
    watcher.interrupt();
    let calls = manager.told.lock().unwrap().calls.clone();
    assert!(calls.contains(&format!("RestartUnit {name} replace")), "{calls:?}");
    drop((lamp, group));
}
