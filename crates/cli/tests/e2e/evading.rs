//! Whoever does not want to be caught: each way out of a rule that was found, closed, with an innocent beside it.

use std::io::{BufRead, BufReader};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::time::Duration;

use rustix::process::{Pid, Signal, kill_process};
use sophron_testkit::{ControlGroup, Offender, Own, Stage, eventually, is_gone, is_root, is_suspended, threads};

use crate::stage;

const GROWN: [&str; 4] = ["--grow", "100MiB/s", "--up-to", "70MiB"];

/// What holds more than 60 MiB is answered by this ladder.
fn rules(ladder: &str) -> String {
    format!(
        "format = 1\nevery = '200ms'\n[[rule]]\nname = 'a'\nwhere = 'app = \"labelpress\" and {{mine}}'\n\
         breach = 'memory.held > 60 MiB'\nlasting = '400ms'\narmed = true\nladder = [ {ladder} ]\n"
    )
}

/// Of the same name, and within the limit.
fn innocent(stage: &Stage) -> Offender {
    stage.offender("labelpress", &["--grow", "100MiB/s", "--up-to", "10MiB"])
}

/// A user ID that nobody else has here: what is done to its processes is done to this test's alone.
pub(crate) fn own_user() -> u32 {
    static GIVEN: AtomicU32 = AtomicU32::new(0);
    2_000_000_000 + std::process::id() * 64 + GIVEN.fetch_add(1, Ordering::Relaxed)
}

/// A program of that name that evades by `word`, as an ordinary user of its own where that is allowed; none without a C compiler.
pub(crate) fn evader(stage: &Stage, name: &str, word: &str) -> Option<Own> {
    evader_in(stage, name, word, None, own_user())
}

/// The same in a control group, and as that user.
fn evader_in(stage: &Stage, name: &str, word: &str, group: Option<&ControlGroup>, user: u32) -> Option<Own> {
    let program = stage.path(name);
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/e2e/evader/evader.c");
    let built = Command::new("cc").args(["-O0", "-pthread", "-o"]).arg(&program).arg(source).status();
    if !built.is_ok_and(|status| status.success()) {
        eprintln!("skipped: no C compiler");
        return None;
    }
    let mut command = Command::new(&program);
    if let Some(group) = group {
        command = Command::new("sh");
        let own = format!("echo $$ > \"$0\" && exec setpriv --reuid {user} --regid {user} --clear-groups \"$@\"");
        command.arg("-c").arg(own).arg(group.processes()).arg(&program);
    }
    command.arg(word).current_dir("/").stdin(Stdio::null()).stdout(Stdio::piped());
    if is_root() && group.is_none() {
        command.uid(user).gid(user);
    }
    let mut evader = Own(command.spawn().unwrap());
    let mut line = String::new();
    BufReader::new(evader.0.stdout.take().unwrap()).read_line(&mut line).unwrap();
    assert_eq!(line, "ready\n");
    Some(evader)
}

/// It lives, no thread of it stands still, and no record is about it.
fn assert_untouched(stage: &Stage, innocent: &Offender) {
    let pid = innocent.pid();
    assert!(!is_gone(pid) && threads(pid).iter().all(|thread| thread.state != 'T'), "the innocent was touched");
    assert_eq!(stage.story(pid), Vec::<String>::new());
}

/// A partner that sends the signal whenever it stands still.
#[test]
fn a_partner_that_resumes_it_is_no_way_out() {
    let stage = stage();
    let ladder = "{ at = '0s', do = 'suspend', for = '3s' }, { at = '4s', do = 'terminate' }";
    let path = stage.write("rules.toml", rules(ladder));
    let (press, innocent) = (stage.offender("labelpress", &GROWN), innocent(&stage));
    let watcher = stage.watch(&path, &[]);
    let (pid, over) = (press.pid(), AtomicBool::new(false));
    std::thread::scope(|scope| {
        scope.spawn(|| {
            while !over.load(Ordering::Relaxed) && !is_gone(pid) {
                if is_suspended(pid) {
                    let _ = kill_process(Pid::from_raw(pid.cast_signed()).unwrap(), Signal::CONT);
                }
                std::thread::sleep(Duration::from_millis(5));
            }
        });
        let ended = std::panic::catch_unwind(|| eventually("terminated", || is_gone(pid).then_some(())));
        over.store(true, Ordering::Relaxed);
        ended.unwrap();
    });
    assert_untouched(&stage, &innocent);
    eventually("recorded", || stage.story(pid).contains(&"ended ended".to_owned()).then_some(()));
    let (lines, _) = watcher.interrupt();
    assert!(lines.contains("suspended again for the rest of its time"), "{lines}");
    assert!(lines.contains("it does not stay suspended: its ladder goes on; next: terminate"), "{lines}");
    let story = stage.story(pid);
    assert!(!story.iter().any(|told| told.starts_with("stood back")), "{story:?}");
}

