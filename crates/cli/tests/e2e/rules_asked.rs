//! Rules merged, looked over, explained, and asked why.

use sophron_testkit::{Stage, eventually};

use crate::stage;

const GOOD: &str = "format = 1\n[[rule]]\nname = 'a'\nbreach = 'cpu > 90%'\nlasting = '20s'\n";

fn shown(stage: &Stage, args: &[&str]) -> String {
    let output = stage.run_masked(args);
    format!("{}{}", output.stdout, output.stderr)
}

/// A second file beside the first adds rules and changes others; its errors are shown at its own place.
#[test]
fn files_of_rules_d_add_and_adjust() {
    let stage = stage();
    let rules = stage.write("rules.toml", GOOD).display().to_string();
    std::fs::create_dir(stage.path("rules.d")).unwrap();
    stage.write(
        "rules.d/20-here.toml",
        "format = 1\n[adjust.a]\nbreach = 'cpu > 150%'\narmed = true\nseverity = 'critical'\n",
    );
    stage.write(
        "rules.d/10-more.toml",
        "format = 1\n[[rule]]\nname = 'b'\nbreach = 'memory > 5 GiB'\nlasting = '20s'\n",
    );
    let listed = stage.json(&["rules", "list", "--rules", &rules, "--format", "json"]);
    let row = |place: usize| {
        let row = &listed["rows"][place];
        (row["rule"].clone(), row["breach"].clone(), row["armed"].clone(), row["severity"].clone())
    };
    assert_eq!(row(0), ("a".into(), "cpu > 150%".into(), true.into(), "critical".into()));
    assert_eq!(row(1), ("b".into(), "memory > 5 GiB".into(), false.into(), "warning".into()));
    stage.write(
        "rules.d/30-wrong.toml",
        "format = 1\n[adjust.c]\narmed = true\n[[rule]]\nname = 'a'\nbreach = 'cpu > 5%'\nlasting = '1s'\n",
    );
    let told = shown(&stage, &["rules", "check", &rules]);
    assert!(
        told.contains("[stage]/rules.d/30-wrong.toml:2:9") && told.contains("there is no rule `c` to adjust"),
        "{told}"
    );
    assert!(told.contains("two rules are called `a`") && told.contains("used in a file before"), "{told}");
    assert!(told.contains("2 errors in [stage]/rules.toml"), "{told}");
}

#[test]
fn what_is_odd_is_warned_of_and_strict_takes_it_for_an_error() {
    let stage = stage();
    let odd = "format = 1\nevery = '1s'\n[usage]\nkeep = '0s'\n[hours]\noffice = ['Mon-Fri 08:00-18:00']\nnight = ['Mon-Fri 20:00-06:00']\n\
        [protect]\nwhere = 'app = fernpanel'\n\
        [[rule]]\nname = 'nobody'\nwhere = 'app = \"no-such-program\"'\nbreach = 'cpu > 90000%'\ncalm = 'cpu > 95000%'\nlasting = '1s'\n\
        ladder = [ { at = '0s', do = 'terminate' } ]\n\
        [[rule]]\nname = 'first'\nwhere = 'pid = 1'\nbreach = 'memory.held > 50 MiB'\nlasting = '5s'\narmed = true\n\
        ladder = [ { at = '0s', do = 'alert' }, { at = '1s', do = 'lower', hours = 'office' }, { at = '9s', do = 'terminate', hours = 'night' } ]\n\
        [[rule]]\nname = 'late'\nwhere = 'pid = 1'\nbreach = 'memory.held > 80 MiB'\nlasting = '10m'\narmed = true\n\
        ladder = [ { at = '0s', do = 'alert' }, { at = '1m', do = 'suspend' } ]\n\
        [[rule]]\nname = 'usual'\nbreach = 'cpu > typical(cpu) and avg(cpu, 2s) > 5%'\nlasting = '10s'\n\
        [[rule]]\nname = 'forks'\nbreach = 'children > 50'\nlasting = '10s'\n\
        [[rule]]\nname = 'between'\nbreach = 'memory > 1 GiB and memory < 500 MiB'\nlasting = '10s'\n\
        [[rule]]\nname = 'all'\nwhere = 'owner = \"no-such-user\"'\nbreach = 'machine.cpu > 90%'\ncalm = 'machine.cpu < 95%'\nlasting = '10s'\n";
    let rules = stage.write("rules.toml", odd).display().to_string();
    let output = stage.run(&["rules", "check", &rules]);
    assert_eq!(output.status, Some(0), "{}", output.stderr);
    for words in [
        "`[protect]` goes by a name alone: app is fernpanel",
        "nobody: it covers nothing at present",
        "nobody: `cpu` is never over 90000%",
        "nobody: its `calm` can never hold",
        "nobody: `lasting` of 1 s is shorter than two samples",
        "nobody: it would terminate without an alert before it",
        "first: it lowers against a breach of memory",
        "first: the hours of its steps leave a hole",
        "which is protected",
        "late: it never gets to act: first has the same `where` and terminates first",
        "usual: `typical` is unknown without a history of usage, and [usage] keeps none",
        "forks: it judges one process at a time by how many there are",
        "usual: a window of 2 s holds fewer than three samples",
        "between: its `breach` can never hold",
        "all: its `breach` names only the machine",
        "all: its `calm` overlaps its `breach`: between 90 and 95 both hold",
        "all: /etc/passwd knows no user no-such-user",
    ] {
        assert!(output.stdout.contains(words), "{words}: {}", output.stdout);
    }
    assert_eq!(stage.run(&["rules", "check", &rules, "--strict"]).status, Some(3));
}

