//! `inspect`: five processes that do five different things, an app of several, and what is refused.

use std::net::TcpListener;
use std::os::unix::process::CommandExt;
use std::process::Command;

use serde_json::Value;
use sophron_testkit::{Own, Stage, copy_program, eventually, is_root, is_suspended};

use crate::evading::evader;
use crate::{rows, stage};

fn inspect(stage: &Stage, target: &str, length: &str) -> Value {
    stage.json(&["inspect", target, "--for", length, "--format", "json"])
}

#[test]
fn five_processes_and_five_answers() {
    let stage = stage();
    let spin = stage.offender("sheetlamp", &["--cpu", "100%"]);
    let pipe = stage.offender("labelpress", &["--wait-on", "pipe"]);
    let sleep = stage.offender("postbox", &["--wait-on", "time"]);
    let stuck = stage.offender("herbarium", &["--wait-on", "kernel"]);
    let suspended = stage.offender("kioskview", &[]);
    suspended.suspend();
    eventually("it is suspended", || is_suspended(suspended.pid()).then_some(()));
    for (offender, answer, evidence) in [
        (&spin, "spinning", "up by itself 0 times a second"),
        (&pipe, "waiting for a pipe", "its main thread was found waiting for a pipe"),
        (&sleep, "waiting for a time it set itself", "its main thread was found waiting for a time"),
        (&stuck, "stuck in the kernel, waiting for a child of its", "was found waiting uninterruptibly at every one"),
        (&suspended, "suspended", "suspended at the last look"),
    ] {
        // Other tests want the cores as well: a spinner has to get at one to be seen on it.
        eventually(answer, || {
            let told = inspect(&stage, &offender.pid().to_string(), "1s");
            let right = told["answer"].as_str()?.starts_with(answer) && told["evidence"].to_string().contains(evidence);
            if !right {
                eprintln!("{answer}? {} {}", told["answer"], told["evidence"]);
            }
            right.then_some(())
        });
    }
    let told = inspect(&stage, &pipe.pid().to_string(), "500ms");
    assert!(told["waits_on"][0].as_str().unwrap().contains("pipe:["), "{}", told["waits_on"]);
    let told = inspect(&stage, &stuck.pid().to_string(), "500ms");
    assert!(
        told["waits_on"][0].as_str().unwrap().starts_with("it waits for its child herbarium "),
        "{}",
        told["waits_on"]
    );
    // Who waits for a lock that waits for a pipe that waits for an address: to whoever has to answer in the end.
    let server = TcpListener::bind("127.0.0.1:0").unwrap();
    let (lock, port) = (stage.path("lock"), server.local_addr().unwrap().port());
    let asks = format!("exec 3<>/dev/tcp/127.0.0.1/{port}; read x <&3; echo $x");
    let holds = format!("bash -c '{asks}' | exec flock {} cat", lock.display());
    let mut holder = Command::new("bash");
    let holder = Own(holder.args(["-c", &holds]).process_group(0).spawn().unwrap());
    let answers = server.accept().unwrap();
    let locked = || std::fs::File::open(&lock).ok()?.try_lock().is_err().then_some(());
    eventually("it is locked", locked);
    let waits = Own(Command::new("flock").arg(&lock).arg("true").spawn().unwrap());
    let chain = ["it waits for the lock on ", "flock ", "cat ", "bash "];
    eventually("the whole chain is told", || {
        let told = inspect(&stage, &waits.pid().to_string(), "500ms")["waits_on"].clone();
        let lines = told.as_array()?;
        eprintln!("{told}");
        let begins =
            chain.iter().zip(lines).all(|(begin, line)| line.as_str().is_some_and(|line| line.starts_with(begin)));
        let ends = lines.get(3)?.as_str()?.contains(&format!("from 127.0.0.1:{port}, which is e2e-"));
        (begins && ends).then_some(())
    });
    drop((answers, waits, holder));
    let text = stage.run(&["inspect", &suspended.pid().to_string()]).stdout;
    assert!(text.contains("suspended  not by Sophron, as far as its record tells"), "{text}");
}

/// Threads that wait for each other are a deadlock, whether or not it stands in the lock who holds it; and who waits for them is
/// sent to them.
#[test]
fn threads_that_wait_for_each_other_are_a_deadlock() {
    let stage = stage();
    for (by, told) in [("mutexes", "wait for each other in a circle"), ("semaphores", "each of its 2 threads waits")] {
        let Some(press) = evader(&stage, "labelpress", by) else { return };
        let text = eventually(by, || {
            let text = stage.run(&["inspect", &press.pid().to_string(), "--for", "1s"]).stdout;
            text.contains("): deadlocked; cpu ").then_some(text)
        });
        let next = text.split_once("\nnext ").unwrap_or_default().1;
        assert!(text.contains(told) && next.contains("terminate") && next.contains("--dry-run"), "{text}");
    }
    // One that works, and whose other threads only wait to be given something to do.
    let idle = stage.offender("postbox", &["--threads", "2", "--wait-on", "time"]);
    let told = inspect(&stage, &idle.pid().to_string(), "500ms");
    assert!(!told.to_string().contains("deadlock"), "{told}");
}

