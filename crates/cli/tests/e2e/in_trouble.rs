//! A machine in trouble: what is not to be had is said, is taken for nothing else, and is no reason to act wrongly.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::process::{Command, Stdio};

use sophron_testkit::{Own, ThreadSeen, eventually, is_root, is_suspended, threads, usual_nice};

use crate::stage;

/// With descriptors for a few of many processes whose breach builds up: none of them has ended for that, and what there is
/// to record is recorded.
#[test]
fn out_of_descriptors_nobody_has_ended() {
    let stage = stage();
    let rules = stage.write(
        "rules.toml",
        "format = 1\nevery = '200ms'\n[[rule]]\nname = 'a'\nwhere = 'app = \"labelpress\" and {mine}'\nbreach = 'threads > 0'\n\
         lasting = '400ms'\nladder = [ { at = '0s', do = 'alert' } ]\n",
    );
    let (rules, state) = (rules.display().to_string(), stage.state().display().to_string());
    let press = stage.offender("labelpress", &["--children", "64"]);
    let inner = stage.command(&["watch", "--rules", &rules, "--state", &state]);
    let mut command = Command::new("prlimit");
    command.arg("--nofile=56:56").arg(inner.get_program()).args(inner.get_args());
    let mut watcher = Own(command.stdin(Stdio::null()).stdout(Stdio::piped()).spawn().unwrap());
    let of = |kind: &str| stage.records().into_iter().filter(|record| record["kind"] == kind).count();
    eventually("all are told of", || (stage.state().join("audit").exists() && of("breach") >= 60).then_some(()));
    std::thread::sleep(std::time::Duration::from_secs(3));
    let ended = of("ended");
    let alive = fs::read_to_string(format!("/proc/{0}/task/{0}/children", press.pid())).unwrap();
    let _ = watcher.0.kill();
    assert!(ended == 0 && alive.split_whitespace().count() == 64, "{ended} recorded as ended, {alive} live");
}

/// As root it is spared when memory runs out, and ahead of others; what a rule runs is not.
#[test]
fn it_sees_to_its_own_life_and_hands_that_to_nobody() {
    if !is_root() {
        return eprintln!("skipped: only root is granted that");
    }
    let stage = stage();
    let told = stage.path("told");
    let script = format!(
        "#!/bin/sh\n{{ nice; ulimit -n; cat /proc/self/oom_score_adj; }} > {0}.new; mv {0}.new {0}\n",
        told.display()
    );
    let program = stage.write("tell-desk", script);
    fs::set_permissions(&program, fs::Permissions::from_mode(0o700)).unwrap();
    let rules = stage.write(
        "rules.toml",
        format!(
            "format = 1\nevery = '200ms'\n[[rule]]\nname = 'a'\njudge = 'machine'\nbreach = 'machine.processes > 0'\nlasting = '0s'\n\
             armed = true\nladder = [ {{ at = '0s', do = 'run', run = ['{}'] }} ]\n",
            program.display()
        ),
    );
    let score = || fs::read_to_string("/proc/self/oom_score_adj").unwrap().trim().to_owned();
    let files = rustix::process::getrlimit(rustix::process::Resource::Nofile);
    let watcher = stage.watch(&rules, &[]);
    let own = |file: &str| fs::read_to_string(format!("/proc/{}/{file}", watcher.pid())).unwrap();
    let told = eventually("it ran", || fs::read_to_string(&told).ok());
    let limits = own("limits");
    let limit = limits.lines().find(|line| line.starts_with("Max open files")).unwrap().to_owned();
    let spared = own("oom_score_adj").trim().to_owned();
    // Nobody waits for what is kept of the last days.
    let threads = eventually("the lookback stands back", || {
        let stands_back = |thread: &ThreadSeen| thread.name == "lookback" && thread.nice == usual_nice();
        Some(threads(watcher.pid())).filter(|threads| threads.iter().any(stands_back))
    });
    let (lines, _) = watcher.interrupt();
    let most = files.maximum.unwrap_or(u64::MAX).min(65_536);
    assert!(limit.split_whitespace().nth(3) == Some(&*most.to_string()), "{limit}");
    let nices = |names: &[&str]| -> Vec<i32> {
        threads.iter().filter(|thread| names.contains(&thread.name.as_str())).map(|thread| thread.nice).collect()
    };
    let ahead = nices(&["sophron", "recorder", "act", "undo", "run"]);
    let is_ahead = ahead.len() >= 6 && ahead.iter().all(|nice| *nice <= -5);
    assert!(is_ahead || lines.contains("that takes CAP_SYS_NICE"), "{threads:?} {lines}");
    assert!(spared == "-500" || lines.contains("that takes CAP_SYS_RESOURCE"), "{spared} {lines}");
    let before = format!(
        "{}\n{}\n{}\n",
        usual_nice(),
        files.current.map_or("unlimited".to_owned(), |files| files.to_string()),
        score()
    );
    assert_eq!(told, before);
}

