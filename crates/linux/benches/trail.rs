//! What the record costs, each against a floor measured in the same run.
//!
//! `cargo bench -p sophron-linux --bench trail`. Goals: a synced append with its lock 1.2 times a bare write and fdatasync
//! of as many bytes; verifying 2 times SHA-256 over the same bytes; a filter 0.6 times parsing each line into a JSON value.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::hint::black_box;
use std::io::Write;
use std::os::fd::AsFd;
use std::time::Instant;

use sha2::{Digest, Sha256};
use sophron_core::audit::{
    ActionRecord, Draft, Evidence, Filter, Kind, Link, ResultRecord, SubjectRecord, Who, verify,
};
use sophron_linux::here;
use sophron_linux::trail::{Append, Keeping, TrailFile};
use sophron_testkit::process;

fn draft(number: u64) -> Draft {
    let apps = ["labelpress", "sheetlamp", "tilebaker", "kioskview"];
    let who = Who { uid: 0, user: "root".to_owned(), login_uid: Some(1001), by: None };
    let at = here::now().wall;
    let points = (0..8).map(|point| (at, serde_json::json!(800_000_000_u64 + point * 1_000_000))).collect();
    Draft {
        case: Some(number / 6),
        rule: Some("press-leak".to_owned()),
        subject: Some(SubjectRecord::from(&process(1000 + number as u32 % 30_000, apps[number as usize % 4]))),
        evidence: Some(Evidence {
            severity: "warning".into(),
            breach: "memory.held > 750 MiB".to_owned(),
            field: Some("memory.held".to_owned()),
            reads_as: Some("size".into()),
            reading: 851_443_712_u64.into(),
            limit: 786_432_000_u64.into(),
            words: "memory.held 812 MiB, limit 750 MiB".to_owned(),
            disk: None,
            points,
        }),
        action: Some(ActionRecord::word(sophron_core::audit::Verb::Suspend)),
        result: Some(ResultRecord { outcome: "suspended".into(), seen: "every thread".to_owned(), took: Some(0.2) }),
        ..Draft::new(at, Kind::Outcome, "mossgate-desk-03", "00000000000000000000000000000007", who)
    }
}

fn median(mut times: Vec<f64>) -> f64 {
    times.sort_by(f64::total_cmp);
    times[times.len() / 2]
}

fn verdict(met: bool) -> &'static str {
    if met { "met" } else { "MISSED" }
}

fn seconds(work: impl FnOnce()) -> f64 {
    let begun = Instant::now();
    work();
    begun.elapsed().as_secs_f64()
}

fn append() {
    // On a disk, where syncing means something.
    let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap();
    let mut trail = TrailFile::open(folder.path(), draft(0), Keeping::default()).unwrap();
    trail.append(&[draft(0)]).unwrap();
    let length = Link::default().seal(&draft(1)).unwrap().len();
    let bytes = vec![b'x'; length];
    let mut bare = std::fs::File::create(folder.path().join("bare")).unwrap();
    rustix::fs::fallocate(&bare, rustix::fs::FallocateFlags::KEEP_SIZE, 0, 4 << 20).unwrap();
    let (mut ours, mut floor) = (Vec::new(), Vec::new());
    for number in 0..400 {
        let one = draft(number);
        ours.push(seconds(|| trail.append(&[one]).unwrap()));
        floor.push(seconds(|| {
            bare.write_all(&bytes).unwrap();
            rustix::fs::fdatasync(bare.as_fd()).unwrap();
        }));
    }
    let (ours, floor) = (median(ours), median(floor));
    println!("append of {length} bytes: {:.0} µs, bare {:.0} µs", ours * 1e6, floor * 1e6);
    println!("  {:.2} (goal 1.2, {})", ours / floor, verdict(ours / floor <= 1.2));
}

fn reading() {
    let mut link = Link::default();
    let lines: Vec<String> = (0..20_000).map(|number| link.seal(&draft(number)).unwrap()).collect();
    let bytes = lines.concat().into_bytes();
    let filter = Filter { app: Some("sheetlamp".to_owned()), ..Filter::default() };
    let (mut verified, mut hashed, mut filtered, mut parsed) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for _ in 0..7 {
        verified.push(seconds(|| assert!(black_box(sophron_core::audit::check(&bytes)).is_none())));
        hashed.push(seconds(|| {
            black_box(Sha256::digest(&bytes));
        }));
        filtered.push(seconds(|| {
            black_box(filter.pick(&bytes, false));
        }));
        parsed.push(seconds(|| {
            for line in bytes.split(|byte| *byte == b'\n').filter(|line| !line.is_empty()) {
                black_box(serde_json::from_slice::<serde_json::Value>(line).unwrap());
            }
        }));
    }
    let (verified, hashed) = (median(verified), median(hashed));
    let (filtered, parsed) = (median(filtered), median(parsed));
    let mib = bytes.len() as f64 / 1_048_576.0;
    println!("verifying {mib:.0} MiB: {:.0} ms, SHA-256 alone {:.0} ms", verified * 1e3, hashed * 1e3);
    println!("  {:.2} (goal 2, {})", verified / hashed, verdict(verified / hashed <= 2.0));
    let records = seconds(|| {
        black_box(verify(&bytes));
    });
    println!("  {:.2} with every record read as well", records / hashed);
    println!("a filter: {:.0} ms, parsing into values {:.0} ms", filtered * 1e3, parsed * 1e3);
    println!("  {:.2} (goal 0.6, {})", filtered / parsed, verdict(filtered / parsed <= 0.6));
}

fn main() {
    append();
    reading();
}
