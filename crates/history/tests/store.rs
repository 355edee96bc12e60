//! The history on disk: what survives a kill, a full disk, a newer version, damage; who may read it, and how large it becomes.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::io::{BufRead, BufReader};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::Duration;

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use rusqlite::Connection;
use sophron_core::usage::{App, AppHour, Event, Happened, History, MachineHour, Row};
use sophron_history::{FILE, HistoryError, ProgramFile, Reader, Store};

/// What a copy of this test is to do, where it is started by one of its tests.
const DUTY: &str = "HISTORY_TEST_DUTY";
const FOLDER: &str = "HISTORY_TEST_FOLDER";

fn begin() -> Timestamp {
    "2026-10-12T07:00:00Z".parse().unwrap()
}

fn hour(number: i64, apps: u32, cpu: f64) -> Row {
    let start = begin() + SignedDuration::from_hours(number);
    let app = |id: u32| Arc::new(App { app: format!("labelpress-{id}"), owner: "ines".to_owned(), uid: 1001 });
    let of = AppHour {
        seconds: 3600.0,
        cpu,
        through: 2.0,
        held: 400e6,
        held_high: 410e6,
        read: 5e6,
        written: 1e6,
        most: 2,
        starts: 1,
    };
    let machine = MachineHour {
        seconds: 3600.0,
        cores: 4,
        memory: 8 << 30,
        cpu: f64::from(apps) * (cpu + 2.0) + 9.0,
        unseen: 9.0,
        available: Some(3e9),
        available_low: Some(2e9),
        waited: 60.0,
        files_full: Some(71.4),
        until: Some(start + SignedDuration::from_secs(3599)),
        ..MachineHour::default()
    };
    Row { start, machine, apps: (0..apps).map(|id| (app(id), of)).collect() }
}

fn read(folder: &Path) -> History {
    Reader::open(folder).unwrap().read(TimeZone::UTC, Timestamp::MIN, Timestamp::MAX).unwrap()
}

/// This very test once more, in a process of its own; any user may run it.
fn copy_of_this(folder: &Path) -> PathBuf {
    let copy = folder.join("copy-of-the-test");
    std::fs::copy(std::env::current_exe().unwrap(), &copy).unwrap();
    std::fs::set_permissions(&copy, std::fs::Permissions::from_mode(0o755)).unwrap();
    copy
}

fn on_duty(copy: &Path, duty: &str, folder: &Path) -> Command {
    let mut command = Command::new(copy);
    command.args(["--exact", "a_copy_does_its_duty", "--nocapture"]).env(DUTY, duty).env(FOLDER, folder);
    command
}

/// What copies of this test do; by itself nothing.
#[test]
fn a_copy_does_its_duty() {
    let (Ok(duty), Ok(folder)) = (std::env::var(DUTY), std::env::var(FOLDER)) else { return };
    let folder = PathBuf::from(folder);
    match duty.as_str() {
        // Writes hours until it is killed, and says each that is kept.
        "write" => {
            let group = std::env::var("HISTORY_TEST_GROUP").ok().and_then(|group| group.parse().ok());
            let mut store = Store::open(&folder, group, false).unwrap();
            for number in 0.. {
                store.keep(&[hour(number / 3, 40, (number % 3) as f64 * 100.0 + 100.0)]).unwrap();
                println!("kept {}", number / 3);
            }
        }
        // Reads what there is.
        "read" => {
            let history = read(&folder);
            let sound = history.rows.iter().all(|row| row.apps.len() == 40);
            println!("read {} {sound}", history.rows.len());
        }
        // Writes beyond what it may, and what it did before is there.
        "fill" => {
            let mut store = Store::open(&folder, None, false).unwrap();
            let mut kept = 0;
            let refused = loop {
                match store.keep(&[hour(kept, 200, 10.0)]) {
                    Ok(_) => kept += 1,
                    Err(error) => break error,
                }
            };
            assert!(kept > 2 && !refused.is_damaged(), "{kept}: {refused:?}");
            let again = store.keep(&[hour(kept, 200, 10.0)]);
            assert!(again.is_err(), "it is still full");
            println!("full {kept}");
        }
        other => panic!("{other}?"),
    }
}

