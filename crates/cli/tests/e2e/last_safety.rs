//! What must not disarm Sophron, and what it must not forget: waves, exhausted limits, kills of everything at once, a restart,
//! a trail that is cut back, programs of rules that leave something behind.

use std::fs;
use std::io::Write;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::process::CommandExt;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};
use serde_json::Value;
use sophron_testkit::{Own, Stage, eventually, is_gone, is_root, is_suspended, nices, threads, usual_nice};

use crate::stage;

const NOBODY: u32 = 65534;
const GROWN: [&str; 4] = ["--grow", "100MiB/s", "--up-to", "30MiB"];

fn rules(head: &str, app: &str, breach: &str, more: &str) -> String {
    format!(
        "format = 1\nevery = '200ms'\n{head}\n[[rule]]\nname = 'a'\nwhere = 'app = \"{app}\" and {{mine}}'\nbreach = '{breach}'\n\
         lasting = '400ms'\narmed = true\n{more}\n"
    )
}

fn signal(pid: u32, signal: Signal) {
    kill_process(Pid::from_raw(pid.cast_signed()).unwrap(), signal).unwrap();
}

fn all_nice(pid: u32, nice: i32) -> Option<()> {
    let nices = nices(pid);
    (!nices.is_empty() && nices.iter().all(|found| *found == nice)).then_some(())
}

fn checked(stage: &Stage, pid: u32) -> String {
    let listed = stage.json(&["list", "--where", &format!("pid = {pid}"), "--format", "json"]);
    listed["rows"][0]["id"].as_str().unwrap_or_else(|| panic!("{listed}")).to_owned()
}

/// What a watcher takes back is no hand at work: an offender that comes in waves is lowered at each.
#[test]
fn an_offender_that_comes_in_waves_is_lowered_at_each() {
    if !is_root() {
        return eprintln!("skipped: only root may bring niceness down again");
    }
    let stage = stage();
    let more = "ladder = [ { at = '0s', do = 'lower', nice = 7 } ]";
    let rules = stage.write("rules.toml", rules("", "sheetlamp", "cpu > 5%", more));
    let lamp = stage.offender("sheetlamp", &["--cpu", "80%"]);
    let watcher = stage.watch(&rules, &[]);
    for wave in 0..3 {
        eventually(&format!("lowered at wave {wave}"), || all_nice(lamp.pid(), 7));
        // It stands still, as nobody of ours has told it to, and so is calm.
        signal(lamp.pid(), Signal::STOP);
        eventually("put back", || all_nice(lamp.pid(), usual_nice()));
        signal(lamp.pid(), Signal::CONT);
    }
    watcher.interrupt();
    let story = stage.story(lamp.pid());
    assert!(!story.iter().any(|told| told.starts_with("stood back")), "{story:?}");
    let told = stage.json(&["audit", "--state", stage.state().to_str().unwrap(), "--format", "json"]);
    assert_eq!(told["hands"], Value::Array(Vec::new()));
    let undone = stage.records().into_iter().filter(|record| record["kind"] == "restored").collect::<Vec<_>>();
    assert!(undone.iter().all(|record| record["rule"] == "a" && record["who"]["by"] == "watcher"), "{undone:?}");
}