/// Neither what its memory is, nor what it is called, is lost with the main thread.
#[test]
fn a_main_thread_that_exits_is_no_way_out() {
    let stage = stage();
    let path = stage.write("rules.toml", rules("{ at = '1s', do = 'terminate' }"));
    let (Some(press), innocent) = (evader(&stage, "labelpress", "leaderless"), innocent(&stage)) else { return };
    let listed = stage.json(&["list", "--where", &format!("pid = {}", press.pid()), "--format", "json"]);
    let row = &listed["rows"][0];
    assert!(row["memory"].as_u64() > Some(70 << 20), "{row}");
    assert_eq!((row["app"].as_str(), row["state"].as_str()), (Some("labelpress"), Some("sleeping")), "{row}");
    let watcher = stage.watch(&path, &[]);
    eventually("terminated", || is_gone(press.pid()).then_some(()));
    assert_untouched(&stage, &innocent);
    watcher.interrupt();
}

/// A program that is called as a protected one is, even one that stands where only root could have put it.
#[test]
fn a_protected_name_is_no_way_out() {
    if !is_root() {
        return eprintln!("skipped: what an ordinary user's watcher may act on is his own, under any name");
    }
    let stage = stage();
    let protect = "[protect]\nwhere = 'app = \"labelpress\"'\n[[rule]]";
    let path = stage
        .write("rules.toml", rules("{ at = '1s', do = 'terminate', force_after = '1s' }").replace("[[rule]]", protect));
    // What is root's own nobody else gives its name to.
    let own = stage.offender("labelpress", &GROWN);
    let Some(press) = evader(&stage, "labelpress", "as it is") else { return };
    let watcher = stage.watch(&path, &[]);
    eventually("terminated", || is_gone(press.pid()).then_some(()));
    eventually("spared", || stage.story(own.pid()).contains(&"spared terminate spared".to_owned()).then_some(()));
    assert!(!is_gone(own.pid()));
    let (lines, _) = watcher.interrupt();
    assert!(lines.contains("protect") && lines.contains("a name alone protects root's own processes only"), "{lines}");
}

/// What cannot be read of it for want of a right is said, with the right.
#[test]
fn who_does_not_let_himself_be_examined_is_told_of_with_the_right_that_would_help() {
    if !is_root() {
        return eprintln!("skipped: only root can give rights away");
    }
    let stage = stage();
    let path = stage.write("rules.toml", rules("{ at = '1s', do = 'terminate' }")).display().to_string();
    let Some(press) = evader(&stage, "labelpress", "undumpable") else { return };
    let inner = stage.command(&["watch", "--rules", &path, "--state", &stage.state().display().to_string()]);
    let mut command = Command::new("setpriv");
    command.args(["--bounding-set", "-sys_ptrace", "--inh-caps", "-sys_ptrace"]).arg(inner.get_program());
    let output = command.args(inner.get_args()).args(["--for", "2s"]).stdin(Stdio::null()).output().unwrap();
    let lines = String::from_utf8_lossy(&output.stdout);
    assert!(lines.contains("path cannot be read (that takes CAP_SYS_PTRACE)"), "{output:?}");
    // With it he is a process like any other.
    assert!(!is_gone(press.pid()));
    let watcher = stage.watch(Path::new(&path), &[]);
    eventually("terminated", || is_gone(press.pid()).then_some(()));
    watcher.interrupt();
}

