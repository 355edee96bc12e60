//! From the sample that shows a breach to the signal, the synced record included: a watcher of the built program ends offenders
//! that note when they were asked to. Beside it the floor: a bare write and fdatasync on the same disk. On a virtual machine what
//! happened while its host took the cores away is told apart: it says nothing about the watcher.
//!
//! `cargo bench -p sophron-linux --bench signal` measures among few processes, and among 300 and 1,000 more.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]
#![allow(clippy::print_stdout)]

use std::io::{BufRead, BufReader, Write};
use std::os::fd::AsFd;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

mod crowd;
mod host;

use crowd::{Crowd, program};
use host::stolen;

const OFFENDERS: usize = 50;

/// At most so many are tried, until that many were not disturbed.
const MOST_TRIED: usize = 150;

/// Holds more than the rule allows from the moment that it is told to, and says when it is asked to end, by the wall clock.
fn offend() {
    let mut signals = signal_hook::iterator::Signals::new([signal_hook::consts::SIGTERM]).unwrap();
    // On a thread of its own: it may be asked while it is still filling what it holds.
    let hears = std::thread::spawn(move || {
        if signals.forever().next().is_some() {
            println!("{}", jiff::Timestamp::now().as_microsecond());
            std::process::exit(0);
        }
    });
    let mut line = String::new();
    std::io::stdin().read_line(&mut line).unwrap();
    let held = vec![1_u8; 64 << 20];
    hears.join().unwrap();
    std::hint::black_box(held);
}

fn offender() -> Child {
    let own = std::env::current_exe().unwrap();
    Command::new(own).arg("offend").stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap()
}

fn main() {
    if std::env::args().nth(1).as_deref() == Some("offend") {
        return offend();
    }
    if crowd::is_of_it() {
        return;
    }
    let Some(program) = program() else { return };
    measure(&program, "few processes");
    let _crowd = Crowd::new(270, 30);
    measure(&program, "300 more processes");
    let _more = Crowd::new(665, 35);
    measure(&program, "1,000 more processes");
}

fn measure(program: &Path, label: &str) {
    // On a disk, where syncing means something.
    let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap();
    let beside = tempfile::tempdir().unwrap();
    let rules = beside.path().join("rules.toml");
    let text = format!(
        "format = 1\nevery = '250ms'\ncap = {{ acts = {0}, terminations = {0} }}\n[[rule]]\nname = 'held'\nwhere = 'parent = {1}'\n\
         breach = 'memory.held > 50 MiB'\nlasting = '0s'\narmed = true\nladder = [ {{ at = '0s', do = 'terminate' }} ]\n",
        MOST_TRIED + 10,
        std::process::id()
    );
    std::fs::write(&rules, text).unwrap();
    std::fs::set_permissions(&rules, std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
    let mut watcher = Command::new(program)
        .args(["watch", "--format", "jsonl", "--rules"])
        .arg(&rules)
        .arg("--state")
        .arg(folder.path().join("state"))
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut lines = BufReader::new(watcher.stdout.take().unwrap()).lines();
    std::thread::sleep(Duration::from_secs(2));
    let mut bare = std::fs::File::create(folder.path().join("bare")).unwrap();
    rustix::fs::fallocate(&bare, rustix::fs::FallocateFlags::KEEP_SIZE, 0, 1 << 20).unwrap();
    let (mut took, mut floor, mut disturbed) = (Vec::new(), Vec::new(), Vec::new());
    for number in 0..MOST_TRIED {
        if took.len() == OFFENDERS {
            break;
        }
        let mut offender = offender();
        // At any time between two samples.
        std::thread::sleep(Duration::from_millis(300 + number as u64 * 7 % 250));
        let stolen_before = stolen();
        offender.stdin.take().unwrap().write_all(b"go\n").unwrap();
        let mut asked = String::new();
        BufReader::new(offender.stdout.take().unwrap()).read_line(&mut asked).unwrap();
        offender.wait().unwrap();
        // The next of the same program is the same case, come back.
        let its = format!("{}-", offender.id());
        let seen = lines.by_ref().map_while(Result::ok).find_map(|line| {
            let line: serde_json::Value = serde_json::from_str(&line).unwrap();
            let begins = matches!(line["happened"].as_str(), Some("opened" | "came back"));
            (begins && line["id"].as_str()?.starts_with(&its))
                .then(|| line["at"].as_str()?.parse::<jiff::Timestamp>().ok())?
        });
        let asked: i64 = asked.trim().parse().unwrap();
        let its = (asked - seen.unwrap().as_microsecond()) as f64 / 1e3;
        if stolen() == stolen_before {
            took.push(its)
        } else {
            disturbed.push(its)
        }
        let (begun, stolen_before) = (Instant::now(), stolen());
        bare.write_all(&[b'x'; 1300]).unwrap();
        rustix::fs::fdatasync(bare.as_fd()).unwrap();
        if stolen() == stolen_before {
            floor.push(begun.elapsed().as_secs_f64() * 1e3);
        }
    }
    let _ = watcher.kill();
    let _ = watcher.wait();
    tell(&format!("from the sample to the signal, {label}"), took, 20.0);
    tell("  a bare write and fdatasync meanwhile", floor, 0.0);
    tell("  while the machine's host took the cores away", disturbed, 0.0);
}

fn tell(what: &str, mut times: Vec<f64>, goal: f64) {
    if times.is_empty() {
        return;
    }
    times.sort_by(f64::total_cmp);
    let at = |share: f64| times[((times.len() - 1) as f64 * share).round() as usize];
    let goal = if goal > 0.0 { format!(" (goal {goal:.0})") } else { String::new() };
    println!("{what}: median {:.1} ms, 99 of 100 within {:.1} ms{goal}, of {}", at(0.5), at(0.99), times.len());
}