/// At the limit of processes nothing can be started any more: what needs no process is done, what needs one is an outcome, and
/// the ending comes.
#[test]
fn without_processes_left_an_act_has_an_outcome_and_the_ending_comes() {
    if !is_root() {
        return eprintln!("skipped: only root can set another's limits");
    }
    // A user of this test's own: nobody else counts towards his limit.
    let uid = 2_000_000 + std::process::id();
    let stage = stage().as_user(uid);
    let more = "ladder = [ { at = '1s', do = 'lower', nice = 7 }, { at = '2s', do = 'suspend', for = '1s' }, { at = '5s', do = 'terminate' } ]";
    let rules = stage.write("rules.toml", rules("", "labelpress", "memory.held > 10 MiB", more));
    let watcher = stage.watch(&rules, &[]);
    let press = stage.offender("labelpress", &GROWN);
    // He may lower his own limits; root may not, where it lacks CAP_SYS_RESOURCE.
    let mut limit = Command::new("prlimit");
    limit.args(["--pid", &watcher.pid().to_string(), "--nproc=1:1"]).uid(uid).gid(uid).current_dir("/");
    assert!(limit.status().unwrap().success());
    eventually("lowered", || all_nice(press.pid(), 7));
    eventually("terminated", || is_gone(press.pid()).then_some(()));
    eventually("recorded", || stage.story(press.pid()).contains(&"ended ended".to_owned()).then_some(()));
    let began = Instant::now();
    let (lines, status) = watcher.interrupt();
    assert_eq!(status, Some(0), "{lines}");
    assert!(began.elapsed() < Duration::from_secs(30), "{:?}", began.elapsed());
    let told = stage.records().into_iter().find(|record| record["kind"] == "refused").unwrap();
    assert!(told["result"]["seen"].as_str().unwrap().contains("no guard could be started"), "{told}");
}

/// A lever that fails is a remark: what the others did is told, and undone.
#[test]
fn a_partial_lowering_is_told_and_undone() {
    if !is_root() {
        return eprintln!("skipped: only root can give rights away");
    }
    let (stage, theirs) = (stage(), stage().as_user(NOBODY));
    let program = theirs.command(&["misbehave", "--cpu", "20%", "--for", "60s"]);
    let mut alone = Command::new("setsid");
    alone.arg("setpriv").args(["--reuid", "65534", "--regid", "65534", "--clear-groups"]);
    alone.arg(program.get_program()).args(program.get_args()).stdin(Stdio::null()).stdout(Stdio::null());
    let press = Own(alone.spawn().unwrap());
    let runs =
        || fs::read_to_string(format!("/proc/{}/cmdline", press.pid())).is_ok_and(|line| line.contains("misbehave"));
    eventually("it runs", || runs().then_some(()));
    let id = checked(&stage, press.pid());
    let state = stage.state().display().to_string();
    let without = |args: &[&str]| {
        let inner = stage.command(args);
        let mut command = Command::new("setpriv");
        command.args(["--bounding-set", "-dac_override", "--inh-caps", "-dac_override"]);
        let output = command.arg(inner.get_program()).args(inner.get_args()).stdin(Stdio::null()).output().unwrap();
        (
            output.status.code(),
            format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr)),
        )
    };
    let (status, told) = without(&["lower", &id, "--nice", "7", "--only", "cpu", "--state", &state]);
    let lowered = all_nice(press.pid(), 7);
    let (back, undone) = without(&["restore", "--all", "--state", &state]);
    let restored = all_nice(press.pid(), usual_nice());
    drop(press);
    let grouped = fs::read("/proc/sys/kernel/sched_autogroup_enabled").is_ok_and(|value| value.starts_with(b"1"));
    assert!(matches!(status, Some(0 | 3)) && lowered.is_some(), "{told}");
    assert!(back == Some(0) && restored.is_some(), "{undone}");
    let flat = told.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(!grouped || flat.contains("its session's value stays 0: not permitted"), "{told}");
    assert!(!grouped || flat.contains("CAP_DAC_OVERRIDE"), "{told}");
}

