//! `checkup` on a machine that was prepared: one shortage at a time, on real processes. These tests want the machine for
//! themselves and take turns.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;
use std::io::Write;
use std::process::Command;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use rustix::process::Pid;
use rustix::thread::{CpuSet, sched_setaffinity};
use serde_json::Value;
use sophron_testkit::{ControlGroup, Offender, Stage, eventually, is_gone, is_suspended};

static TURN: Mutex<()> = Mutex::new(());

fn stage() -> (Stage, MutexGuard<'static, ()>) {
    let turn = TURN.lock().unwrap_or_else(PoisonError::into_inner);
    (Stage::new(env!("CARGO_BIN_EXE_sophron")), turn)
}

/// What this machine has by itself is no news here; the rest of a rules file may follow.
fn rules(stage: &Stage, more: &str) -> String {
    let mut text = "format = 1\n[checkup]\n".to_owned() + more;
    for kind in ["files", "zombies", "suspended", "frozen", "stuck"] {
        if !more.contains(kind) {
            text += &format!("[[checkup.known]]\nfinding = '{kind}'\nreason = 'not what this test is about'\n");
        }
    }
    stage.write("rules.toml", text).display().to_string()
}

/// The finding of that kind with this process among its suspects, as soon as a checkup has it.
fn found(stage: &Stage, rules: &str, kind: &str, pids: &[u32]) -> (Value, Value) {
    eventually(kind, || {
        let told = stage.json(&["checkup", "--for", "2s", "--rules", rules, "--format", "json"]);
        let finding = told["rows"].as_array()?.iter().find(|row| row["finding"] == kind).cloned();
        let Some(finding) = finding else {
            eprintln!("{kind}? {} {:?}", told["verdict"], told["fine"]);
            return None;
        };
        let first = finding["suspects"][0]["pid"].as_u64();
        let right = pids.iter().any(|pid| first == Some(u64::from(*pid)));
        if !right {
            eprintln!("{kind}: {}", finding["suspects"]);
        }
        right.then_some((told, finding))
    })
}

#[test]
fn a_quiet_machine_is_short_of_nothing() {
    let (stage, _turn) = stage();
    let rules = rules(&stage, "");
    let give_up = Instant::now() + Duration::from_secs(60);
    // Something else may be at work on this machine: that is waited for, and not forever.
    while Instant::now() < give_up {
        let output = stage.run(&["checkup", "--rules", &rules]);
        let verdict = output.stdout.lines().nth(1).unwrap_or_default();
        if verdict.starts_with("nothing is short") && output.status == Some(0) {
            assert!(
                output.stdout.contains("\nwatcher   ") && output.stdout.contains("\nfine      cpu "),
                "{}",
                output.stdout
            );
            return;
        }
        eprintln!("not quiet: {verdict}");
    }
    eprintln!("skipped: this machine is busy with something else");
}

#[test]
fn burners_on_every_core_make_it_short_of_cpu() {
    let (stage, _turn) = stage();
    let cores = std::thread::available_parallelism().unwrap().get();
    let burners: Vec<Offender> = (0..cores * 2).map(|_| stage.offender("tilebaker", &["--cpu", "100%"])).collect();
    let pids: Vec<u32> = burners.iter().map(Offender::pid).collect();
    let (told, cpu) = found(&stage, &rules(&stage, ""), "cpu", &pids);
    assert!(told["verdict"].as_str().unwrap().starts_with("short of CPU"), "{}", told["verdict"]);
    assert_eq!((cpu["severity"].as_str(), cpu["suspects"][0]["app"].as_str()), (Some("critical"), Some("tilebaker")));
    assert!(cpu["suspects"][0]["path"].as_str().unwrap().ends_with("/tilebaker"), "{cpu}");
    assert!(cpu["suspects"][0]["started_by"].as_array().is_some_and(|chain| !chain.is_empty()), "{cpu}");
}

#[test]
fn a_burner_keeps_one_core_to_itself() {
    let (stage, _turn) = stage();
    if std::thread::available_parallelism().unwrap().get() < 2 {
        eprintln!("skipped: on a single core that is a shortage of CPU");
        return;
    }
    let lamp = stage.offender("sheetlamp", &["--cpu", "100%"]);
    // On two cores one is half of the CPU: what else runs here must not make it look short.
    let limits = "machine.stall.cpu = { notice = '60%', critical = '90%' }\n";
    let (told, _) = found(&stage, &rules(&stage, limits), "core", &[lamp.pid()]);
    let verdict = told["verdict"].as_str().unwrap();
    assert!(verdict.starts_with("one program keeps one core to itself: sheetlamp"), "{verdict}");
}

