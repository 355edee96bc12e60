//! Acting by hand: the built program on real offenders, the kernel asked what came of it, and the record of it.

use std::os::unix::process::CommandExt;
use std::process::{Child, Stdio};

use rustix::process::{Pid, Signal, kill_process, kill_process_group};
use serde_json::Value;
use sophron_testkit::{
    ControlGroup, Stage, StandIn, anothers_waiter, eventually, is_gone, is_root, is_suspended, nices, threads,
    usual_nice,
};

use crate::stage;

/// The checked PID, as a listing prints it.
pub fn id(stage: &Stage, pid: u32) -> String {
    let listed = stage.json(&["list", "--where", &format!("pid = {pid}"), "--format", "json"]);
    listed["rows"][0]["id"].as_str().expect("it is there").to_owned()
}

/// Runs a verb on this stage's own record; exit status and both outputs.
pub fn hand(stage: &Stage, args: &[&str]) -> (Option<i32>, String) {
    let state = stage.state().display().to_string();
    let output = stage.run(&[args, &["--state", &state]].concat());
    (output.status, format!("{}{}", output.stdout, output.stderr))
}

/// Beside other work a lowering may be without effect, which is an answer of its own.
fn was_lowered(status: Option<i32>) -> bool {
    matches!(status, Some(0 | 3))
}

/// A verb that stays: suspend.
fn staying(stage: &Stage, args: &[&str]) -> Child {
    let state = stage.state().display().to_string();
    let mut command = stage.command(&[args, &["--state", &state]].concat());
    command.stdout(Stdio::piped()).spawn().unwrap()
}

fn kinds(stage: &Stage) -> Vec<String> {
    let of = |record: &Value| {
        let word = |value: &Value| value.as_str().unwrap_or_default().to_owned();
        format!("{} {} {}", word(&record["kind"]), word(&record["action"]["do"]), word(&record["result"]["outcome"]))
    };
    stage.records().iter().filter(|record| record["subject"].is_object()).map(of).collect()
}

#[test]
fn termination_is_previewed_recorded_and_as_forceful_as_asked() {
    let stage = stage();
    let polite = stage.offender("labelpress", &[]);
    let deaf = stage.offender("tilebaker", &["--deaf"]);
    let id_of = |pid| id(&stage, pid);
    let (status, told) = hand(&stage, &["terminate", &id_of(polite.pid()), "--dry-run"]);
    assert!(status == Some(0) && told.contains("cannot be undone") && told.contains("nothing was done"), "{told}");
    assert!(!is_gone(polite.pid()) && stage.records().is_empty());

    let (status, told) = hand(&stage, &["terminate", &id_of(polite.pid()), "--because", "too loud"]);
    assert!(status == Some(0) && told.contains("  ended  labelpress"), "{told}");
    assert!(
        told.contains("machine   memory that can be had: ") && told.contains("next      sophron checkup"),
        "{told}"
    );
    assert!(is_gone(polite.pid()));
    assert_eq!(kinds(&stage), ["intent terminate ", "outcome terminate ended"]);
    assert_eq!(stage.records()[2]["action"]["because"], "too loud");

    let deaf_id = id_of(deaf.pid());
    let (status, told) = hand(&stage, &["terminate", &deaf_id]);
    assert!(status == Some(1) && told.contains("still there") && told.contains("--force-after 10s"), "{told}");
    assert!(!is_gone(deaf.pid()));
    let (status, told) = hand(&stage, &["terminate", &deaf_id, "--force-after", "300ms"]);
    assert!(status == Some(0) && told.contains("ended by force") && is_gone(deaf.pid()), "{told}");
    let audit = hand(&stage, &["audit"]).1;
    assert!(audit.contains("by hand") && audit.contains("too loud"), "{audit}");
    // One that is ended again and again is not worth ending.
    let back = stage.offender("tilebaker", &[]);
    let (_, told) = hand(&stage, &["terminate", &id_of(back.pid()), "--dry-run"]);
    assert!(!told.contains("this will not hold"), "another file is another program: {told}");
}

