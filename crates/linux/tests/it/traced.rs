//! A process that a debugger holds: it stands still for somebody else, and does not end at a polite word.

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

use sophron_core::model::Needs;
use sophron_linux::act::{self, Ending};
use sophron_linux::handle::Handle;
use sophron_linux::{Sampler, roles};
use sophron_testkit::{eventually, threads};

#[test]
fn a_traced_process_does_not_resume_and_ends_by_force_only() {
    let mut child = Command::new("sleep").arg("60").stdin(Stdio::null()).spawn().unwrap();
    let pid = child.id().cast_signed();
    // SAFETY: the requests take no memory of ours; the process is this test's own child.
    let seized = unsafe {
        libc::ptrace(libc::PTRACE_SEIZE, pid, 0, 0) == 0 && libc::ptrace(libc::PTRACE_INTERRUPT, pid, 0, 0) == 0
    };
    if !seized {
        child.kill().unwrap();
        child.wait().unwrap();
        eprintln!("skipped: tracing is not allowed here");
        return;
    }
    eventually("it is held", || threads(child.id()).iter().all(|thread| thread.state == 't').then_some(()));
    let mut sampler = Sampler::new(Path::new("/proc"), Needs::PERIODIC).unwrap();
    let handle = Handle::open(&sampler.again(child.id()).unwrap().id).unwrap();
    // Who traces another user's is not to be suspended or ended, since that would stand still for ever; his own are his own.
    let mut tracer = sampler.again(std::process::id()).unwrap();
    assert_eq!(roles::role(&tracer), None);
    tracer.uid += 1;
    assert_eq!(roles::role(&tracer), Some(format!("it traces process {pid}, which would stand still with it")));
    act::resume(&handle).unwrap();
    assert!(threads(child.id()).iter().all(|thread| thread.state == 't'), "the debugger holds it still");
    let ended = act::terminate(&handle, Some(Duration::from_millis(300)), &mut || true).unwrap();
    assert!(matches!(ended, Ending::Forced(_)), "{ended:?}");
    child.wait().unwrap();
}
