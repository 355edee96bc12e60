//! The actuator on real processes.

use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use rustix::process::{Pid, Signal, kill_process};
use sophron_core::model::Needs;
use sophron_linux::Sampler;
use sophron_linux::act::{self, ActError, Ending, Grip, Only};
use sophron_linux::handle::Handle;
use sophron_testkit::{eventually, is_gone, is_suspended, nices, usual_nice};

/// A quiet process of this test's own, fixed by a handle.
struct Target {
    child: Child,
    handle: Handle,
}

impl Target {
    fn new() -> Target {
        let child = Command::new("sleep").arg("60").stdin(Stdio::null()).spawn().unwrap();
        let mut sampler = Sampler::new(Path::new("/proc"), Needs::NONE).unwrap();
        let handle = Handle::open(&sampler.again(child.id()).unwrap().id).unwrap();
        Target { child, handle }
    }
}

impl Drop for Target {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[test]
fn a_suspended_process_is_told_to_end_and_resumed_so_that_it_can() {
    let target = Target::new();
    kill_process(Pid::from_raw(target.child.id().cast_signed()).unwrap(), Signal::STOP).unwrap();
    eventually("suspended", || is_suspended(target.child.id()).then_some(()));
    assert!(matches!(act::terminate(&target.handle, None, &mut || true).unwrap(), Ending::Ended(_)));
    assert!(is_gone(target.child.id()));
}

#[test]
fn suspend_and_resume_are_seen_by_the_kernel() {
    let target = Target::new();
    assert!(act::suspend(&target.handle).unwrap().is_some());
    assert!(is_suspended(target.child.id()));
    assert!(act::resume(&target.handle).unwrap().is_some());
    assert!(!is_suspended(target.child.id()));
}

#[test]
fn lowering_never_raises_and_restoring_leaves_what_somebody_else_has_set() {
    let target = Target::new();
    let originals = act::originals(&target.handle, Only::Both).unwrap();
    let lowering = act::lower(&target.handle, originals.was.max(0) + 5, Only::Both).unwrap();
    assert!(lowering.complete && lowering.changed == 1);
    let set = originals.was.max(0) + 5;
    assert_eq!(act::lower(&target.handle, set - 3, Only::Both).unwrap().changed, 0, "it is lower than that already");
    assert_eq!(nices(target.child.id()), [set]);
    // Somebody else sets another value: not ours to put back.
    act::lower(&target.handle, set + 2, Only::Both).unwrap();
    let restoring = act::restore(&target.handle, set, &originals, None).unwrap();
    assert_eq!((restoring.restored, restoring.superseded), (0, 1));
    assert_eq!(nices(target.child.id()), [set + 2]);
}

#[test]
fn what_has_ended_is_gone_for_every_act() {
    let mut target = Target::new();
    target.child.kill().unwrap();
    target.handle.wait_for_end(Duration::from_secs(20)).unwrap();
    assert!(matches!(act::lower(&target.handle, 19, Only::Both), Err(ActError::Gone)));
    target.child.wait().unwrap();
    assert!(matches!(act::suspend(&target.handle), Err(ActError::Gone)));
    assert!(matches!(act::terminate(&target.handle, None, &mut || true), Err(ActError::Gone)));
}

/// A thread's number that is another's by now: setting takes numbers alone, and who has it is left as he was.
#[test]
fn a_threads_number_that_is_anothers_is_nobody() {
    let (target, stranger) = (Target::new(), Target::new());
    let (before, own) = (nices(stranger.child.id()), usual_nice());
    let nice = (own + 3).min(19);
    let refused = Grip::set_nice(&target.handle, stranger.child.id(), nice).unwrap_err();
    assert_eq!(refused.raw_os_error(), Some(libc::ESRCH));
    let refused = Grip::set_io_priority(&target.handle, stranger.child.id(), 3 << 13).unwrap_err();
    assert_eq!((refused.raw_os_error(), nices(stranger.child.id())), (Some(libc::ESRCH), before));
    Grip::set_nice(&target.handle, target.child.id(), nice).unwrap();
    assert_eq!(nices(target.child.id()), [nice]);
}