/// Where nobody is asked, a number alone is not enough; and nobody is meant by default.
#[test]
fn a_slip_of_the_hand_is_refused() {
    let stage = stage();
    let press = stage.offender("labelpress", &[]);
    let pid = press.pid().to_string();
    let id = id(&stage, press.pid());
    for (args, status, word) in [
        (vec!["terminate", "--yes"], 2, "there is no default target"),
        (vec!["terminate", &pid], 4, "alone could be a slip"),
        (vec!["terminate", &pid, "--yes"], 4, "alone could be a slip"),
        (vec!["terminate", "labelpress"], 4, "nobody is asked here"),
        (vec!["terminate", "--where", "app = \"labelpress\""], 4, "nobody is asked here"),
        (vec!["terminate", "--where", "pid > 0", "--yes"], 4, "at most 10 are acted on unasked"),
        (vec!["suspend", "1-bzz"], 4, "does not fit"),
    ] {
        let (found, told) = hand(&stage, &args);
        assert!(found == Some(status) && told.contains(word), "{args:?}: {found:?} {told}");
    }
    let (_, told) = hand(&stage, &["suspend", &pid]);
    assert!(told.contains(&format!("sophron suspend {id}, if labelpress {id}")), "{told}");
    let output = stage.run(&["stop", &id]);
    assert!(
        output.stderr.contains("`sophron suspend`") && output.stderr.contains("`sophron terminate`"),
        "{}",
        output.stderr
    );
    assert!(!is_gone(press.pid()) && stage.records().is_empty());
}

#[test]
fn the_protected_are_spared_unless_a_hand_insists() {
    let stage = stage();
    let panel = stage.offender("fernpanel", &[]);
    let rules = stage
        .write("rules.toml", "format = 1\n[protect]\nwhere = '{mine} and owner != \"nobody\"'\n")
        .display()
        .to_string();
    let panel_id = id(&stage, panel.pid());
    let (status, told) = hand(&stage, &["suspend", &panel_id, "--rules", &rules]);
    assert!(
        status == Some(4) && told.contains("protected: [protect] in") && told.contains("--override-protection"),
        "{told}"
    );
    assert!(!is_suspended(panel.pid()) && stage.records().is_empty());
    let (status, _) = hand(&stage, &["terminate", &panel_id, "--rules", &rules, "--override-protection"]);
    assert!(status == Some(0) && is_gone(panel.pid()));
    // Nobody overrides that: with PID 1 the machine ends.
    let first = id(&stage, 1);
    let (status, told) = hand(&stage, &["lower", &first, "--override-protection"]);
    assert!(status == Some(4) && told.contains("nothing overrides that"), "{told}");
    let own = id(&stage, std::process::id());
    let (status, told) = hand(&stage, &["suspend", &own]);
    assert!(status == Some(4) && told.contains("Sophron was started from it"), "{told}");
}

/// Threads that come and go all the time: every one is lowered, and every one restored.
#[test]
fn every_thread_is_lowered_and_restored() {
    if !sophron_testkit::can_be_lowered() {
        return;
    }
    let stage = stage();
    let baker = stage.offender("tilebaker", &["--threads", "64"]);
    eventually("its threads run", || (threads(baker.pid()).len() > 60).then_some(()));
    let baker_id = id(&stage, baker.pid());
    let (status, told) = hand(&stage, &["lower", &baker_id, "--nice", "7"]);
    assert!(
        was_lowered(status)
            && told.contains(&format!("nice {} → 7, disk only when nobody else wants it", usual_nice())),
        "{told}"
    );
    let lowered = nices(baker.pid());
    assert!(lowered.len() > 40 && lowered.iter().all(|nice| *nice == 7), "{lowered:?}");
    let (status, told) = hand(&stage, &["restore", &baker_id]);
    if is_root() {
        assert!(status == Some(0) && told.contains("nice 7 → 0"), "{told}");
        // A thread that was just being started may have taken the old niceness along.
        eventually("every thread is back", || {
            nices(baker.pid()).iter().all(|nice| *nice == usual_nice()).then_some(())
        });
        assert_eq!(hand(&stage, &["restore", "--all"]).0, Some(0));
    } else {
        assert!(status == Some(4) && told.contains("CAP_SYS_NICE"), "{told}");
    }
}