/// The starter file is sound, without a warning but on what a machine lacks, and all in shadow.
#[test]
fn a_file_to_begin_with_is_written_once() {
    let stage = stage();
    let path = stage.path("rules.toml").display().to_string();
    assert_eq!(stage.run(&["rules", "new", &path]).status, Some(0));
    let again = stage.run(&["rules", "new", &path]);
    assert!(again.status == Some(1) && again.stderr.contains("nothing is overwritten"), "{}", again.stderr);
    let checked = stage.run(&["rules", "check", &path]);
    let warnings = checked
        .stdout
        .lines()
        .filter(|line| line.starts_with("warning"))
        .filter(|line| !line.contains("covers nothing"));
    assert_eq!((checked.status, warnings.count()), (Some(0), 0), "{}", checked.stdout);
    assert!(checked.stdout.contains(" 0 armed"), "{}", checked.stdout);
    let schema = stage.json(&["rules", "schema"]);
    let keys = schema["properties"]["rule"]["items"]["properties"].as_object().unwrap();
    assert!(keys.contains_key("budget") && keys.contains_key("judge") && !schema["properties"]["settle"].is_null());
}

#[test]
fn a_rule_is_said_back_in_sentences() {
    let stage = stage();
    let text = "format = 1\n[hours]\noffice = ['Mon-Sat 07:10-18:20']\n\
        [[rule]]\nname = 'press-leak'\nnote = 'The label press leaks until the desk freezes.'\nwhere = 'app = \"labelpress-of-no-one\"'\n\
        breach = 'memory.held > 750 MiB and climb(memory.held, 20m) > 160 MiB'\nlasting = '20s'\ncalm = 'memory.held < 520 MiB'\narmed = true\n\
        again = { after = '20m', risen = '130 MiB' }\nbudget = { cases = 3, per = '1h' }\n\
        ladder = [ { at = '0s', do = 'alert' }, { at = '1m', do = 'suspend', for = '45s' }, { at = '3m', do = 'terminate', force_after = '10s', hours = 'not office' } ]\n\
        [[rule]]\nname = 'squeeze'\njudge = 'machine'\nwhere = 'uid = 64999'\nbreach = 'until(machine.memory.available, 256 MiB, 10m) < 15m'\n\
        lasting = '30s'\npick = 'most memory'\nladder = [ { at = '0s', do = 'lower' } ]\n";
    let rules = stage.write("rules.toml", text).display().to_string();
    let told = shown(&stage, &["rules", "explain", &rules]);
    let (_, sentences) = told.split_once('\n').unwrap();
    insta::assert_snapshot!(sentences);
    let told = shown(&stage, &["rules", "explain", &rules, "squeze"]);
    assert!(told.contains("the nearest is squeeze"), "{told}");
}

/// Why a rule does or does not act on a process now: part by part, and with what only a watcher knows.
#[test]
fn why_is_answered_by_the_file_and_by_the_watcher() {
    let stage = stage();
    let rule = "format = 1\nevery = '250ms'\n[[rule]]\nname = 'leak'\nwhere = 'app = \"labelpress\" and {mine}'\n\
        breach = 'memory.held > 10 MiB and peak(memory.held, 3s) > 10 MiB'\nlasting = '8s'\nbudget = { cases = 2, per = '1h' }\n\
        ladder = [ { at = '0s', do = 'alert' }, { at = '10m', do = 'suspend' } ]\n";
    let rules = stage.write("rules.toml", rule);
    let path = rules.display().to_string();
    let state = stage.state().display().to_string();
    let press = stage.offender("labelpress", &["--grow", "100MiB/s", "--up-to", "20MiB"]);
    let other = stage.offender("postbox", &[]);
    let why = |pid: u32| {
        let pid = pid.to_string();
        shown(&stage, &["rules", "why", "leak", &pid, "--rules", &path, "--state", &state])
    };
    let told = why(other.pid());
    assert!(told.contains("verdict      it does not act: the rule does not cover it"), "{told}");
    assert!(
        told.contains("app is labelpress: false (app is postbox)")
            && told.contains("no watcher runs here: this is what the file says"),
        "{told}"
    );
    let watcher = stage.watch(&rules, &[]);
    let told = eventually("the breach builds up", || Some(why(press.pid())).filter(|told| told.contains("building")));
    assert!(told.contains(" of 8 s") && told.contains("budget       0 of 2 cases in 1 h 00 m: not spent"), "{told}");
    // A window that a gap has emptied, on a machine short of CPU, is full again after its length.
    let told = eventually("a case opens", || {
        let whole = |told: &String| told.contains("highest memory.held in 3s over 10.0 MiB: true (now 2");
        Some(why(press.pid())).filter(|told| told.contains("case 1 is open")).filter(whole)
    });
    assert!(
        told.starts_with(
            "verdict      it only tells, since the rule is in shadow: case 1 is open; next: suspend for 1m in "
        ),
        "{told}"
    );
    // Its rules are the watcher's, whatever the file says by now.
    stage.write("rules.toml", rule.replace("lasting = '8s'", "lasting = '9s'"));
    let told = why(press.pid());
    assert!(told.contains("case 1 is open") && told.contains("rules.toml has other rules now"), "{told}");
    std::fs::remove_file(&path).unwrap();
    let told = why(press.pid());
    assert!(told.contains("case 1 is open") && !told.contains("other rules"), "{told}");
    watcher.interrupt();
    assert!(!stage.state().join("watch.sock").exists());
    for command in [&["rules", "why", "leak", &press.pid().to_string()][..], &["watch"]] {
        let asked = stage.run(&[command, &["--rules", &path, "--state", &state]].concat());
        assert!(asked.stderr.contains("no rules file: ") && asked.stderr.contains("sophron rules new"), "{asked:?}");
    }
}
