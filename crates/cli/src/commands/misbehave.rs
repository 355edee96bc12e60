//! `sophron misbehave`: a real, harmless offender. It ends by itself, and never grows beyond half of the free memory.

use std::fs;
use std::io::{Read, Seek, Write};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use clap::ValueEnum;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use sophron_linux::files;
use sophron_linux::here::{self, thread_time};

use crate::args::{Misbehave, WaitOn};
use crate::exit::{Exit, Failure};
use crate::ui;

/// One turn of work and rest.
const PERIOD: Duration = Duration::from_millis(40);
const CHUNK: usize = 1024 * 1024;
const PIECE: usize = 16 * 1024;
const MOST_THREADS: f64 = 64.0;

/// A file that is written begins anew at this size.
const WRITTEN_FILE: u64 = 64 * 1024 * 1024;

/// Largest file that is read.
const LARGEST_FILE: u64 = 1024 * 1024 * 1024;

pub fn run(args: Misbehave) -> Result<Exit, Failure> {
    check(&args)?;
    if let (Some(name), None) = (&args.name, &args.folder) {
        return Err(become_a_copy(name, &args));
    }
    let stop = listen(args.deaf)?;
    let mut children = start_children(&args)?;
    announce(&args);
    misbehave(&args, &stop);
    for child in &mut children {
        // They end by themselves at the same time; asking a child that has ended is no harm while it is not reaped.
        if let Some(pid) = rustix::process::Pid::from_raw(child.id().cast_signed()) {
            let _ = rustix::process::kill_process(pid, rustix::process::Signal::TERM);
        }
        let _ = child.wait();
    }
    if let Some(folder) = args.folder.filter(|_| args.name.is_some()) {
        // A folder that is left behind holds one copy of this program, and no harm.
        let _ = fs::remove_dir_all(folder);
    }
    Ok(Exit::Fine)
}

fn check(args: &Misbehave) -> Result<(), Failure> {
    let usage = |message: String, mend: &str| Err(Failure::new(Exit::Usage, message).hint(mend));
    if let Some(name) = &args.name {
        let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
        if name.is_empty() || name.len() > 64 || name.starts_with('.') || !name.chars().all(plain) {
            return usage(
                format!("`{name}` is not a name a program can have"),
                "letters, digits, `-`, `_` and `.`, as --as labelpress",
            );
        }
    }
    if args.cpu.is_some_and(|cpu| cpu <= 0.0 || cpu > 100.0 * MOST_THREADS) {
        return usage("--cpu is out of range".to_owned(), "write something from 1% to 6400%, as --cpu 95%");
    }
    if args.grow.is_some() {
        let available = available_memory();
        let wanted = args.up_to.saturating_mul(u64::from(args.children) + 1);
        if available.is_some_and(|available| wanted > available / 2) {
            return usage(
                format!(
                    "--up-to {} would take more than half of the memory that is available",
                    sophron_core::units::scaled_size(wanted as f64)
                ),
                "write a smaller size: an offender for trying must stay harmless",
            );
        }
    }
    if args.read.is_some_and(|size| size > LARGEST_FILE) {
        return usage("--read is out of range".to_owned(), "write a size up to 1GiB, as --read 256MiB");
    }
    Ok(())
}

fn available_memory() -> Option<u64> {
    let meminfo = fs::read("/proc/meminfo").ok()?;
    sophron_linux::proc::machine::parse_memory(&meminfo)?.available
}

/// Where its files are. With root's rights the environment chooses no folder.
fn base(into: Option<&Path>) -> PathBuf {
    match into {
        Some(into) => into.to_owned(),
        None if here::is_privileged() => PathBuf::from("/tmp"),
        None => std::env::temp_dir(),
    }
}