#[test]
fn a_suspension_ends_by_itself_on_a_word_and_whatever_happens() {
    let stage = stage();
    let press = stage.offender("labelpress", &["--cpu", "20%", "--children", "2"]);
    let press_id = id(&stage, press.pid());
    let (status, told) = hand(&stage, &["suspend", &press_id, "--for", "1s"]);
    assert!(status == Some(0) && told.contains("  suspended  ") && told.contains("  resumed  "), "{told}");
    let undo = format!("undo      Ctrl-C here, or elsewhere: sophron resume {press_id}");
    assert!(told.contains(&undo) && told.contains("next      sophron checkup"), "{told}");
    let measured = std::path::Path::new("/proc/pressure/cpu").exists();
    assert!(!measured || told.contains("machine   somebody waited for a core, of the time: "), "{told}");
    assert!(!is_suspended(press.pid()));

    // Told to end, it resumes at once; killed outright, its guard does.
    for signal in [Signal::INT, Signal::KILL] {
        let mut command = staying(&stage, &["suspend", &press_id, "--for", "5m"]);
        eventually("it is suspended", || is_suspended(press.pid()).then_some(()));
        kill_process(Pid::from_raw(command.id().cast_signed()).unwrap(), signal).unwrap();
        eventually("it goes on", || (!is_suspended(press.pid())).then_some(()));
        command.wait().unwrap();
    }
    // Somebody else's resume is a word, too.
    let mut command = staying(&stage, &["suspend", &press_id, "--tree", "--for", "5m"]);
    eventually("it is suspended", || is_suspended(press.pid()).then_some(()));
    eventually("it is in the record", || {
        kinds(&stage).last().is_some_and(|kind| kind == "outcome suspend suspended").then_some(())
    });
    let (status, told) = hand(&stage, &["resume", &press_id]);
    assert!(status == Some(0) && told.contains("  resumed  "), "{told}");
    kill_process(Pid::from_raw(command.id().cast_signed()).unwrap(), Signal::INT).unwrap();
    command.wait().unwrap();
}

/// A tree that forks as fast as it can is caught whole: nobody is left, every time.
#[test]
fn a_forking_tree_is_ended_whole() {
    let stage = stage();
    // Ten loops, each with children of a moment, and theirs: at most 190 live.
    let script = "f() { while :; do (sleep 0.01; sleep 0.01 & wait) & sleep 0.01 & wait; done; }; \
        for i in 1 2 3 4 5 6 7 8 9 10; do f & done; wait";
    for round in 0..3 {
        let mark = format!("hands-{}-{round}", std::process::id());
        let mut storm = std::process::Command::new("sh").args(["-c", script, &mark]).spawn().unwrap();
        let pid = storm.id();
        let family = || {
            let all = std::fs::read_dir("/proc").unwrap().flatten();
            all.filter(|entry| {
                std::fs::read(entry.path().join("cmdline"))
                    .is_ok_and(|line| String::from_utf8_lossy(&line).contains(&mark))
            })
            .count()
        };
        eventually("it forks", || (family() > 10).then_some(()));
        let (status, told) = hand(&stage, &["terminate", &id(&stage, pid), "--tree", "--force-after", "2s"]);
        storm.wait().unwrap();
        assert_eq!(status, Some(0), "{told}");
        assert_eq!(family(), 0, "round {round}: {told}");
    }
}

