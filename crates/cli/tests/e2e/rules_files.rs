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

/// What is wrong in them is tested in core (`rules::files_with_errors`): here, that neither command starts on them.
#[test]
fn files_with_errors() {
    let stage = stage();
    refused(&stage, &stage.write("cut.toml", "format = 1\n[[rule]\n"), 3, "not valid TOML");
    refused(&stage, &stage.write("names.toml", GOOD.replace("cpu", "memry")), 3, "there is no field `memry`");
}

/// It watches with them, and leaves nothing behind.
#[test]
fn what_a_file_costs_is_measured() {
    let stage = stage();
    let rules = GOOD.replace("format = 1", "format = 1\nevery = '100ms'")
        + "[[rule]]\nname = 'b'\nbreach = 'peak(memory.held, 1m) > 90 GiB'\nlasting = '1s'\n";
    let rules = stage.write("rules.toml", rules);
    let output = stage.run(&["rules", "check", rules.to_str().unwrap(), "--cost"]);
    assert_eq!(output.status, Some(0), "{}", output.stderr);
    let figure = |what: &str| -> f64 {
        let line = output.stdout.lines().find_map(|line| line.trim().strip_suffix(what));
        line.unwrap_or_else(|| panic!("{what}: {}", output.stdout)).trim().parse().unwrap()
    };
    assert!(
        figure("watching with all of the rules") > 0.0 && figure("watching without any") > 0.0,
        "{}",
        output.stdout
    );
    assert!(figure("more for b alone") > figure("more for a alone"), "{}", output.stdout);
    assert!(!stage.state().exists());
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