/// Copies this program under that name into a folder of its own, and becomes the copy: same PID, other program.
/// Returns only the reason why it could not.
fn become_a_copy(name: &str, args: &Misbehave) -> Failure {
    let failed = |what: &str, error: std::io::Error| {
        Failure::new(Exit::Failed, format!("the copy `{name}` cannot be {what}")).because(error)
    };
    // Nobody may exchange what root puts in there, and runs.
    if let Some(Err(error)) = args.into.as_deref().filter(|_| here::is_privileged()).map(files::trusted_folder) {
        return Failure::of(Exit::Refused, error);
    }
    let folder = match tempfile::Builder::new().prefix("sophron-misbehave-").tempdir_in(base(args.into.as_deref())) {
        Ok(folder) => folder.keep(),
        Err(error) => return failed("given a folder", error),
    };
    let copy = folder.join(name);
    let error = match copy_of_this_program(&copy) {
        Err(error) => failed("made", error),
        Ok(()) => {
            let error = Command::new(&copy).args(arguments(args, &folder)).exec();
            failed("started", error)
        }
    };
    let _ = fs::remove_dir_all(&folder);
    error
}

/// A copy, not a link: the copy must not be the same file as Sophron itself.
fn copy_of_this_program(copy: &Path) -> std::io::Result<()> {
    fs::copy("/proc/self/exe", copy)?;
    let mut permissions = fs::metadata(copy)?.permissions();
    std::os::unix::fs::PermissionsExt::set_mode(&mut permissions, 0o755);
    fs::set_permissions(copy, permissions)
}

/// The same options again, for the copy and for children.
fn arguments(args: &Misbehave, folder: &Path) -> Vec<String> {
    let mut list = vec!["misbehave".to_owned()];
    let mut add = |option: &str, value: String| list.extend([option.to_owned(), value]);
    if let Some(cpu) = args.cpu {
        add("--cpu", format!("{cpu}%"));
    }
    if let Some(grow) = args.grow {
        add("--grow", format!("{grow}B/s"));
    }
    add("--up-to", format!("{}B", args.up_to));
    add("--for", sophron_core::units::exact_duration(args.length));
    if let Some(write) = args.write {
        add("--write", format!("{write}B/s"));
    }
    if let Some(read) = args.read {
        add("--read", format!("{read}B"));
    }
    if let Some(wait) = args.wait_on.and_then(|wait| wait.to_possible_value()) {
        add("--wait-on", wait.get_name().to_owned());
    }
    if args.threads > 0 {
        add("--threads", args.threads.to_string());
    }
    if let Some(calm) = args.calm_after {
        add("--calm-after", sophron_core::units::exact_duration(calm));
    }
    if let Some(name) = &args.name {
        add("--as", name.clone());
        add("--children", args.children.to_string());
    }
    add("--folder", folder.display().to_string());
    if args.deaf {
        list.push("--deaf".to_owned());
    }
    list
}

/// A flag that a signal to end sets. Deaf: the polite signal is caught and not answered.
fn listen(deaf: bool) -> Result<Arc<AtomicBool>, Failure> {
    let failed = |error| Failure::new(Exit::Failed, "signals cannot be set up").because(error);
    let (stop, unheard) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicBool::new(false)));
    for signal in [SIGTERM, SIGINT, SIGHUP] {
        let flag = if deaf && signal == SIGTERM { &unheard } else { &stop };
        signal_hook::flag::register(signal, Arc::clone(flag)).map_err(failed)?;
    }
    Ok(stop)
}

fn start_children(args: &Misbehave) -> Result<Vec<Child>, Failure> {
    let program = fs::read_link("/proc/self/exe").unwrap_or_else(|_| "/proc/self/exe".into());
    let own = Misbehave { name: None, children: 0, ..args.clone() };
    let folder = args.folder.clone().unwrap_or_else(|| "/nonexistent".into());
    (0..args.children)
        .map(|_| Command::new(&program).args(arguments(&own, &folder)).spawn())
        .collect::<std::io::Result<_>>()
        .map_err(|error| Failure::new(Exit::Failed, "the children cannot be started").because(error))
}

