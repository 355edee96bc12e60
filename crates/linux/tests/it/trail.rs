//! The trail on disk: several writers, replaced files, space kept.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;

use sophron_core::act::Act;
use sophron_core::audit::{Draft, Filter, Kind, Who};
use sophron_core::command_lines::CommandLines;
use sophron_core::happening::{Happening, Scribe, What};
use sophron_linux::here;
use sophron_linux::trail::{self, Append, Keeping, TrailError, TrailFile};

fn draft() -> Draft {
    let who = Who { uid: 0, user: "root".to_owned(), login_uid: None, by: None };
    Draft::new(here::now().wall, Kind::Alert, "mossgate-desk-03", "00000000000000000000000000000007", who)
}

fn open(state: &Path) -> TrailFile {
    TrailFile::open(state, draft(), Keeping::default()).unwrap()
}

#[test]
fn writers_in_turn_never_break_the_chain() {
    let state = tempfile::tempdir().unwrap();
    std::thread::scope(|scope| {
        for _ in 0..4 {
            scope.spawn(|| {
                let mut trail = open(state.path());
                for _ in 0..25 {
                    trail.append(&[draft(), draft()]).unwrap();
                }
            });
        }
    });
    let verified = trail::read(state.path(), None, None).unwrap().unwrap().verify();
    assert_eq!((verified.fault, verified.records.len()), (None, 2 + 4 * 25 * 2));
}

#[test]
fn files_are_the_owners_alone_and_space_is_kept_behind_the_last_record() {
    let state = tempfile::tempdir().unwrap();
    open(state.path()).append(&[draft()]).unwrap();
    let file = fs::metadata(trail::folder(state.path()).join(trail::name(1))).unwrap();
    assert_eq!(file.permissions().mode() & 0o777, 0o600);
    assert_eq!(fs::metadata(state.path().join("audit")).unwrap().permissions().mode() & 0o777, 0o700);
    assert!(file.len() < 4096);
    // A file system that cannot reserve shows the bare file.
    let kept = file.blocks() * 512;
    assert!(kept >= 4 << 20 || kept <= 64 << 10, "{kept}");
    // A file that is followed by another gives its space back.
    let keeping = Keeping { piece: 8 << 10, ..Keeping::default() };
    let mut trail = TrailFile::open(state.path(), draft(), keeping).unwrap();
    while fs::metadata(trail::folder(state.path()).join(trail::name(2))).is_err() {
        trail.append(&[draft(), draft()]).unwrap();
    }
    let first = fs::metadata(trail::folder(state.path()).join(trail::name(1))).unwrap();
    assert!(first.blocks() * 512 <= first.len() + (64 << 10), "{} blocks for {} bytes", first.blocks(), first.len());
}

#[test]
fn a_lock_that_is_not_released_fails_closed() {
    let state = tempfile::tempdir().unwrap();
    let mut trail = open(state.path());
    trail.append(&[draft()]).unwrap();
    let lock = fs::File::open(state.path().join("audit/lock")).unwrap();
    rustix::fs::flock(&lock, rustix::fs::FlockOperation::LockExclusive).unwrap();
    assert!(matches!(trail.append(&[draft()]), Err(TrailError::Locked(_))));
    drop(lock);
    trail.append(&[draft()]).unwrap();
    assert_eq!(trail::read(state.path(), None, None).unwrap().unwrap().verify().records.len(), 4);
}

/// Of a span of time only the files of that time are read, and of later ones what was recorded while the clock was behind.
#[test]
fn a_span_is_read_without_the_files_around_it() {
    let state = tempfile::tempdir().unwrap();
    let keeping = Keeping { piece: 4 << 10, ..Keeping::default() };
    let mut trail = TrailFile::open(state.path(), draft(), keeping).unwrap();
    let begun = here::now().wall;
    let at = |second: i64| begun + jiff::SignedDuration::from_secs(second);
    // An hour is counted, and then the clock is set back by half of it.
    let seconds = || (1..=60).chain(30..=60).map(|minute| minute * 60);
    for second in seconds() {
        trail.append(&[Draft { at: at(second), ..draft() }]).unwrap();
    }
    assert!(trail::files(state.path()).unwrap().len() > 5);
    let (since, until) = (at(20 * 60), at(40 * 60));
    let asked = Filter { since: Some(since), until: Some(until), ..Filter::default() };
    let read = trail::read(state.path(), Some(since), Some(until)).unwrap().unwrap();
    let picked: Vec<_> = read.bytes.iter().flat_map(|bytes| asked.pick(bytes, false)).map(|record| record.at).collect();
    let within: Vec<_> = seconds().map(at).filter(|at| (since..=until).contains(at)).collect();
    assert_eq!(picked, within);
    let whole = trail::read(state.path(), None, None).unwrap().unwrap();
    let bytes = |files: &trail::Files| files.bytes.iter().map(Vec::len).sum::<usize>();
    assert!(bytes(&read) * 4 < bytes(&whole) * 3, "{} of {}", bytes(&read), bytes(&whole));
}

