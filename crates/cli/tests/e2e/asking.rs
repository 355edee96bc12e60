//! The person at the desk: a notice in his own session, from a root watcher too; a question before what cannot be undone, and what becomes
//! of his answer. A private world with a real message bus; what counts is what the kernel says afterwards.

use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use rustix::net::{AddressFamily, SocketAddrUnix, SocketFlags, SocketType, bind, connect, listen, socket_with};
use rustix::process::{Pid, Signal, kill_process};
use serde_json::Value;
use sophron_testkit::desk::{INES, Login, Notices, Office, TOMAS, manager_on};
use sophron_testkit::{
    ControlGroup, Offender, Own, Running, Stage, children, eventually, is_gone, is_suspended, uid_of,
};

use crate::stage;

const RULE: &str = "format = 1\nevery = '200ms'\n[cap]\nacts = 1000\nterminations = 1000\n[[channel]]\nname = 'owner'\nto = 'desk'\n[[tell]]\nby = ['owner']\n\
    [[rule]]\nname = 'press-leak'\nwhere = 'path ~ \"PLACE/*\"'\nbreach = 'memory.held > 10 MiB'\nlasting = '200ms'\narmed = true\n\
    keep = { for = '30m', times = 1 }\nladder = [ { at = '0s', do = 'alert' }, { at = '400ms', do = 'terminate', ask = 'ASK' } ]\n";

/// A root watcher in an office, and an offender of ines's.
struct Scene {
    roots: Stage,
    theirs: Stage,
    office: Office,
}

impl Scene {
    fn set() -> Option<Scene> {
        let roots = stage();
        let theirs = stage().as_user(INES);
        let office = Office::in_folder(&roots.path(""))?;
        let roots = roots.within(office.within());
        Some(Scene { roots, theirs, office })
    }

    fn offender(&self) -> Offender {
        self.theirs.offender("labelpress", &["--grow", "100MiB/s", "--up-to", "30MiB"])
    }

    fn rules(&self, ask: &str, of_channel: &str) -> PathBuf {
        let place = self.theirs.path("").display().to_string();
        let rules = RULE.replace("PLACE", place.trim_end_matches('/')).replace("ASK", ask);
        self.roots.write("rules.toml", rules.replace("to = 'desk'", &format!("to = 'desk'\n{of_channel}")))
    }

    fn watch(&self, ask: &str, of_channel: &str) -> Running {
        self.roots.watch(&self.rules(ask, of_channel), &[])
    }

    /// Nobody can be asked, for that reason: it is done all the same.
    fn is_done_since(&self, why: &str) {
        let before = self.outcomes("answer").len();
        let offender = self.offender();
        let watcher = self.watch("10m", "");
        eventually(why, || is_gone(offender.pid()).then_some(()));
        assert_eq!(self.outcomes("answer")[before..], ["unasked"]);
        let seen = self.record("unasked")["result"]["seen"].to_string();
        assert!(seen.contains(why), "{seen} instead of {why}");
        drop(watcher.interrupt());
    }

    /// The outcomes of the records of that kind.
    fn outcomes(&self, kind: &str) -> Vec<String> {
        let of_kind = |record: &&Value| record["kind"] == kind;
        let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
        self.roots.records().iter().filter(of_kind).map(|record| text(&record["result"]["outcome"])).collect()
    }

    fn record(&self, outcome: &str) -> Value {
        eventually(outcome, || self.roots.records().into_iter().rfind(|record| record["result"]["outcome"] == outcome))
    }
}

#[test]
fn a_person_is_told_and_asked_and_lets_it_run() {
    let Some(mut scene) = Scene::set() else { return };
    let notices = Notices::on(&scene.office.bus(INES), INES);
    let offender = scene.offender();
    let watcher = scene.watch("10m", "");
    let opened = notices.with("uses a lot of memory");
    assert!(
        opened.urgency == 1 && opened.actions.is_empty() && opened.body.contains("the limit is 10.0 MiB"),
        "{opened:?}"
    );
    let asked = notices.with("will be ended");
    assert_eq!((asked.instead, asked.urgency), (opened.number, 2), "one notice a case, and in front while asking");
    let labels: Vec<&String> = asked.actions.iter().skip(1).step_by(2).collect();
    assert_eq!(labels, ["Let it run 30 min", "Suspend 5 min", "End now"]);
    // Another program of his has pressed nothing, and neither has an old key.
    notices.forge(asked.number, &asked.key("end").unwrap());
    assert_eq!(scene.record("turned down")["answer"]["answer"], "end");
    notices.press(asked.number, "end.0123");
    notices.press(asked.number, &asked.key("let-run").unwrap());
    notices.with("runs on until");
    let answer = scene.record("answered");
    assert_eq!(answer["answer"]["over"], format!("the bus of user {INES}"));
    notices.press(asked.number, &asked.key("end").unwrap());
    assert!(!is_gone(offender.pid()), "the first answer counts");
    let _ = watcher.interrupt();
    assert!(!is_gone(offender.pid()));
    eventually("what is open is taken down", || {
        notices.taken_down.lock().unwrap().contains(&asked.number).then_some(())
    });
}