/// One line, so that whoever started it knows its PID and that it is at work.
fn announce(args: &Misbehave) {
    let mut what = Vec::new();
    if let Some(cpu) = args.cpu {
        what.push(format!("{cpu}% of a core"));
    }
    if let Some(grow) = args.grow {
        let sizes = (sophron_core::units::scaled_size(grow), sophron_core::units::scaled_size(args.up_to as f64));
        what.push(format!("growing by {}/s up to {}", sizes.0, sizes.1));
    }
    if let Some(write) = args.write {
        what.push(format!("writing {}/s", sophron_core::units::scaled_size(write)));
    }
    if let Some(read) = args.read {
        what.push(format!("reading {} again and again", sophron_core::units::scaled_size(read as f64)));
    }
    match args.wait_on {
        Some(WaitOn::Pipe) => what.push("waiting for a pipe".to_owned()),
        Some(WaitOn::Time) => what.push("asleep".to_owned()),
        Some(WaitOn::Kernel) => what.push("waiting in the kernel".to_owned()),
        None => {}
    }
    if args.deaf {
        what.push("deaf to the polite signal".to_owned());
    }
    let what = if what.is_empty() { "doing nothing".to_owned() } else { what.join(", ") };
    let length = sophron_core::units::scaled_duration(args.length);
    ui::out(format_args!("{} misbehaves for {length}: {what}\n", std::process::id()));
    let _ = std::io::stdout().flush();
}

fn misbehave(args: &Misbehave, stop: &Arc<AtomicBool>) {
    let began = Instant::now();
    let calm = Arc::new(AtomicBool::new(false));
    let cpu = args.cpu.unwrap_or(0.0);
    let threads = (cpu / 100.0).ceil().max(1.0);
    for _ in 0..if args.cpu.is_some() { threads as usize } else { 0 } {
        let (stop, calm) = (Arc::clone(stop), Arc::clone(&calm));
        std::thread::spawn(move || burn(cpu / 100.0 / threads, &stop, &calm));
    }
    let own = args.folder.clone().filter(|folder| folder.is_dir());
    for _ in 0..args.threads {
        let stop = Arc::clone(stop);
        std::thread::spawn(move || one_after_the_other(&stop));
    }
    if let Some(rate) = args.write {
        let (stop, calm, own) = (Arc::clone(stop), Arc::clone(&calm), own.clone());
        std::thread::spawn(move || trouble(write(own.as_deref(), rate, &stop, &calm)));
    }
    if let Some(size) = args.read {
        let (stop, calm, own) = (Arc::clone(stop), Arc::clone(&calm), own.clone());
        std::thread::spawn(move || trouble(read(own.as_deref(), size, &stop, &calm)));
    }
    if let Some(what) = args.wait_on {
        return trouble(wait_on(what, args.length, stop));
    }
    let mut held: Vec<Vec<u8>> = Vec::new();
    while !stop.load(Ordering::Relaxed) && began.elapsed() < args.length {
        if args.calm_after.is_some_and(|after| began.elapsed() >= after) {
            calm.store(true, Ordering::Relaxed);
            held = Vec::new();
        } else if let Some(grow) = args.grow {
            let wanted = (began.elapsed().as_secs_f64() * grow).min(args.up_to as f64) as usize;
            while (held.len() + 1) * CHUNK <= wanted {
                // Every page is written to: untouched memory is not resident.
                held.push(vec![0x5a; CHUNK]);
            }
        }
        std::thread::sleep(PERIOD / 2);
    }
    stop.store(true, Ordering::Relaxed);
}

/// An offender that cannot offend says so.
fn trouble(done: std::io::Result<()>) {
    if let Err(error) = done {
        ui::err(format_args!("sophron: this offender cannot go on: {error}\n"));
    }
}

