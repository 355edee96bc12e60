//! What a shell offers at the tab key.

use std::process::Command;

use sophron_testkit::{Own, copy_program, eventually};

use crate::stage;

/// Fields, rules, cases and processes that are there; nothing that a shell would take for more than one word.
#[test]
fn a_shell_offers_what_there_is() {
    let stage = stage();
    let rules = stage.write(
        "rules.toml",
        "format = 1\nevery = '200ms'\n[[rule]]\nname = 'press-leak'\nnote = 'It leaks.'\nwhere = 'app = labelpress and {mine}'\n\
         breach = 'memory.held > 10 MiB'\nlasting = '0s'\nladder = [ { at = '0s', do = 'alert' } ]\n",
    );
    let press = stage.offender("labelpress", &["--grow", "400MiB/s", "--up-to", "30MiB"]);
    let program = stage.state().with_file_name("labelx;reboot");
    copy_program("/bin/sleep", &program);
    let hostile = Own(Command::new(&program).arg("60").spawn().unwrap());
    let watcher = stage.watch(&rules, &[]);
    eventually("a case", || stage.story(press.pid()).iter().any(|word| word.starts_with("breach")).then_some(()));
    watcher.interrupt();
    let (rules, state) = (rules.display().to_string(), stage.state().display().to_string());
    let offered = |words: &[&str]| {
        let typed: Vec<&str> = [&["--", "sophron"], words].concat();
        let output = stage.command(&typed).env("SOPHRON_COMPLETE", "fish").output().unwrap();
        assert!(output.status.success() && output.stderr.is_empty(), "{words:?}: {output:?}");
        let lines = String::from_utf8(output.stdout).unwrap();
        lines.lines().map(|line| line.split('\t').next().unwrap_or_default().to_owned()).collect::<Vec<_>>()
    };
    let first = |words: &[&str]| offered(words).first().cloned().unwrap_or_default();
    assert_eq!(first(&["stand"]), "stand-back");
    assert_eq!(first(&["rules", "fields", "memory.h"]), "memory.held");
    assert_eq!(first(&["list", "--columns", "id,memory.h"]), "id,memory.held");
    assert_eq!(first(&["list", "--where", "owner = ines and (memory.h"]), "owner = ines and (memory.held");
    assert_eq!(first(&["rules", "explain", &rules, ""]), "press-leak");
    assert_eq!(first(&["audit", "--state", &state, "explain", ""]), "1");
    assert_eq!(offered(&["inspect", "labelp"]), ["labelpress"]);
    let checked = first(&["terminate", &press.pid().to_string()]);
    let letters = checked.strip_prefix(&format!("{}-", press.pid())).map(str::len);
    assert_eq!(letters, Some(3), "{checked}");
    // Its name would be two commands.
    assert!(offered(&["inspect", "labelx"]).is_empty());
    let of_hostile = first(&["inspect", &hostile.pid().to_string()]);
    assert!(of_hostile.starts_with(&hostile.pid().to_string()), "{of_hostile}");
}
