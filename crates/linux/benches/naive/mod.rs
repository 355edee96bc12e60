//! What is measured against: a naive pass over all processes.

use std::os::fd::OwnedFd;
use std::time::Duration;

use rustix::fs::{CWD, Dir, Mode, OFlags};
use sophron_linux::proc::stat;

/// Passes are that far apart: the busy ones really run between them.
pub const APART: Duration = Duration::from_millis(300);

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

    /// CPU time of one pass, seconds.
    pub fn timed(&mut self) -> f64 {
        timed(|| {
            std::hint::black_box(self.pass());
        })
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

/// The mean of passes that were timed; 0 of none.
#[allow(dead_code)]
pub fn mean(passes: &[f64]) -> f64 {
    passes.iter().sum::<f64>() / passes.len().max(1) as f64
}

/// CPU time of this thread for one run: what others do on the machine does not count.
pub fn timed(mut work: impl FnMut()) -> f64 {
    let now = || sophron_linux::here::thread_time().as_secs_f64();
    let began = now();
    work();
    now() - began
}
