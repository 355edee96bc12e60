//! The rules file: read whole, or refused with every error in its place.

use std::time::Duration;

use proptest::prelude::*;
use sophron_core::diag::line_and_column;
use sophron_core::rules::{Action, File, Severity, load};

const GOOD: &str = r#"
format = 1
[protect]
where = 'app in ("fernpanel", "badge-reader")'
[[rule]]
name     = "press-leak"
note     = "The label press leaks until the desk freezes."
where    = '''
app = "labelpress"   # the press
and owner != root'''
judge    = "process"
breach   = 'memory.held > 750 MiB'
lasting  = "20s"
calm     = 'memory.held < 520 MiB'
severity = "critical"
armed    = true
ladder   = [
  { at = "0s", do = "alert" },
  { at = "10s", do = "lower" },
  { at = "1m", do = "suspend", for = "45s" },
  { at = "3m", do = "terminate", force_after = "10s" },
]
"#;

#[test]
fn a_rule_is_read_as_it_is_written() {
    let rules = load(GOOD.as_bytes()).unwrap();
    assert_eq!((rules.every, rules.rules.len()), (Duration::from_secs(2), 1));
    let rule = rules.rule("press-leak").unwrap();
    assert_eq!((rule.severity, rule.armed, rule.lasting), (Severity::Critical, true, Duration::from_secs(20)));
    assert_eq!(rule.covers.as_ref().unwrap().to_string(), r#"app = "labelpress" and owner != "root""#);
    let steps: Vec<String> = rule.ladder.iter().map(|step| step.action.to_string()).collect();
    assert_eq!(steps, ["alert", "lower to nice 10", "suspend for 45s", "terminate, by force after 10s"]);
    assert_eq!(rules.digest.len(), 64);
}

#[test]
fn a_rule_without_a_ladder_alerts_and_is_in_shadow() {
    let rules = load(b"format = 1\n[[rule]]\nname = 'a'\nbreach = 'cpu > 90%'\nlasting = '20s'\n").unwrap();
    let rule = &rules.rules[0];
    assert_eq!((rule.armed, rule.ladder.len(), rule.ladder[0].action), (false, 1, Action::Alert));
}

/// Each error as `line:column: title | label | helps`.
fn errors(bytes: &[u8]) -> String {
    let rejected = load(bytes).expect_err("this file is wrong");
    let lines = rejected.errors.iter().map(|error| {
        let (line, column) = line_and_column(&rejected.text, error.span.as_ref().map_or(0, |span| span.start));
        format!("{line}:{column}: {} | {} | {}\n", error.title, error.label, error.helps.join("; "))
    });
    lines.collect()
}

#[test]
fn all_errors_of_a_file_are_reported_in_one_go() {
    insta::assert_snapshot!(errors(
        br#"format = 1
evry = "2s"
every = 2

[[rule]]
name = "a"
breach = 'memry > 750 MiB and cpu > 5'
lasting = "20"
severity = "fatal"
budget = { cases = 3 }
judge = "tree"
ladder = [
  { at = "1m", do = "lower", nice = 20 },
  { at = "0s", do = "kill" },
  { at = "30s", do = "suspend", for = "30s", nice = 3 },
  { at = "1m", do = "terminate" },
  { do = "restart" },
]

[[rule]]
name = "a"
armed = "yes"
breach = "avg(cpu, 2m) over 90%"
ladder = []
"#
    ));
}

#[test]
fn files_that_are_no_rules_files() {
    let cases: [&[u8]; 8] = [
        b"",
        b"format = 1",
        b"format = 2\n[[rule]]\nnonsense = 1",
        b"format = 99999999999999999999999",
        b"format = 1\n[rule]\nname = 'a'",
        b"format = 1\n[[rule]\nname = ",
        b"format = 1\n# \xff\n",
        b"format = 1\nrule = 3",
    ];
    let shown: Vec<String> =
        cases.iter().map(|bytes| format!("{}\n{}", String::from_utf8_lossy(bytes), errors(bytes))).collect();
    insta::assert_snapshot!(shown.join("\n"));
}

proptest! {
    #[test]
    fn no_damage_to_a_file_crashes_the_loader(at in 0..GOOD.len(), byte: u8, cut in 0..GOOD.len()) {
        let mut bytes = GOOD.as_bytes().to_vec();
        bytes[at] = byte;
        for bytes in [&bytes[..], &GOOD.as_bytes()[..cut]] {
            if let Err(rejected) = load(bytes) {
                prop_assert!(!rejected.errors.is_empty());
                for span in rejected.errors.iter().filter_map(|error| error.span.clone()) {
                    prop_assert!(span.end <= rejected.text.len().max(span.start));
                }
            }
        }
    }
}

/// The record carries each rule in its own words.
#[test]
fn a_rule_keeps_its_own_lines() {
    let first = "format = 1\n# of the press\n[[rule]]\nname = 'a'\nbreach = 'cpu > 5%' # much\nlasting = '1s'\nladder = [\n  { at = '0s', do = 'alert' },\n]\n\n\
        # Of another matter.\n\n[protect]\nwhere = 'app = x'\n# of the rest\n[[rule]]\nname = 'b'\nbreach = 'cpu > 6%'\nlasting = '1s'\n[rule.again]\nafter = '9m' # then\n# the end\n";
    let second = "format = 1\n[adjust.a]\nlasting = '9s'\n[adjust.b]\narmed = true\n";
    let files = [File { bytes: first.as_bytes() }, File { bytes: second.as_bytes() }];
    let rules = sophron_core::rules::load_files(&files).unwrap().rules;
    assert_eq!(
        rules[0].text,
        "[[rule]]\nname = 'a'\nbreach = 'cpu > 5%' # much\nlasting = '1s'\nladder = [\n  { at = '0s', do = 'alert' },\n]\n\n[adjust.a]\nlasting = '9s'"
    );
    assert_eq!(
        rules[1].text,
        "[[rule]]\nname = 'b'\nbreach = 'cpu > 6%'\nlasting = '1s'\n[rule.again]\nafter = '9m' # then\n\n[adjust.b]\narmed = true"
    );
}

#[test]
fn files_with_errors() {
    let good = "format = 1\n[[rule]]\nname = 'a'\nbreach = 'cpu > 90%'\nlasting = '20s'\n";
    let rule = |keys: &str| format!("{good}{keys}\n").into_bytes();
    let breach = |breach: &str| good.replace("cpu > 90%", breach).into_bytes();
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
        let said = errors(&bytes);
        assert!(said.contains(words), "{words:?} is not in: {said}");
    }
}
