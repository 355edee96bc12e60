//! Recordings on disk: lines, compressed where the name ends in `.zst`. What is read is not trusted.

use std::fs::File;
use std::io::{self, BufRead, BufReader, BufWriter, Read, Write};
use std::path::Path;
use std::time::Duration;

use sophron_core::model::{Moment, Process, Snapshot};
use sophron_core::recording::{FORMAT, Header, LONGEST_LINE, Ours, ReadError, Replay, Writer};
use sophron_linux::{files, here, new_files};
use zstd::stream::raw::CParameter;

use crate::exit::{Exit, Failure};

/// The largest window a compressed recording may ask for: 2^24 bytes, 16 MiB.
const LARGEST_WINDOW: u32 = 24;

const LEVEL: i32 = 6;

/// A watcher writes all day: little time, a window of 2^16 bytes, and tables of 2^13 entries.
const LEAN_LEVEL: i32 = 1;
const LEAN_WINDOW: u32 = 16;
const LEAN_TABLE: u32 = 13;

/// The first bytes of a compressed file.
const MAGIC: [u8; 4] = [0x28, 0xb5, 0x2f, 0xfd];

/// The recorded working day that comes with Sophron; made by `cargo run -p sophron-demo-day`.
const DEMO_DAY: &[u8] = include_bytes!("../../../demo/day.jsonl.zst");

/// A recording that is being played.
pub struct Player {
    lines: Box<dyn BufRead>,
    replay: Replay,
    buffer: Vec<u8>,
    /// Why it ended before its end, if it did.
    pub cut: Option<String>,
}

impl Player {
    /// Opens a recording and reads its header; `demo` is the one that comes with Sophron.
    pub fn open(path: &Path) -> Result<Player, Failure> {
        if path == Path::new("demo") {
            return Player::from_reader(DEMO_DAY, "the demo day");
        }
        if crate::history::is_history(path) {
            let failure =
                Failure::new(Exit::Usage, format!("{} is a history of usage, and no recording", path.display()));
            return Err(failure.hint("`sophron usage` and `sophron report` read it"));
        }
        let failed =
            |error: io::Error| Failure::new(Exit::Failed, format!("{} cannot be read", path.display())).because(error);
        let file = files::open_plain(path).map_err(failed)?;
        Player::from_reader(BufReader::new(file), &path.display().to_string())
    }

    /// The same from any bytes.
    pub fn from_reader(mut reader: impl BufRead + 'static, name: &str) -> Result<Player, Failure> {
        let failed = |error: io::Error| Failure::new(Exit::Failed, format!("{name} cannot be read")).because(error);
        let compressed = reader.fill_buf().map_err(failed)?.starts_with(&MAGIC);
        let mut lines: Box<dyn BufRead> = if compressed {
            let mut decoder = zstd::stream::read::Decoder::with_buffer(reader).map_err(failed)?;
            decoder.window_log_max(LARGEST_WINDOW).map_err(failed)?;
            Box::new(BufReader::new(decoder))
        } else {
            Box::new(reader)
        };
        let mut buffer = Vec::new();
        read_line(&mut lines, &mut buffer).map_err(failed)?;
        let replay = Replay::begin(&buffer).map_err(|error| {
            let failure = Failure::new(Exit::Failed, format!("{name}: {error}"));
            match error {
                ReadError::Newer(_) => failure.hint("update Sophron on this machine"),
                _ => failure.hint("`sophron record FILE` makes one"),
            }
        })?;
        Ok(Player { lines, replay, buffer, cut: None })
    }

    /// Before the first sample: goes on from the last moment of another recording.
    pub fn follow(&mut self, last: &Moment) {
        self.replay.follow(last);
    }

    /// What is usual of apps on the machine that recorded.
    pub fn know(&mut self, usual: std::sync::Arc<sophron_core::usage::Usual>) {
        self.replay.know(usual);
    }

    /// What the first line says.
    pub fn header(&self) -> &Header {
        self.replay.header()
    }

    /// The next sample; `None` at the end, or where it can be read no further: then `cut` says why.
    pub fn next(&mut self) -> Option<&Snapshot> {
        self.buffer.clear();
        match read_line(&mut self.lines, &mut self.buffer) {
            Ok(true) => {}
            Ok(false) => {
                if !self.buffer.is_empty() {
                    self.cut = Some("its last line has no end: it was cut off".to_owned());
                }
                return None;
            }
            Err(error) => {
                self.cut = Some(format!("it can be read no further: {error}"));
                return None;
            }
        }
        match self.replay.next(&self.buffer) {
            Ok(_) => Some(self.replay.snapshot()),
            Err(error) => {
                self.cut = Some(error.to_string());
                None
            }
        }
    }

