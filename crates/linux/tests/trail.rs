//! The trail on disk: several writers, replaced files, space kept.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;

use sophron_core::audit::{Draft, Kind, Who};
use sophron_core::rules::CommandLines;
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
    let verified = trail::read(state.path(), None).unwrap().unwrap().verify();
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
    assert_eq!(trail::read(state.path(), None).unwrap().unwrap().verify().records.len(), 4);
}

/// What of a command line goes into the record is a setting; what is kept in memory is masked all the same.
#[test]
fn command_lines_are_masked_whole_or_left_out() {
    let mut child =
        std::process::Command::new("sh").args(["-c", "sleep 60; :", "--password", "hunter2"]).spawn().unwrap();
    let needs = sophron_core::model::Needs::PERIODIC;
    let mut sampler = sophron_linux::Sampler::new(Path::new("/proc"), needs).unwrap();
    // Between fork and exec it still has our own command line.
    let subject = loop {
        let process = sampler.again(child.id()).unwrap();
        if process.command.as_deref().is_some_and(|command| command.contains("sleep 60")) {
            break process;
        }
    };
    for (way, has_command, has_secret) in
        [(CommandLines::Masked, true, false), (CommandLines::Full, true, true), (CommandLines::PathOnly, false, false)]
    {
        let state = tempfile::tempdir().unwrap();
        let keeping = Keeping { command_lines: way, ..Keeping::default() };
        let boot = here::boot(Path::new("/proc")).unwrap().to_string();
        let about = Draft { boot, subject: Some((&subject).into()), ..draft() };
        TrailFile::open(state.path(), draft(), keeping).unwrap().append(&[about]).unwrap();
        let text = fs::read_to_string(trail::folder(state.path()).join(trail::name(1))).unwrap();
        assert_eq!((text.contains("sleep 60"), text.contains("hunter2")), (has_command, has_secret), "{way:?}: {text}");
    }
    child.kill().unwrap();
    child.wait().unwrap();
}
