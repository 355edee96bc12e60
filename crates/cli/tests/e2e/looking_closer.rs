//! `list` where it is hard: accuracy, shared memory, hostile names, groups, trees, repeats.

use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::process::{Command, Stdio};

use serde_json::Value;
use sophron_testkit::{Own, Stage, eventually};

use crate::stage;

fn json(stage: &Stage, options: &[&str]) -> Value {
    let output = stage.run(&[&["list", "--format", "json"], options].concat());
    assert_eq!(output.status, Some(0), "{}", output.stderr);
    serde_json::from_str(&output.stdout).unwrap()
}

/// Whoever starts others that end at once is found by what they use, first of all, with a figure; rates other than CPU are
/// read twice.
#[test]
fn what_short_lived_children_use_is_their_parents() {
    let stage = stage();
    let loops = "while :; do sh -c 'i=0; while [ $i -lt 9000 ]; do i=$((i+1)); done'; done";
    let spawner = Own(Command::new("sh").args(["-c", loops]).stdin(Stdio::null()).spawn().unwrap());
    let pid = spawner.pid().to_string();
    eventually("it is found", || {
        let told =
            stage.run(&["list", "--where", &format!("pid = {pid}"), "--columns", "id,cpu.children,faults"]).stdout;
        let row = told.lines().find(|line| line.starts_with(&pid))?.split_whitespace().map(str::to_owned);
        let row: Vec<String> = row.collect();
        (row[1].parse::<f64>().ok()? > 5.0 && row[2] == "0").then_some(())
    });
    eventually("it comes first", || {
        let told = json(&stage, &["--by", "cpu.children", "--where", "not kernel and cpu.children > 5%"]);
        let row = told["rows"].as_array()?.iter().find(|row| row["pid"].as_u64() == Some(spawner.pid().into()))?;
        row["cpu.children"].as_f64().map(drop)
    });
}

#[test]
fn cpu_and_memory_are_what_the_kernel_says() {
    let stage = stage();
    let loads = [("5%", 5.0), ("50%", 50.0), ("120%", 120.0)];
    for (option, expected) in loads {
        let offender = stage.offender("sheetlamp", &["--cpu", option, "--grow", "200MiB/s", "--up-to", "40MiB"]);
        let condition = format!("pid = {}", offender.pid());
        let rollup = format!("/proc/{}/smaps_rollup", offender.pid());
        // The kernel's own account of the same second; other tests run beside this one, and take their share.
        let used = || {
            let stat = fs::read_to_string(format!("/proc/{}/stat", offender.pid())).unwrap();
            let ticks: Vec<f64> = stat
                .rsplit_once(')')
                .unwrap()
                .1
                .split(' ')
                .skip(12)
                .take(2)
                .map(|ticks| ticks.parse().unwrap())
                .collect();
            ticks.iter().sum::<f64>() * 10.0
        };
        let seen = eventually("the figures agree", || {
            let (before, began) = (used(), std::time::Instant::now());
            let row = json(&stage, &["--where", &condition])["rows"][0].clone();
            let account = (used() - before) / began.elapsed().as_millis() as f64 * 100.0;
            let seen = row["cpu"].as_f64()?;
            // The command takes a little longer than its interval.
            ((seen - account).abs() < 2.0 + 0.12 * expected).then_some(row)
        });
        let rss: u64 = fs::read_to_string(rollup)
            .unwrap()
            .lines()
            .find_map(|line| line.strip_prefix("Rss:")?.trim().strip_suffix(" kB")?.trim().parse().ok())
            .unwrap();
        let shown = seen["memory"].as_u64().unwrap() / 1024;
        assert!(shown.abs_diff(rss) < 512, "{shown} and {rss} kB");
    }
}

#[test]
fn shared_memory_is_counted_once_in_a_group() {
    let stage = stage();
    let name = format!("kioskview-{}", std::process::id());
    let _parent = stage.offender(&name, &["--children", "3"]);
    let group = eventually("the family is there", || {
        let groups = json(&stage, &["--group", "app", "--where", &format!("app = \"{name}\"")]);
        Some(groups["rows"][0].clone()).filter(|group| group["processes"] == 4)
    });
    let rows = json(&stage, &["--where", &format!("app = \"{name}\"")]);
    let resident: u64 = rows["rows"].as_array().unwrap().iter().map(|row| row["memory"].as_u64().unwrap()).sum();
    assert_eq!(group["memory.at_most"], Value::Bool(false));
    assert!(group["memory"].as_u64().unwrap() < resident * 3 / 4, "{group} of {resident}");
    let tree = json(&stage, &["--group", "tree", "--where", &format!("app = \"{name}\"")]);
    assert_eq!((tree["rows"].as_array().unwrap().len(), tree["rows"][0]["processes"].as_u64()), (1, Some(4)));
}