/// Killed with its guard, as a service manager kills a whole group: the next start resumes at once.
#[test]
fn what_was_left_suspended_is_resumed_by_the_next_start() {
    let stage = stage();
    let more = "ladder = [ { at = '0s', do = 'suspend', for = '9m' } ]";
    let path = stage.write("rules.toml", rules("", "labelpress", "memory.held > 10 MiB", more));
    let press = stage.offender("labelpress", &GROWN);
    let mut watcher = stage.watch(&path, &[]);
    eventually("recorded", || stage.story(press.pid()).contains(&"outcome suspend suspended".to_owned()).then_some(()));
    let guard = crate::undoing::guard_of(watcher.pid()).expect("a suspension has its guard");
    // Nobody of them gets to do anything in between.
    signal(watcher.pid(), Signal::STOP);
    signal(guard, Signal::KILL);
    eventually("the guard is gone", || is_gone(guard).then_some(()));
    watcher.kill_outright();
    assert!(is_suspended(press.pid()), "nobody is left to resume it");
    let idle = stage.write("idle.toml", "format = 1\nsettle = '10m'\n[protect]\nwhere = 'app = x'\n");
    let next = stage.watch(&idle, &[]);
    assert!(!is_suspended(press.pid()), "before anything else");
    eventually("recorded", || stage.story(press.pid()).contains(&"restored resume resumed".to_owned()).then_some(()));
    next.interrupt();
    // Whoever kills the guard alone has it resumed by the watcher.
    let watcher = stage.watch(&path, &[]);
    eventually("suspended again", || is_suspended(press.pid()).then_some(()));
    let guard = eventually("its guard", || crate::undoing::guard_of(watcher.pid()));
    signal(guard, Signal::KILL);
    eventually("resumed", || (!is_suspended(press.pid())).then_some(()));
    watcher.interrupt();
}

/// The cap on acts, a budget that is spent, and whom rules stand back from: a restart forgets none of them.
#[test]
fn a_restart_forgets_no_cap_no_budget_and_no_hand() {
    if !sophron_testkit::can_be_lowered() {
        return;
    }
    let stage = stage();
    let again = |head: &str, more: &str| {
        let path = stage.write("rules.toml", rules(head, "labelpress", "memory.held > 10 MiB", more));
        stage.watch(&path, &[])
    };
    let verdict = |pid: u32| {
        let told = ["capped", "budget spent", "stood back", "outcome"];
        eventually("a verdict", || {
            stage
                .story(pid)
                .into_iter()
                .find(|word| told.iter().any(|told| word.starts_with(told)) && word.contains("lower"))
        })
    };
    let lower = "ladder = [ { at = '0s', do = 'lower', nice = 7 } ]";
    let first = stage.offender("labelpress", &GROWN);
    let watcher = again("[cap]\nacts = 1", lower);
    assert_eq!(verdict(first.pid()), "outcome lower lowered");
    watcher.interrupt();
    drop(first);
    let second = stage.offender("labelpress", &GROWN);
    let watcher = again("[cap]\nacts = 1", lower);
    assert_eq!(verdict(second.pid()), "capped lower capped");
    watcher.interrupt();
    drop(second);
    // A budget is the subject's: the same app of the same owner from the same file.
    let budget = format!("budget = {{ cases = 1, per = '1h' }}\njudge = 'app'\n{lower}");
    let third = stage.offender("labelpress", &GROWN);
    let watcher = again("[cap]\nacts = 50", &budget);
    assert_eq!(verdict(third.pid()), "outcome lower lowered");
    // What is open goes on as the same case; this one is over.
    let pid = third.pid();
    drop(third);
    eventually("its case is over", || stage.story(pid).iter().any(|word| word.starts_with("ended")).then_some(()));
    watcher.interrupt();
    let fourth = stage.offender("labelpress", &GROWN);
    let watcher = again("[cap]\nacts = 50", &budget);
    assert_eq!(verdict(fourth.pid()), "budget spent lower budget spent");
    watcher.interrupt();
    drop(fourth);
    let fifth = stage.offender("labelpress", &GROWN);
    let state = stage.state().display().to_string();
    stage.run(&["lower", &checked(&stage, fifth.pid()), "--nice", "3", "--only", "cpu", "--state", &state]);
    let watcher = again("[cap]\nacts = 50", lower);
    eventually("rules stand back", || {
        stage.story(fifth.pid()).contains(&"stood back lower stood back".to_owned()).then_some(())
    });
    watcher.interrupt();
}

