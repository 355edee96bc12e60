//! Tried as an attacker would: what it takes for the wrong process to be touched, and that it is not.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

use sophron_testkit::{
    ControlGroup, Offender, Own, Stage, StandIn, anothers_waiter, eventually, is_gone, is_root, nices, usual_nice,
};

use crate::stage;

const NOBODY: u32 = 65534;

fn sh(line: &str) -> Own {
    Own(Command::new("sh").args(["-c", line]).stdin(Stdio::null()).stdout(Stdio::null()).spawn().unwrap())
}

/// Ends what a process of ours has started.
fn end(pid: u32) {
    if let Some(pid) = rustix::process::Pid::from_raw(pid.cast_signed()) {
        let _ = rustix::process::kill_process(pid, rustix::process::Signal::KILL);
    }
}

fn id(stage: &Stage, pid: u32) -> String {
    let listed = stage.json(&["list", "--where", &format!("pid = {pid}"), "--format", "json"]);
    listed["rows"][0]["id"].as_str().unwrap_or_else(|| panic!("{listed}")).to_owned()
}

fn text(output: &Output) -> String {
    // Lines are folded; what they say is not.
    let all = format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    all.split_whitespace().collect::<Vec<_>>().join(" ")
}

fn hand(stage: &Stage, args: &[&str]) -> (Option<i32>, String) {
    let state = stage.state().display().to_string();
    let output = stage.command(&[args, &["--state", &state]].concat()).output().unwrap();
    (output.status.code(), text(&output))
}

/// Groups inside of each other, the innermost last; removed from there.
fn nested(parts: &[&str]) -> Option<Vec<ControlGroup>> {
    let mut path = PathBuf::new();
    let mut groups = Vec::new();
    for part in parts {
        path.push(part);
        let name = path.display().to_string();
        groups.insert(0, ControlGroup::make(&name, &[("/sys/fs/cgroup/systemd", ""), ("/sys/fs/cgroup", "")], "")?);
    }
    Some(groups)
}

/// A process below a delegation, or in a container, that calls its group like a service of the machine: the machine's
/// manager is not asked to restart that service.
#[test]
fn a_unit_is_never_taken_from_the_last_part_of_a_path() {
    let stage = stage();
    let own = std::process::id();
    let manager = StandIn::in_folder(&stage.path(""));
    let socket = manager.socket.display().to_string();
    let (slice, user) = (format!("user-{own}.slice"), format!("user@{own}.service"));
    let scope = format!("x{own}.scope");
    let elsewhere = format!("cron{own}.service");
    let cases: [(&[&str], &str); 3] = [
        (&["user.slice", &slice, &user, "cron.service"], "is only the word of the user"),
        (&[&scope, "system.slice", "cron.service"], "which no service manager starts"),
        // The manager has a unit of that name, and has it somewhere else.
        (&[&elsewhere], "it is no process of"),
    ];
    for (path, refusal) in cases {
        let Some(groups) = nested(path) else { return eprintln!("skipped: this test may make no control group") };
        manager.told.lock().unwrap().group = Some("/system.slice/cron.service".to_owned());
        let lamp = stage.offender_in(&groups[0].processes(), "sheetlamp", &["--cpu", "20%"]);
        let (status, told) = hand(&stage, &["restart", &id(&stage, lamp.pid()), "--service-manager", &socket]);
        assert!(status == Some(4) && told.contains(refusal), "{path:?}: {told}");
        drop(lamp);
        // The same by a rule, on one that no hand has tried.
        let lamp = stage.offender_in(&groups[0].processes(), "sheetlamp", &["--cpu", "20%"]);
        let rules = stage.write(
            "rules.toml",
            "format = 1\nevery = '200ms'\n[[rule]]\nname = 'lamp'\njudge = 'unit'\nwhere = '{mine}'\nbreach = 'cpu > 1%'\nlasting = '200ms'\n\
             armed = true\nladder = [ { at = '0s', do = 'restart' } ]\n",
        );
        let mut watcher = stage.watch(&rules, &["--service-manager", &socket]);
        let line = watcher.line_with("  refused  ");
        watcher.interrupt();
        assert!(line.contains("restart the unit: "), "{line}");
        drop(lamp);
    }
    assert_eq!(manager.told.lock().unwrap().calls, Vec::<String>::new(), "nothing but looks");
}