    /// The sample that was read last.
    pub fn snapshot(&self) -> &Snapshot {
        self.replay.snapshot()
    }

    /// What the watcher that recorded was doing at that sample.
    pub fn ours(&self) -> &Ours {
        self.replay.ours()
    }
}

/// A whole line; `false` where there is none. A line that does not end within bounds is an error, and is not kept.
fn read_line(lines: &mut impl BufRead, buffer: &mut Vec<u8>) -> io::Result<bool> {
    lines.take(LONGEST_LINE as u64 + 1).read_until(b'\n', buffer)?;
    if buffer.len() > LONGEST_LINE {
        buffer.clear();
        return Err(io::Error::new(io::ErrorKind::InvalidData, format!("a line is longer than {LONGEST_LINE} bytes")));
    }
    Ok(buffer.ends_with(b"\n"))
}

/// The first line of a recording that begins now, on this machine.
pub fn header(every: Duration) -> Result<Header, Failure> {
    let boot = here::boot(Path::new("/proc"))
        .map_err(|error| Failure::new(Exit::Failed, "the boot ID cannot be read").because(error))?;
    Ok(Header {
        sophron: "recording".to_owned(),
        format: FORMAT,
        host: here::host(),
        boot: boot.to_string(),
        every: every.as_secs_f64(),
        begun: here::now().wall,
        zone: jiff::tz::TimeZone::system().iana_name().map(str::to_owned),
        uid: here::uid(),
    })
}

/// A recording that is being made.
pub enum Sink {
    Plain(File),
    Compressed(Box<zstd::stream::write::Encoder<'static, Counted>>),
}

/// A file and how much was written to it.
pub struct Counted {
    file: File,
    written: u64,
}

impl Write for Counted {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.file.write(bytes)?;
        self.written += written as u64;
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

/// What is written to it is not made readable at once.
struct Plainly<'s>(&'s mut Sink);

impl Write for Plainly<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self.0 {
            Sink::Plain(file) => file.write(bytes),
            Sink::Compressed(encoder) => encoder.write(bytes),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Sink {
    /// A new file, the owner's only.
    pub fn create(path: &Path) -> Result<Sink, Failure> {
        let file = new_files::create(path).map_err(|error| {
            Failure::of(Exit::Failed, error)
                .hint("a recording never overwrites a file: give another name, or move that one away")
        })?;
        if path.extension().is_some_and(|extension| extension == "zst") {
            Sink::compressed(file, LEVEL, false)
        } else {
            Ok(Sink::Plain(file))
        }
    }

    /// A new compressed file, the owner's only, that takes little memory to write.
    pub fn lean(path: &Path) -> Result<Sink, Failure> {
        let file = new_files::create(path).map_err(|error| Failure::of(Exit::Failed, error))?;
        Sink::compressed(file, LEAN_LEVEL, true)
    }

    fn compressed(file: File, level: i32, lean: bool) -> Result<Sink, Failure> {
        let failed = |error: io::Error| Failure::new(Exit::Failed, "the compression cannot be set up").because(error);
        let mut encoder = zstd::stream::write::Encoder::new(Counted { file, written: 0 }, level).map_err(failed)?;
        if lean {
            encoder.window_log(LEAN_WINDOW).map_err(failed)?;
            for table in [CParameter::HashLog(LEAN_TABLE), CParameter::ChainLog(LEAN_TABLE)] {
                encoder.set_parameter(table).map_err(failed)?;
            }
        }
        Ok(Sink::Compressed(Box::new(encoder)))
    }

    /// Writes a sample, with what the watcher that records was doing.
    pub fn sample(
        &mut self,
        writer: &mut Writer,
        snapshot: &Snapshot,
        keep: impl Fn(&Process) -> bool,
        ours: Ours,
    ) -> io::Result<()> {
        let mut out = BufWriter::new(Plainly(self));
        writer.write(&mut out, snapshot, keep, ours)?;
        out.flush()
    }

    /// The first sample of one that goes on where another ended.
    pub fn go_on(&mut self, writer: &mut Writer, last: Snapshot) -> io::Result<()> {
        let mut out = BufWriter::new(Plainly(self));
        writer.go_on(&mut out, last)?;
        out.flush()
    }

    /// Makes what was written so far readable, should nothing follow; its size.
    pub fn flush(&mut self) -> io::Result<u64> {
        match self {
            Sink::Plain(file) => Ok(file.metadata()?.len()),
            Sink::Compressed(encoder) => {
                encoder.flush()?;
                Ok(encoder.get_ref().written)
            }
        }
    }

    /// Ends the file.
    pub fn finish(self) -> io::Result<()> {
        match self {
            Sink::Plain(file) => file.sync_all(),
            Sink::Compressed(encoder) => encoder.finish()?.file.sync_all(),
        }
    }
}