/// The trail cut back at the end of a record under a running watcher: set aside and told, and nothing is acted upon until a
/// person has taken note of it, over a restart too.
#[test]
fn a_trail_that_is_cut_back_disarms_until_a_person_accepts_it() {
    let stage = stage();
    let more = "ladder = [ { at = '0s', do = 'terminate' } ]";
    let path = stage.write("rules.toml", rules("", "labelpress", "memory.held > 10 MiB", more));
    let state = stage.state().display().to_string();
    let mut watcher = stage.watch(&path, &[]);
    eventually("begun", || (stage.records().len() >= 4).then_some(()));
    let trail = stage.state().join("audit/000001.jsonl");
    let text = fs::read_to_string(&trail).unwrap();
    let kept: usize = text.split_inclusive('\n').take(3).map(str::len).sum();
    fs::OpenOptions::new().write(true).open(&trail).unwrap().set_len(kept as u64).unwrap();
    let press = stage.offender("labelpress", &GROWN);
    let line = watcher.line_with("disarmed");
    assert!(line.contains("is gone") && line.contains("sophron audit accept"), "{line}");
    eventually("a new trail tells of it", || {
        stage.records().iter().any(|record| record["kind"] == "trail lost").then_some(())
    });
    assert!(stage.state().join("audit/000001.jsonl.aside-1").exists());
    std::thread::sleep(Duration::from_secs(2));
    assert!(!is_gone(press.pid()), "acted upon on the strength of a trail that was cut back");
    watcher.interrupt();
    let mut watcher = stage.watch(&path, &[]);
    watcher.line_with("disarmed");
    // More ticks than there are acts in an hour: what waits uses up none.
    std::thread::sleep(Duration::from_secs(5));
    assert!(!is_gone(press.pid()), "a restart is no person");
    let accepted = stage.run(&["audit", "accept", "--because", "it was me", "--state", &state]);
    assert!(accepted.status == Some(0) && accepted.stdout.contains("rules act again"), "{accepted:?}");
    eventually("acted upon", || is_gone(press.pid()).then_some(()));
    watcher.interrupt();
    assert_eq!(stage.run(&["audit", "verify", "--state", &state]).status, Some(0));
    let again = stage.run(&["audit", "accept", "--state", &state]);
    assert!(again.status == Some(0) && again.stdout.contains("no loss"), "{again:?}");
}

/// A program of a rule that leaves something running: it is of a session of its own, inherits nothing, and what it leaves is
/// ended with it; neither the ladder nor the ending waits.
#[test]
fn a_program_of_a_rule_is_bounded() {
    let stage = stage();
    let (left, saw) = (stage.path("left").display().to_string(), stage.path("saw").display().to_string());
    let script = format!(
        "#!/bin/sh\nsleep 50 &\necho $! > {left}\n{{ ls /proc/self/fd; cut -d' ' -f1,6 /proc/$$/stat; }} > {saw}\necho told\n"
    );
    let program = stage.write("tell-desk", script);
    fs::set_permissions(&program, fs::Permissions::from_mode(0o755)).unwrap();
    let more = format!(
        "ladder = [ {{ at = '0s', do = 'run', run = ['{}'] }}, {{ at = '1s', do = 'terminate' }} ]",
        program.display()
    );
    let path = stage.write("rules.toml", rules("", "labelpress", "memory.held > 10 MiB", &more));
    let (path, state) = (path.display().to_string(), stage.state().display().to_string());
    let inner = stage.command(&["watch", "--rules", &path, "--state", &state]);
    // Whoever starts the watcher leaves it a descriptor.
    let mut outer = Command::new("sh");
    outer.args(["-c", "exec 9< /dev/null; exec \"$@\"", "sh"]).arg(inner.get_program()).args(inner.get_args());
    let mut watcher = Own(outer.env("TZ", "UTC").stdin(Stdio::null()).stdout(Stdio::null()).spawn().unwrap());
    let press = stage.offender("labelpress", &GROWN);
    eventually("the ladder goes on", || is_gone(press.pid()).then_some(()));
    let ran = || stage.story(press.pid()).contains(&"outcome run ran".to_owned());
    eventually("it ran", || ran().then_some(()));
    let left: u32 = fs::read_to_string(left).unwrap().trim().parse().unwrap();
    eventually("what it left is ended", || is_gone(left).then_some(()));
    let began = Instant::now();
    signal(watcher.pid(), Signal::INT);
    watcher.0.wait().unwrap();
    assert!(began.elapsed() < Duration::from_secs(30), "{:?}", began.elapsed());
    let saw = fs::read_to_string(saw).unwrap();
    let lines: Vec<&str> = saw.lines().collect();
    assert!(!lines.contains(&"9"), "inherited: {saw}");
    let (pid, session) = lines.last().unwrap().split_once(' ').unwrap();
    assert_eq!(pid, session, "a session of its own");
}