#[test]
fn a_process_that_thrashes_in_its_control_group_is_short_of_memory() {
    let (stage, _turn) = stage();
    let name = format!("sophron-test-{}", std::process::id());
    let roots = [("/sys/fs/cgroup/memory", "memory.limit_in_bytes"), ("/sys/fs/cgroup", "memory.max")];
    let Some(group) = ControlGroup::make(&name, &roots, &(40 << 20).to_string()) else {
        eprintln!("skipped: this test may make no control group with a memory limit");
        return;
    };
    let offender = stage.offender_in(&group.processes(), "herbarium", &["--read", "64MiB"]);
    let limits = "machine.stall.memory = { notice = '0.5%' }\n";
    let (told, memory) = found(&stage, &rules(&stage, limits), "memory", &[offender.pid()]);
    let verdict = told["verdict"].as_str().unwrap();
    assert!(verdict.contains("short of memory in the control group"), "{verdict}");
    assert!(memory["of"].as_str().unwrap().contains("sophron-test-"), "{memory}");
    drop(offender);
}

#[test]
fn synced_writing_makes_others_wait_for_the_disk() {
    let (stage, _turn) = stage();
    let writers: Vec<Offender> = (0..3).map(|_| stage.offender("nightcopy", &["--write", "900MiB/s"])).collect();
    let pids: Vec<u32> = writers.iter().map(Offender::pid).collect();
    let device = Command::new("stat").args(["-f", "-c", "%T"]).arg(stage.path("")).output().unwrap().stdout;
    if String::from_utf8_lossy(&device).contains("tmpfs") {
        eprintln!("skipped: the temporary folder is no disk");
        return;
    }
    // How long others wait depends on the disk: a fast one hardly lets them.
    let limits = "machine.stall.io = { notice = '1%' }\nmachine.iowait = { notice = '1%' }\n";
    let (told, disk) = found(&stage, &rules(&stage, limits), "disk", &pids);
    assert!(told["verdict"].as_str().unwrap().contains("waiting on disk"), "{}", told["verdict"]);
    assert_eq!(disk["suspects"][0]["app"], "nightcopy");
}

#[test]
fn a_suspended_process_and_a_zombie_are_worth_knowing() {
    let (stage, _turn) = stage();
    let suspended = stage.offender("postbox", &[]);
    suspended.suspend();
    eventually("it is suspended", || is_suspended(suspended.pid()).then_some(()));
    // A child of this test that has ended and is not collected yet: the mistake is this test's.
    let mut zombie = Command::new("true").spawn().unwrap();
    eventually("it has ended", || is_gone(zombie.id()).then_some(()));
    let limits = "[[checkup.known]]\nfinding = 'core'\nof = 'suspended zombies'\nreason = 'not here'\n";
    let rules = rules(&stage, limits);
    let told = stage.json(&["checkup", "--for", "1s", "--rules", &rules, "--format", "json"]);
    let suspects = |kind: &str| {
        let rows = told["rows"].as_array().unwrap();
        rows.iter().find(|row| row["finding"] == kind).map(|row| row["suspects"].to_string()).unwrap_or_default()
    };
    assert!(suspects("suspended").contains(&format!("\"pid\":{}", suspended.pid())), "{told}");
    assert!(suspects("zombies").contains(&format!("\"pid\":{}", std::process::id())), "{told}");
    zombie.wait().unwrap();
}

#[test]
fn a_deleted_file_that_is_still_held_is_named_with_its_holder() {
    let (stage, _turn) = stage();
    let path = stage.path("spool");
    let mut file = fs::File::create(&path).unwrap();
    let piece = vec![0x5a; 1 << 20];
    for _ in 0..260 {
        file.write_all(&piece).unwrap();
    }
    file.sync_all().unwrap();
    fs::remove_file(&path).unwrap();
    let limits = "machine.files.full = { notice = '0.01%' }\n";
    let rules = rules(&stage, limits);
    let told = stage.json(&["checkup", "--for", "1s", "--rules", &rules, "--format", "json"]);
    drop(file);
    let all = told["rows"].as_array().unwrap();
    let mut of_files = all.iter().filter(|row| row["finding"] == "files").peekable();
    if of_files.peek().is_none() {
        eprintln!("skipped: no disk of this machine is mounted here: {}", told["unread"]);
        return;
    }
    let holder = of_files.find_map(|row| {
        row["suspects"].as_array()?.iter().find(|suspect| suspect["pid"] == std::process::id()).cloned()
    });
    let Some(holder) = holder else {
        eprintln!("skipped: the temporary folder is no disk");
        return;
    };
    let amount = holder["amount"].as_str().unwrap();
    assert!(amount.starts_with("holds 260 MiB in deleted files") && amount.contains("/spool"), "{amount}");
}

