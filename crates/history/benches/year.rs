//! A year of 200 apps that are all there every hour: how large it is, what a commit costs, and how long questions take, against a bare pass
//! over the same bytes in the same run.
//!
//! `cargo bench -p sophron-history --bench year`. Goals: a year within 80 MB; 30 days by app within 150 ms.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use rusqlite::{Connection, OpenFlags};
use sophron_core::usage::{App, AppHour, Asked, By, Group, MachineHour, Row, all_changes, view};
use sophron_history::{FILE, Reader, Store};

const APPS: usize = 200;
const DAYS: i64 = 366;
const TIMES: u32 = 5;

fn main() {
    let place = tempfile::tempdir().unwrap();
    let folder = place.path().join("usage");
    let begin: Timestamp = "2025-10-12T00:00:00Z".parse().unwrap();
    let end = begin + SignedDuration::from_hours(DAYS * 24);
    let apps: Vec<Arc<App>> = (0..APPS)
        .map(|id| Arc::new(App { app: format!("labelpress-{id}"), owner: "ines".to_owned(), uid: 1001 }))
        .collect();
    let mut random = 88_172_645_463_325_252_u64;
    let mut next = |most: u64| {
        random ^= random << 13;
        random ^= random >> 7;
        random ^= random << 17;
        (random % most) as f64
    };
    let mut store = Store::open(&folder, None, false).unwrap();
    for number in 0..DAYS * 24 {
        let start = begin + SignedDuration::from_hours(number);
        let mut of = |app: &Arc<App>| {
            let held = 40e6 + next(400_000_000);
            let hour = AppHour {
                seconds: 3600.0,
                cpu: next(1_800_000) / 1000.0,
                through: 0.0,
                held,
                held_high: held * 1.1,
                read: next(4_000_000_000),
                written: next(400_000_000),
                most: 3,
                starts: 1,
            };
            (Arc::clone(app), hour)
        };
        let row = Row {
            start,
            machine: MachineHour { seconds: 3600.0, cores: 4, memory: 8 << 30, ..MachineHour::default() },
            apps: apps.iter().map(&mut of).collect(),
        };
        store.keep(&[row]).unwrap();
    }
    // What a watcher does every five minutes: the hour under way, again and again.
    let row = store.hour(end - SignedDuration::from_hours(1)).unwrap().unwrap();
    let commit = timed(20, || {
        store.keep(std::slice::from_ref(&row)).unwrap();
    });
    store.close();
    let size = std::fs::metadata(folder.join(FILE)).unwrap().len() as f64 / 1e6;
    println!("{APPS} apps, {DAYS} days, all there every hour: {size:.1} MB (goal 80: {})", verdict(size <= 80.0));
    println!(
        "  a commit of {APPS} rows: {:.2} ms, which every 5 minutes is {:.5}% of a core",
        commit * 1e3,
        commit / 300.0 * 100.0
    );
    for days in [7, 30, 60] {
        ask(&folder, end, days);
    }
}

fn ask(folder: &Path, end: Timestamp, days: i64) {
    let since = end - SignedDuration::from_hours(days * 24);
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY;
    let floor = timed(TIMES, || {
        let connection = Connection::open_with_flags(folder.join(FILE), flags).unwrap();
        let sum: i64 = connection
            .query_row("SELECT sum(length(hex(apps))) FROM hour WHERE start >= ?1", [since.as_second()], |row| {
                row.get(0)
            })
            .unwrap();
        std::hint::black_box(sum);
    });
    let read = || Reader::open(folder).unwrap().read(TimeZone::UTC, since, end).unwrap();
    let of = |group: Group| {
        timed(TIMES, || {
            let asked = Asked { group, by: By::Cpu, of_some: false, limit: 15 };
            std::hint::black_box(view(&read(), asked, None));
        })
    };
    let (by_app, by_hour) = (of(Group::App), of(Group::Hour));
    let changes = timed(2, || {
        std::hint::black_box(all_changes(&read()));
    });
    let goal = if days == 30 { format!(" (goal 150 ms: {})", verdict(by_app <= 0.15)) } else { String::new() };
    println!(
        "  {days} days by app {:.0} ms{goal}, {:.1} of a bare pass over the bytes; by hour {:.0} ms; since when {:.0} ms",
        by_app * 1e3,
        by_app / floor,
        by_hour * 1e3,
        changes * 1e3
    );
}

/// Seconds, the least of several.
fn timed(times: u32, mut of: impl FnMut()) -> f64 {
    let mut least = Duration::MAX;
    for _ in 0..times {
        let begun = Instant::now();
        of();
        least = least.min(begun.elapsed());
    }
    least.as_secs_f64()
}

fn verdict(met: bool) -> &'static str {
    if met { "met" } else { "MISSED" }
}
