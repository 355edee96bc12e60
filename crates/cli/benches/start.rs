//! A watcher's start, with a record of a gigabyte and with none, by the built program.
//!
//! `cargo bench -p sophron --bench start` (`-- 64` makes a record of 64 MiB). Goals: ready within 1 s, and with at most 20 MiB more than
//! with no record; after that all of it is verified, in the same memory, and a fault in the middle of it disarms.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;
use std::os::unix::fs::{FileExt, PermissionsExt};
use std::os::unix::net::UnixDatagram;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use sophron_core::audit::{Draft, Evidence, Kind, ResultRecord, SubjectRecord, Who};
use sophron_linux::here;
use sophron_linux::trail::{Append, Keeping, TrailFile};
use sophron_testkit::process;

fn main() {
    let asked = std::env::args().skip(1).find_map(|word| word.parse::<u64>().ok()).unwrap_or(1024);
    // On a disk, where reading costs something.
    let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap();
    let rules = folder.path().join("rules.toml");
    fs::write(&rules, "format = 1\nevery = '500ms'\n[audit]\nmost = '4 GiB'\n[lookback]\nkeep = '0s'\n[[rule]]\nname = 'nobody'\nbreach = 'cpu > 100000%'\nlasting = '1s'\narmed = true\nladder = [ { at = '0s', do = 'lower' } ]\n").unwrap();
    let (empty, full) = (folder.path().join("empty"), folder.path().join("full"));
    for state in [&empty, &full] {
        fs::create_dir(state).unwrap();
        fs::set_permissions(state, fs::Permissions::from_mode(0o700)).unwrap();
    }
    let records = fill(&full, asked << 20);
    let (ready, memory) = Watching::begin(&rules, &empty).measured(Duration::from_secs(3));
    let with = Watching::begin(&rules, &full);
    let (took, more) = (with.ready, with.most_memory());
    println!("a start with {records} records, {asked} MiB");
    println!(
        "  ready after {:.0} ms, with no record after {:.0} ms (goal 1000 ms, {})",
        ms(took),
        ms(ready),
        verdict(ms(took) <= 1000.0)
    );
    let begun = Instant::now();
    let used = with.verified();
    let (all, cpu) = (begun.elapsed().as_secs_f64(), used);
    let most = with.most_memory();
    let goal = |more: f64| verdict(more - memory <= 20.0);
    println!(
        "  {more:.1} MiB at that, {most:.1} MiB at most while all is verified; with no record {memory:.1} MiB (goal 20 MiB more, {})",
        goal(most)
    );
    println!("  all verified after {all:.0} s, with {cpu:.1} s of CPU: {:.0} MiB/s of it", asked as f64 / cpu);
    drop(with);
    let piece = fs::read_dir(full.join("audit")).unwrap().count() / 2;
    let file = fs::OpenOptions::new().write(true).open(full.join(format!("audit/{piece:06}.jsonl"))).unwrap();
    file.write_all_at(b"8", 1_000_000).unwrap();
    let with = Watching::begin(&rules, &full);
    let begun = Instant::now();
    let found = with.waits_for("disarmed", Duration::from_secs(600));
    println!(
        "  a fault planted in file {piece}: {} after {:.0} s",
        if found { "disarmed" } else { "NOT FOUND" },
        begun.elapsed().as_secs_f64()
    );
}

fn verdict(met: bool) -> &'static str {
    if met { "met" } else { "MISSED" }
}

fn ms(seconds: f64) -> f64 {
    seconds * 1000.0
}

/// A record of so many bytes; how many records that are.
fn fill(state: &Path, bytes: u64) -> u64 {
    let keeping = Keeping { most: 8 << 30, ..Keeping::default() };
    let mut trail = TrailFile::open(state, draft(0), keeping).unwrap();
    let mut records = 0;
    while size(state) < bytes {
        let some: Vec<Draft> = (0..2000).map(|number| draft(records + number)).collect();
        records += some.len() as u64;
        trail.append(&some).unwrap();
    }
    records
}

fn size(state: &Path) -> u64 {
    fs::read_dir(state.join("audit")).unwrap().map(|entry| entry.unwrap().metadata().unwrap().len()).sum()
}

