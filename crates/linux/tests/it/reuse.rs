//! Two thousand times a process ends between the decision and the act, and another one gets its number: that one is never
//! touched. In a PID namespace of its own, where numbers can be chosen.

use std::fs;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use sophron_core::model::{Boot, ProcessId};
use sophron_linux::act::{self, ActError, Only};
use sophron_linux::handle::{Handle, HandleError};
use sophron_testkit::{is_root, threads, usual_nice};

const TIMES: u32 = 2000;
const INSIDE: &str = "SOPHRON_TEST_INSIDE";

#[test]
fn whoever_gets_the_number_later_is_never_touched() {
    if std::env::var_os(INSIDE).is_some() {
        return inside();
    }
    if !is_root() {
        eprintln!("skipped: only root can make a PID namespace and choose numbers in it");
        return;
    }
    let output = Command::new("unshare")
        .args(["--pid", "--fork", "--mount-proc", "--kill-child"])
        .arg(std::env::current_exe().unwrap())
        .args(["--exact", "reuse::whoever_gets_the_number_later_is_never_touched", "--nocapture"])
        .env(INSIDE, "1")
        .output();
    let Ok(output) = output else {
        eprintln!("skipped: this machine has no unshare");
        return;
    };
    let told = format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    if told.contains("Operation not permitted") {
        eprintln!("skipped: PID namespaces are not allowed here: {told}");
        return;
    }
    assert!(output.status.success(), "{told}");
    assert!(told.contains(&format!("{TIMES} numbers reused")), "{told}");
}

fn sleeper() -> Child {
    Command::new("sleep").arg("60").stdin(Stdio::null()).spawn().unwrap()
}

fn start_of(pid: u32) -> u64 {
    let line = fs::read(format!("/proc/{pid}/stat")).unwrap();
    sophron_linux::proc::stat::parse(&line).unwrap().start
}

/// Another process with exactly that number.
fn reused(pid: u32) -> Child {
    for _ in 0..50 {
        fs::write("/proc/sys/kernel/ns_last_pid", (pid - 1).to_string()).unwrap();
        let mut other = sleeper();
        if other.id() == pid {
            return other;
        }
        other.kill().unwrap();
        other.wait().unwrap();
    }
    panic!("the number {pid} is not to be had");
}

fn inside() {
    // What is started from here on has that niceness.
    let usual = usual_nice();
    let mut times = 0;
    while times < TIMES {
        let mut meant = sleeper();
        let id = ProcessId { pid: meant.id(), start: start_of(meant.id()), boot: Boot(1) };
        // Half are fixed when the decision is taken; of the others only who was meant is known.
        let handle = times.is_multiple_of(2).then(|| Handle::open(&id).unwrap());
        meant.kill().unwrap();
        meant.wait().unwrap();
        let mut victim = reused(id.pid);
        match handle {
            Some(handle) => {
                let gone = |error: Option<ActError>| assert!(matches!(error, Some(ActError::Gone)), "{error:?}");
                gone(act::lower(&handle, 19, Only::Both).err());
                gone(act::suspend(&handle).err());
                gone(act::terminate(&handle, Some(Duration::ZERO), &mut || true).err());
                gone(act::resume(&handle).err());
            }
            None if start_of(id.pid) == id.start => {
                // Within one clock tick the start time alone cannot tell: such a one has to be fixed before. Not counted.
                victim.kill().unwrap();
                victim.wait().unwrap();
                continue;
            }
            None => assert!(matches!(Handle::open(&id), Err(HandleError::Another { .. }))),
        }
        let seen = threads(id.pid);
        assert!(seen.len() == 1 && seen[0].nice == usual && matches!(seen[0].state, 'S' | 'R' | 'D'), "{seen:?}");
        assert!(matches!(victim.try_wait(), Ok(None)), "the wrong process was ended");
        victim.kill().unwrap();
        victim.wait().unwrap();
        times += 1;
    }
    println!("{times} numbers reused");
}