/// A state folder that was there before keeps its mode, whoever may read the trail in it.
#[test]
fn a_folder_that_is_not_ours_keeps_its_mode() {
    if !is_root() {
        return eprintln!("skipped: only root can give files to a group");
    }
    let stage = stage();
    let shared = stage.path("shared");
    fs::create_dir(&shared).unwrap();
    fs::set_permissions(&shared, fs::Permissions::from_mode(0o1777)).unwrap();
    let text = "format = 1\n[audit]\nreaders = '54321'\n[lookback]\nkeep = '0s'\n[protect]\nwhere = 'app = x'\n";
    let rules = stage.write("rules.toml", text).display().to_string();
    for (state, mode) in [(shared.clone(), 0o1777), (shared.join("made"), 0o710)] {
        let shown = state.display().to_string();
        let run = stage.run(&["watch", "--rules", &rules, "--state", &shown, "--for", "300ms"]);
        assert_eq!(run.status, Some(0), "{}", run.stderr);
        assert_eq!(fs::metadata(&state).unwrap().permissions().mode() & 0o7777, mode, "{shown}");
    }
}

/// An older file of the trail that was changed is found beside the watch, and disarms it; its start does not wait for that.
#[test]
fn an_older_file_that_was_changed_disarms() {
    let stage = stage();
    let audit = "[audit]\npiece = '64 KiB'\n[lookback]\nkeep = '0s'";
    let chatty = rules(audit, "tilebaker", "cpu.time >= 0s", "ladder = [ { at = '0s', do = 'alert' } ]");
    let watcher = stage.watch(&stage.write("rules.toml", chatty), &[]);
    eventually("a second file", || {
        drop(stage.offender("tilebaker", &["--children", "8"]));
        stage.state().join("audit/000002.jsonl").exists().then_some(())
    });
    watcher.interrupt();
    let first = stage.state().join("audit/000001.jsonl");
    let mut bytes = fs::read(&first).unwrap();
    let place = bytes.len() / 2;
    bytes[place] ^= 1;
    fs::File::create(&first).unwrap().write_all(&bytes).unwrap();
    let more = "ladder = [ { at = '3s', do = 'terminate' } ]";
    let path = stage.write("rules.toml", rules(audit, "labelpress", "memory.held > 10 MiB", more));
    let press = stage.offender("labelpress", &GROWN);
    let mut watcher = stage.watch(&path, &[]);
    let line = watcher.line_with("disarmed");
    assert!(line.contains("it is not sound at record"), "{line}");
    std::thread::sleep(Duration::from_secs(5));
    assert!(!is_gone(press.pid()) && threads(press.pid()).iter().all(|thread| thread.state != 'T'));
    watcher.interrupt();
}