#[test]
fn no_control_byte_of_a_hostile_name_reaches_anybody() {
    let stage = stage();
    let hostile: &[u8] = b"=1+1\x1b[31m\xe2\x80\xae\xff\n\xe8\x8b\x97\xc2\x9b";
    let program = stage.path("x").with_file_name(std::ffi::OsStr::from_bytes(hostile));
    let sleep = ["/bin/sleep", "/usr/bin/sleep"].into_iter().find(|path| fs::metadata(path).is_ok()).unwrap();
    sophron_testkit::copy_program(sleep, &program);
    // A very long command line that `sleep` takes for a number.
    let long = "0".repeat(6000);
    let mut child = Command::new(&program).args(["60", &long]).stdin(Stdio::null()).spawn();
    // A `sleep` that is many programs in one goes by its name; then there is nothing to look at.
    if let Ok(child) = child.as_mut()
        && matches!(child.try_wait(), Ok(None))
    {
        let condition = format!("pid = {}", child.id());
        for format in ["text", "json", "jsonl", "csv"] {
            let columns = ["--columns", "id,app,name,path,command"];
            let output =
                stage.command(&["list", "--where", &condition, "--format", format]).args(columns).output().unwrap();
            let bad = output.stdout.iter().filter(|byte| **byte < 0x20 && **byte != b'\n' || **byte == 0x7f).count();
            let text = String::from_utf8(output.stdout).expect("all of it is UTF-8");
            assert!(bad == 0 && !text.contains(['\u{9b}', '\u{202e}']), "{format}: {text:?}");
            assert!(text.contains("\\x1b[31m"), "{format}: {text}");
            if format == "csv" {
                assert!(text.contains(",'=1+1"), "a spreadsheet must not take it for a formula: {text}");
                assert_eq!(text.lines().count(), 2, "{text}");
            }
        }
        let _ = child.kill();
        let _ = child.wait();
    }
}

#[test]
fn a_limit_is_a_number_of_rows_and_repeats_repeat() {
    let stage = stage();
    let file = stage.path("saved.txt");
    let saved = file.to_str().unwrap();
    let output =
        stage.run(&["list", "--limit", "3", "--by", "age", "--every", "200ms", "--times", "2", "--save", saved]);
    assert_eq!(output.status, Some(0), "{}", output.stderr);
    let lines: Vec<&str> = output.stdout.lines().collect();
    assert_eq!(lines.len(), 2 * (3 + 3), "{}", output.stdout);
    // On a busy machine later than it was asked for, and never earlier.
    let over = lines[0].split_once("cpu over ").unwrap().1;
    let early = over.split_once(" ms").is_some_and(|(ms, _)| ms.parse::<f64>().is_ok_and(|ms| ms < 200.0));
    assert!(!early && lines[0].contains("3 of "), "{}", lines[0]);
    assert_eq!(fs::read_to_string(&file).unwrap(), output.stdout);
    let again = stage.run(&["list", "--save", saved]);
    assert!(again.status == Some(1) && again.stderr.contains("never overwrites"), "{}", again.stderr);
    let csv = stage.run(&[
        "list",
        "--format",
        "csv",
        "--columns",
        "pid,cpu",
        "--every",
        "100ms",
        "--times",
        "2",
        "--limit",
        "2",
    ]);
    assert_eq!(csv.stdout.lines().filter(|line| *line == "pid,cpu").count(), 1, "one heading: {}", csv.stdout);
    let wrong = stage.run(&["list", "--by", "memry"]);
    assert!(wrong.status == Some(2) && wrong.stderr.contains("write memory"), "{}", wrong.stderr);
}

#[test]
fn who_is_named_by_a_quick_look_is_named_right() {
    let stage = stage();
    // Idle, and so large that it is among the first.
    let press = stage.offender("labelpress", &["--grow", "2GiB/s", "--up-to", "380MiB"]);
    let id = eventually("it has grown", || {
        let row = json(&stage, &["--where", &format!("pid = {}", press.pid())])["rows"][0].clone();
        (row["memory"].as_u64()? > 380 << 20).then(|| row["id"].as_str().unwrap().to_owned())
    });
    for options in [&["list"][..], &["list", "--by", "memory"], &["list", "--group", "app", "--by", "memory"]] {
        let output = stage.run(options);
        assert!(output.stdout.contains(&id), "{options:?} does not show {id}:\n{}", output.stdout);
    }
}

#[test]
fn the_look_everybody_takes_and_the_trees_of_the_demo_day() {
    let stage = stage();
    let alone = stage.run(&["list", "--from", "demo", "--at", "10:30"]);
    insta::assert_snapshot!("alone", alone.stdout);
    let tree = stage.run(&["list", "--from", "demo", "--at", "14:30", "--tree", "--limit", "12"]);
    insta::assert_snapshot!("tree", tree.stdout);
    let apps =
        stage.run(&["list", "--from", "demo", "--at", "15:48", "--group", "app", "--by", "memory", "--limit", "4"]);
    insta::assert_snapshot!("apps", apps.stdout);
}