#[test]
fn what_is_answered_is_done_and_whoever_does_not_is_not_waited_for() {
    let Some(mut scene) = Scene::set() else { return };
    let notices = Notices::on(&scene.office.bus(INES), INES);
    let offender = scene.offender();
    let watcher = scene.watch("5s", "");
    let asked = notices.with("will be ended");
    notices.press(asked.number, &asked.key("suspend").unwrap());
    eventually("it stands still", || is_suspended(offender.pid()).then_some(()));
    notices.with("stands still until");
    drop(watcher.interrupt());
    eventually("it goes on with the end of the watcher", || (!is_suspended(offender.pid())).then_some(()));

    let watcher = scene.watch("5s", "");
    let asked = eventually("asked anew", || {
        notices.latest("will be ended").filter(|shown| shown.key("end") != asked.key("end"))
    });
    notices.put_away(asked.number);
    eventually("nobody answers", || is_gone(offender.pid()).then_some(()));
    assert!(scene.outcomes("answer").contains(&"unanswered".to_owned()));
    notices.with("was ended");
    drop(watcher.interrupt());
}

/// Root's word and his own count, another's does not; each is the kernel's word.
#[test]
fn answers_by_command() {
    let Some(mut scene) = Scene::set() else { return };
    let notices = Notices::on(&scene.office.bus(INES), INES);
    let offender = scene.offender();
    let _watcher = scene.watch("10m", "");
    notices.with("will be ended");
    let state = scene.roots.state().display().to_string();
    let answer = |word: &str| scene.roots.run(&["answer", "1", word, "--state", &state]);
    let refused = answer("restart");
    assert_eq!((refused.status, refused.stderr.contains("let-run, suspend, end")), (Some(4), true), "{refused:?}");
    let heard = answer("end");
    assert_eq!((heard.status, heard.stdout.as_str()), (Some(0), "case 1: it is asked to end\n"), "{heard:?}");
    eventually("it ends", || is_gone(offender.pid()).then_some(()));
    let by = &scene.record("answered")["answer"];
    assert_eq!((by["uid"].as_u64(), by["over"].as_str()), (Some(0), Some("the command of user 0")));
    assert_eq!(answer("end").status, Some(4), "an answer twice");
    let all = ["turned down", "answered", "turned down"];
    eventually("each is recorded", || (scene.outcomes("answer") == all).then_some(()));
}

/// At the machine's usual place he whom it asks may answer, and nobody else.
#[test]
fn whoever_is_asked_may_answer_by_command() {
    let Some(mut scene) = Scene::set() else { return };
    let notices = Notices::on(&scene.office.bus(INES), INES);
    let offender = scene.offender();
    let rules = scene.rules("10m", "");
    let within = scene.office.within();
    // The state folder of a private machine as well.
    let own = "mkdir -p /run/lib && mount --bind /run/lib /var/lib && exec \"$@\"";
    let program = scene.roots.path("sophron");
    sophron_testkit::copy_program(env!("CARGO_BIN_EXE_sophron"), &program);
    let run = |user: Option<u32>, args: &[&str]| {
        let mut command = Command::new(&within[0]);
        command
            .args(&within[1..])
            .args(["sh", "-c", own, "sh"])
            .env_clear()
            .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin");
        if let Some(user) = user.map(|user| user.to_string()) {
            command.args(["setpriv", "--reuid", &user, "--regid", &user, "--clear-groups"]);
        }
        command.arg(&program).args(args).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
        command.spawn().unwrap()
    };
    let _watcher = Own(run(None, &["watch", "--rules", rules.to_str().unwrap()]));
    notices.with("will be ended");
    let answer = |user: u32| run(Some(user), &["answer", "1", "end"]).wait_with_output().unwrap();
    let refused = answer(TOMAS);
    assert_eq!(refused.status.code(), Some(4), "{refused:?}");
    assert!(String::from_utf8_lossy(&refused.stderr).contains("ines is asked"), "{refused:?}");
    assert!(!is_gone(offender.pid()));
    let heard = answer(INES);
    assert_eq!(heard.status.code(), Some(0), "{heard:?}");
    eventually("it ends", || is_gone(offender.pid()).then_some(()));
}

