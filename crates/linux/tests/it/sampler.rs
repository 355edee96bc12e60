//! The sampler over a made-up /proc, and over the real one.

use std::fs;
use std::os::unix::fs::{PermissionsExt, chown};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

use sophron_core::model::{Needs, ProcessId};
use sophron_core::state::State;
use sophron_linux::Sampler;
use sophron_linux::handle::{Handle, HandleError};
use sophron_testkit::{Own, eventually, is_root};

fn write(root: &Path, file: &str, text: &str) {
    let path = root.join(file);
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(path, text).unwrap();
}

fn stat(pid: u32, name: &str, ticks: u64) -> String {
    format!("{pid} ({name}) S 1 {pid} {pid} 0 -1 4194304 0 0 0 0 {ticks} 0 0 0 20 5 3 0 900 0 0 0 1 1 0")
}

#[test]
fn any_proc_root_can_be_sampled() {
    let root = tempfile::tempdir().unwrap();
    let root = root.path();
    write(root, "sys/kernel/random/boot_id", "6f1a2b3c-0000-4000-8000-000000000001\n");
    write(
        root,
        "stat",
        "cpu  100 0 100 800 0 0 0 0 0 0\ncpu0 1 0 0 1\ncpu1 1 0 0 1\ncpu2 1 0 0 1\ncpu3 1 0 0 1\nintr 1\n",
    );
    write(root, "meminfo", "MemTotal: 8388608 kB\nMemAvailable: 4194304 kB\n");
    write(root, "51907/stat", &stat(51907, "labelpress", 100));
    write(root, "51907/statm", "9000 2000 100 1 0 400 0\n");
    write(root, "51907/status", "VmSize: 36000 kB\nVmRSS: 8000 kB\nRssAnon: 700 kB\nRssShmem: 50 kB\nVmSwap: 200 kB\n");
    write(root, "51907/cmdline", "labelpress\0--password=x\0");
    // Megabytes of a command line cost what its beginning does.
    write(root, "52000/stat", &stat(52000, "tilebaker", 1));
    write(root, "52000/cmdline", &format!("tilebaker\0{}", "x\0".repeat(1 << 20)));
    // A process that vanishes midway leaves a folder without files; so does one whose files may not be read.
    fs::create_dir(root.join("60000")).unwrap();
    write(root, "60001/stat", "60001 (cut");

    let mut sampler = Sampler::new(root, Needs::PERIODIC).unwrap();
    let first = sampler.look().unwrap();
    assert_eq!(
        (first.interval, first.processes.len(), first.processes[0].cpu),
        (None, 2, None),
        "the first only primes"
    );
    write(root, "51907/stat", &stat(51907, "labelpress", 150));
    write(root, "stat", "cpu  150 0 150 900 0 0 0 0 0 0\ncpu0 1 0 0 1\ncpu1 1 0 0 1\ncpu2 1 0 0 1\ncpu3 1 0 0 1\n");
    std::thread::sleep(Duration::from_millis(20));
    let second = sampler.look().unwrap();
    let process = second.process(51907).unwrap();
    assert!(process.cpu.is_some_and(|cpu| cpu > 100.0), "half a second of CPU in far less: {:?}", process.cpu);
    assert_eq!(
        (process.app.as_str(), process.nice, process.threads, process.state),
        ("labelpress", 5, 3, State::Sleeping)
    );
    assert_eq!((process.memory_held, process.memory_swapped), (Some(950 << 10), Some(200 << 10)));
    assert_eq!(process.command.as_deref(), Some("labelpress --password=***"));
    assert!(!process.app_proven() && process.path.is_none());
    assert!(second.process(52000).unwrap().command.as_ref().is_some_and(|command| command.len() < 4200));
    assert_eq!((second.machine.cores, second.machine.cpu), (4, Some(50.0)));
    assert_eq!(second.machine.memory_available, Some(4 << 30));
}

/// A path is proven where nobody else can put another file, also after that was replaced. One in a folder that others can
/// write proves nothing, nor one that was another's before it was removed.
#[test]
fn what_a_path_proves_hangs_on_who_can_change_what_stands_there() {
    let stage = tempfile::tempdir().unwrap();
    let started = |name: &str, mode: u32, uid: Option<u32>| {
        let folder = stage.path().join(name);
        fs::create_dir(&folder).unwrap();
        let program = folder.join("fernpanel");
        fs::copy("/bin/sleep", &program).unwrap();
        chown(&program, uid, uid).unwrap();
        fs::set_permissions(&folder, fs::Permissions::from_mode(mode)).unwrap();
        let child = Own(Command::new(&program).arg("60").stdin(Stdio::null()).spawn().unwrap());
        eventually("it runs", || (fs::read_link(format!("/proc/{}/exe", child.pid())).ok()? == program).then_some(()));
        (child, program)
    };
    let proven = |child: &Own| {
        let process = Sampler::new(Path::new("/proc"), Needs::PERIODIC).unwrap().again(child.pid()).unwrap();
        (process.app.clone(), process.path_proven(), process.app_proven(), process.replaced)
    };
    let panel = |is: bool, replaced: bool| ("fernpanel".to_owned(), is, is, replaced);
    let (safe, program) = started("safe", 0o755, None);
    let (open, _) = started("open", 0o777, None);
    assert_eq!((proven(&safe), proven(&open)), (panel(true, false), panel(false, false)));
    fs::remove_file(program).unwrap();
    assert_eq!(proven(&safe), panel(true, true));
    if !is_root() {
        return eprintln!("skipped in part: only root can give a file away");
    }
    let (others, program) = started("others", 0o755, Some(65534));
    fs::remove_file(program).unwrap();
    assert_eq!(proven(&others), panel(false, true));
}

#[test]
fn a_reused_pid_is_never_taken_for_the_process_meant() {
    let mut sampler = Sampler::new(Path::new("/proc"), Needs::PERIODIC).unwrap();
    let own = sampler.again(std::process::id()).unwrap();
    assert!(own.memory.is_some_and(|memory| memory > 1 << 20), "{own:?}");
    assert!(Handle::open(&own.id).is_ok());
    let another = ProcessId { start: own.id.start + 1, ..own.id };
    assert!(matches!(Handle::open(&another), Err(HandleError::Another { .. })));
    let mut child = Command::new("true").spawn().unwrap();
    let id = sampler.again(child.id()).map(|process| process.id);
    child.wait().unwrap();
    if let Some(id) = id {
        assert!(matches!(Handle::open(&id), Err(HandleError::Gone(_) | HandleError::Another { .. })));
    }
}