/// What of a command line goes into the record is a setting; what is shown is masked all the same.
#[test]
fn command_lines_are_masked_whole_or_left_out() {
    let mut child =
        std::process::Command::new("sh").args(["-c", "sleep 60; :", "--password", "hunter2"]).spawn().unwrap();
    let needs = sophron_core::model::Needs::PERIODIC;
    let mut sampler = sophron_linux::Sampler::new(Path::new("/proc"), needs).unwrap().with_unmasked(true);
    // Between fork and exec it still has our own command line.
    let subject = loop {
        let process = sampler.again(child.id()).unwrap();
        if process.command.as_deref().is_some_and(|command| command.contains("sleep 60")) {
            break process;
        }
    };
    assert!(!subject.command.as_deref().unwrap().contains("hunter2"));
    let what = What::Announced(Box::new(Act::Resume), Box::default());
    let happening = Happening::about(here::now().wall, &subject, what);
    for (way, has_command, has_secret) in
        [(CommandLines::Masked, true, false), (CommandLines::Full, true, true), (CommandLines::PathOnly, false, false)]
    {
        let boot = here::boot(Path::new("/proc")).unwrap();
        let scribe = Scribe {
            host: "mossgate-desk-03".to_owned(),
            boot,
            who: draft().who,
            zone: jiff::tz::TimeZone::UTC,
            command_lines: way,
        };
        let text = serde_json::to_string(&scribe.record(&happening).unwrap()).unwrap();
        assert_eq!((text.contains("sleep 60"), text.contains("hunter2")), (has_command, has_secret), "{way:?}: {text}");
    }
    child.kill().unwrap();
    child.wait().unwrap();
}

/// The clock of the test below.
static CLOCK: std::sync::Mutex<(i64, u64)> = std::sync::Mutex::new((0, 0));

fn by_hand() -> sophron_core::model::Moment {
    let (day, seconds) = *CLOCK.lock().unwrap();
    let wall = jiff::Timestamp::from_second(1_795_505_400 + day * 86_400).unwrap();
    let boottime = std::time::Duration::from_secs(seconds);
    sophron_core::model::Moment { wall, monotonic: boottime, boottime }
}

/// A clock that runs 500 days ahead takes nothing with it; for their age files go one an hour.
#[test]
fn a_clock_that_runs_ahead_removes_nothing() {
    let state = tempfile::tempdir().unwrap();
    let path = trail::folder(state.path());
    let keeping = Keeping { piece: 2000, ..Keeping::default() };
    let writer = || {
        let disk = trail::Disk::open(&path, None, false).unwrap();
        trail::Writer::with_clock(disk, path.clone(), draft(), keeping, by_hand)
    };
    let files = || trail::files(state.path()).unwrap().len();
    *CLOCK.lock().unwrap() = (0, 1000);
    let mut trail = writer();
    let alert = || Draft { at: by_hand().wall, ..draft() };
    for _ in 0..20 {
        trail.append(&[alert()]).unwrap();
    }
    let before = files();
    assert!(before > 4, "{before}");
    let mut day = 0;
    let mut pass = |seconds: u64, days: i64| {
        let mut clock = CLOCK.lock().unwrap();
        day += days;
        *clock = (day, clock.1 + seconds);
    };
    pass(10, 500);
    for _ in 0..20 {
        trail.append(&[alert()]).unwrap();
    }
    assert!(files() > before, "nothing is removed: {} of {before}", files());
    // A writer that begins with such a clock has only its word, and takes one file an hour at the most.
    let mut trail = writer();
    let first = |files: Vec<std::path::PathBuf>| files[0].file_name().unwrap().to_owned();
    let oldest = || first(trail::files(state.path()).unwrap());
    for (hour, expected) in [(0, "000001.jsonl"), (1, "000002.jsonl"), (2, "000003.jsonl")] {
        for _ in 0..20 {
            trail.append(&[alert()]).unwrap();
        }
        assert_eq!(oldest(), expected, "in hour {hour}");
        pass(3600, 0);
    }
    let checked = trail::walk(state.path(), |_| {}).unwrap();
    assert_eq!(checked.fault, None);
}

/// A start reads the last file only: it knows what is in force, whatever the older ones are worth.
#[test]
fn the_last_file_tells_what_is_in_force() {
    let state = tempfile::tempdir().unwrap();
    let keeping = Keeping { piece: 20_000, ..Keeping::default() };
    let mut trail = TrailFile::open(state.path(), draft(), keeping).unwrap();
    let mut lowering = Draft { kind: Kind::Intent, rule: Some("held".to_owned()), case: Some(7), ..draft() };
    lowering.subject = Some((&sophron_testkit::process(51907, "labelpress")).into());
    let originals = Some(sophron_core::act::Originals::default());
    lowering.action = Some(sophron_core::audit::ActionRecord {
        nice: Some(15),
        originals,
        step: Some(1),
        ..sophron_core::audit::ActionRecord::word(sophron_core::audit::Verb::Lower)
    });
    trail.append(&[lowering]).unwrap();
    while trail::files(state.path()).unwrap().len() < 4 {
        trail.append(&vec![draft(); 20]).unwrap();
    }
    let paths = trail::files(state.path()).unwrap();
    fs::write(&paths[0], "spoiled\n").unwrap();
    let mut seen = 0;
    let latest = trail::latest(state.path(), |_| seen += 1).unwrap().unwrap();
    assert_eq!((latest.fault, latest.in_force.highest_case), (None, 7));
    assert_eq!(latest.in_force.holds().map(|hold| hold.nice).collect::<Vec<_>>(), [15]);
    assert_eq!(latest.in_force.acts().count(), 1);
    assert!(seen < 80, "{seen} records were read");
    let found = trail::walk(state.path(), |_| {}).unwrap().fault.unwrap();
    assert_eq!((found.file, found.line), (0, 1), "{}", found.what);
}