/// Who cannot be asked is not waited for, whatever the reason.
#[test]
fn who_cannot_be_asked_holds_nothing_up() {
    let Some(mut scene) = Scene::set() else { return };
    scene.is_done_since("not logged in at a desktop");
    let socket = scene.office.bus(INES);
    scene.is_done_since("no program shows notices there");
    let login = Login::on(&scene.office.bus(0));
    let notices = Notices::on(&socket, INES);
    login.set(&[(INES, true, true)]);
    scene.is_done_since("the screen is locked");
    login.set(&[(INES, false, false), (TOMAS, true, false)]);
    scene.is_done_since("the graphical session is not in front");
    login.set(&[(TOMAS, true, false)]);
    scene.is_done_since("there is no graphical session");
    // Of two sessions one is enough.
    login.set(&[(INES, false, true), (INES, true, false)]);
    notices.manner.lock().unwrap().mute = true;
    scene.is_done_since("within");
    scene.office.end_bus();
    let _full = full(&socket);
    scene.is_done_since("takes nobody in at present");
    assert!(notices.shown.lock().unwrap().is_empty(), "nothing was shown");
}

/// A bus that takes nobody in, with as many waiting as may.
fn full(socket: &Path) -> Vec<OwnedFd> {
    let at = SocketAddrUnix::new(socket).unwrap();
    let new = || socket_with(AddressFamily::UNIX, SocketType::STREAM, SocketFlags::NONBLOCK, None).unwrap();
    let _ = std::fs::remove_file(socket);
    let listener = new();
    bind(&listener, &at).unwrap();
    std::os::unix::fs::chown(socket, Some(INES), Some(INES)).unwrap();
    listen(&listener, 1).unwrap();
    let mut all = vec![listener];
    loop {
        let next = new();
        if connect(&next, &at).is_err() {
            return all;
        }
        all.push(next);
    }
}

/// What happens to the question, or to whoever shows it, while it is open.
#[test]
fn a_question_outlives_what_may_become_of_it() {
    let Some(mut scene) = Scene::set() else { return };
    let socket = scene.office.bus(INES);
    let first = Notices::on(&socket, INES);
    let offender = scene.offender();
    let watcher = scene.watch("8s", "");
    let asked = first.with("will be ended");
    // Another program shows notices from now on: there it is shown anew, and counts.
    let second = Notices::on(&socket, INES);
    let again = second.with("will be ended");
    first.press(asked.number, &asked.key("end").unwrap());
    assert_eq!(scene.record("turned down")["answer"]["answer"], "end");
    second.press(again.number, &again.key("suspend").unwrap());
    eventually("it stands still", || is_suspended(offender.pid()).then_some(()));
    drop(watcher.interrupt());

    // He ends or stops his helper: the question is over when its time is.
    for signal in [Signal::STOP, Signal::KILL] {
        let offender = scene.offender();
        let watcher = scene.watch("5s", "");
        let asked =
            eventually("asked", || second.latest("will be ended").filter(|shown| shown.key("end") != again.key("end")));
        let helper =
            eventually("a helper", || children(watcher.pid()).into_iter().find(|pid| uid_of(*pid) == Some(INES)));
        kill_process(Pid::from_raw(helper.cast_signed()).unwrap(), signal).unwrap();
        second.press(asked.number, &asked.key("let-run").unwrap());
        eventually("done in its time", || is_gone(offender.pid()).then_some(()));
        drop(watcher.interrupt());
        eventually("no helper is left", || is_gone(helper).then_some(()));
    }

    // Nobody is left to hear an answer: what was shown is taken down.
    let open = scene.offender();
    let before = second.shown.lock().unwrap().len();
    let mut watcher = scene.watch("10m", "");
    let asked = eventually("asked", || {
        second.latest("will be ended").filter(|_| second.shown.lock().unwrap().len() > before + 1)
    });
    watcher.kill_outright();
    eventually("taken down", || second.taken_down.lock().unwrap().contains(&asked.number).then_some(()));
    drop(open);

    // So it is when his session ends.
    let offender = scene.offender();
    let before = second.shown.lock().unwrap().len();
    let watcher = scene.watch("5s", "");
    eventually("asked", || {
        let shown = second.shown.lock().unwrap();
        shown[before..].iter().any(|shown| shown.title.contains("will be ended")).then_some(())
    });
    scene.office.end_bus();
    eventually("done in its time", || is_gone(offender.pid()).then_some(()));
    drop(watcher.interrupt());
}

