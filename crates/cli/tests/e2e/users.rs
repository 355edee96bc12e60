//! Run as an ordinary user: acts on what is the user's, and says what it could not.

use sophron_testkit::{eventually, is_gone, is_root, nices, uid_of};

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
    assert!(!is_gone(foreign.pid()) && nices(foreign.pid()).iter().all(|nice| *nice == 0));
    assert!(lines.contains("not permitted"), "{lines}");
    assert!(lines.contains("cannot be undone without root"), "what cannot be undone is said: {lines}");
    assert!(lines.contains("by-path cannot judge") && lines.contains("path cannot be read"), "{lines}");
}
