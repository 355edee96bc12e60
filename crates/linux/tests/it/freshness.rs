//! What may change without a process running is seen in the tick that asks for it; what hangs its reader delays nobody.

use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

use rustix::process::{Pid, setpriority_process};
use sophron_core::model::{Cost, Needs, Reader, Snapshot};
use sophron_linux::{Demand, RiskyFiles, SLICES, Sampler};
use sophron_testkit::eventually;

struct Ended(Child);

impl Drop for Ended {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn sleeper() -> Ended {
    Ended(Command::new("sleep").arg("60").stdin(Stdio::null()).spawn().unwrap())
}

fn sampler(needs: Needs) -> (Sampler, Snapshot) {
    sampler_for_acts(needs, Needs::NONE)
}

fn sampler_for_acts(needs: Needs, for_acts: Needs) -> (Sampler, Snapshot) {
    let demand = Demand { unnamed: true, whole: false, for_acts };
    let mut sampler = Sampler::new(Path::new("/proc"), needs).unwrap().on_demand(demand);
    let mut snapshot = Snapshot::default();
    for _ in 0..3 {
        sampler.sample(&mut snapshot).unwrap();
    }
    (sampler, snapshot)
}

/// A sample in which that is asked for of one process.
fn ask(sampler: &mut Sampler, snapshot: &mut Snapshot, pid: u32, asked: Needs) {
    sampler.sample(snapshot).unwrap();
    let at = snapshot.processes.iter().position(|process| process.id.pid == pid).unwrap();
    sampler.read(&mut snapshot.processes[at], asked);
}

#[test]
fn a_niceness_set_from_outside_is_seen_in_the_tick_that_asks_for_it() {
    let target = sleeper();
    let pid = target.0.id();
    let (mut sampler, mut snapshot) = sampler(Needs::NONE.with(Cost::Stat));
    let asked = Needs::NONE.with(Cost::Stat);
    // In ten ticks everybody has been read.
    for _ in 0..SLICES {
        ask(&mut sampler, &mut snapshot, pid, asked);
    }
    for nice in [3, 5, 9] {
        setpriority_process(Pid::from_raw(pid.cast_signed()), nice).unwrap();
        ask(&mut sampler, &mut snapshot, pid, asked);
        assert_eq!(snapshot.process(pid).unwrap().nice, nice);
    }
}

/// Sixteen pages more of its memory are resident, without a moment of its own clock.
fn is_written_to(pid: u32) -> bool {
    // The lower pages of its stack have never been touched: writing to one makes it resident.
    let maps = std::fs::read_to_string(format!("/proc/{pid}/maps")).unwrap();
    let stack = maps.lines().find(|line| line.ends_with("[stack]")).unwrap();
    let start = u64::from_str_radix(stack.split('-').next().unwrap(), 16).unwrap();
    let Ok(memory) = std::fs::OpenOptions::new().write(true).open(format!("/proc/{pid}/mem")) else {
        eprintln!("skipped: this machine lets nobody write to another's memory");
        return false;
    };
    for page in 0..16 {
        std::os::unix::fs::FileExt::write_all_at(&memory, &[1], start + page * 4096).unwrap();
    }
    true
}

/// Of who rests `status` is read only where its size has changed.
#[test]
fn memory_written_from_outside_is_seen_within_ten_ticks() {
    let target = sleeper();
    let pid = target.0.id();
    let (mut sampler, mut snapshot) = sampler(Needs::NONE.with(Cost::Status));
    let held = |snapshot: &Snapshot| snapshot.process(pid).unwrap().memory_held.unwrap();
    for _ in 0..2 * SLICES {
        sampler.sample(&mut snapshot).unwrap();
    }
    let before = held(&snapshot);
    if is_written_to(pid) {
        for _ in 0..SLICES {
            sampler.sample(&mut snapshot).unwrap();
        }
        assert_eq!(snapshot.process(pid).unwrap().cpu, Some(0.0), "it has not run");
        assert!(held(&snapshot) >= before + 32 * 1024, "{before} {}", held(&snapshot));
    }
}

#[test]
fn memory_written_from_outside_is_seen_in_the_tick_that_asks_for_it() {
    let target = sleeper();
    let pid = target.0.id();
    let (mut sampler, mut snapshot) = sampler(Needs::NONE.with(Cost::Statm));
    let asked = Needs::NONE.with(Cost::Statm);
    for _ in 0..SLICES {
        ask(&mut sampler, &mut snapshot, pid, asked);
    }
    let before = snapshot.process(pid).unwrap().memory.unwrap();
    if !is_written_to(pid) {
        return;
    }
    ask(&mut sampler, &mut snapshot, pid, asked);
    let process = snapshot.process(pid).unwrap();
    assert_eq!(process.cpu, Some(0.0), "it has not run");
    assert!(process.memory.unwrap() >= before + 32 * 1024, "{before} {:?}", process.memory);
}

#[test]
fn a_move_to_another_unit_is_seen_in_the_tick_that_asks_for_it() {
    moved_and_asked(sampler(Needs::NONE.with(Cost::Cgroup)), "asked");
    // Also where it is asked for acts alone, and not in turn.
    let (needs, group) = (Needs::NONE.with(Cost::Stat).with(Cost::Cgroup), Needs::NONE.with(Cost::Cgroup));
    moved_and_asked(sampler_for_acts(needs, group), "acts");
}

fn moved_and_asked((mut sampler, mut snapshot): (Sampler, Snapshot), name: &str) {
    // The unified hierarchy, or the one that a service manager names.
    let roots = ["/sys/fs/cgroup", "/sys/fs/cgroup/unified", "/sys/fs/cgroup/systemd"];
    let root = roots.into_iter().find(|root| Path::new(root).join("cgroup.procs").exists());
    let group = root.map(|root| Path::new(root).join(format!("sophron-test-{name}-{}.scope", std::process::id())));
    let Some(group) = group.filter(|group| std::fs::create_dir(group).is_ok()) else {
        eprintln!("skipped: no control group can be made here");
        return;
    };
    let target = sleeper();
    let pid = target.0.id();
    let asked = Needs::NONE.with(Cost::Cgroup);
    for _ in 0..SLICES {
        ask(&mut sampler, &mut snapshot, pid, asked);
    }
    let moved = std::fs::write(group.join("cgroup.procs"), pid.to_string());
    ask(&mut sampler, &mut snapshot, pid, asked);
    let unit = snapshot.process(pid).unwrap().unit.clone();
    drop(target);
    eventually("the group is empty", || std::fs::remove_dir(&group).ok());
    if moved.is_ok() {
        assert!(unit.as_deref().is_some_and(|unit| unit.starts_with("sophron-test-")), "{unit:?}");
    }
}

#[test]
fn nothing_is_older_than_ten_ticks() {
    let target = sleeper();
    let (mut sampler, mut snapshot) = sampler(Needs::NONE.with(Cost::Stat));
    setpriority_process(Pid::from_raw(target.0.id().cast_signed()), 4).unwrap();
    for _ in 0..SLICES {
        sampler.sample(&mut snapshot).unwrap();
    }
    assert_eq!(snapshot.process(target.0.id()).unwrap().nice, 4);
}

#[test]
fn an_orphan_has_its_new_parent_in_the_tick_in_which_the_old_one_is_gone() {
    let mut parent =
        Command::new("sh").args(["-c", "sleep 60 & echo $!; wait"]).stdout(Stdio::piped()).spawn().unwrap();
    let mut line = String::new();
    BufReader::new(parent.stdout.take().unwrap()).read_line(&mut line).unwrap();
    let child: u32 = line.trim().parse().unwrap();
    let (mut sampler, mut snapshot) = sampler(Needs::NONE.with(Cost::Stat));
    assert_eq!(snapshot.process(child).unwrap().parent, parent.id());
    parent.kill().unwrap();
    parent.wait().unwrap();
    sampler.sample(&mut snapshot).unwrap();
    assert!(snapshot.process(parent.id()).is_none());
    assert_ne!(snapshot.process(child).unwrap().parent, parent.id());
    // Ours, though no longer our child.
    rustix::process::kill_process(Pid::from_raw(child.cast_signed()).unwrap(), rustix::process::Signal::KILL).unwrap();
}

#[test]
fn new_processes_are_found_between_two_listings_and_an_exec_is_noticed() {
    let (mut sampler, mut snapshot) = sampler(Needs::NONE.with(Cost::Stat).and(Needs::IDENTITY));
    let target =
        Ended(Command::new("sh").args(["-c", "read line; exec sleep 60"]).stdin(Stdio::piped()).spawn().unwrap());
    let pid = target.0.id();
    eventually("found", || {
        sampler.sample(&mut snapshot).unwrap();
        snapshot.process(pid).filter(|process| process.app != "freshness").map(|_| ())
    });
    let mut target = target;
    drop(target.0.stdin.take());
    eventually("its new program is seen", || {
        sampler.sample(&mut snapshot).unwrap();
        snapshot.process(pid).filter(|process| process.name == "sleep" && process.app != "sh").map(|_| ())
    });
}

/// A layer below in which one process hangs whoever reads its memory files.
#[derive(Debug)]
struct Trap(u32);

impl RiskyFiles for Trap {
    fn read(&self, pid: u32, file: &str) -> std::io::Result<Vec<u8>> {
        if pid == self.0 {
            std::thread::sleep(Duration::from_secs(3600));
        }
        std::fs::read(PathBuf::from(format!("/proc/{pid}/{file}")))
    }
}

#[test]
fn a_target_that_hangs_its_reader_delays_nobody_and_is_unknown() {
    let (stuck, well) = (sleeper(), sleeper());
    let mut sampler = Sampler::with_files(Path::new("/proc"), Needs::PERIODIC, Arc::new(Trap(stuck.0.id()))).unwrap();
    let mut snapshot = Snapshot::default();
    let began = Instant::now();
    for _ in 0..5 {
        sampler.sample(&mut snapshot).unwrap();
    }
    // It would hang for an hour.
    assert!(began.elapsed() < Duration::from_secs(60), "{:?}", began.elapsed());
    assert_eq!(snapshot.process(stuck.0.id()).unwrap().command, None);
    assert_eq!(snapshot.process(well.0.id()).unwrap().command.as_deref(), Some("sleep 60"));
    assert!(sampler.stuck().iter().any(|id| id.pid == stuck.0.id()));
}

/// A layer below in which readings of one process take long, as on a machine short of CPU: the reader wants a core all the
/// while. A first reading may also hang, until it is let go.
#[derive(Debug)]
struct Slow {
    pid: u32,
    hangs: std::sync::Mutex<Option<std::sync::mpsc::Receiver<()>>>,
}

impl RiskyFiles for Slow {
    fn read(&self, pid: u32, file: &str) -> std::io::Result<Vec<u8>> {
        if pid == self.pid {
            let hangs = self.hangs.lock().unwrap().take();
            let began = Instant::now();
            match hangs {
                Some(until) => drop(until.recv()),
                None => while began.elapsed() < Duration::from_millis(120) {},
            }
        }
        std::fs::read(PathBuf::from(format!("/proc/{pid}/{file}")))
    }
}

/// A script is never taken for its interpreter: late, its name is waited for; where the reader hangs it is unknown, protected
/// and of no app until it is read.
#[test]
fn late_is_not_unreadable_and_unreadable_is_not_another_program() {
    let folder = tempfile::tempdir().unwrap();
    let script = folder.path().join("precious.sh");
    std::fs::write(&script, "while :; do sleep 1; done\n").unwrap();
    let target = Ended(Command::new("sh").arg(&script).stdin(Stdio::null()).spawn().unwrap());
    let pid = target.0.id();
    eventually("it runs the script", || {
        std::fs::read(format!("/proc/{pid}/cmdline")).ok().filter(|line| line.ends_with(b"precious.sh\0"))
    });
    for hangs in [false, true] {
        let (let_go, until) = std::sync::mpsc::channel();
        let slow = Slow { pid, hangs: std::sync::Mutex::new(hangs.then_some(until)) };
        let mut sampler = Sampler::with_files(Path::new("/proc"), Needs::PERIODIC, Arc::new(slow)).unwrap();
        let mut snapshot = Snapshot::default();
        sampler.sample(&mut snapshot).unwrap();
        if hangs {
            for _ in 0..2 {
                let process = snapshot.process(pid).unwrap();
                assert!(process.app_unread() && process.app != "precious.sh", "{process:?}");
                let facts = sophron_core::facts::Facts::new(process, &snapshot.machine);
                assert_eq!(facts.text(sophron_core::model::Field::App), None);
                sampler.sample(&mut snapshot).unwrap();
            }
            let_go.send(()).unwrap();
            eventually("read at a later tick", || {
                sampler.sample(&mut snapshot).unwrap();
                snapshot.process(pid).filter(|process| !process.app_unread()).map(|_| ())
            });
        }
        let process = snapshot.process(pid).unwrap();
        assert!(!process.app_unread() && process.app == "precious.sh", "hangs: {hangs}: {process:?}");
    }
}