/// Whoever has as many processes as he may still sees no helper of his delay anything.
#[test]
fn a_person_at_his_limit_of_processes_holds_nothing_up() {
    let Some(mut scene) = Scene::set() else { return };
    let _notices = Notices::on(&scene.office.bus(INES), INES);
    let mut within = scene.office.within();
    within.extend(["prlimit", "--nproc=1:1"].map(str::to_owned));
    scene.roots = scene.roots.within(within);
    scene.is_done_since("as many processes of that user as may be");
}

/// A unit of his own manager's is started anew as him, from a root watcher too.
#[test]
fn a_unit_of_his_own_is_started_anew_as_him() {
    let Some(mut scene) = Scene::set() else { return };
    let path = format!("user.slice/user-{INES}.slice/user@{INES}.service/app.slice/labelpress.service");
    let roots = [("/sys/fs/cgroup/systemd", ""), ("/sys/fs/cgroup", "")];
    let Some(group) = ControlGroup::make(&path, &roots, "") else {
        eprintln!("skipped: this test may make no control group");
        return;
    };
    let socket = scene.office.bus(INES);
    let manager = manager_on(&socket, INES, &format!("/{path}"));
    let notices = Notices::on(&socket, INES);
    let into = format!(
        "echo $$ > {} && exec setpriv --reuid {INES} --regid {INES} --clear-groups \"$0\" \"$@\"",
        group.processes().display()
    );
    let press =
        scene.theirs.offender_by(&["sh", "-c", &into], "labelpress", &["--grow", "100MiB/s", "--up-to", "30MiB"]);
    let _watcher = scene.watch("10m", "");
    let asked = notices.with("will be ended");
    notices.press(asked.number, &asked.key("restart").expect("that is offered"));
    assert_eq!(scene.record("restarted")["action"]["do"], "restart");
    let calls = manager.lock().unwrap().calls.clone();
    assert_eq!(calls, ["RestartUnit labelpress.service replace"]);
    assert!(!is_gone(press.pid()), "that is its manager's to end");
    drop((press, group));
}

/// As `mesg y` does it.
const TAKES_LINES: &str = "chmod g+w $(tty) && echo ready && sleep 60";

/// Without a desktop he is asked at his terminals, where that is wanted, and answers by command.
#[test]
fn terminals_stand_in_for_a_desktop() {
    let Some(scene) = Scene::set() else { return };
    let (user, heard) = (INES.to_string(), scene.theirs.path("heard"));
    let mut terminal = Command::new("setpriv");
    terminal.args(["--reuid", &user, "--regid", &user, "--clear-groups", "script", "-qfc", TAKES_LINES]).arg(&heard);
    let Ok(terminal) = terminal.stdin(Stdio::null()).stdout(Stdio::null()).spawn() else {
        eprintln!("skipped: there is no script(1), which gives him a terminal");
        return;
    };
    let _terminal = Own(terminal);
    let text = || std::fs::read_to_string(&heard).unwrap_or_default();
    eventually("a terminal", || text().contains("\nready").then_some(()));
    let offender = scene.offender();
    let watcher = scene.watch("10m", "terminals = true");
    let seen =
        eventually("a line on his terminal", || Some(text()).filter(|heard| heard.contains("sophron answer 1 end")));
    assert!(
        seen.contains("labelpress will be ended. At ") && seen.contains("Let it run 30 min: sophron answer 1 let-run"),
        "{seen}"
    );
    let is_shown = |record: &Value| record["kind"] == "asked" && record["result"]["outcome"] == "shown";
    let shown = eventually("shown", || scene.roots.records().into_iter().find(is_shown))["result"]["seen"].to_string();
    assert!(shown.contains("ines sees it on 1 terminal"), "{shown}");
    assert!(!is_gone(offender.pid()));
    drop(watcher.interrupt());
}
