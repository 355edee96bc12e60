//! A crowd of processes that really run, and the built program.

use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// Does what a member of a crowd does, where that is what this program was started as.
pub fn is_of_it() -> bool {
    match std::env::args().nth(1).as_deref() {
        Some("idle") => std::thread::sleep(Duration::from_secs(7200)),
        Some("busy") => busy(),
        Some("burning") => burn(),
        _ => return false,
    }
    true
}

/// Runs a little, often: between any two passes its clock moves.
fn busy() {
    let end = Instant::now() + Duration::from_secs(7200);
    while Instant::now() < end {
        std::hint::black_box((0..2000).sum::<u64>());
        std::thread::sleep(Duration::from_millis(100));
    }
}

fn burn() {
    let end = Instant::now() + Duration::from_secs(7200);
    while Instant::now() < end {
        std::hint::black_box((0..20000).sum::<u64>());
    }
}

pub struct Crowd(Vec<Child>);

impl Crowd {
    /// So many for each core that never stop.
    #[allow(dead_code)]
    pub fn burning(a_core: usize) -> Crowd {
        let cores = std::thread::available_parallelism().map_or(1, usize::from);
        let start = |_| Command::new(std::env::current_exe().unwrap()).arg("burning").spawn().unwrap();
        Crowd((0..a_core * cores).map(start).collect())
    }

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

/// The program as it is shipped; without it there is nothing to time.
pub fn program() -> Option<PathBuf> {
    let own = std::env::current_exe().ok()?;
    let program = own.parent()?.parent()?.parent()?.join("dist/sophron");
    if !program.exists() {
        println!("skipped: build the program first with `cargo build --profile dist`");
        return None;
    }
    Some(program)
}