/// A process that does not let itself be examined still has its owner: it is acted on, and root's process of the same name
/// is not counted along with it.
#[test]
fn who_hides_from_examination_still_has_his_owner() {
    if !is_root() {
        return eprintln!("skipped: only root can start processes of two users");
    }
    let stage = stage();
    fs::set_permissions(stage.path(""), fs::Permissions::from_mode(0o711)).unwrap();
    // Whoever runs a file that he may not read cannot be examined.
    let program = stage.path("labelpress");
    sophron_testkit::copy_program(env!("CARGO_BIN_EXE_sophron"), &program);
    fs::set_permissions(&program, fs::Permissions::from_mode(0o711)).unwrap();
    let start = |uid: u32| {
        let mut command = Command::new(&program);
        command.args(["misbehave", "--grow", "100MiB/s", "--up-to", "30MiB", "--for", "60s"]);
        Own(command.uid(uid).gid(uid).current_dir("/").stdin(Stdio::null()).stdout(Stdio::null()).spawn().unwrap())
    };
    let (innocent, offender) = (start(0), start(NOBODY));
    let hidden = || fs::metadata(format!("/proc/{}/stat", offender.pid())).ok();
    eventually("its files are given to root", || {
        use std::os::unix::fs::MetadataExt;
        hidden().filter(|file| file.uid() == 0)
    });
    let rules = stage.write(
        "rules.toml",
        "format = 1\nevery = '200ms'\n[[rule]]\nname = 'press'\njudge = 'app'\nwhere = 'app = \"labelpress\" and {mine}'\n\
         breach = 'instances > 1 or owner != root'\nlasting = '600ms'\narmed = true\nladder = [ { at = '0s', do = 'terminate' } ]\n",
    );
    // With few descriptors few files are kept open: owners are read on every way.
    let (rules, state) = (rules.display().to_string(), stage.state().display().to_string());
    let watch = stage.command(&["watch", "--rules", &rules, "--state", &state, "--for", "20s"]);
    let mut few = Command::new("sh");
    few.args(["-c", "ulimit -n 40; exec \"$@\"", "sh"]).arg(watch.get_program()).args(watch.get_args());
    let watcher = Own(few.env("TZ", "UTC").stdin(Stdio::null()).stdout(Stdio::null()).spawn().unwrap());
    eventually("the offender is terminated", || is_gone(offender.pid()).then_some(()));
    assert!(!is_gone(innocent.pid()));
    drop(watcher);
    let (status, told) = hand(&stage, &["inspect", &id(&stage, innocent.pid())]);
    assert!(status == Some(0) && told.contains("(root)"), "{told}");
}

/// Where /proc shows another PID namespace, each number means two processes: nothing is touched.
#[test]
fn in_another_pid_namespace_nobody_is_touched() {
    let stage = stage();
    let press = stage.offender("labelpress", &[]);
    let (press_id, state) = (id(&stage, press.pid()), stage.state().display().to_string());
    let rules = stage.write("rules.toml", "format = 1\n[protect]\nwhere = 'app = x'\n").display().to_string();
    let foreign = |args: &[&str]| {
        let inner = stage.command(args);
        let mut command = Command::new("unshare");
        command.args(["--pid", "--fork"]).arg(inner.get_program()).args(inner.get_args()).stdin(Stdio::null());
        command.output().unwrap()
    };
    if foreign(&["--version"]).status.code() != Some(0) {
        return eprintln!("skipped: this test may make no PID namespace");
    }
    for args in [
        &["terminate", &press_id, "--state", &state][..],
        &["lower", &press_id, "--state", &state],
        &["restore", "--all", "--state", &state],
        &["watch", "--rules", &rules, "--state", &state, "--for", "1s"],
    ] {
        let told = foreign(args);
        assert!(told.status.code() == Some(4) && text(&told).contains("another PID namespace"), "{args:?}: {told:?}");
    }
    assert!(!is_gone(press.pid()) && nices(press.pid()).iter().all(|nice| *nice == usual_nice()));
    assert_eq!(foreign(&["list"]).status.code(), Some(0), "looking is possible");
}