/// A zone is chosen by its name alone: neither by a file, nor by a folder of somebody's.
#[test]
fn as_root_the_environment_chooses_no_file_of_a_zone() {
    if !is_root() {
        return eprintln!("skipped: an ordinary user may choose what he likes");
    }
    let stage = stage();
    let run = |zone: &str, folder: Option<&str>| {
        let mut command = stage.command(&["list", "--limit", "1"]);
        command.env("TZ", zone).envs(folder.map(|folder| ("TZDIR", folder)));
        let output = command.output().unwrap();
        assert!(output.status.success(), "{output:?}");
        String::from_utf8_lossy(&output.stderr).into_owned()
    };
    assert_eq!(run("UTC", None), "");
    for zone in ["/etc/shadow", ":/etc/shadow", "../../etc/shadow"] {
        assert!(run(zone, None).contains("TZ is ignored"), "{zone}");
    }
    assert!(run("UTC", Some("/tmp")).contains("TZDIR is ignored"));
}

/// Nor does an ordinary user's hang whatever he calls.
#[test]
fn a_zone_without_end_is_not_read() {
    let stage = if is_root() { stage().as_user(65534) } else { stage() };
    let mut command = stage.command(&["list", "--limit", "1"]);
    let output = command.env("TZ", "/dev/zero").output().unwrap();
    let told = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success() && told.contains("TZ is ignored"), "{told}");
}

/// Whatever signal ends it, and where no memory is to be had any more, nobody stays suspended.
#[test]
fn whatever_comes_over_it_nobody_stays_suspended() {
    let watched = ["-ABRT", "-USR1", "-XCPU", "-40", "memory"].map(|what| {
        let length = if what == "memory" { "2s" } else { "5m" };
        let text = format!(
            "format = 1\nevery = '200ms'\n[[rule]]\nname = 'a'\nwhere = 'app = \"labelpress\" and {{mine}}'\n\
             breach = 'threads > 0'\nlasting = '200ms'\narmed = true\nladder = [ {{ at = '0s', do = 'suspend', for = '{length}' }} ]\n"
        );
        let stage = stage();
        let (rules, press) = (stage.write("rules.toml", text), stage.offender("labelpress", &["--children", "0"]));
        let watcher = stage.watch(&rules, &[]);
        (what, stage, press, watcher)
    });
    for (what, _stage, press, watcher) in &watched {
        eventually("suspended", || is_suspended(press.pid()).then_some(()));
        let pid = watcher.pid().to_string();
        let mut command = Command::new(if *what == "memory" { "prlimit" } else { "kill" });
        match *what {
            "memory" => command.args(["--pid", &pid, "--as=1048576"]),
            signal => command.args([signal, &pid]),
        };
        assert!(command.status().unwrap().success());
        eventually(what, || (!is_suspended(press.pid())).then_some(()));
    }
}
