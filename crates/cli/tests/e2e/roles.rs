//! What others depend on: the roles that protect a process, and what is said before one is suspended.

use std::path::Path;
use std::process::Stdio;

use sophron_testkit::{ControlGroup, Stage, anothers_waiter, eventually, is_gone, is_root, is_suspended};

use crate::hands::{hand, id};
use crate::stage;

/// Found by what it does for others, not by its name: ending the holder of a lock that somebody waits for.
#[test]
fn whoever_others_wait_for_is_protected_by_his_role() {
    let stage = stage();
    let lock = stage.path("lock").display().to_string();
    let start = |command: &str| std::process::Command::new("flock").args([&lock, "-c", command]).spawn();
    let Ok(mut holder) = start("echo held; sleep 30") else {
        eprintln!("skipped: this machine has no flock");
        return;
    };
    eventually("it is held", || {
        std::fs::read_to_string("/proc/locks").unwrap().contains(&format!(" {} ", holder.id())).then_some(())
    });
    let Some(waiter) = anothers_waiter(Path::new(&lock)) else {
        holder.kill().unwrap();
        holder.wait().unwrap();
        return;
    };
    let holder_id = id(&stage, holder.id());
    let (status, told) = hand(&stage, &["suspend", &holder_id]);
    let inspected = stage.run(&["inspect", &holder_id]).stdout;
    let (_, insisted) =
        hand(&stage, &["terminate", &holder_id, "--tree", "--override-protection", "--force-after", "1s"]);
    holder.wait().unwrap();
    assert!(
        status == Some(4) && told.contains(&format!("it holds a file lock that process {} waits for", waiter.pid())),
        "{told}"
    );
    assert!(inspected.contains("protected  from suspending and ending: it holds a file lock"), "{inspected}");
    assert!(insisted.contains("  ended  "), "{insisted}");
}

/// Each on a real process that plays the role, in a mount namespace of its own where what it would touch is the machine's.
#[test]
fn roles_are_seen_on_real_processes() {
    let stage = stage();
    let unit = format!("sheetlamp-{}.service", std::process::id());
    let group = ControlGroup::make(&unit, &[("/sys/fs/cgroup/systemd", ""), ("/sys/fs/cgroup", "")], "");
    let group = group.as_ref().map(|group| group.processes().display().to_string()).unwrap_or_default();
    let watchdog = format!(
        "echo $$ > {group} && mount -t tmpfs none /run && mkdir -p /run/systemd/system && \
         printf '[Service]\\nWatchdogSec=10\\n' > /run/systemd/system/{unit}"
    );
    let forged = "mount -t tmpfs none /dev && mkdir /dev/dri /dev/input && : > /dev/dri/card0 && : > /dev/input/event0 && \
                  : > /dev/null && exec 3< /dev/dri/card0 4< /dev/input/event0";
    let screen =
        "card=$(ls /dev/dri/card* | head -1) && keys=$(ls /dev/input/event* | head -1) && exec 3< $card 4< $keys";
    let roles = [
        (
            "exec 3<> /dev/fuse && mount -i -t fuse -o fd=3,rootmode=40000,user_id=0,group_id=0 seeds /mnt",
            "it serves a mounted file system",
        ),
        (
            "mount -t tmpfs none /var/lib && mkdir /var/lib/dpkg && exec 3> /var/lib/dpkg/lock && flock 3",
            "it holds the lock of the package manager (/var/lib/dpkg/lock)",
        ),
        ("chrt -f -p 1 $$ > /dev/null", "it runs with a real-time"),
        (screen, "it draws the screen and reads the keyboard"),
        (&watchdog, "the service manager watches that its unit"),
        // Files that are only called so, on a disk that anybody can mount for himself.
        (forged, "dry run: nothing was done"),
    ];
    for (plays, word) in roles {
        let tried = ["--mount", "sh", "-c", plays];
        if !std::process::Command::new("unshare").args(tried).output().is_ok_and(|done| done.status.success()) {
            eprintln!("skipped, this test may not play it: {word}");
            continue;
        }
        let lines = format!("{plays}; exec \"$@\"");
        let player = stage.offender_by(&["unshare", "--mount", "sh", "-c", &lines, "sh"], "sheetlamp", &[]);
        let pid = player.pid().to_string();
        let command = stage.command(&["suspend", &pid, "--dry-run"]);
        let mut inside = std::process::Command::new("nsenter");
        inside.args(["--target", &pid, "--mount"]).arg(command.get_program()).args(command.get_args());
        let told = inside.output().unwrap();
        let text = String::from_utf8_lossy(&told.stdout);
        let status = if plays == forged { 0 } else { 4 };
        assert!(
            told.status.code() == Some(status) && text.replace("\n           ", " ").contains(word),
            "{word}: {told:?}"
        );
    }
}

