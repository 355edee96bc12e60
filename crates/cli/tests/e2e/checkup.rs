//! `checkup` of the demo day and as an ordinary user. Prepared live machines are in `tests/machine`.

use std::process::Command;

use sophron_testkit::{eventually, is_root};

use crate::{rows, stage};

/// Five documented moments, and a quiet one: each tells its story.
#[test]
fn the_demo_day_tells_its_stories() {
    let stage = stage();
    for (name, at, status) in [
        ("honest", "08:30", 3),
        ("quiet", "12:10", 0),
        ("spin", "13:30", 3),
        ("swarm", "14:35", 3),
        ("squeeze", "15:48", 3),
        ("copy", "18:00", 3),
    ] {
        let output = stage.run(&["checkup", "--from", "demo", "--at", at]);
        assert_eq!((output.status, output.stderr.as_str()), (Some(status), ""), "{name}");
        insta::assert_snapshot!(format!("checkup_{name}"), output.stdout);
    }
    let json = stage.json(&["checkup", "--from", "demo", "--at", "15:48", "--format", "json"]);
    let kinds: Vec<_> = rows(&json).iter().map(|row| (row["finding"].as_str(), row["severity"].as_str())).collect();
    assert_eq!(kinds[0], (Some("memory"), Some("critical")));
    assert_eq!(json["rows"][0]["suspects"][0]["app"], "herbarium");
    let csv = stage.run(&["checkup", "--from", "demo", "--at", "13:30", "--format", "csv"]).stdout;
    let mut lines = csv.lines();
    assert_eq!(lines.next(), Some("finding,severity,headline,of,known,since,suspect,amount"));
    assert!(
        lines
            .next()
            .unwrap()
            .starts_with("core,notice,one program keeps one core to itself: sheetlamp,,,2026-10-12T12:08:00Z,535-ktq,")
    );
}

#[test]
fn a_rules_file_with_errors_is_said_and_does_not_stop_a_checkup() {
    let stage = stage();
    std::fs::create_dir_all(stage.path(".config/sophron")).unwrap();
    let broken = "format = 1\n[checkup]\nmachine.cpu = { notice = \"2 MiB\" }\n";
    let rules = stage.write("rules.toml", broken).display().to_string();
    let output = stage.run(&["checkup", "--from", "demo", "--rules", &rules]);
    assert_eq!(output.status, Some(3));
    assert!(
        output.stdout.is_empty() && output.stderr.contains("the limit on machine.cpu is a percentage"),
        "{output:?}"
    );
    if !is_root() {
        stage.write(".config/sophron/rules.toml", broken);
        let output = stage.run(&["checkup", "--from", "demo", "--at", "12:10"]);
        assert!(
            output.status == Some(0) && output.stderr.contains("neither its limits nor its protections"),
            "{output:?}"
        );
    }
}

/// In a world of its own, where /proc shows a user his own processes only.
#[test]
fn under_hidepid_it_says_what_is_hidden() {
    if !is_root() {
        eprintln!("skipped: only root can hide processes");
        return;
    }
    let stage = stage().as_user(65534);
    let line = "mount -t proc -o hidepid=2 proc /proc && \
        setpriv --reuid 65534 --regid 65534 --clear-groups \"$@\"; exit $?";
    let run = |args: &[&str]| {
        let mut command = Command::new("unshare");
        command.args(["--mount", "--propagation", "private", "--pid", "--fork", "sh", "-c", line, "sh"]);
        command.arg(stage.path("sophron")).args(args).output().expect("unshare is everywhere")
    };
    let output = run(&["checkup", "--for", "500ms"]);
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    if text.is_empty() {
        eprintln!("skipped: this machine lets nobody mount /proc: {}", String::from_utf8_lossy(&output.stderr));
        return;
    }
    assert!(text.contains("not read  processes of other users: hidden from you (hidepid)"), "{text}");
    let output = run(&["inspect", "1"]);
    assert_eq!(output.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&output.stderr).contains("hidden from you (hidepid)"), "{output:?}");
}

/// What another user's process reads and writes is not for him to read, that it waits is.
#[test]
fn an_ordinary_user_still_finds_a_disk_hog() {
    if !is_root() {
        eprintln!("skipped: only root can start processes of two users");
        return;
    }
    let (roots, theirs) = (stage(), stage().as_user(65534));
    let hog = roots.offender("nightcopy", &["--write", "900MiB/s"]);
    let rules = theirs.write(
        "rules.toml",
        "format = 1\n[checkup]\nmachine.stall.io = { notice = '0.5%' }\n\
        machine.iowait = { notice = '0.5%' }\nmachine.disk.busy = { notice = '0.5%' }\n",
    );
    let rules = rules.display().to_string();
    let suspect = eventually("it is found waiting", || {
        let json = theirs.json(&["checkup", "--for", "1s", "--rules", &rules, "--format", "json"]);
        assert!(json["unread"].to_string().contains("disk rates of"), "{json}");
        let disk = rows(&json).iter().find(|row| row["finding"] == "disk")?.clone();
        disk["suspects"].as_array()?.iter().find(|suspect| suspect["pid"] == hog.pid()).cloned()
    });
    assert!(suspect["amount"].as_str().unwrap().starts_with("found waiting in the kernel at"), "{suspect}");
}

/// Who grows is named; and whether anybody needs to stay depends on whether the watcher that runs would act on that one.
#[test]
fn the_watcher_is_asked_whether_anybody_needs_to_stay() {
    let stage = stage();
    // Beside other work the machine is short of CPU as well, and then its suspects come first: here that is nothing to tell.
    let most = |figure: &str, most: &str| format!("machine.{figure} = {{ notice = '{most}', critical = '{most}' }}\n");
    let limits =
        most("stall.cpu", "101%") + &most("cpu", "101%") + &most("core.fullest", "101%") + &most("load.core", "999");
    let rules = |app: &str, armed: bool| {
        format!(
            "format = 1\n[checkup]\n{limits}[[rule]]\nname = 'held'\nwhere = 'app = \"{app}\" and {{mine}}'\n\
             breach = 'memory.held > 9 GiB'\nlasting = '5m'\narmed = {armed}\n"
        )
    };
    let state = stage.state().display().to_string();
    let told = |app: &str, armed: bool, said: &str| {
        let path = stage.write("rules.toml", rules(app, armed));
        let watcher = stage.watch(&path, &["--for", "10m"]);
        let path = path.display().to_string();
        eventually(said, || {
            let press = stage.offender("labelpress", &["--grow", "80MiB/s", "--up-to", "1500MiB"]);
            let found = stage.run(&["checkup", "--for", "2s", "--state", &state, "--rules", &path]).stdout;
            let line = found.lines().find(|line| line.starts_with("watcher")).unwrap_or_default();
            let right = found.contains("labelpress grows by ")
                && found.contains(&press.pid().to_string())
                && line.contains("runs: 1 rule, ")
                && line.contains(", until ")
                && line.ends_with(said);
            if !right {
                eprintln!("{found}");
            }
            right.then_some(())
        });
        watcher.interrupt();
    };
    told("labelpress", true, ": no need to stay, held covers labelpress");
    told("postbox", true, ": no armed one covers labelpress, and nothing is done about it");
    told("labelpress", false, ": it only tells");
}