/// Never hangs on a stuck target, and finds it.
#[test]
fn a_process_stuck_in_the_kernel_is_found() {
    let (stage, _turn) = stage();
    let stuck = stage.offender("herbarium", &["--wait-on", "kernel"]);
    let limits = "[[checkup.known]]\nfinding = 'core'\nof = 'stuck'\nreason = 'not here'\n";
    let (_, finding) = found(&stage, &rules(&stage, limits), "stuck", &[stuck.pid()]);
    assert_eq!(finding["suspects"][0]["app"], "herbarium");
}

/// A burner that is held to the first core; in a session of its own where asked for.
fn pinned(stage: &Stage, name: &str, own_session: bool) -> Offender {
    let offender = if own_session {
        stage.offender_by(&["setsid"], name, &["--cpu", "100%"])
    } else {
        stage.offender(name, &["--cpu", "100%"])
    };
    let mut first = CpuSet::new();
    first.set(0);
    for task in fs::read_dir(format!("/proc/{}/task", offender.pid())).unwrap().flatten() {
        let tid = task.file_name().to_str().and_then(|tid| tid.parse().ok()).and_then(Pid::from_raw);
        sched_setaffinity(tid, &first).unwrap();
    }
    offender
}

/// Whether the kernel shares out CPU by session first (sched(7)): only where that is on, where its control group is the
/// root, and where anybody has begun a session since the kernel started.
fn grouped_by_session(pid: u32) -> bool {
    let read = |path: String| fs::read_to_string(path).unwrap_or_default();
    let of_root = |line: &str| {
        let mut parts = line.splitn(3, ':').skip(1);
        let controllers = parts.next().unwrap_or_default();
        let of_cpu = controllers.is_empty() || controllers.split(',').any(|controller| controller == "cpu");
        !of_cpu || parts.next() == Some("/")
    };
    read("/proc/sys/kernel/sched_autogroup_enabled".to_owned()).starts_with('1')
        && read(format!("/proc/{pid}/autogroup")).starts_with("/autogroup-")
        && read(format!("/proc/{pid}/cgroup")).lines().all(of_root)
}

/// What lowering says it did is what two burners on one core get: in one session nearly all goes to the other, in
/// another session nothing changes, and that is said.
#[test]
fn the_effect_of_lowering_is_measured_and_true() {
    let (stage, _turn) = stage();
    let state = stage.state().display().to_string();
    let share = |told: &str, at: usize| {
        let figures = told.split_once("; cpu ").unwrap().1;
        let figure = figures.split(" → ").nth(at).unwrap().split('%').next().unwrap();
        figure.trim().parse::<f64>().unwrap()
    };
    // The other one's session, and whether the one lowered is alone in a session of its own.
    for (other_session, alone) in [(false, false), (true, false), (true, true)] {
        let other = pinned(&stage, "kioskview", other_session);
        let press = pinned(&stage, "labelpress", alone);
        let listed = stage.json(&["list", "--where", &format!("pid = {}", press.pid()), "--format", "json"]);
        let id = listed["rows"][0]["id"].as_str().unwrap();
        // Others at work on this machine, or on the one it is part of, disturb a measuring: ten tries have to do.
        let autogroup = grouped_by_session(press.pid());
        let mut tries = (0..10).map(|_| {
            let told = stage.run(&["lower", id, "--nice", "19", "--only", "cpu", "--state", &state]).stdout;
            let (before, after) = (share(&told, 0), share(&told, 1));
            let shared = (15.0..85.0).contains(&before);
            // Its session is ours as well, which is protected: what works is said before it is done.
            let confined = told.contains("acts only inside its session") && told.contains(&format!("suspend {id}"));
            assert_eq!(confined, autogroup && !alone, "{told}");
            let right = if alone && autogroup {
                after < before / 2.0 && told.contains("its session's value 0 → 19")
            } else if other_session && autogroup {
                // The command itself is of its session, and takes from it what it measures with. A tenth less counts as an effect;
                // what is shown is rounded.
                let (left, without) =
                    (after / before, told.contains("no effect, since the kernel groups CPU by session"));
                left > 0.7 && ((left - 0.9).abs() < 0.03 || without == (left > 0.9))
            } else {
                after < 15.0 && !told.contains("no effect")
            };
            eprintln!("{told}");
            stage.run(&["restore", "--all", "--state", &state]);
            shared && right
        });
        assert!(tries.any(|right| right), "in another session: {other_session}, alone in its own: {alone}");
        drop(other);
    }
}
