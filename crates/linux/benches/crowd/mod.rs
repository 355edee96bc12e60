//! What is measured against: a crowd of processes that really run, and a naive pass over them.

use std::os::fd::OwnedFd;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use rustix::fs::{CWD, Dir, Mode, OFlags};
use sophron_linux::proc::stat;

/// Passes are that far apart: the busy ones really run between them.
pub const APART: Duration = Duration::from_millis(300);

/// Does what a member of a crowd does, where that is what this program was started as.
pub fn is_of_it() -> bool {
    match std::env::args().nth(1).as_deref() {
        Some("idle") => std::thread::sleep(Duration::from_secs(1800)),
        Some("busy") => busy(),
        _ => return false,
    }
    true
}

/// Runs a little, often: between any two passes its clock moves.
fn busy() {
    let end = Instant::now() + Duration::from_secs(1800);
    while Instant::now() < end {
        std::hint::black_box((0..2000).sum::<u64>());
        std::thread::sleep(Duration::from_millis(100));
    }
}

pub struct Crowd(Vec<Child>);

impl Crowd {
    pub fn new(idle: usize, busy: usize) -> Crowd {
        let start = |role: &str| {
            let own = std::env::current_exe().unwrap();
            Command::new(own).arg(role).stdin(Stdio::null()).stdout(Stdio::null()).spawn().unwrap()
        };
        let crowd = Crowd((0..idle).map(|_| start("idle")).chain((0..busy).map(|_| start("busy"))).collect());
        // The last of them has to come to rest.
        std::thread::sleep(Duration::from_millis(1500 + idle as u64 / 4));
        crowd
    }
}

impl Drop for Crowd {
    fn drop(&mut self) {
        for child in &mut self.0 {
            let _ = child.kill();
        }
        for child in &mut self.0 {
            let _ = child.wait();
        }
    }
}

/// One descriptor of /proc, one buffer of 4 KiB, the same parser.
pub struct Naive {
    proc: OwnedFd,
    buffer: Vec<u8>,
}

impl Naive {
    pub fn new() -> Naive {
        let proc =
            rustix::fs::openat(CWD, "/proc", OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty());
        Naive { proc: proc.unwrap(), buffer: vec![0; 4096] }
    }

    pub fn pass(&mut self) -> u64 {
        let mut ticks = 0;
        for entry in Dir::read_from(&self.proc).unwrap() {
            let entry = entry.unwrap();
            let name = entry.file_name().to_bytes();
            if !name.iter().all(u8::is_ascii_digit) {
                continue;
            }
            let path = format!("{}/stat", str::from_utf8(name).unwrap());
            let Ok(file) = rustix::fs::openat(&self.proc, path, OFlags::RDONLY | OFlags::CLOEXEC, Mode::empty()) else {
                continue;
            };
            let Ok(length) = rustix::io::read(&file, &mut self.buffer[..]) else { continue };
            ticks += stat::parse(&self.buffer[..length]).map_or(0, |stat| stat.cpu_ticks);
        }
        ticks
    }
}

/// CPU time of this thread for one run: what others do on the machine does not count.
pub fn timed(mut work: impl FnMut()) -> f64 {
    let now = || {
        let time = rustix::time::clock_gettime(rustix::time::ClockId::ThreadCPUTime);
        time.tv_sec as f64 + time.tv_nsec as f64 / 1e9
    };
    let began = now();
    work();
    now() - began
}

/// The program is built with the workspace; without it there is nothing to time.
pub fn program() -> Option<PathBuf> {
    let own = std::env::current_exe().ok()?;
    let program = own.parent()?.parent()?.join("sophron");
    if !program.exists() {
        println!("skipped: build the program first with `cargo build --release`");
        return None;
    }
    Some(program)
}
