//! 80,000 file locks, which any user may take: who has none of them waits for nobody who counts them.

use std::fs::File;
use std::os::fd::AsRawFd;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use sophron_core::model::Needs;
use sophron_linux::{Sampler, locks, roles};

struct Ended(Child);

impl Drop for Ended {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn lock(file: &File, start: i64) {
    // SAFETY: zero is a valid value of every field.
    let mut part: libc::flock = unsafe { std::mem::zeroed() };
    (part.l_type, part.l_start, part.l_len) = (libc::F_WRLCK as libc::c_short, start, 1);
    // SAFETY: the descriptor is open, and `part` is a whole flock.
    assert_eq!(unsafe { libc::fcntl(file.as_raw_fd(), libc::F_SETLK, &raw const part) }, 0);
}

#[test]
fn many_locks_of_one_hold_up_no_other() {
    // The kernel goes through all locks of a file to take another: many files are quicker.
    let files: Vec<File> = (0..80).map(|_| tempfile::tempfile().unwrap()).collect();
    files.iter().for_each(|file| (0..1000).for_each(|place| lock(file, place * 2)));
    let other = Ended(Command::new("sleep").arg("60").stdin(Stdio::null()).spawn().unwrap());
    let began = Instant::now();
    let read = std::fs::read_to_string("/proc/locks").unwrap();
    let whole = began.elapsed();
    assert!(read.lines().count() >= 80_000);
    // Who holds no lock is not held up by those of another.
    let began = Instant::now();
    assert_eq!(locks::waiting_for(&[other.0.id()], Duration::from_secs(60)), Some(Vec::new()));
    let process = Sampler::new("/proc".as_ref(), Needs::PERIODIC).unwrap().again(other.0.id()).unwrap();
    assert_eq!(roles::role(&process), None);
    assert!(
        began.elapsed() < whole.max(Duration::from_secs(1)),
        "{:?}, and reading all takes {whole:?}",
        began.elapsed()
    );
    // Who holds them is waited for a moment, and whoever asks at every tick not at all.
    let began = Instant::now();
    let told = locks::waiting_for(&[std::process::id()], Duration::from_millis(50));
    assert!(told.is_none() || whole < Duration::from_millis(300), "{told:?} within 50 ms, of {whole:?}");
    let _ = locks::last_waits();
    assert!(began.elapsed() < whole.max(Duration::from_secs(1)), "{:?}", began.elapsed());
}
