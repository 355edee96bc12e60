//! What a process that runs an interpreter is called by.

use proptest::prelude::*;
use sophron_core::interpreter::{LONGEST_NAME, Runs, runs};

/// Words of a command line, apart by `|`: what the process is called by, or in brackets why not.
fn called(cmdline: &str) -> String {
    let base = cmdline.split('|').next().unwrap().trim_start_matches('-').to_owned();
    match runs(&base, format!("{}\0", cmdline.replace('|', "\0")).as_bytes()) {
        Some(Runs::Script(name)) => name,
        other => format!("[{other:?}]"),
    }
}

#[test]
fn a_process_is_called_by_what_its_interpreter_runs() {
    let told = [
        "python3.11|-u|/opt/press/labelpress.py|--all",
        "python3|-X|dev|svc.py",
        "python3|-Xdev|-Bu|svc.py|-c",
        "python3|-W|ignore|-m|http.server",
        "python3|-Im|bakery",
        "python3|-c|import os|svc.py",
        "python3|-",
        "python3",
        "python3|--check-hash-based-pycs|never|svc.py",
        "perl|-I|lib|pl.pl",
        "perl|-Ilib|-MList::Util|-w|pl.pl",
        "perl|-ne|print|file",
        "ruby|-r|json|-W2|web.rb",
        "node|--require|./tracing.js|--max-old-space-size=512|server.js",
        "node|--eval=1",
        "node|-pe|1+1",
        "java|-Xmx1g|-cp|/opt/a.jar:/opt/b.jar|org.bakery.Ledger|--port",
        "java|-jar|/opt/ledger.jar",
        "java|--module-path|mods|-m|bakery/org.bakery.Main",
        "java|--module=bakery/org.bakery.Main",
        "java|@options|Ledger.java",
        "bash|-o|pipefail|x.sh",
        "bash|-eo|pipefail|x.sh",
        "bash|-oe|pipefail|x.sh",
        "bash|+o|posix|--rcfile|/etc/rc|x.sh",
        "bash|-ec|while :; do :; done",
        "bash|-lc|x.sh",
        "bash|-s|argument",
        "bash|/dev/fd/63",
        "sh|/proc/self/fd/3",
        "-bash",
        "sh|--|-x.sh",
        "sh|--",
        "php|-d|memory_limit=1G|-f|web.php",
        "php|-r|echo 1;",
        "php|-S|127.0.0.1:80|web.php",
        "lua5.4|-l|json|ledger.lua",
        "tclsh8.6|-encoding|utf-8|ledger.tcl",
        "labelpress|x.py",
    ];
    let told: Vec<String> =
        told.iter().map(|line| format!("{:<70} {}", line.replace('|', " "), called(line))).collect();
    insta::assert_snapshot!(told.join("\n"));
    assert_eq!(called(&format!("bash|/x/{}", "é".repeat(100))), "é".repeat(64));
}

proptest! {
    #[test]
    fn no_command_line_crashes_the_reader(base in "[a-z]{2,6}[0-9.]{0,3}", cmdline: Vec<u8>) {
        let _ = runs(&base, &cmdline);
        for base in ["python", "perl", "ruby", "node", "java", "bash", "php", "lua", "wish"] {
            if let Some(Runs::Script(name)) = runs(base, &cmdline) {
                prop_assert!(name.chars().count() <= LONGEST_NAME);
            }
        }
    }
}
