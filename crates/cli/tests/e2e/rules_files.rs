//! Rules files that cannot be used: said with place and mend, and no watcher starts on them.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use sophron_testkit::{Stage, is_root};

use crate::stage;

const GOOD: &str = "format = 1\n[[rule]]\nname = 'a'\nbreach = 'cpu > 90%'\nlasting = '20s'\n";

/// `rules check` and `watch` both refuse it with that status and those words.
fn refused(stage: &Stage, rules: &Path, status: i32, words: &str) {
    let (rules, state) = (rules.to_str().unwrap(), stage.state());
    let state = state.to_str().unwrap();
    for args in [&["rules", "check", rules][..], &["watch", "--rules", rules, "--state", state, "--for", "1s"]] {
        let output = stage.run(args);
        assert_eq!(output.status, Some(status), "{args:?}: {}{}", output.stdout, output.stderr);
        assert!(output.stderr.contains(words), "{args:?} says: {}", output.stderr);
        assert!(!output.stderr.contains("panicked"), "{}", output.stderr);
    }
    assert!(!stage.state().exists(), "no watcher began");
}

#[test]
fn files_with_errors() {
    let rule = |keys: &str| format!("{GOOD}{keys}\n").into_bytes();
    let breach = |breach: &str| GOOD.replace("cpu > 90%", breach).into_bytes();
    let deep = "(".repeat(20_000);
    let cases: [(Vec<u8>, &str); 14] = [
        (b"format = 1\n[[rule]\n".to_vec(), "not valid TOML"),
        (b"format = 1\n# \xff\xfe\n".to_vec(), "not UTF-8"),
        (Vec::new(), "begin the file with `format = 1`"),
        (rule("laddr = []"), "write `ladder`"),
        (breach("memry > 1 MiB"), "there is no field `memry`"),
        (breach("memory > 5%"), "`memory` is a size"),
        (breach("memory > 750"), "write `750 MiB`"),
        (breach("memory > 750 mib"), "write `750 MiB`"),
        (breach("memory > 999999999999999999 TiB"), "out of range"),
        (breach(&deep), "nested deeper than 64"),
        (rule("ladder = [ { at = '0s', do = 'lower', nice = 20 } ]"), "write a number from 1 to 19"),
        (rule("ladder = [ { at = '9s', do = 'alert' }, { at = '1s', do = 'lower' } ]"), "out of order"),
        (rule("[[rule]]\nname = 'a'\nbreach = 'cpu > 1%'\nlasting = '1s'"), "two rules are called `a`"),
        (breach("growth(memory, 2) > 5 MiB"), "a window is a duration"),
    ];
    for (bytes, words) in cases {
        let stage = stage();
        let rules = stage.write("rules.toml", bytes);
        refused(&stage, &rules, 3, words);
    }
}

#[test]
fn an_error_is_shown_where_it_stands() {
    let stage = stage();
    let rules =
        stage.write("rules.toml", GOOD.replace("cpu > 90%", "memry > 750 MiB and cpu over 5") + "armd = true\n");
    let output = stage.run_masked(&["rules", "check", rules.to_str().unwrap()]);
    insta::assert_snapshot!(output.stderr);
}

#[test]
fn files_that_cannot_be_read() {
    let stage = stage();
    refused(&stage, &stage.path("nowhere.toml"), 1, "no rules file");
    let folder = stage.path("folder.toml");
    fs::create_dir(&folder).unwrap();
    refused(&stage, &folder, 1, "directory");
    if is_root() {
        let theirs = crate::stage().as_user(65534);
        let rules = theirs.write("rules.toml", GOOD);
        std::os::unix::fs::chown(&rules, Some(0), Some(0)).unwrap();
        fs::set_permissions(&rules, PermissionsExt::from_mode(0o600)).unwrap();
        refused(&theirs, &rules, 1, "Permission denied");
    } else {
        let rules = stage.write("closed.toml", GOOD);
        fs::set_permissions(&rules, PermissionsExt::from_mode(0o000)).unwrap();
        refused(&stage, &rules, 1, "Permission denied");
    }
}

#[test]
fn files_that_others_could_change() {
    let stage = stage();
    let rules = stage.write("rules.toml", GOOD);
    fs::set_permissions(&rules, PermissionsExt::from_mode(0o666)).unwrap();
    refused(&stage, &rules, 4, "can be written by others; mend it with: chmod go-w");
    fs::set_permissions(&rules, PermissionsExt::from_mode(0o644)).unwrap();
    let link = stage.path("link.toml");
    std::os::unix::fs::symlink(&rules, &link).unwrap();
    refused(&stage, &link, 4, "links are not followed");
    let open = stage.path("open");
    fs::create_dir(&open).unwrap();
    fs::set_permissions(&open, PermissionsExt::from_mode(0o777)).unwrap();
    fs::copy(&rules, open.join("rules.toml")).unwrap();
    refused(&stage, &open.join("rules.toml"), 4, "can be written by others");
    if is_root() {
        let foreign = stage.write("foreign.toml", GOOD);
        std::os::unix::fs::chown(&foreign, Some(65534), None).unwrap();
        refused(&stage, &foreign, 4, "its owner could change it");
    }
}

#[test]
fn the_shipped_rules_are_sound() {
    for file in fs::read_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/../../examples")).unwrap().flatten() {
        let stage = stage();
        let rules = stage.write("rules.toml", fs::read(file.path()).unwrap());
        let output = stage.run(&["rules", "check", rules.to_str().unwrap()]);
        assert_eq!(output.status, Some(0), "{}: {}", file.path().display(), output.stderr);
    }
}