/// Writes at that rate, each piece on disk before the next, into a file that has no name and goes with the process.
fn write(into: Option<&Path>, rate: f64, stop: &AtomicBool, calm: &AtomicBool) -> std::io::Result<()> {
    let mut file = tempfile::tempfile_in(base(into))?;
    let piece = vec![0x5a; CHUNK / 4];
    let (began, mut written) = (Instant::now(), 0_u64);
    while !stop.load(Ordering::Relaxed) {
        let due = began.elapsed().as_secs_f64() * rate;
        if calm.load(Ordering::Relaxed) || written as f64 > due {
            std::thread::sleep(PERIOD / 4);
            continue;
        }
        file.write_all(&piece)?;
        file.sync_data()?;
        written += piece.len() as u64;
        if written % WRITTEN_FILE < piece.len() as u64 {
            file.rewind()?;
        }
    }
    Ok(())
}

/// Reads a file of that size again and again, here and there; where its control group has less memory than that, what
/// it needs next was just thrown out.
fn read(into: Option<&Path>, size: u64, stop: &AtomicBool, calm: &AtomicBool) -> std::io::Result<()> {
    let mut file = tempfile::tempfile_in(base(into))?;
    let mut piece = vec![0x5a; CHUNK];
    for _ in 0..size.div_ceil(CHUNK as u64) {
        file.write_all(&piece)?;
    }
    file.sync_data()?;
    let pieces = (size / PIECE as u64).max(1);
    let mut place: u64 = 1;
    while !stop.load(Ordering::Relaxed) {
        if calm.load(Ordering::Relaxed) {
            std::thread::sleep(PERIOD);
            continue;
        }
        // Any order will do that no read-ahead foresees (Knuth's multiplier for 64 bits).
        place = place.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        file.seek(std::io::SeekFrom::Start((place >> 33) % pieces * PIECE as u64))?;
        file.read_exact(&mut piece[..PIECE])?;
    }
    Ok(())
}

fn wait_on(what: WaitOn, length: Duration, stop: &AtomicBool) -> std::io::Result<()> {
    match what {
        WaitOn::Pipe => {
            let (mut reader, writer) = std::io::pipe()?;
            // Nobody writes; when the time is over the end of the pipe is closed.
            std::thread::spawn(move || {
                std::thread::sleep(length);
                drop(writer);
            });
            let mut nothing = [0];
            while !stop.load(Ordering::Relaxed) {
                match reader.read(&mut nothing) {
                    Err(error) if error.kind() == std::io::ErrorKind::Interrupted => {}
                    Err(error) => return Err(error),
                    Ok(_) => break,
                }
            }
            Ok(())
        }
        WaitOn::Time => {
            // In one piece, but for a signal.
            let time = rustix::time::Timespec { tv_sec: length.as_secs().cast_signed(), tv_nsec: 0 };
            let _ = rustix::thread::nanosleep(&time);
            Ok(())
        }
        WaitOn::Kernel => sophron_linux::sys::wait_in_kernel(length),
    }
}

/// A thread that starts its own successor and ends: whoever looks for threads never finds the same ones twice.
fn one_after_the_other(stop: &Arc<AtomicBool>) {
    std::thread::sleep(PERIOD / 2);
    if !stop.load(Ordering::Relaxed) {
        let stop = Arc::clone(stop);
        // Where no more threads can be started, there is one less.
        let _ = std::thread::Builder::new().stack_size(64 * 1024).spawn(move || one_after_the_other(&stop));
    }
}

/// Uses that share of one core, by the thread's own CPU clock: under contention it takes what it can get.
fn burn(share: f64, stop: &AtomicBool, calm: &AtomicBool) {
    while !stop.load(Ordering::Relaxed) {
        let turn = Instant::now();
        let enough = thread_time() + PERIOD.mul_f64(share);
        while !calm.load(Ordering::Relaxed) && thread_time() < enough && turn.elapsed() < PERIOD {
            std::hint::spin_loop();
        }
        std::thread::sleep(PERIOD.saturating_sub(turn.elapsed()));
    }
}