/// Whoever grows between one wait and the next is worth doing something about all the same.
#[test]
fn a_leak_that_mostly_waits_ends_with_what_to_do() {
    let stage = stage();
    let press = stage.offender("labelpress", &["--grow", "20MiB/s", "--up-to", "1500MiB"]);
    eventually("what to do", || {
        let text = stage.run(&["inspect", &press.pid().to_string(), "--for", "1s"]).stdout;
        (text.contains("growing by") && text.contains(" sophron suspend ")).then_some(())
    });
}

#[test]
fn an_app_of_several_processes_is_told_family_first() {
    let stage = stage();
    let app = format!("kiosk{}", std::process::id());
    let parent = stage.offender(&app, &["--children", "3", "--grow", "200MiB/s", "--up-to", "20MiB"]);
    let json = eventually("they are there", || {
        let json = stage.json(&["inspect", &app, "--format", "json"]);
        (rows(&json).len() == 4).then_some(json)
    });
    assert!(json["path.proven"] == true && json["said"]["protected"][0].as_str().unwrap().starts_with("no"), "{json}");
    let text = stage.run(&["inspect", &app]).stdout;
    let after_head = text.lines().nth(3).unwrap();
    assert!(after_head.starts_with(&format!("app        4 processes of {app}: cpu ")), "{text}");
    assert!(text.contains(&format!("{app} {}-", parent.pid())) && text.contains("3 processes below it"), "{text}");
    assert!(text.contains("its 3 children go on under another parent"), "{text}");
    assert!(text.contains("next       sophron inspect"), "{text}");
}

