//! Following a trail: what is recorded from some place on, record by record, from file to file.

use std::fs::File;
use std::io::{self, BufRead, BufReader, Seek, SeekFrom};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use jiff::Timestamp;
use sophron_core::audit::Record;

use super::{files, folder, name, number};

/// Follows a trail. One that cannot be read has nothing new: whoever writes it says so.
#[derive(Debug, Clone)]
pub struct Tail {
    state: PathBuf,
    /// The number of the file that is followed.
    number: u64,
    offset: u64,
    /// The file itself, by its inode and when it was made: another may be put in its place.
    file: Option<(u64, Option<SystemTime>)>,
    /// What is given is synced before.
    durable: bool,
}

impl Tail {
    /// From where it ends now.
    pub fn at_end(state: &Path) -> Tail {
        let last = files(state).unwrap_or_default().iter().filter_map(numbered).next_back().unwrap_or(1);
        let mut tail = Tail { state: state.to_owned(), number: last, offset: 0, file: None, durable: false };
        if let Ok(file) = std::fs::metadata(tail.path()) {
            (tail.offset, tail.file) = (file.len(), Some((file.ino(), file.created().ok())));
        }
        tail
    }

    /// From the beginning of the file in which the record of that place is, or from that of the first one that began later than
    /// `oldest`.
    pub fn from(state: &Path, seq: u64, oldest: Timestamp) -> Tail {
        let mut tail = Tail { state: state.to_owned(), number: 1, offset: 0, file: None, durable: false };
        for path in files(state).unwrap_or_default().iter().rev() {
            tail.number = numbered(path).unwrap_or(tail.number);
            let first = first(path);
            if first.is_some_and(|first| first.seq <= seq.saturating_add(1) || first.at < oldest) {
                break;
            }
        }
        tail
    }

    /// The same, where nothing is given before it is on disk.
    #[must_use]
    pub fn durable(self) -> Tail {
        Tail { durable: true, ..self }
    }

    /// What was recorded since the last look, at most so many records.
    pub fn more(&mut self, most: usize) -> Vec<Record> {
        let mut all = Vec::new();
        let (mut left, mut tries) = (false, 3);
        while all.len() < most {
            let before = all.len();
            match self.of_this_file(most, &mut all) {
                Ok(()) => {}
                Err(error) if error.kind() == io::ErrorKind::NotFound && tries > 0 && self.find_another() => {
                    tries -= 1;
                    continue;
                }
                Err(_) => return all,
            }
            if all.len() > before {
                left = false;
                continue;
            }
            // A file that is followed by another is written no more: it was read to its end once that was there.
            if !self.folder().join(name(self.number + 1)).exists() {
                break;
            }
            if std::mem::replace(&mut left, true) {
                self.begin(self.number + 1);
                left = false;
            }
        }
        all
    }

    fn folder(&self) -> PathBuf {
        folder(&self.state)
    }

    fn path(&self) -> PathBuf {
        self.folder().join(name(self.number))
    }

    /// One that is gone was removed for its age, or set aside with all the others; whether there is another.
    fn find_another(&mut self) -> bool {
        let numbers: Vec<u64> = files(&self.state).unwrap_or_default().iter().filter_map(numbered).collect();
        let next = numbers.iter().find(|number| **number > self.number).or(numbers.first());
        next.inspect(|next| self.begin(**next)).is_some()
    }

    fn begin(&mut self, number: u64) {
        (self.number, self.offset, self.file) = (number, 0, None);
    }

    fn of_this_file(&mut self, most: usize, all: &mut Vec<Record>) -> io::Result<()> {
        let path = self.path();
        // Nothing is opened while nothing was written: a watcher looks at every tick.
        let about = std::fs::metadata(&path)?;
        let this = (about.ino(), about.created().ok());
        if self.file.replace(this).is_some_and(|before| before != this) {
            // The trail was set aside, and a new one begun.
            self.offset = 0;
        }
        if about.len() <= self.offset {
            // One that became shorter was cut back: the recorder finds that out.
            self.offset = about.len();
            return Ok(());
        }
        let (before, began) = (all.len(), self.offset);
        let mut file = File::open(path)?;
        file.seek(SeekFrom::Start(self.offset))?;
        let mut reader = BufReader::with_capacity(64 * 1024, &file);
        let mut line = Vec::new();
        while all.len() < most {
            line.clear();
            reader.read_until(b'\n', &mut line)?;
            // A line without its end is being written.
            if !line.ends_with(b"\n") {
                break;
            }
            self.offset += line.len() as u64;
            all.extend(serde_json::from_slice::<Record>(&line).ok());
        }
        if self.durable && all.len() > before {
            let synced = file.sync_data();
            // What may be lost again is not given.
            synced.inspect_err(|_| {
                all.truncate(before);
                self.offset = began;
            })?;
        }
        Ok(())
    }
}

fn numbered(path: impl AsRef<Path>) -> Option<u64> {
    number(path.as_ref().file_name()?.to_str()?)
}

fn first(path: &Path) -> Option<Record> {
    let mut line = Vec::new();
    BufReader::new(File::open(path).ok()?).read_until(b'\n', &mut line).ok()?;
    serde_json::from_slice(&line).ok()
}
