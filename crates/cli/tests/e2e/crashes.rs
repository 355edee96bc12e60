//! A watcher killed outright, again and again, while it acts: nothing is done without its intent, and the chain goes on.

use std::time::Duration;

use serde_json::Value;
use sophron_testkit::{Stage, eventually, is_suspended, nices, usual_nice};

use crate::stage;

/// `SOPHRON_KILLS=500` for the whole torture; a few show that it works.
fn kills() -> u32 {
    std::env::var("SOPHRON_KILLS").ok().and_then(|count| count.parse().ok()).unwrap_or(20)
}

#[test]
fn killed_at_any_moment_nothing_was_done_without_its_intent() {
    if !sophron_testkit::can_be_lowered() {
        return;
    }
    let stage = stage();
    let begin = || (0..4).map(|_| stage.offender("tilebaker", &["--cpu", "20%"])).collect::<Vec<_>>();
    let mut offenders = begin();
    let state = stage.state().display().to_string();
    let mut random = 88_172_645_463_325_252_u64;
    let (mut torn, mut acted) = (0, 0);
    for kill in 0..kills() {
        if kill % 20 == 19 {
            // They end by themselves after a while.
            offenders = begin();
        }
        // Each life has a niceness of its own: what the kernel shows tells which life did it.
        let nice = 1 + (kill % 17).cast_signed();
        let rules = stage.write(
            "rules.toml",
            format!(
                "format = 1\nevery = '100ms'\n[lookback]\nkeep = '0s'\n[audit]\nstamp = '1s'\n[cap]\nacts = 10000\n\
                [[rule]]\nname = 'busy'\nwhere = 'app = \"tilebaker\" and {{mine}}'\nbreach = 'cpu > 1%'\nlasting = '100ms'\narmed = true\n\
                ladder = [ {{ at = '0s', do = 'lower', nice = {nice} }}, {{ at = '200ms', do = 'suspend', for = '1s' }} ]\n"
            ),
        );
        let before = records(&stage).len();
        let mut watcher = stage.watch(&rules, &[]);
        random ^= random << 13;
        random ^= random >> 7;
        random ^= random << 17;
        // On a machine so busy that none of them came to act yet they live longer.
        let longer = if acted == 0 { Duration::from_millis(50) * kill } else { Duration::ZERO };
        std::thread::sleep(Duration::from_millis(20 + random % 900) + longer);
        watcher.kill_outright();
        let verified = stage.run(&["audit", "verify", "--state", &state]);
        let is_torn = verified.stderr.contains("torn");
        torn += u32::from(is_torn);
        assert!(verified.status == Some(0) || is_torn, "kill {kill}: {}", verified.stderr);
        let records = records(&stage);
        let announced = |pid: u32, verb: &str| {
            records.iter().skip(before).any(|record| {
                record["kind"] == "intent" && record["subject"]["pid"] == pid && record["action"]["do"] == verb
            })
        };
        for offender in &offenders {
            let pid = offender.pid();
            if nices(pid).contains(&nice) {
                acted += 1;
                assert!(announced(pid, "lower"), "kill {kill}: lowered to {nice} without a record");
            }
            if is_suspended(pid) {
                acted += 1;
                assert!(announced(pid, "suspend"), "kill {kill}: suspended without a record");
            }
            eventually("nothing stays suspended", || (!is_suspended(pid)).then_some(()));
        }
    }
    assert!(acted > 0, "it never came to act");
    // A last life mends the rest, and puts back what is in force.
    let rules = stage.write("rules.toml", "format = 1\n[protect]\nwhere = 'app = x'\n[lookback]\nkeep = '0s'\n");
    let output = stage.run(&["watch", "--rules", &rules.display().to_string(), "--state", &state, "--for", "300ms"]);
    assert_eq!(output.status, Some(0), "{}", output.stderr);
    let verified = stage.run(&["audit", "verify", "--state", &state]);
    assert_eq!(verified.status, Some(0), "{}", verified.stderr);
    let records = records(&stage);
    let unknown = records.iter().filter(|record| record["result"]["outcome"] == "unknown").count();
    println!("{} kills, {acted} acts seen, {torn} torn ends, {unknown} outcomes closed as unknown", kills());
    for offender in &offenders {
        assert!(nices(offender.pid()).iter().all(|nice| *nice == usual_nice()), "put back");
    }
}

/// Every whole record of every file; a torn one is none.
fn records(stage: &Stage) -> Vec<Value> {
    let mut files: Vec<_> = std::fs::read_dir(stage.state().join("audit"))
        .into_iter()
        .flatten()
        .map(|entry| entry.unwrap().path())
        .filter(|path| path.extension().is_some_and(|extension| extension == "jsonl"))
        .collect();
    files.sort();
    let texts = files.iter().map(|path| std::fs::read_to_string(path).unwrap());
    texts.flat_map(|text| text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect::<Vec<_>>()).collect()
}
