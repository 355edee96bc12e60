//! `sophron record FILE`: this machine, sample by sample, into a file that every command that looks can read.

use std::io::IsTerminal;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use jiff::Zoned;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use sophron_core::condition::{Condition, Truth};
use sophron_core::facts::Facts;
use sophron_core::model::{Needs, Snapshot};
use sophron_core::recording::{Ours, Writer};
use sophron_core::text::counted;
use sophron_core::units::{scaled_duration, scaled_size};
use sophron_linux::Sampler;

use super::condition;
use crate::args;
use crate::exit::{Exit, Failure};
use crate::recording_file::{self, Sink};
use crate::ui;

/// What was written is readable after that long at the latest, whatever happens to the rest.
const FLUSH: Duration = Duration::from_secs(10);

pub fn run(args: &args::Record) -> Result<Exit, Failure> {
    let covers = args.covers.as_deref().map(condition).transpose()?;
    let stop = Arc::new(AtomicBool::new(false));
    for signal in [SIGINT, SIGTERM, SIGHUP] {
        signal_hook::flag::register(signal, Arc::clone(&stop))
            .map_err(|error| Failure::new(Exit::Failed, "signals cannot be set up").because(error))?;
    }
    let mut sink = Sink::create(&args.file)?;
    if let Some(begin) = &args.begin {
        wait_until(begin, &stop)?;
    }
    let failed =
        |error| Failure::new(Exit::Failed, format!("{} cannot be written", args.file.display())).because(error);
    let mut sampler =
        Sampler::new(Path::new("/proc"), Needs::PERIODIC).map_err(|error| Failure::of(Exit::Failed, error))?;
    let mut snapshot = Snapshot::default();
    let mut writer = Writer::new(recording_file::header(args.every)?);
    let began = Instant::now();
    let (mut flushed, mut size, mut samples) = (began, 0, 0_u64);
    let mut why = "interrupted";
    let mut next = began;
    while !stop.load(Ordering::Relaxed) {
        if args.length.is_some_and(|length| began.elapsed() >= length) {
            why = "the time is over";
            break;
        }
        sampler.sample(&mut snapshot).map_err(|error| Failure::of(Exit::Failed, error))?;
        let keep = |process: &sophron_core::model::Process| covered(covers.as_ref(), process, &snapshot);
        sink.sample(&mut writer, &snapshot, keep, Ours::default()).map_err(failed)?;
        samples += 1;
        if flushed.elapsed() >= FLUSH || samples == 1 {
            size = sink.flush().map_err(failed)?;
            flushed = Instant::now();
        }
        if args.max_size.is_some_and(|most| size >= most) {
            why = "the size is reached";
            break;
        }
        progress(began.elapsed(), samples, size);
        next = (next + args.every).max(Instant::now());
        while Instant::now() < next && !stop.load(Ordering::Relaxed) {
            std::thread::sleep((next - Instant::now()).min(Duration::from_millis(50)));
        }
    }
    let size = sink.flush().map_err(failed)?.max(size);
    sink.finish().map_err(failed)?;
    if std::io::stderr().is_terminal() {
        ui::err("\u{1b}[2K\r");
    }
    ui::out(format_args!(
        "{}: {} over {}, {} ({why})\n",
        args.file.display(),
        counted(samples, "sample"),
        scaled_duration(began.elapsed()),
        scaled_size(size as f64)
    ));
    Ok(Exit::Fine)
}

fn covered(covers: Option<&Condition>, process: &sophron_core::model::Process, snapshot: &Snapshot) -> bool {
    covers.is_none_or(|covers| covers.evaluate(&Facts::new(process, &snapshot.machine)) == Truth::True)
}

/// Waits until that time of day, today or tomorrow.
fn wait_until(begin: &str, stop: &AtomicBool) -> Result<(), Failure> {
    let time = sophron_core::moment::time_of_day(begin).ok_or_else(|| {
        let shown = sophron_core::text::clean(begin.as_bytes());
        Failure::new(Exit::Usage, format!("`{shown}` is not a time of day")).hint("write it as --begin 07:30")
    })?;
    let now = Zoned::now();
    let failed = |error| Failure::new(Exit::Usage, "that time is out of range").because(error);
    let mut begin = now.with().time(time).build().map_err(failed)?;
    if begin < now {
        begin = begin.tomorrow().map_err(failed)?;
    }
    ui::err(format_args!("waiting until {}\n", begin.strftime("%a %H:%M:%S %Z")));
    while Zoned::now() < begin && !stop.load(Ordering::Relaxed) {
        std::thread::sleep(Duration::from_millis(200));
    }
    Ok(())
}

fn progress(passed: Duration, samples: u64, size: u64) {
    if std::io::stderr().is_terminal() {
        let (passed, size) = (scaled_duration(Duration::from_secs(passed.as_secs())), scaled_size(size as f64));
        ui::err(format_args!("\u{1b}[2K\rrecording: {passed}, {}, {size}; Ctrl-C ends it", counted(samples, "sample")));
    }
}