/// Killed at a hundred moments, in the middle of whatever: what was kept is there, at once, also for a reader of another user.
#[test]
fn what_was_kept_is_there_after_a_kill() {
    let place = tempfile::tempdir().unwrap();
    std::fs::set_permissions(place.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let (folder, copy) = (place.path().join("usage"), copy_of_this(place.path()));
    let root = rustix::process::geteuid().is_root();
    let (reader, group) = (54_321, 54_322);
    if !root {
        println!("without root the reader is the same user");
    }
    let mut written = 0;
    for round in 0..100_u64 {
        let mut command = on_duty(&copy, "write", &folder);
        if root {
            command.env("HISTORY_TEST_GROUP", group.to_string());
        }
        let mut writer = command.stdout(Stdio::piped()).spawn().unwrap();
        let mut lines = BufReader::new(writer.stdout.take().unwrap()).lines();
        // Some commits, and then a moment between two of them or in one.
        let mut kept = None;
        for _ in 0..=round % 7 {
            kept = lines
                .by_ref()
                .map_while(Result::ok)
                .find_map(|line| line.strip_prefix("kept ").map(str::to_owned))
                .or(kept);
        }
        std::thread::sleep(Duration::from_micros(round * 37));
        writer.kill().unwrap();
        let kept: usize = kept.unwrap().parse().unwrap();
        written = written.max(kept + 1);
        let mut command = on_duty(&copy, "read", &folder);
        if root {
            command.uid(reader).gid(group);
        }
        let told = command.output().unwrap();
        let told = String::from_utf8_lossy(&told.stdout).into_owned() + &String::from_utf8_lossy(&told.stderr);
        let line = told.lines().find_map(|line| line.strip_prefix("read "));
        let (rows, sound) =
            line.and_then(|line| line.split_once(' ')).unwrap_or_else(|| panic!("round {round}: {told}"));
        assert!(rows.parse::<usize>().unwrap() >= written && sound == "true", "round {round}: {told}");
        writer.wait().unwrap();
    }
    // A clean end is read by the other user as well.
    Store::open(&folder, root.then_some(group), false).unwrap().close();
    let mut command = on_duty(&copy, "read", &folder);
    if root {
        command.uid(reader).gid(group);
    }
    let told = command.output().unwrap();
    assert!(String::from_utf8_lossy(&told.stdout).contains("read "), "{told:?}");
    assert!(!folder.join(format!("{FILE}-wal")).exists(), "one file");
    // Whoever is not of that group sees nothing.
    if root {
        let told = on_duty(&copy, "read", &folder).uid(reader).gid(reader).output().unwrap();
        assert!(!told.status.success());
    }
}

/// The disk is full: it says so, what was kept stays, and it goes on once there is room.
#[test]
fn a_full_disk_loses_nothing_that_was_kept() {
    let place = tempfile::tempdir().unwrap();
    let (folder, copy) = (place.path().join("usage"), copy_of_this(place.path()));
    // Files of at most 200 blocks of 1 KiB; that signal would end it.
    let script = "trap '' XFSZ; ulimit -f 200; exec \"$@\"";
    let duty = on_duty(&copy, "fill", &folder);
    let mut command = Command::new("bash");
    command
        .args(["-c", script, "fill"])
        .arg(duty.get_program())
        .args(duty.get_args())
        .env(DUTY, "fill")
        .env(FOLDER, &folder);
    let told = command.output().unwrap();
    let out = String::from_utf8_lossy(&told.stdout).into_owned();
    let kept = out.lines().find_map(|line| line.strip_prefix("full ")).unwrap_or_else(|| panic!("{told:?}"));
    let kept: usize = kept.parse().unwrap();
    assert_eq!(read(&folder).rows.len(), kept);
    // Too full to be made at all: nothing is left that would be taken for damaged.
    let other = place.path().join("other");
    let mut command = Command::new("bash");
    let script = "trap '' XFSZ; ulimit -f 8; exec \"$@\"";
    command.args(["-c", script, "fill"]).arg(duty.get_program()).args(duty.get_args());
    let told = command.env(DUTY, "fill").env(FOLDER, &other).output().unwrap();
    assert!(!told.status.success(), "{told:?}");
    assert!(Reader::open(&other).unwrap_err().is_missing());
    let mut store = Store::open(&folder, None, false).unwrap();
    store.keep(&[hour(kept as i64, 200, 10.0)]).unwrap();
    store.close();
    assert_eq!(read(&folder).rows.len(), kept + 1);
}

#[test]
fn what_is_newer_foreign_or_damaged_is_told_apart() {
    let place = tempfile::tempdir().unwrap();
    let folder = place.path().join("usage");
    assert!(Reader::open(&folder).unwrap_err().is_missing());
    let mut store = Store::open(&folder, None, false).unwrap();
    store.keep(&[hour(0, 3, 5.0)]).unwrap();
    store.close();
    let file = folder.join(FILE);
    assert_eq!(file.metadata().unwrap().permissions().mode() & 0o777, 0o600);
    // A newer version: refused with a word, and left as it is.
    let set = |what: &str| Connection::open(&file).unwrap().execute_batch(what).unwrap();
    set("PRAGMA user_version = 2");
    let before = std::fs::read(&file).unwrap();
    assert!(matches!(Reader::open(&folder), Err(HistoryError::Newer { found: 2, .. })));
    assert!(matches!(Store::open(&folder, None, false), Err(HistoryError::Newer { found: 2, .. })));
    assert_eq!(std::fs::read(&file).unwrap(), before);
    // Damaged: set aside, and begun anew.
    set("PRAGMA user_version = 1");
    std::fs::write(&file, [b"SQLite format 3\0".as_slice(), &[0xff; 8000]].concat()).unwrap();
    assert!(Reader::open(&folder).unwrap_err().is_damaged());
    let mut store = Store::open(&folder, None, false).unwrap();
    let aside = store.set_aside().unwrap().to_owned();
    assert!(aside.exists());
    store.keep(&[hour(5, 3, 5.0)]).unwrap();
    store.close();
    assert_eq!(read(&folder).rows.len(), 1);
    // Somebody's own database is none of ours.
    std::fs::remove_file(&file).unwrap();
    Connection::open(&file).unwrap().execute_batch("CREATE TABLE notes (words)").unwrap();
    assert!(Reader::open(&folder).unwrap_err().is_damaged());
    // A link is not followed.
    std::fs::remove_file(&file).unwrap();
    std::os::unix::fs::symlink(&aside, &file).unwrap();
    assert!(Reader::open(&folder).is_err() && Store::open(&folder, None, false).is_err());
}

/// Whole hours take the place of what was there of them; what happened, and what a program runs, is told once.
#[test]
fn what_is_written_is_what_is_read() {
    let place = tempfile::tempdir().unwrap();
    let folder = place.path().join("usage");
    let mut store = Store::open(&folder, None, false).unwrap();
    let added = store.keep(&[hour(0, 3, 5.0), hour(1, 2, 7.0)]).unwrap();
    assert_eq!(added.len(), 3);
    assert_eq!(store.keep(&[hour(1, 4, 9.0)]).unwrap().len(), 1);
    assert_eq!(store.until().unwrap(), Some(begin() + SignedDuration::from_secs(7199)));
    let old = ProgramFile { path: "/opt/mossgate/notepatch".to_owned(), size: 100, changed: 5 };
    let new = ProgramFile { size: 120, changed: 9, ..old.clone() };
    let runs = |store: &mut Store, file| store.runs("notepatch", "ines", file, begin()).unwrap();
    assert_eq!(
        [runs(&mut store, &old), runs(&mut store, &old), runs(&mut store, &new), runs(&mut store, &new)],
        [None, None, Some(old.clone()), None]
    );
    assert_eq!(store.learn("kernel", "6.12.38").unwrap(), None);
    assert_eq!(store.learn("kernel", "6.12.41").unwrap(), Some("6.12.38".to_owned()));
    let words = "the rules became others\u{202e}".to_owned();
    store.happened(&Happened { at: begin(), event: Event::Rules, app: String::new(), words }).unwrap();
    // Also while it is written.
    let history = read(&folder);
    assert_eq!(history.rows.iter().map(|row| row.apps.len()).collect::<Vec<_>>(), [3, 4]);
    let (written, found) = (hour(1, 4, 9.0), &history.rows[1]);
    let near = |a: f64, b: f64| (a - b).abs() <= 1024.0;
    for ((_, a), (_, b)) in found.apps.iter().zip(&written.apps) {
        assert!(
            a.cpu == b.cpu && a.through == b.through && near(a.held, b.held) && near(a.read, b.read),
            "{a:?} {b:?}"
        );
    }
    assert_eq!(
        (found.machine.cpu, found.machine.waited, found.machine.files_full),
        (written.machine.cpu, 60.0, Some(71.4))
    );
    assert_eq!(history.happened[0].words, "the rules became others\\u{202e}");
    store.close();
}

/// Whoever makes up names every hour has a few hundred kept on a day; the rest of what he uses is his others', and nothing is lost.
#[test]
fn made_up_names_do_not_fill_it() {
    let place = tempfile::tempdir().unwrap();
    let folder = place.path().join("usage");
    let mut store = Store::open(&folder, None, false).unwrap();
    let mut all = 0.0;
    for number in 0..20 {
        let mut row = hour(number % 24, 120, 3.0);
        for (place, (app, _)) in row.apps.iter_mut().enumerate() {
            *app = Arc::new(App { app: format!("made-up-{number}-{place}"), ..App::clone(app) });
        }
        let own = App { app: "seedstore".to_owned(), owner: "root".to_owned(), uid: 0 };
        row.apps.push((Arc::new(own), row.apps[0].1));
        all += row.apps.iter().map(|(_, hour)| hour.accounted()).sum::<f64>();
        store.keep(&[row]).unwrap();
        let of_a_day = Happened { at: begin(), event: Event::NewApp, app: String::new(), words: format!("{number}") };
        (0..10).for_each(|_| store.happened(&of_a_day).unwrap());
    }
    store.close();
    let history = read(&folder);
    let names: std::collections::BTreeSet<&str> =
        history.rows.iter().flat_map(|row| &row.apps).map(|(app, _)| app.app.as_str()).collect();
    // Twenty hours from seven in the morning on are two days.
    assert!((200..=2 * 200 + 2).contains(&names.len()) && names.contains("(others)"), "{}", names.len());
    assert!(history.rows.iter().all(|row| row.apps.iter().any(|(app, _)| app.app == "seedstore")));
    let kept: f64 = history.rows.iter().flat_map(|row| &row.apps).map(|(_, hour)| hour.accounted()).sum();
    assert!((kept - all).abs() < 0.1, "{kept} {all}");
    assert_eq!(history.happened.len(), 40);
}

/// What is too old goes, and the oldest where it is too large; the last day stays.
#[test]
fn it_stays_within_its_limits() {
    let place = tempfile::tempdir().unwrap();
    let folder = place.path().join("usage");
    let mut store = Store::open(&folder, None, false).unwrap();
    let days = 40;
    for day in 0..days {
        let rows: Vec<Row> = (0..24).map(|at| hour(day * 24 + at, 60, 5.0)).collect();
        store.keep(&rows).unwrap();
    }
    let now = begin() + SignedDuration::from_hours(days * 24);
    let day = Duration::from_secs(86_400);
    store.prune(30 * day, 1 << 30, now).unwrap();
    assert_eq!(read(&folder).rows.len(), 30 * 24);
    let size = |store: &mut Store, most: u64| {
        store.prune(400 * day, most, now).unwrap();
        read(&folder).rows.len()
    };
    let left = size(&mut store, 1 << 19);
    assert!((24..20 * 24).contains(&left), "{left}");
    assert!(size(&mut store, 4096) >= 24, "the last day stays");
    store.close();
    assert!(folder.join(FILE).metadata().unwrap().len() < 1 << 20);
}