fn ends_the_tree_of(pid: u32, breach: &str) -> String {
    format!(
        "format = 1\nevery = '200ms'\n[[rule]]\nname = 'tree'\njudge = 'tree'\nwhere = 'pid = {pid}'\nbreach = '{breach}'\nlasting = '400ms'\n\
         armed = true\nladder = [ {{ at = '0s', do = 'terminate', force_after = '2s' }} ]\n"
    )
}

/// Of a tree that a rule ends whoever serves others is spared, and whoever left it because his parent ended is not.
#[test]
fn a_trees_server_is_spared_and_its_orphans_are_not() {
    let stage = stage();
    let lock = stage.path("lock").display().to_string();
    let parent = sh(&format!("flock {lock} sleep 60 & sleep 600; :"));
    let child = |app: &str| {
        let listed = stage.json(&[
            "list",
            "--where",
            &format!("parent = {} and app = \"{app}\"", parent.pid()),
            "--format",
            "json",
        ]);
        listed["rows"][0]["pid"].as_u64().and_then(|pid| u32::try_from(pid).ok())
    };
    let Some(_) = Command::new("flock").arg("--version").output().ok().filter(|done| done.status.success()) else {
        return eprintln!("skipped: this machine has no flock");
    };
    let server = eventually("it holds the lock", || child("flock"));
    let Some(waiter) = anothers_waiter(Path::new(&lock)) else { return end(server) };
    let rules = stage.write("rules.toml", ends_the_tree_of(parent.pid(), "age > 0s"));
    let watcher = stage.watch(&rules, &[]);
    eventually("the tree is ended", || is_gone(parent.pid()).then_some(()));
    eventually("recorded", || {
        stage.story(parent.pid()).iter().any(|told| told.starts_with("outcome terminate")).then_some(())
    });
    watcher.interrupt();
    let outcome = stage.records().into_iter().find(|record| record["kind"] == "outcome").unwrap();
    let seen = outcome["result"]["seen"].as_str().unwrap();
    assert!(!is_gone(server), "{seen}");
    assert!(seen.contains(&format!("process {server} of it is left alone: it holds a file lock")), "{seen}");
    end(server);
    drop(waiter);

    // The middle shell ends at once: what it has started stands below the machine's first process from then on.
    let orphan = stage.path("orphan").display().to_string();
    let parent = sh(&format!("sleep 2; sh -c 'setsid sleep 60 & echo $! > {orphan}'; sleep 600; :"));
    let rules = stage.write("rules.toml", ends_the_tree_of(parent.pid(), "age > 4s"));
    let watcher = stage.watch(&rules, &[]);
    let orphan: u32 = eventually("the orphan runs", || fs::read_to_string(&orphan).ok()?.trim().parse().ok());
    eventually("the tree is ended", || is_gone(parent.pid()).then_some(()));
    eventually("with its orphan", || is_gone(orphan).then_some(()));
    watcher.interrupt();
}

/// Protections that may not be read may protect anybody: a user's hand does nothing.
#[test]
fn protections_that_cannot_be_read_bind_all_the_same() {
    if !is_root() {
        return eprintln!("skipped: only root can close a folder to others");
    }
    let theirs = stage().as_user(NOBODY);
    let press: Offender = theirs.offender("labelpress", &[]);
    let command =
        theirs.command(&["terminate", &id(&theirs, press.pid()), "--state", &theirs.state().display().to_string()]);
    let etc = "mount -t tmpfs none /etc && mkdir -m 700 /etc/sophron && echo 'format = 1' > /etc/sophron/rules.toml && exec \"$@\"";
    let mut inside = Command::new("unshare");
    inside.args([
        "--mount",
        "sh",
        "-c",
        etc,
        "sh",
        "setpriv",
        "--reuid",
        "65534",
        "--regid",
        "65534",
        "--clear-groups",
    ]);
    inside.arg(command.get_program()).args(command.get_args()).stdin(Stdio::null());
    let told = inside.output().unwrap();
    if text(&told).contains("unshare failed") || text(&told).contains("mount:") {
        return eprintln!("skipped: nothing may be mounted here");
    }
    assert!(told.status.code() == Some(4) && text(&told).contains("whom [protect] spares is not known"), "{told:?}");
    assert!(!is_gone(press.pid()));
}