/// Whoever takes no lines loses lines and nothing else: steps are taken in time, the end comes in time, and what was lost is
/// counted and said.
#[test]
fn a_reader_that_does_not_read_holds_nothing_up() {
    let stage = stage();
    // Many rules that only tell, again and again, besides the one that acts.
    let talk = |number: u32| {
        format!(
            "[[rule]]\nname = 'talk-{number}'\nwhere = 'app = \"sheetlamp\" and {{mine}}'\nbreach = 'threads > 0'\nlasting = '0s'\n\
             again = {{ after = '1s' }}\n"
        )
    };
    let head = (0..80).map(talk).collect::<String>();
    let acts = "ladder = [ { at = '0s', do = 'alert' }, { at = '8s', do = 'terminate' } ]";
    let text = rules("", "labelpress", "memory.held > 15 MiB", acts) + &head;
    let file = stage.write("rules.toml", text);
    let press = stage.offender("labelpress", &GROWN);
    let lamp = stage.offender("sheetlamp", &["--cpu", "1%"]);
    let (unread, write) = std::io::pipe().unwrap();
    rustix::pipe::fcntl_setpipe_size(&write, 4096).unwrap();
    let args = ["watch", "--rules", &file.display().to_string(), "--state", &stage.state().display().to_string()];
    let began = Instant::now();
    let mut command = stage.command(&args);
    let mut watcher = Own(command.stdout(write).stderr(Stdio::piped()).spawn().unwrap());
    drop(command);
    eventually("terminated", || is_gone(press.pid()).then_some(()));
    let done = began.elapsed();
    eventually("recorded", || stage.story(press.pid()).contains(&"outcome terminate ended".to_owned()).then_some(()));
    signal(watcher.0.id(), Signal::INT);
    let status = eventually("ended", || watcher.0.try_wait().unwrap());
    assert!(status.success(), "{done:?}: {:?}", stage.story(press.pid()));
    let mut said = String::new();
    std::io::Read::read_to_string(&mut watcher.0.stderr.take().unwrap(), &mut said).unwrap();
    assert!(said.contains("lines were lost: nobody took them"), "{said}");
    assert_eq!(stage.records().last().unwrap()["kind"], "stamp", "the record is whole to its end");
    drop((unread, lamp));
}

/// Whoever slips into a role for a while is spared for that while: the step stays due, and is taken within its pause. Told and
/// recorded it is once; of what was refused before anything was announced there is no intent.
#[test]
fn a_role_that_is_played_for_a_while_is_no_way_out() {
    let stage = stage();
    let press = stage.offender("labelpress", &GROWN);
    let pid = press.pid().to_string();
    let policy =
        |args: &[&str]| Command::new("chrt").args(args).arg(&pid).output().is_ok_and(|done| done.status.success());
    if !policy(&["-f", "-p", "1"]) {
        eprintln!("skipped: nobody may run by a real-time policy here");
        return;
    }
    let acts = "ladder = [ { at = '0s', do = 'terminate', force_after = '2s' } ]";
    let file = stage.write("rules.toml", rules("", "labelpress", "memory.held > 15 MiB", acts));
    let mut watcher = stage.watch(&file, &[]);
    let told = watcher.line_with("  refused  ");
    assert!(told.contains("real-time") && told.contains("; next: terminate, tried again "), "{told}");
    // Through the next try as well, which is not told again.
    std::thread::sleep(Duration::from_secs(7));
    assert!(!is_gone(press.pid()) && policy(&["-o", "-p", "0"]));
    eventually("terminated", || is_gone(press.pid()).then_some(()));
    watcher.line_with("  ended  ");
    watcher.interrupt();
    let story = stage.story(press.pid());
    let of = |word: &str| story.iter().filter(|line| line.starts_with(word)).count();
    assert_eq!((of("refused"), of("intent"), of("outcome terminate ended")), (1, 1, 1), "{story:?}");
}
