//! What telling people costs the tick: a watcher in a storm of 5,000 happenings a minute, without a channel and with one of each way, all of
//! which hang or drip; and what it holds in memory meanwhile.
//!
//! `cargo bench -p sophron-linux --bench telling`

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]
#![allow(clippy::print_stdout)]

use std::fmt::Write as _;
use std::io::{Read, Write};
use std::net::TcpListener;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

use rustix::process::{Pid, Signal, kill_process};
use sophron_core::recording::Replay;

mod crowd;

use crowd::{Crowd, program};

/// So many breach as many rules, at once.
const OFFENDERS: usize = 60;

const RULES: usize = 85;

const LENGTH: Duration = Duration::from_secs(60);

const EVERY: Duration = Duration::from_millis(250);

fn main() {
    if crowd::is_of_it() {
        return;
    }
    let Some(program) = program() else { return };
    let _crowd = Crowd::new(OFFENDERS, 0);
    // Once more, in turn: a machine has its moods.
    for _ in 0..2 {
        measure(&program, "no channel", "");
        measure(&program, "all channels hang", &channels());
    }
}

/// One that takes a line and says nothing, and one that says a letter every second.
fn server(drips: bool) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for mut line in listener.incoming().flatten() {
            std::thread::spawn(move || {
                let mut heard = line.try_clone().unwrap();
                std::thread::spawn(move || while heard.read(&mut [0; 4096]).is_ok_and(|length| length > 0) {});
                while !drips || line.write_all(b"2").is_ok() {
                    std::thread::sleep(Duration::from_secs(1));
                }
            });
        }
    });
    port
}

fn channels() -> String {
    let mail = "from = 'a@mossgate.example'\naddresses = ['b@mossgate.example']\nsecure = 'none'\nat_most = 1000";
    let mut text = "[deliver]\nas = 'nobody'\n".to_owned();
    for drips in [false, true] {
        let port = server(drips);
        let ways = [
            ("hook", format!("url = 'http://127.0.0.1:{port}/in'")),
            ("mail", format!("server = '127.0.0.1:{port}'\n{mail}")),
            ("collector", format!("server = '127.0.0.1:{port}'\nover = 'tcp'")),
        ];
        for (way, keys) in ways {
            let _ = writeln!(text, "[[channel]]\nname = '{way}-{drips}'\nto = '{way}'\n{keys}");
            let _ = writeln!(text, "[[tell]]\nby = ['{way}-{drips}']");
        }
    }
    text + "[[channel]]\nname = 'log'\nto = 'log'\n[[tell]]\nby = ['log']\n"
}

fn measure(program: &Path, label: &str, channels: &str) {
    let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap();
    let beside = tempfile::tempdir().unwrap();
    let rules = beside.path().join("rules.toml");
    let rule = |number: usize| {
        let own = std::process::id();
        format!(
            "[[rule]]\nname = 'r{number}'\nwhere = 'parent = {own}'\nbreach = 'threads > 0'\nlasting = '0s'\nseverity = 'critical'\n"
        )
    };
    let all: String = (0..RULES).map(rule).collect();
    let text = format!("format = 1\nevery = '{}ms'\n{channels}{all}", EVERY.as_millis());
    std::fs::write(&rules, text).unwrap();
    std::fs::set_permissions(&rules, std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
    let recording = beside.path().join("recording.jsonl");
    let mut watcher = Command::new(program)
        .args(["watch", "--rules"])
        .arg(&rules)
        .arg("--state")
        .arg(folder.path())
        .arg("--record")
        .arg(&recording)
        .args(["--system-log", "/nowhere"])
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::inherit())
        .spawn()
        .unwrap();
    std::thread::sleep(LENGTH);
    let status = std::fs::read_to_string(format!("/proc/{}/status", watcher.id())).unwrap_or_default();
    let peak = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap_or("?").trim().to_owned();
    if let Some(pid) = Pid::from_raw(watcher.id().cast_signed()) {
        let _ = kill_process(pid, Signal::INT);
    }
    let _ = watcher.wait();
    let bytes = std::fs::read(&recording).unwrap();
    let mut lines = bytes.split(|byte| *byte == b'\n').filter(|line| !line.is_empty());
    let mut replay = Replay::begin(lines.next().unwrap()).unwrap();
    let times: Vec<Duration> = lines.map(|line| replay.next(line).unwrap().moment.monotonic).collect();
    // How much later each tick came than it should have after the one before.
    let late = times.windows(2).map(|pair| (pair[1] - pair[0]).as_secs_f64() - EVERY.as_secs_f64());
    let mut late: Vec<f64> = late.map(|late| late * 1000.0).collect();
    late.sort_by(f64::total_cmp);
    let at = |share: f64| late[((late.len() - 1) as f64 * share) as usize];
    let trail = std::fs::read_dir(folder.path().join("audit")).unwrap().flatten();
    let lines: usize =
        trail.filter_map(|file| Some(std::fs::read(file.path()).ok()?.split(|byte| *byte == b'\n').count())).sum();
    println!(
        "{label}: {} ticks, late by {:.2} ms (median), {:.2} ms (p99), {:.2} ms (worst); {lines} records; at most {peak} of memory",
        times.len(),
        at(0.5),
        at(0.99),
        at(1.0)
    );
}
