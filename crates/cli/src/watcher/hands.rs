//! Hands at work beside the watcher: what people do to processes, by the trail that both write to. Rules stand back from
//! those for a while, since somebody knows something that they do not.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

use sophron_core::audit::{Kind, Record};
use sophron_linux::trail;

/// Most that is read of the trail at a tick.
const MOST: u64 = 4 * 1024 * 1024;

/// Follows the trail from where it ends now.
#[derive(Debug)]
pub struct Hands {
    folder: PathBuf,
    /// The number of the file that is followed.
    number: u64,
    offset: u64,
}

impl Hands {
    pub fn of(state: &Path) -> Hands {
        let files = trail::files(state).unwrap_or_default();
        let last = files.last().and_then(|path| trail::number(path.file_name()?.to_str()?)).unwrap_or(1);
        let mut hands = Hands { folder: trail::folder(state), number: last, offset: 0 };
        hands.offset = hands.length().unwrap_or(0);
        hands
    }

    /// The trail was set aside, and a new one begun: that is followed from its beginning.
    pub fn begin_anew(&mut self) {
        (self.number, self.offset) = (1, 0);
    }

    /// What people have written since the last look: intents, and that a loss is accepted. A trail that cannot be read has none:
    /// the recorder says so.
    pub fn news(&mut self) -> Vec<Record> {
        let mut news = self.of_this_file();
        // A file that is followed by another is written no more.
        if self.folder.join(trail::name(self.number + 1)).exists() {
            news.extend(self.of_this_file());
            (self.number, self.offset) = (self.number + 1, 0);
            news.extend(self.of_this_file());
        }
        news
    }

    /// None where that cannot be told now, which says nothing about the trail.
    fn length(&self) -> Option<u64> {
        match std::fs::metadata(self.path()) {
            Ok(file) => Some(file.len()),
            Err(error) => (error.kind() == std::io::ErrorKind::NotFound).then_some(0),
        }
    }

    fn path(&self) -> PathBuf {
        self.folder.join(trail::name(self.number))
    }

    fn of_this_file(&mut self) -> Vec<Record> {
        let Some(length) = self.length() else { return Vec::new() };
        if length <= self.offset {
            // A trail that became shorter was put in another's place.
            self.offset = length;
            return Vec::new();
        }
        let mut bytes = Vec::new();
        let read = File::open(self.path()).and_then(|mut file| {
            file.seek(SeekFrom::Start(self.offset))?;
            file.take(MOST).read_to_end(&mut bytes)
        });
        if read.is_err() {
            return Vec::new();
        }
        // A line without its end is being written.
        let whole = bytes.iter().rposition(|byte| *byte == b'\n').map_or(0, |end| end + 1);
        self.offset += whole as u64;
        let lines = bytes[..whole].split(|byte| *byte == b'\n').filter(|line| !line.is_empty());
        let records = lines.filter_map(|line| serde_json::from_slice::<Record>(line).ok());
        // What a watcher takes back by itself is no hand at work.
        let by_hand = |record: &Record| record.is_by_hand() && matches!(record.kind, Kind::Intent | Kind::LossAccepted);
        records.filter(by_hand).collect()
    }
}

#[cfg(test)]
mod tests {
    use sophron_core::audit::{By, Draft, Link, Who};

    use super::*;

    #[test]
    fn a_trail_that_is_begun_anew_is_followed() {
        let state = tempfile::tempdir().unwrap();
        let folder = trail::folder(state.path());
        std::fs::create_dir(&folder).unwrap();
        let who = Who { uid: 0, user: "root".to_owned(), login_uid: None, by: Some(By::Hand) };
        let accepted = Draft::new(jiff::Timestamp::UNIX_EPOCH, Kind::LossAccepted, "mossgate-desk-03", "7", who);
        let line = Link::default().seal(&accepted).unwrap();
        std::fs::write(folder.join(trail::name(3)), &line).unwrap();
        let mut hands = Hands::of(state.path());
        assert!(hands.news().is_empty(), "what was there before is no news");
        std::fs::remove_file(folder.join(trail::name(3))).unwrap();
        std::fs::write(folder.join(trail::name(1)), &line).unwrap();
        assert!(hands.news().is_empty());
        hands.begin_anew();
        assert_eq!(hands.news().len(), 1);
    }
}
