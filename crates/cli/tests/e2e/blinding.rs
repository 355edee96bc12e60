//! Who wants nobody to be watched: what hangs whoever looks at it closely hangs nobody here.

use std::io::{BufRead, BufReader};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use sophron_testkit::{Own, Stage, eventually, is_gone, is_root};

use crate::evading::own_user;
use crate::stage;

/// A user's program that hangs its readers by `word`, and the PID of the one that does; none where that cannot be had.
fn mute(stage: &Stage, word: &str) -> Option<(Own, u32)> {
    if !is_root() || !Path::new("/dev/fuse").exists() {
        eprintln!("skipped: only root can lend the device of file systems to another user");
        return None;
    }
    let (program, folder) = (stage.path("mute"), stage.path(word));
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/e2e/evader/mute.c");
    let built = Command::new("cc").args(["-O0", "-w", "-o"]).arg(&program).arg(source).status();
    if !built.is_ok_and(|status| status.success()) {
        eprintln!("skipped: no C compiler");
        return None;
    }
    std::fs::create_dir(&folder).unwrap();
    std::fs::set_permissions(&folder, std::fs::Permissions::from_mode(0o777)).unwrap();
    let mut command = Command::new(program);
    command.arg(word).arg(folder).arg(own_user().to_string()).stdin(Stdio::piped()).stdout(Stdio::piped());
    let mut mute = Own(command.spawn().unwrap());
    let mut line = String::new();
    BufReader::new(mute.0.stdout.take().unwrap()).read_line(&mut line).unwrap();
    let Some(pid) = line.trim().strip_prefix("ready ") else {
        eprintln!("skipped: no user may have a file system of his own here");
        return None;
    };
    Some((mute, pid.parse().unwrap()))
}

/// Whether it has an address space and no program in it.
fn is_starting(pid: u32) -> bool {
    let statm = std::fs::read_to_string(format!("/proc/{pid}/statm")).unwrap_or_default();
    let fields: Vec<&str> = statm.split_whitespace().collect();
    fields.first().is_some_and(|size| *size != "0") && fields.get(3) == Some(&"0")
}

/// A program that never finishes starting, since a file that it has to close is on a file system that does not answer, and one that
/// runs a file of such a file system: everybody else is watched and acted upon meanwhile, by himself and as a tree, and who looks at
/// the machine gets his answer.
#[test]
fn what_hangs_whoever_looks_at_it_blinds_nobody() {
    let stage = stage();
    let path = stage.write(
        "rules.toml",
        "format = 1\nevery = '200ms'\n\
         [[rule]]\nname = 'a'\nwhere = 'path ~ \"*/labelpress\" and {mine}'\nbreach = 'memory.held > 60 MiB and disk >= 0 B/s'\n\
         lasting = '400ms'\narmed = true\nladder = [ { at = '0s', do = 'terminate', force_after = '1s' } ]\n\
         [[rule]]\nname = 'b'\njudge = 'tree'\nwhere = 'app = \"fernpanel\" and {mine}'\nbreach = 'memory.held > 60 MiB'\n\
         lasting = '400ms'\narmed = true\nladder = [ { at = '0s', do = 'terminate', force_after = '1s' } ]\n",
    );
    let watcher = stage.watch(&path, &[]);
    let (Some((_exec, starting)), Some((_program, running))) = (mute(&stage, "exec"), mute(&stage, "program")) else {
        return;
    };
    eventually("in the middle of it", || is_starting(starting).then_some(()));
    for name in ["labelpress", "fernpanel"] {
        let offender = stage.offender(name, &["--grow", "100MiB/s", "--up-to", "70MiB"]);
        eventually("terminated", || is_gone(offender.pid()).then_some(()));
    }
    let began = Instant::now();
    for args in [&["list"][..], &["checkup", "--for", "1s"], &["inspect", &running.to_string()]] {
        stage.run(args);
        assert!(began.elapsed() < Duration::from_secs(30), "{args:?}");
    }
    assert!(is_starting(starting) && !is_gone(running), "it was there all the time");
    watcher.interrupt();
}

/// A pipe in the place of a file that is named: nobody waits for somebody to write to it.
#[test]
fn what_may_never_come_is_not_waited_for() {
    let stage = stage();
    let pipe = stage.path("pipe");
    let made = rustix::fs::mknodat(rustix::fs::CWD, &pipe, rustix::fs::FileType::Fifo, rustix::fs::Mode::RWXU, 0);
    made.unwrap();
    let pipe = pipe.display().to_string();
    let (path, began) = (
        stage.write("rules.toml", "format = 1\n[[rule]]\nname = 'a'\nbreach = 'cpu > 90%'\nlasting = '1s'\n"),
        Instant::now(),
    );
    stage.watch(&path, &[]).interrupt();
    for args in [
        &["list", "--from", &pipe][..],
        &["usage", "--from", &pipe],
        &["report", "--from", &pipe],
        &["rehearse", "rules.toml", "--from", &pipe],
        &["audit", "verify", "--key", &pipe, "--state", &stage.state().display().to_string()],
    ] {
        let output = stage.run(args);
        assert!(output.stderr.contains("not a file"), "{args:?}: {output:?}");
    }
    assert!(began.elapsed() < Duration::from_secs(30));
}

/// Root's offender is put where nobody can exchange it, whatever the environment says.
#[test]
fn no_variable_chooses_a_folder_for_root() {
    if !is_root() {
        return eprintln!("skipped: with a user's rights it is his own");
    }
    let stage = stage();
    let theirs = stage.path("theirs");
    std::fs::create_dir(&theirs).unwrap();
    std::os::unix::fs::chown(&theirs, Some(own_user()), None).unwrap();
    let theirs = theirs.display().to_string();
    let mut command = stage.command(&["misbehave", "--as", "labelpress", "--for", "1s"]);
    let output = command.env("TMPDIR", &theirs).output().unwrap();
    assert!(output.status.success(), "{output:?}");
    let refused = stage.run(&["misbehave", "--as", "labelpress", "--for", "1s", "--into", &theirs]);
    assert!(refused.stderr.contains("its owner could change it"), "{refused:?}");
    assert_eq!(std::fs::read_dir(&theirs).unwrap().count(), 0);
}