fn draft(number: u64) -> Draft {
    let who = Who { uid: 0, user: "root".to_owned(), login_uid: Some(1001), by: None };
    let at = here::now().wall;
    Draft {
        case: Some(number / 6),
        rule: Some("press-leak".to_owned()),
        subject: Some(SubjectRecord::from(&process(1000 + (number % 30_000) as u32, "labelpress"))),
        evidence: Some(Evidence {
            severity: "warning".into(),
            breach: "memory.held > 750 MiB".to_owned(),
            field: Some("memory.held".to_owned()),
            reads_as: Some("size".into()),
            reading: 851_443_712_u64.into(),
            limit: 786_432_000_u64.into(),
            words: "memory.held 812 MiB, limit 750 MiB".to_owned(),
            disk: None,
            points: (0..8).map(|point| (at, serde_json::json!(800_000_000_u64 + point * 1_000_000))).collect(),
        }),
        result: Some(ResultRecord { outcome: "breach".into(), seen: "812 MiB".to_owned(), took: None }),
        ..Draft::new(at, Kind::Breach, "mossgate-desk-03", "00000000000000000000000000000007", who)
    }
}

/// A watcher that is ended with this.
struct Watching {
    child: Child,
    lines: PathBuf,
    /// Seconds until it said that it was ready.
    ready: f64,
}

impl Watching {
    fn begin(rules: &Path, state: &Path) -> Watching {
        let notify = state.with_extension("notify");
        let _ = fs::remove_file(&notify);
        let socket = UnixDatagram::bind(&notify).unwrap();
        socket.set_read_timeout(Some(Duration::from_secs(60))).unwrap();
        let lines = state.with_extension("lines");
        let begun = Instant::now();
        let child = Command::new(env!("CARGO_BIN_EXE_sophron"))
            .args(["watch", "--service", "--rules"])
            .arg(rules)
            .arg("--state")
            .arg(state)
            .env("NOTIFY_SOCKET", &notify)
            .stdout(fs::File::create(&lines).unwrap())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let mut bytes = [0; 4096];
        while !std::str::from_utf8(&bytes).unwrap_or_default().contains("READY=1") {
            socket.recv(&mut bytes).expect("it is ready within a minute");
        }
        Watching { child, lines, ready: begun.elapsed().as_secs_f64() }
    }

    fn measured(self, after: Duration) -> (f64, f64) {
        std::thread::sleep(after);
        (self.ready, self.most_memory())
    }

    /// MiB that it had resident at most.
    fn most_memory(&self) -> f64 {
        let status = fs::read_to_string(format!("/proc/{}/status", self.child.id())).unwrap();
        let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap();
        line.trim().trim_end_matches(" kB").parse::<f64>().unwrap() / 1024.0
    }

    /// Until no thread of it verifies any more; with how much CPU time, s.
    fn verified(&self) -> f64 {
        let begun = Instant::now();
        let mut used = 0;
        while begun.elapsed() < Duration::from_secs(600) {
            let Some(now) = self.verifying() else { break };
            used = now;
            std::thread::sleep(Duration::from_millis(20));
        }
        used as f64 / 1e9
    }

    /// CPU time of the thread that verifies, ns (`/proc/PID/task/TID/schedstat`).
    fn verifying(&self) -> Option<u64> {
        fs::read_dir(format!("/proc/{}/task", self.child.id())).unwrap().flatten().find_map(|thread| {
            let name = fs::read_to_string(thread.path().join("comm")).ok()?;
            let clock = fs::read_to_string(thread.path().join("schedstat")).ok()?;
            (name.trim() == "check").then(|| clock.split(' ').next()?.parse().ok())?
        })
    }

    fn waits_for(&self, word: &str, most: Duration) -> bool {
        let begun = Instant::now();
        while begun.elapsed() < most {
            if fs::read_to_string(&self.lines).unwrap().contains(word) {
                return true;
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        false
    }
}

impl Drop for Watching {
    fn drop(&mut self) {
        // Our own child, not collected yet: its PID is still its own.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