/// Whatever a rule judges, and whether or not it names the unit: who serves everybody is left alone.
#[test]
fn no_rule_of_any_kind_touches_whom_its_unit_protects() {
    let stage = stage();
    let name = format!("sheetlamp-{}.slice/dbus.service", std::process::id());
    let group = ControlGroup::make(&name, &[("/sys/fs/cgroup/systemd", ""), ("/sys/fs/cgroup", "")], "");
    let Some(group) = group else {
        eprintln!("skipped: this test may make no control group");
        return;
    };
    let apps = [
        "labelpress",
        "plantledger",
        "kioskview",
        "sheetlamp",
        "fernpanel",
        "gatekeys",
        "tilebaker",
        "herbarium",
        "seedcount",
        "mossmap",
        "leafscan",
        "budlog",
    ];
    let kinds = ["process", "app", "tree", "owner", "unit", "machine"];
    let kinds = kinds.into_iter().flat_map(|judge| [(judge, "suspend"), (judge, "terminate")]);
    let head = "format = 1\nevery = '200ms'\ncap = { acts = 100, terminations = 100 }\n";
    let (mut rules, mut offenders) = (head.to_owned(), Vec::new());
    for (app, (judge, act)) in apps.into_iter().zip(kinds) {
        let breach = match judge {
            "machine" => "machine.memory.available > 0 B'\npick = 'newest",
            _ => "memory.held > 30 MiB",
        };
        rules += &format!(
            "[[rule]]\nname = '{app}'\njudge = '{judge}'\nwhere = 'app = \"{app}\" and {{mine}}'\nbreach = '{breach}'\n\
             lasting = '200ms'\narmed = true\nladder = [ {{ at = '0s', do = '{act}' }} ]\n"
        );
        let grown = ["--grow", "100MiB/s", "--up-to", "40MiB"];
        offenders.push((judge, act, stage.offender_in(&group.processes(), app, &grown)));
    }
    let watcher = stage.watch(&stage.write("rules.toml", rules), &[]);
    let refused = || {
        let of = |pid: u32| {
            stage.records().into_iter().find(|told| told["subject"]["pid"] == pid && told["kind"] == "refused")
        };
        let told = offenders.iter().map(|(.., offender)| of(offender.pid()));
        told.collect::<Option<Vec<_>>>()
    };
    for (told, (judge, act, offender)) in eventually("all were told", refused).iter().zip(&offenders) {
        let seen = told["result"]["seen"].as_str().unwrap_or_default();
        assert!(seen.contains("its unit dbus.service serves the message bus"), "{judge} {act}: {told}");
        assert!(!is_gone(offender.pid()) && !is_suspended(offender.pid()), "{judge} {act}");
    }
    drop((watcher, offenders));
}

/// What a suspension would upset is said beforehand: a job in front of its terminal, the rest of a pipeline, and what the
/// kernel does to a suspended job whose shell ends.
#[test]
fn what_a_suspension_upsets_is_said_beforehand() {
    let stage = stage();
    let command = stage.command(&["misbehave", "--as", "labelpress", "--for", "30s"]);
    let program = command.get_program().to_string_lossy().into_owned();
    // With job control, so that the shell makes a job of each line, and puts it in front.
    let line = format!("set -m; {program} misbehave --as labelpress --for 30s | cat; true");
    let script = ["-qec", &format!("sh -c '{line}'"), "/dev/null"];
    let mut terminal =
        match std::process::Command::new("script").args(script).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn() {
            Ok(terminal) => terminal,
            Err(_) => return eprintln!("skipped: this machine has no script"),
        };
    let press = |of: &Stage| {
        let listed = of.json(&[
            "list",
            "--where",
            "app = labelpress and tty != \"\"",
            "--columns",
            "id,pid,parent",
            "--format",
            "json",
        ]);
        let rows = listed["rows"].as_array()?.clone();
        rows.into_iter().find(|row| row["pid"].as_u64().is_some_and(|pid| ancestor(pid, terminal.id())))
    };
    let row = eventually("the press runs in its terminal", || press(&stage));
    let (status, told) = hand(&stage, &["suspend", row["id"].as_str().unwrap(), "--dry-run"]);
    let words = [
        "it has the terminal ",
        "it is one of several in a pipeline",
        "if its shell ends meanwhile the kernel hangs it up",
    ];
    let told_all = words.iter().all(|word| told.contains(word));
    // The kernel's hang-up ends them all with their terminal.
    terminal.kill().unwrap();
    terminal.wait().unwrap();
    assert!(status == Some(0) && told_all, "{told}");
}