#[test]
fn rules_protection_and_secrets_are_told() {
    let stage = stage();
    let panel = stage.offender("fernpanel", &["--cpu", "20%"]);
    let rules = stage.write(
        "rules.toml",
        "format = 1\n[protect]\nwhere = '{mine} and owner != postbox'\n[[rule]]\nname = 'panel-busy'\nwhere = '{mine}'\n\
         breach = 'cpu > 5%'\nlasting = '1s'\n[[rule]]\nname = 'other'\nwhere = 'app = \"none\"'\nbreach = 'cpu > 5%'\nlasting = '1s'\n",
    );
    let rules = rules.display().to_string();
    let text = stage.run(&["inspect", &panel.pid().to_string(), "--rules", &rules]).stdout;
    assert!(text.contains("protected  yes: [protect] in "), "{text}");
    assert!(text.contains("rules      panel-busy (in shadow): cpu > 5%, breached now\n"), "{text}");
    assert!(!text.contains("other ("), "{text}");

    let mut secret = Command::new("sh")
        .args(["-c", "read nothing; exit", "--password=moss", "x"])
        .stdin(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let pid = secret.id().to_string();
    let masked = stage.run(&["inspect", &pid]).stdout;
    let unmasked = stage.run(&["inspect", &pid, "--unmasked"]).stdout;
    drop(secret.stdin.take());
    secret.wait().unwrap();
    assert!(!masked.contains("moss") && masked.contains("--unmasked shows them"), "{masked}");
    assert!(unmasked.contains("--password=moss"), "{unmasked}");
}

/// A suspension of ours is told with its rule and case, as long as it is in force.
#[test]
fn a_suspension_of_ours_is_told_with_its_case() {
    let stage = stage();
    let rules = stage.write(
        "rules.toml",
        "format = 1\nevery = '250ms'\n[[rule]]\nname = 'press-leak'\nwhere = '{mine}'\nbreach = 'memory.held > 10 MiB'\n\
         lasting = '250ms'\narmed = true\nladder = [ { at = '0s', do = 'suspend', for = '30s' } ]\n",
    );
    let press = stage.offender("labelpress", &["--grow", "100MiB/s", "--up-to", "20MiB"]);
    let mut watcher = stage.watch(&rules, &[]);
    watcher.line_with("suspended");
    let state = stage.state().display().to_string();
    // The line is shown before its record is on disk.
    eventually("the record tells of it", || {
        let text = stage.run(&["inspect", &press.pid().to_string(), "--state", &state]).stdout;
        (text.contains("suspended by Sophron since ") && text.contains("by the rule press-leak, case 1")).then_some(())
    });
    let checkup = stage.json(&["checkup", "--for", "500ms", "--state", &state, "--format", "json"]);
    let found = rows(&checkup).iter().find(|row| row["finding"] == "suspended").expect("a suspended process");
    assert!(found["suspects"].to_string().contains("by the rule press-leak, case 1"), "{found}");
    // Others may watch here as well; the one named is the first that is found.
    let watching = checkup["watcher"].as_str().unwrap();
    let ours = watching.contains(&format!("sophron {}-", watcher.pid()));
    assert!(ours || (watching.starts_with("sophron ") && watching.contains(" more runs")), "{watching}");
}

#[test]
fn wrong_targets_are_refused_with_the_right_one() {
    let stage = stage();
    let press = stage.offender("labelpress", &[]);
    let row = stage.json(&["list", "--where", &format!("pid = {}", press.pid()), "--format", "json"]);
    let id = row["rows"][0]["id"].as_str().unwrap().to_owned();
    assert_eq!(stage.run(&["inspect", &id]).status, Some(0));
    let (digits, letters) = id.split_once('-').unwrap();
    // One digit slips.
    let last = digits.as_bytes()[digits.len() - 1];
    let slipped = format!("{}{}-{letters}", &digits[..digits.len() - 1], (last - b'0' + 1) % 10);
    let output = stage.run(&["inspect", &slipped]);
    assert_eq!(output.status, Some(4), "{}", output.stderr);
    assert!(output.stderr.contains(&format!("the letters would fit labelpress {id}")), "{}", output.stderr);
    let output = stage.run(&["inspect", "4999999"]);
    assert!(output.status == Some(1) && output.stderr.contains("there is no process 4999999"), "{}", output.stderr);
    let output = stage.run(&["inspect", "labelpres"]);
    assert!(output.stderr.contains("the nearest is labelpress"), "{}", output.stderr);
}

#[test]
fn another_users_process_is_told_as_far_as_it_may_be_read() {
    if !is_root() {
        eprintln!("skipped: only root can start processes of two users");
        return;
    }
    let (roots, theirs) = (stage(), stage().as_user(65534));
    let lamp = roots.offender("sheetlamp", &["--cpu", "100%"]);
    let told = eventually("it is seen spinning", || {
        let told = inspect(&theirs, &lamp.pid().to_string(), "1s");
        told["answer"].as_str()?.starts_with("spinning").then_some(told)
    });
    let unread = told["said"]["not read"][0].as_str().unwrap();
    assert_eq!(
        unread,
        "the file it runs, what it reads and writes, private and proportional memory, open files: for its owner and root to read"
    );
}

#[test]
fn a_recording_and_the_fields_are_explained() {
    let stage = stage();
    let output = stage.run(&["inspect", "sheetlamp", "--from", "demo", "--at", "13:10"]);
    assert_eq!((output.status, output.stderr.as_str()), (Some(0), ""));
    insta::assert_snapshot!("inspect_demo", output.stdout);
    let output = stage.run(&["rules", "fields", "machine.memory.available"]);
    insta::assert_snapshot!("rules_field", output.stdout);
    let output = stage.run(&["rules", "fields", "memry.held"]);
    assert!(output.status == Some(2) && output.stderr.contains("the nearest is memory.held"), "{}", output.stderr);
    let all = stage.json(&["rules", "fields", "--format", "json"]);
    assert!(rows(&all).len() > 50 && rows(&all).iter().all(|row| row["usual"].is_string()), "{all}");
}

/// What was ended before and is back is told to be, where the record knows of it.
#[test]
fn what_came_back_after_it_was_ended_is_told() {
    let stage = stage();
    let program = stage.path("kiln");
    copy_program("/bin/sleep", &program);
    let state = stage.state().display().to_string();
    let again = |kiln: &Own| {
        let told = stage.run(&["inspect", &kiln.pid().to_string(), "--state", &state]).stdout;
        told.lines().skip_while(|line| !line.starts_with("again")).take(3).collect::<Vec<_>>().join("\n")
    };
    for ended in ["", "ended its like once since", "ended its like twice since"] {
        let kiln = Own(Command::new(&program).arg("60").spawn().unwrap());
        let told = eventually("it is listed", || Some(again(&kiln)).filter(|told| !told.is_empty()));
        assert_eq!(told.contains("it came back"), !ended.is_empty(), "{told}");
        assert!(told.contains(ended), "{told}");
        let listed = stage.json(&["list", "--where", &format!("pid = {}", kiln.pid()), "--format", "json"]);
        let id = listed["rows"][0]["id"].as_str().unwrap().to_owned();
        assert_eq!(stage.run(&["terminate", &id, "--state", &state]).status, Some(0));
    }
}
