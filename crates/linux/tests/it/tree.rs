//! Trees that fork away: who leaves the tree because his parent ends, in a session of his own, is caught with it.

use std::fs;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::Command;
use std::sync::Arc;
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process, kill_process_group};
use sophron_core::model::Needs;
use sophron_linux::Sampler;
use sophron_linux::act::{Ending, Lineage, Tree};
use sophron_linux::handle::Handle;
use sophron_testkit::{eventually, is_gone, threads};

/// Everybody whose command line has that mark.
fn marked(mark: &str) -> Vec<u32> {
    let entries = fs::read_dir("/proc").unwrap().flatten();
    let has = |pid: &u32| {
        fs::read(format!("/proc/{pid}/cmdline")).is_ok_and(|line| String::from_utf8_lossy(&line).contains(mark))
    };
    entries.filter_map(|entry| entry.file_name().to_str()?.parse().ok()).filter(has).collect()
}

/// Ends all of a test's own that are left, also where it fails.
struct EndsMarked<'m>(&'m str);

impl Drop for EndsMarked<'_> {
    fn drop(&mut self) {
        for pid in marked(self.0).into_iter().filter_map(|pid| Pid::from_raw(pid.cast_signed())) {
            let _ = kill_process(pid, Signal::KILL);
        }
    }
}

#[test]
fn who_leaves_the_tree_is_caught_with_it() {
    // Every 5 ms one more leaves: its parent ends at once, and it goes on in a session of its own, forking on.
    let script = "walk() { sleep 0.02; sleep 0.02; sleep 20; }; \
        for i in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20 21 22 23 24 25 26 27 28 29 30; do \
        (setsid sh -c 'sleep 0.02; sleep 0.02; sleep 20' \"$0\" &); sleep 0.005; done; sleep 20";
    for round in 0..10 {
        let mark = format!("stray-{}-{round}", std::process::id());
        let _ends = EndsMarked(&mark);
        let Some(lineage) = Lineage::listen() else {
            eprintln!("skipped: only root may listen to process events, and only outside of containers");
            return;
        };
        let mut storm = Command::new("sh").args(["-c", script, &mark]).spawn().unwrap();
        eventually("they leave", || (marked(&mark).len() > 20).then_some(()));
        let mut sampler = Sampler::new(Path::new("/proc"), Needs::PERIODIC).unwrap();
        let id = sampler.again(storm.id()).unwrap().id;
        let root = Arc::new(Handle::open(&id).unwrap());
        let own = std::process::id();
        let mut tree = Tree::of(&[root], move |pid| (pid == own || pid == 1).then(|| "not this one".to_owned()))
            .with_lineage(Some(lineage));
        let ended = tree.terminate(Some(Duration::from_secs(2)), &mut |_| Ok(()), &mut || true).unwrap();
        storm.wait().unwrap();
        assert!(matches!(ended, (Ending::Ended(_) | Ending::Forced(_), 0)), "{ended:?}");
        let until = Instant::now() + Duration::from_millis(200);
        while !marked(&mark).is_empty() {
            assert!(Instant::now() < until, "round {round}: {:?} are left", marked(&mark));
        }
    }
}

/// Who answers the polite signal by starting others under another name, which do the same twice more, has not answered.
#[test]
fn who_answers_by_starting_others_is_ended_with_them() {
    let mark = format!("answers-{}", std::process::id());
    let _ends = EndsMarked(&mark);
    let Some(lineage) = Lineage::listen() else {
        eprintln!("skipped: only root may listen to process events, and only outside of containers");
        return;
    };
    // Nobody but who answers forks: else a round would be spent on what he waits with.
    let script = "[ $1 -gt 0 ] && trap 'sh -c \"$2\" \"$0\" $(($1 - 1)) \"$2\" & exit' TERM; while :; do :; done";
    let mut answers = Command::new("sh").args(["-c", script, &mark, "3", script]).spawn().unwrap();
    // Its handler has to be there by then.
    eventually("it has set its trap", || {
        let status = fs::read_to_string(format!("/proc/{}/status", answers.id())).unwrap();
        let caught = status.lines().find_map(|line| line.strip_prefix("SigCgt:")).unwrap().trim();
        (u64::from_str_radix(caught, 16).unwrap() & (1 << 14) != 0).then_some(())
    });
    let mut sampler = Sampler::new(Path::new("/proc"), Needs::PERIODIC).unwrap();
    let root = Arc::new(Handle::open(&sampler.again(answers.id()).unwrap().id).unwrap());
    let own = std::process::id();
    let mut tree = Tree::of(&[root], move |pid| (pid == own || pid == 1).then(|| "not this one".to_owned()))
        .with_lineage(Some(lineage));
    // A shell that forks when the polite signal comes may lose it: who then lives on is ended by force.
    let ended = tree.terminate(Some(Duration::from_secs(2)), &mut |_| Ok(()), &mut || true).unwrap();
    answers.wait().unwrap();
    assert!(matches!(ended, (Ending::Ended(_) | Ending::Forced(_), 0)), "{ended:?}");
    assert_eq!(marked(&mark), Vec::<u32>::new());
}

/// Whoever is spared lives on, also where he shares a process group with those that end: the kernel hangs up a group that has
/// lost its last parent outside of it while somebody in it is stopped, and none of ours is by then.
#[test]
fn who_is_spared_is_not_hung_up_with_the_others() {
    for round in 0..10 {
        let mark = format!("spared-{}-{round}", std::process::id());
        let script = "for i in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20; do sleep 300 & done; \
            sh -c 'sleep 300; :' spared & wait";
        let mut family = Command::new("sh").args(["-c", script, &mark]).process_group(0).spawn().unwrap();
        let group = Pid::from_raw(family.id().cast_signed()).unwrap();
        let children = || fs::read_to_string(format!("/proc/{0}/task/{0}/children", group.as_raw_nonzero())).unwrap();
        let children = || children().split_whitespace().map(|pid| pid.parse().unwrap()).collect::<Vec<u32>>();
        let is_spared = |pid: &u32| {
            fs::read(format!("/proc/{pid}/cmdline")).is_ok_and(|line| String::from_utf8_lossy(&line).contains("spared"))
        };
        let spared =
            eventually("they run", || children().into_iter().find(is_spared).filter(|_| children().len() == 21));
        let mut sampler = Sampler::new(Path::new("/proc"), Needs::PERIODIC).unwrap();
        let root = Arc::new(Handle::open(&sampler.again(family.id()).unwrap().id).unwrap());
        let mut tree = Tree::of(&[root], move |pid| (pid == spared).then(|| "it is not meant".to_owned()));
        let ended = tree.terminate(Some(Duration::from_secs(2)), &mut |_| Ok(()), &mut || true);
        family.wait().unwrap();
        let lives = !is_gone(spared) && threads(spared).iter().all(|thread| thread.state == 'S');
        let _ = kill_process_group(group, Signal::KILL);
        assert!(matches!(ended, Ok((Ending::Ended(_) | Ending::Forced(_), 0))), "{ended:?}");
        assert!(lives, "round {round}: the spared one was ended with the others");
    }
}