/// Whether a process descends from another, by the kernel's word.
fn ancestor(pid: u64, of: u32) -> bool {
    let mut pid = pid;
    while pid > 1 {
        let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).unwrap_or_default();
        let parent = stat.rsplit_once(") ").and_then(|(_, rest)| rest.split(' ').nth(1)?.parse().ok()).unwrap_or(0);
        if parent == u64::from(of) {
            return true;
        }
        pid = parent;
    }
    false
}

/// To look at a file is to serve nobody: who holds a device, or a package manager's lock, open by its path alone is ended as
/// anybody else, and so is who has the device really open and no mount.
#[test]
fn a_look_at_what_servers_hold_is_no_way_out() {
    let roots = stage();
    let theirs = if is_root() { stage().as_user(65534) } else { stage() };
    let look = rustix::fs::OFlags::PATH;
    let ways = [("/dev/fuse", look), ("/var/lib/dpkg/lock", look), ("/dev/fuse", rustix::fs::OFlags::RDWR)];
    let text = "format = 1\nevery = '200ms'\n[[rule]]\nname = 'a'\nwhere = 'path ~ \"HERE/*\"'\nbreach = 'memory.held > 15 MiB'\nlasting = '400ms'\n\
         armed = true\nladder = [ { at = '0s', do = 'terminate', force_after = '2s' } ]\n";
    let here = theirs.path("").display().to_string();
    let rules = roots.write("rules.toml", text.replace("HERE", here.trim_end_matches('/')));
    for (number, (file, flags)) in ways.into_iter().enumerate() {
        let Ok(open) = rustix::fs::open(file, flags, rustix::fs::Mode::empty()) else {
            eprintln!("skipped: {file} cannot be opened here");
            continue;
        };
        // The offender has it from us, as he could have it by himself.
        rustix::io::fcntl_setfd(&open, rustix::io::FdFlags::empty()).unwrap();
        let press = theirs.offender("labelpress", &["--grow", "100MiB/s", "--up-to", "30MiB"]);
        drop(open);
        let names = std::fs::read_dir(format!("/proc/{}/fd", press.pid())).unwrap().flatten();
        let holds = names.filter_map(|entry| std::fs::read_link(entry.path()).ok()).any(|link| link == Path::new(file));
        assert!(holds, "way {number}: it does not hold {file}");
        let watcher = roots.watch(&rules, &[]);
        eventually("terminated", || is_gone(press.pid()).then_some(()));
        let (lines, _) = watcher.interrupt();
        assert!(!lines.contains("  refused  "), "way {number}: {lines:?}");
    }
}

/// A child of his own that waits for his own lock makes nobody a server: neither is he spared for it, nor let go early.
#[test]
fn ones_own_child_that_waits_is_no_way_out() {
    let stage = stage();
    let lock = stage.path("lock").display().to_string();
    let plays = format!("exec 9> {lock}; flock 9; (exec 9>&-; exec flock {lock} true) & exec \"$@\"");
    let rule = |step: &str| {
        stage.write(
            "rules.toml",
            format!(
                "format = 1\nevery = '200ms'\n[[rule]]\nname = 'a'\nwhere = 'app = \"labelpress\" and {{mine}}'\nbreach = 'age > 0s'\n\
                 lasting = '400ms'\narmed = true\nladder = [ {{ at = '0s', {step} }} ]\n"
            ),
        )
    };
    let press = stage.offender_by(&["sh", "-c", &plays, "sh"], "labelpress", &[]);
    eventually("its child waits", || {
        std::fs::read_to_string("/proc/locks").unwrap().contains("-> FLOCK").then_some(())
    });
    let mut watcher = stage.watch(&rule("do = 'suspend', for = '60s'"), &[]);
    watcher.line_with("  suspended  ");
    std::thread::sleep(std::time::Duration::from_millis(1500));
    assert!(is_suspended(press.pid()), "it is not let go for its own child");
    watcher.interrupt();
    let watcher = stage.watch(&rule("do = 'terminate', force_after = '2s'"), &[]);
    eventually("terminated", || is_gone(press.pid()).then_some(()));
    watcher.interrupt();
}
