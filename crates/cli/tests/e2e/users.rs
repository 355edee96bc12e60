//! Run as an ordinary user: acts on what is the user's, and says what it could not.

use sophron_testkit::{eventually, is_gone, is_root, nices, uid_of, usual_nice};

use crate::stage;

const NOBODY: u32 = 65534;

#[test]
fn an_ordinary_user_acts_on_his_own_processes_only() {
    if !is_root() {
        eprintln!("skipped: only root can start processes of two users");
        return;
    }
    let roots = stage();
    let theirs = stage().as_user(NOBODY);
    // Of the other's process only the kernel's short name can be read: it has to be this test's alone.
    let app = format!("press{}", std::process::id());
    let rules = theirs.write(
        "rules.toml",
        format!("format = 1\nevery = '250ms'\n[[rule]]\nname = 'press-leak'\nwhere = 'app = \"{app}\"'\n\
         breach = 'memory.held > 10 MiB'\nlasting = '250ms'\narmed = true\n\
         ladder = [ {{ at = '0s', do = 'lower' }}, {{ at = '1s', do = 'terminate' }} ]\n\
         [[rule]]\nname = 'by-path'\nwhere = 'path ~ \"*/labelpress\"'\nbreach = 'memory.held > 1 GiB'\nlasting = '1s'\n"),
    );
    let grown = ["--grow", "100MiB/s", "--up-to", "30MiB"];
    let (foreign, own) = (roots.offender(&app, &grown), theirs.offender(&app, &grown));
    assert_eq!((uid_of(foreign.pid()), uid_of(own.pid())), (Some(0), Some(NOBODY)));
    let watcher = theirs.watch(&rules, &[]);
    eventually("its own is terminated", || is_gone(own.pid()).then_some(()));
    let told = |word: &str| theirs.story(foreign.pid()).iter().any(|told| told == word);
    eventually("the other is refused", || told("refused terminate refused").then_some(()));
    let (lines, _) = watcher.interrupt();
    assert!(!is_gone(foreign.pid()) && nices(foreign.pid()).iter().all(|nice| *nice == usual_nice()));
    assert!(lines.contains("not permitted"), "{lines}");
    assert!(lines.contains("cannot be undone without root"), "what cannot be undone is said: {lines}");
    assert!(lines.contains("by-path cannot judge") && lines.contains("path cannot be read"), "{lines}");
}

/// `readers` lets one group read the trail, and nobody else anything; the keys stay the owner's.
#[test]
fn a_group_may_read_the_trail_and_nothing_else() {
    use std::os::unix::fs::PermissionsExt;
    use std::os::unix::process::CommandExt;
    if !is_root() {
        eprintln!("skipped: only root can give files to a group");
        return;
    }
    const READERS: u32 = 54_321;
    let stage = stage();
    let opened = std::fs::Permissions::from_mode(0o711);
    std::fs::set_permissions(stage.path(""), opened).unwrap();
    let program = stage.path("sophron");
    sophron_testkit::copy_program(env!("CARGO_BIN_EXE_sophron"), &program);
    let rules = stage.write(
        "rules.toml",
        format!("format = 1\n[audit]\nreaders = '{READERS}'\n[lookback]\nkeep = '0s'\n[protect]\nwhere = 'app = x'\n"),
    );
    let state = stage.state().display().to_string();
    let run = stage.run(&["watch", "--rules", rules.to_str().unwrap(), "--state", &state, "--for", "300ms"]);
    assert_eq!(run.status, Some(0), "{}", run.stderr);
    let as_group = |group: u32| {
        let mut command = std::process::Command::new(&program);
        command.args(["audit", "verify", "--state", &state]).uid(NOBODY).gid(group).env_clear();
        command.output().unwrap()
    };
    let reader = as_group(READERS);
    assert_eq!(reader.status.code(), Some(0), "{}", String::from_utf8_lossy(&reader.stderr));
    assert_ne!(as_group(NOBODY).status.code(), Some(0));
    let mode = |name: &str| stage.state().join("audit").join(name).metadata().unwrap().permissions().mode() & 0o777;
    assert_eq!((mode("000001.jsonl"), mode("stamp.key"), mode("lock")), (0o640, 0o600, 0o600));
    let wrong =
        stage.write("wrong.toml", "format = 1\n[audit]\nreaders = 'nosuchgroup'\n[protect]\nwhere = 'app = x'\n");
    let run = stage.run(&["watch", "--rules", wrong.to_str().unwrap(), "--state", &state, "--for", "300ms"]);
    assert!(run.status == Some(1) && run.stderr.contains("there is no group `nosuchgroup`"), "{}", run.stderr);
}