/// Who may not see other users' processes sees all of his own tree: it is caught whole, whichever way they are hidden.
#[test]
fn a_tree_is_ended_whole_where_others_are_hidden() {
    if !is_root() {
        eprintln!("skipped: only root can hide processes");
        return;
    }
    let stage = stage().as_user(65534);
    let script = "sh -c 'sleep 60 & sleep 60 & wait' & root=$!
        until [ \"$(wc -w < /proc/$root/task/$root/children)\" = 2 ]; do :; done
        family=\"$root $(cat /proc/$root/task/$root/children)\"
        id=$(\"$0\" list --where \"pid = $root\" --columns id --format csv | tail -n 1)
        \"$0\" terminate \"$id\" --tree --force-after 5s --yes --state \"$1\"; echo \"status $?\"
        for pid in $family; do
            case \"$(cut -d ' ' -f 3 /proc/$pid/stat 2> /dev/null)\" in ''|Z) echo gone ;; *) echo left; kill -KILL $pid ;; esac
        done";
    for hidden in ["1", "2"] {
        let line = format!(
            "mount -t proc -o hidepid={hidden} proc /proc || exit 77; \
             exec setpriv --reuid 65534 --regid 65534 --clear-groups sh -c \"$@\""
        );
        let mut command = std::process::Command::new("unshare");
        command.args(["--mount", "--propagation", "private", "--pid", "--fork", "sh", "-c", &line, "sh", script]);
        command.arg(stage.path("sophron")).arg(stage.state()).env("HOME", stage.path(""));
        let output = command.output().expect("unshare is everywhere");
        if output.status.code() == Some(77) {
            eprintln!("skipped: this machine lets nobody mount /proc: {}", String::from_utf8_lossy(&output.stderr));
            return;
        }
        let told = String::from_utf8_lossy(&output.stdout);
        assert!(told.contains("status 0\ngone\ngone\ngone\n"), "hidepid={hidden}: {told}\n{output:?}");
        assert!(told.contains("with its tree of 3"), "hidepid={hidden}: {told}");
    }
}

#[test]
fn rules_stand_back_from_what_a_hand_has_touched() {
    let stage = stage();
    let rules = stage.write(
        "rules.toml",
        "format = 1\nevery = '250ms'\n[[rule]]\nname = 'press-leak'\nwhere = '{mine}'\nbreach = 'memory.held > 10 MiB'\n\
         lasting = '2s'\narmed = true\nladder = [ { at = '0s', do = 'terminate' } ]\n",
    );
    let press = stage.offender("labelpress", &[]);
    let mut watcher = stage.watch(&rules, &[]);
    let (status, told) = hand(&stage, &["lower", &id(&stage, press.pid()), "--nice", "3"]);
    assert!(was_lowered(status), "{told}");
    let line = watcher.line_with("by hand");
    assert!(line.contains("labelpress") && line.contains("rules stand back from it until"), "{line}");
    assert!(
        stage.story(press.pid()).contains(&"stood back lower stood back".to_owned()),
        "{:?}",
        stage.story(press.pid())
    );
    let (_, status) = watcher.interrupt();
    // What a hand has lowered is the hand's to restore, and no watcher's.
    assert_eq!((status, nices(press.pid())), (Some(0), vec![3]));
}

#[test]
fn without_the_right_it_says_who_has_it_and_without_a_record_nothing_is_done() {
    let stage = stage();
    let press = stage.offender("labelpress", &[]);
    let press_id = id(&stage, press.pid());
    std::fs::write(stage.path("file"), "").unwrap();
    let state = stage.path("file/state").display().to_string();
    let output = stage.run(&["terminate", &press_id, "--state", &state]);
    assert!(output.status != Some(0) && output.stderr.contains("nothing was done"), "{output:?}");
    assert!(!is_gone(press.pid()));
    if !is_root() {
        eprintln!("skipped: only root can start processes of two users");
        return;
    }
    let theirs = crate::stage().as_user(65534);
    let (status, told) = hand(&theirs, &["terminate", &press_id]);
    assert!(status == Some(4) && told.contains(&format!("sudo sophron terminate {press_id}")), "{told}");
    assert!(told.contains("CAP_KILL") && !is_gone(press.pid()), "{told}");
    let own = theirs.offender("labelpress", &[]);
    let (_, told) = hand(&theirs, &["lower", &id(&theirs, own.pid()), "--dry-run"]);
    assert!(told.contains("cannot be undone without root or CAP_SYS_NICE"), "{told}");
}

/// A unit of the test's own, and a stand-in for the service manager that knows it. `None` where no control group may be
/// made: the unit comes from there.
fn unit(stage: &Stage, name: &str) -> Option<(ControlGroup, StandIn)> {
    let roots = [("/sys/fs/cgroup/systemd", ""), ("/sys/fs/cgroup", "")];
    let group = ControlGroup::make(name, &roots, "");
    if group.is_none() {
        eprintln!("skipped: this test may make no control group");
    }
    group.map(|group| (group, StandIn::in_folder(&stage.path(""))))
}

#[test]
fn a_unit_is_restarted_through_the_service_manager() {
    let stage = stage();
    let name = format!("sheetlamp-{}.service", std::process::id());
    let Some((group, manager)) = unit(&stage, &name) else { return };
    let lamp = stage.offender_in(&group.processes(), "sheetlamp", &[]);
    let plain = stage.offender("labelpress", &[]);
    let (lamp_id, plain_id) = (id(&stage, lamp.pid()), id(&stage, plain.pid()));
    let socket = manager.socket.display().to_string();
    let restart = |id: &str| hand(&stage, &["restart", id, "--service-manager", &socket]);
    let (status, told) = restart(&lamp_id);
    assert!(status == Some(0) && told.contains(&format!("the unit {name} is active again as process 4712")), "{told}");
    assert_eq!(manager.told.lock().unwrap().calls, [format!("RestartUnit {name} replace")]);
    assert_eq!(kinds(&stage), ["intent restart ", "outcome restart restarted"]);
    // What no service manager started it cannot start again.
    let (status, told) = restart(&plain_id);
    assert!(
        status == Some(4) && told.contains("its command line is: ") && told.contains("labelpress misbehave"),
        "{told}"
    );
    manager.told.lock().unwrap().state = "failed".to_owned();
    let (status, told) = restart(&lamp_id);
    assert!(status == Some(1) && told.contains("is failed after"), "{told}");
    manager.told.lock().unwrap().refuses = true;
    let (status, told) = restart(&lamp_id);
    assert!(status == Some(4) && told.contains("refuses"), "{told}");
    // One that does not answer is not waited for.
    manager.told.lock().unwrap().hangs = true;
    let (status, told) = restart(&lamp_id);
    assert!(status == Some(1) && told.contains("did not answer within 5 s"), "{told}");
    drop((lamp, group));
}

#[test]
fn the_weight_of_a_unit_is_lowered_and_put_back() {
    let stage = stage();
    let name = format!("app-labelpress-{}.scope", std::process::id());
    let Some((group, manager)) = unit(&stage, &name) else { return };
    let press = stage.offender_in(&group.processes(), "labelpress", &["--cpu", "10%"]);
    let press_id = id(&stage, press.pid());
    let socket = manager.socket.display().to_string();
    let (status, told) = hand(&stage, &["lower", &press_id, "--nice", "10", "--service-manager", &socket]);
    assert!(was_lowered(status) && told.contains("CPU weight of its unit 100 → 11"), "{told}");
    let intent = stage.records().into_iter().rfind(|record| record["kind"] == "intent").unwrap();
    assert_eq!(intent["action"]["originals"]["weight"]["set"], 11);
    let (status, told) = hand(&stage, &["restore", &press_id, "--service-manager", &socket]);
    assert!(status == Some(0) && told.contains("CPU weight of its unit 11 → 100"), "{told}");
    let calls = manager.told.lock().unwrap().calls.clone();
    assert_eq!(calls, [11, u64::MAX].map(|weight| format!("SetUnitProperties {name} true CPUWeight={weight}")));
    // Somebody else has set it since: it is his.
    hand(&stage, &["lower", &press_id, "--nice", "10", "--service-manager", &socket]);
    manager.told.lock().unwrap().weight = 500;
    hand(&stage, &["restore", "--all", "--service-manager", &socket]);
    assert_eq!(manager.told.lock().unwrap().weight, 500);
    drop((press, group));
}

/// A rule lowers by the same lever as a hand, says what that did, and puts it back; also when the process is gone.
#[test]
fn a_rule_lowers_the_weight_of_a_unit_and_puts_it_back() {
    let stage = stage();
    let name = format!("sheetlamp-{}.service", std::process::id());
    let Some((group, manager)) = unit(&stage, &name) else { return };
    let lamp = stage.offender_in(&group.processes(), "sheetlamp", &["--cpu", "30%"]);
    let rules = "format = 1\nevery = '200ms'\n[[rule]]\nname = 'lamp-spin'\narmed = true\nlasting = '400ms'\n\
        where = 'app = \"sheetlamp\" and {mine}'\nbreach = 'cpu > 5%'\nladder = [ { at = '0s', do = 'lower', nice = 15 } ]\n";
    let rules = stage.write("rules.toml", rules);
    let socket = manager.socket.display().to_string();
    let mut watcher = stage.watch(&rules, &["--service-manager", &socket]);
    let told = watcher.line_with("  lowered  ");
    assert!(
        told.contains(&format!("nice {} → 15", usual_nice())) && told.contains("CPU weight of its unit 100 → 4"),
        "{told}"
    );
    let told = watcher.line_with("  effect  ");
    assert!(told.contains(" of a core (over "), "{told}");
    assert_eq!(manager.told.lock().unwrap().weight, 4);
    drop(lamp);
    watcher.line_with("  restored  ");
    watcher.interrupt();
    assert_eq!(manager.told.lock().unwrap().weight, u64::MAX);
    drop(group);
}

/// What cannot answer is told apart: one that ended, one that is stuck, one whose group is frozen.
#[test]
fn what_does_not_answer_is_told_apart() {
    let stage = stage();
    let mut zombie = std::process::Command::new("true").spawn().unwrap();
    eventually("it has ended", || is_gone(zombie.id()).then_some(()));
    let (status, told) = hand(&stage, &["terminate", &id(&stage, zombie.id())]);
    assert!(status == Some(4) && told.contains("it has ended already, and waits for its parent"), "{told}");
    zombie.wait().unwrap();

    let stuck = stage.offender("herbarium", &["--wait-on", "kernel"]);
    let (status, told) = hand(&stage, &["suspend", &id(&stage, stuck.pid()), "--for", "1s"]);
    assert!(status == Some(0) && told.contains("stand still when they come back"), "{told}");

    let name = format!("sophron-frozen-{}", std::process::id());
    let roots = [("/sys/fs/cgroup/unified", "cgroup.freeze"), ("/sys/fs/cgroup", "cgroup.freeze")];
    let Some(group) = ControlGroup::make(&name, &roots, "0") else {
        eprintln!("skipped: this test may freeze no control group");
        return;
    };
    let frozen = stage.offender_in(&group.processes(), "kioskview", &[]);
    std::fs::write(group.folder().join("cgroup.freeze"), "1").unwrap();
    let frozen_now = || std::fs::read_to_string(group.folder().join("cgroup.events")).unwrap().contains("frozen 1");
    eventually("it is frozen", || frozen_now().then_some(()));
    let (status, told) = hand(&stage, &["terminate", &id(&stage, frozen.pid())]);
    assert!(status == Some(1) && told.contains("pending: frozen"), "{told}");
    assert!(!is_gone(frozen.pid()));
    std::fs::write(group.folder().join("cgroup.freeze"), "0").unwrap();
    eventually("it ends when it is thawed", || is_gone(frozen.pid()).then_some(()));
    drop((frozen, group));
}

/// One that is started again and again: ending it does not hold, and that is said before and after.
#[test]
fn what_comes_back_is_told() {
    let stage = stage();
    let mut again = stage
        .command(&[])
        .get_program()
        .to_str()
        .map(|program| {
            // A name of its own: other tests start the program as well.
            let own = stage.path("backagain");
            sophron_testkit::copy_program(program, &own);
            let program = own.display();
            let line = format!("for i in 1 2 3; do {program} misbehave --for 30s > /dev/null; done");
            std::process::Command::new("sh").args(["-c", &line]).spawn().unwrap()
        })
        .unwrap();
    let child = |of: u32| {
        let listed = stage.json(&["list", "--where", &format!("parent = {of}"), "--format", "json"]);
        listed["rows"][0]["id"].as_str().map(str::to_owned)
    };
    let first = eventually("it runs", || child(again.id()));
    let (status, told) = hand(&stage, &["terminate", &first]);
    assert!(status == Some(0) && told.contains("backagain came back as backagain "), "{told}");
    assert!(
        told.contains(&format!("started by sh {}-", again.id())) || told.contains(&format!(" {}-", again.id())),
        "{told}"
    );
    let last = stage.records().pop().unwrap();
    assert_eq!((&last["subject"]["id"], &last["result"]["outcome"]), (&first.clone().into(), &"came back".into()));
    let second = eventually("it is back", || child(again.id()));
    assert_ne!(first, second);
    let (_, told) = hand(&stage, &["terminate", &second, "--dry-run"]);
    assert!(told.contains("ended once since ") && told.contains("this will not hold"), "{told}");
    let loop_id = id(&stage, again.id());
    let (status, told) = hand(&stage, &["terminate", &loop_id, "--tree", "--force-after", "2s"]);
    again.wait().unwrap();
    assert_eq!(status, Some(0), "{told}");
}

/// A capability is enough: nobody has to be root.
#[test]
fn a_capability_does_instead_of_root() {
    if !is_root() {
        eprintln!("skipped: only root can hand out capabilities");
        return;
    }
    let (roots, theirs) = (stage(), stage().as_user(65534));
    let press = roots.offender("labelpress", &[]);
    let press_id = id(&roots, press.pid());
    let with = |capability: &str, verb: &[&str]| {
        let mut command = std::process::Command::new("setpriv");
        let (inherited, ambient) = (format!("--inh-caps=+{capability}"), format!("--ambient-caps=+{capability}"));
        command.args(["--reuid", "65534", "--regid", "65534", "--clear-groups", &inherited, &ambient]);
        command.arg(theirs.path("sophron")).args(verb).arg(&press_id).arg("--state").arg(theirs.path("state"));
        let output = command.stdin(Stdio::null()).output().expect("setpriv is everywhere");
        let told = format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
        (output.status.code(), told)
    };
    let (status, told) = with("sys_nice", &["terminate"]);
    assert!(status == Some(4) && told.contains("CAP_KILL"), "{told}");
    let (status, told) = with("kill", &["lower", "--nice", "5"]);
    assert!(status == Some(4) && told.contains("CAP_SYS_NICE"), "{told}");
    let (status, told) = with("sys_nice", &["lower", "--nice", "5"]);
    assert!(was_lowered(status) && !told.contains("cannot be undone"), "{told}");
    assert!(nices(press.pid()).iter().all(|nice| *nice == 5));
    // On a machine that is busy with something else it may take longer than the command waits for it.
    let (status, told) = with("kill", &["terminate"]);
    assert!(matches!(status, Some(0 | 1)) && !told.contains("CAP_"), "{told}");
    eventually("it is gone", || is_gone(press.pid()).then_some(()));
}

/// A rule that has suspended the holder of a lock lets it go as soon as somebody waits for it.
#[test]
fn a_rule_lets_go_of_whoever_others_begin_to_wait_for() {
    let stage = stage();
    let lock = stage.path("lock").display().to_string();
    let Ok(mut holder) = std::process::Command::new("flock").args([&lock, "sleep", "30"]).spawn() else {
        eprintln!("skipped: this machine has no flock");
        return;
    };
    let rules = format!(
        "format = 1\nevery = '200ms'\n[[rule]]\nname = 'held'\nwhere = 'pid = {}'\nbreach = 'age > 0s'\nlasting = '200ms'\n\
         armed = true\nladder = [ {{ at = '0s', do = 'suspend', for = '60s' }} ]\n",
        holder.id()
    );
    let rules = stage.write("rules.toml", rules);
    let mut watcher = stage.watch(&rules, &[]);
    eventually("it is suspended", || is_suspended(holder.id()).then_some(()));
    watcher.line_with("suspended");
    if let Some(_waiter) = anothers_waiter(std::path::Path::new(&lock)) {
        let line = watcher.line_with("waits for a file lock");
        assert!(line.contains("resumed at once"), "{line}");
        eventually("it goes on", || (!is_suspended(holder.id())).then_some(()));
    }
    watcher.interrupt();
    holder.kill().unwrap();
    holder.wait().unwrap();
}

/// A member of the tree that may not be touched is left alone when the tree is ended, and so is what hangs on it.
#[test]
fn a_tree_is_ended_without_those_that_were_refused() {
    let stage = stage();
    let lock = stage.path("lock").display().to_string();
    let line = format!("flock {lock} sleep 300 & sleep 300 & wait");
    let mut parent = std::process::Command::new("sh").args(["-c", &line]).process_group(0).spawn().unwrap();
    let group = Pid::from_raw(parent.id().cast_signed()).unwrap();
    let child = |app: &str| {
        let condition = format!("parent = {} and app = \"{app}\"", parent.id());
        let listed = stage.json(&["list", "--where", &condition, "--format", "json"]);
        listed["rows"][0]["pid"].as_u64().map(|pid| u32::try_from(pid).unwrap())
    };
    let held = || std::fs::read_to_string("/proc/locks").unwrap();
    let holder = eventually("the lock is held", || child("flock").filter(|pid| held().contains(&format!(" {pid} "))));
    let Some(_waiter) = anothers_waiter(std::path::Path::new(&lock)) else {
        kill_process_group(group, Signal::KILL).unwrap();
        parent.wait().unwrap();
        return;
    };
    let (_, told) = hand(&stage, &["terminate", &id(&stage, parent.id()), "--tree", "--force-after", "1s"]);
    let spared = !is_gone(holder) && !is_suspended(holder);
    let _ = kill_process_group(group, Signal::KILL);
    parent.wait().unwrap();
    assert!(spared && told.contains("refused") && told.contains("it holds a file lock"), "{told}");
}

/// Ctrl-Z on a hand at work: it goes on to its end, and nobody waits for a lock that a stopped command holds.
#[test]
fn a_hand_at_work_is_not_stopped_half_way() {
    let stage = stage();
    let press = stage.offender("labelpress", &["--cpu", "5%"]);
    let target = id(&stage, press.pid());
    // The trail's lock is held until the signal has come: the hand waits in the middle of its work.
    std::fs::create_dir_all(stage.state().join("audit")).unwrap();
    for folder in [stage.state(), stage.state().join("audit")] {
        std::fs::set_permissions(folder, std::os::unix::fs::PermissionsExt::from_mode(0o700)).unwrap();
    }
    let lock = std::fs::File::create(stage.state().join("audit/lock")).unwrap();
    rustix::fs::flock(&lock, rustix::fs::FlockOperation::LockExclusive).unwrap();
    let state = stage.state().display().to_string();
    let mut hand =
        stage.command(&["terminate", &target, "--yes", "--state", &state]).stdout(Stdio::null()).spawn().unwrap();
    let pid = Pid::from_raw(hand.id().cast_signed()).unwrap();
    let blocks_stop = || {
        let status = std::fs::read_to_string(format!("/proc/{}/status", hand.id())).unwrap();
        let mask = status.lines().find_map(|line| line.strip_prefix("SigBlk:\t")).unwrap().to_owned();
        u64::from_str_radix(&mask, 16).unwrap() & (1 << (20 - 1)) != 0
    };
    eventually("it is deaf to the terminal", || blocks_stop().then_some(()));
    kill_process(pid, Signal::TSTP).unwrap();
    drop(lock);
    eventually("it ends, stopped or not", || hand.try_wait().unwrap());
    assert!(is_gone(press.pid()), "the act was carried through");
    assert_eq!(kinds(&stage), ["intent terminate ", "outcome terminate ended"]);
}

/// What is in force is known from the record alone: one that cannot be trusted is no ground to take anything back.
#[test]
fn a_record_that_is_not_sound_restores_nothing() {
    if !sophron_testkit::can_be_lowered() {
        return;
    }
    let stage = stage();
    let baker = stage.offender("tilebaker", &[]);
    hand(&stage, &["lower", &id(&stage, baker.pid()), "--nice", "7"]);
    let file = stage.state().join("audit/000001.jsonl");
    let record = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, record.replacen("\"nice\":7", "\"nice\":8", 1)).unwrap();
    let (status, told) = hand(&stage, &["restore", "--all"]);
    assert!(status == Some(1) && told.contains("not sound at record") && told.contains("nothing was done"), "{told}");
    assert!(nices(baker.pid()).iter().all(|nice| *nice == 7), "it is still lowered");
}