/// A chain of processes of 40 ms each, of which no sample sees what they used: the unit has it, and so have the owner and the
/// machine.
#[test]
fn a_chain_of_short_lives_is_counted_with_its_unit_and_as_unseen() {
    let unit = format!("labelpress-{}.service", std::process::id());
    let roots = [("/sys/fs/cgroup/unified", "cpu.stat"), ("/sys/fs/cgroup", "cpu.stat")];
    let roots = roots.map(|(root, file)| (root, if Path::new(root).join(file).exists() { "" } else { file }));
    let Some(group) = ControlGroup::make(&unit, &roots, "") else {
        return eprintln!("skipped: no control group may be made here");
    };
    let stage = stage();
    let user = own_user();
    let text = format!(
        "format = 1\nevery = '1s'\n[[rule]]\nname = 'owner'\njudge = 'owner'\nwhere = 'uid = {user}'\nbreach = 'cpu > 2%'\n\
         lasting = '3s'\n[[rule]]\nname = 'unit'\njudge = 'unit'\nwhere = 'unit = \"{unit}\"'\nbreach = 'cpu > 2%'\n\
         lasting = '3s'\n[[rule]]\nname = 'unseen'\njudge = 'machine'\nbreach = 'machine.cpu.unseen > 1%'\nlasting = '3s'\n"
    );
    let watcher = stage.watch(&stage.write("rules.toml", text), &[]);
    let Some(chain) = evader_in(&stage, "labelpress", "chain", Some(&group), user) else { return };
    // In a container the kernel tells nothing of who comes and goes.
    let tells = ["pid:[4026531836]", "user:[4026531837]"].map(|first| {
        let kind = first.split(':').next().unwrap();
        std::fs::read_link(format!("/proc/self/ns/{kind}")).is_ok_and(|link| link == Path::new(first))
    });
    let tells = is_root() && tells == [true; 2];
    for rule in ["unit", "unseen"].into_iter().chain(tells.then_some("owner")) {
        let told = || stage.records().into_iter().find(|record| record["rule"] == rule && record["kind"] == "breach");
        eventually(rule, || told().map(drop));
    }
    // Beside other work others may come first, or it may have had too little itself: then it is looked once more.
    let told = format!("labelpress ({user})");
    if tells {
        eventually("checkup names it", || stage.run(&["checkup"]).stdout.contains(&told).then_some(()));
    }
    drop(chain);
    // Whoever is the chain's at present; the group is this test's own.
    eventually("the group is empty", || {
        let left = std::fs::read_to_string(group.processes()).unwrap();
        for pid in left.lines().filter_map(|pid| pid.parse().ok()).filter_map(Pid::from_raw) {
            let _ = kill_process(pid, Signal::STOP);
        }
        for pid in left.lines().filter_map(|pid| pid.parse().ok()).filter_map(Pid::from_raw) {
            let _ = kill_process(pid, Signal::KILL);
        }
        left.is_empty().then_some(())
    });
    watcher.interrupt();
}

/// Forking and exiting before `lasting` is over: whoever comes after goes on with the breach that had built up.
#[test]
fn forking_and_exiting_is_no_way_out() {
    let stage = stage();
    let text = rules("{ at = '0s', do = 'terminate', force_after = '1s' }").replace("'400ms'", "'3s'");
    let (path, innocent) = (stage.write("rules.toml", text), innocent(&stage));
    let watcher = stage.watch(&path, &[]);
    let Some(first) = evader(&stage, "labelpress", "relay") else { return };
    let program = stage.path("labelpress");
    let runs = || {
        let pids = std::fs::read_dir("/proc").unwrap().flatten();
        let pids = pids.filter_map(|entry| entry.file_name().to_str()?.parse::<u32>().ok());
        let is_it = |pid: &u32| std::fs::read_link(format!("/proc/{pid}/exe")).is_ok_and(|path| path == program);
        pids.filter(|pid| is_it(pid) && *pid != innocent.pid()).collect::<Vec<u32>>()
    };
    let ended = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
        // Between a look at who there is and one at what they run, one may hand over to the next.
        let mut none = 0;
        eventually("the last of them is ended", || {
            none = if runs().is_empty() { none + 1 } else { 0 };
            (none >= 20).then_some(())
        });
    }));
    for pid in runs().into_iter().filter_map(|pid| Pid::from_raw(pid.cast_signed())) {
        let _ = kill_process(pid, Signal::KILL);
    }
    assert!(ended.is_ok(), "{:?}", watcher.interrupt());
    drop(first);
    assert_untouched(&stage, &innocent);
    let kinds = stage.records().into_iter().map(|record| record["kind"].as_str().unwrap_or_default().to_owned());
    assert!(kinds.collect::<Vec<_>>().contains(&"outcome".to_owned()));
    watcher.interrupt();
}
