//! The keys of stamps: each is used once and destroyed as soon as the stamp that names the next is on disk.
//!
//! `stamp.key` holds the private key of the next stamp, `stamp.next` the one after while a stamp is being written, and
//! `first.pub` the first public key, to be kept elsewhere.

use sophron_core::audit::stamps::{Key, SEED, begun, unhex};
use sophron_core::audit::{Came, Draft, Kind, Record};
use sophron_core::text::hex;

use super::folder::{Folder, Sheet};
use super::writer::Writer;
use super::{TrailError, io_error};

/// The file of the first public key.
pub const FIRST_KEY: &str = "first.pub";

const KEY: &str = "stamp.key";
const NEXT: &str = "stamp.next";

/// A stamp that was written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stamped {
    /// Its place among the stamps.
    pub number: u64,
    /// The number of its record.
    pub seq: u64,
    /// The hash of its record, by which it can be asked for.
    pub hash: String,
}

impl<F: Folder> Writer<F> {
    /// The draft of a key that begins, written to disk; whoever could sign before cannot any more.
    pub(super) fn begin_a_key(&mut self) -> Result<Draft, TrailError> {
        let key = random_key()?;
        self.write_key(KEY, &hex(&key.seed()))?;
        self.write_key(FIRST_KEY, &format!("{}\n", key.public()))?;
        self.synced()?;
        Ok(Draft { stamp: Some(begun(&key)), ..self.own(Kind::KeyBegun, Came::Begun, "a key for stamps was made") })
    }

    /// Signs what was recorded so far. Called with the lock held and the end known.
    pub(super) fn write_stamp(&mut self) -> Result<Option<Stamped>, TrailError> {
        let Some((latest, number, due)) = self.announced()? else { return self.begin_anew() };
        let Some(link) = self.link() else { return Ok(None) };
        if latest == link.seq {
            // Nothing was recorded since.
            return Ok(None);
        }
        let Some(key) = self.key_of(&due)? else { return self.begin_anew() };
        let next = random_key()?;
        self.write_key(NEXT, &hex(&next.seed()))?;
        self.synced()?;
        let number = number + 1;
        let stamp = key.stamp(number, &link, &next);
        let seen = format!("records up to {} are signed", link.seq);
        self.write(&[Draft { stamp: Some(stamp), ..self.own(Kind::Stamp, Came::Stamped, &seen) }])?;
        // From here on nobody can sign for the past any more.
        self.take_next()?;
        Ok(self.link().map(|link| Stamped { number, seq: link.seq, hash: link.hash }))
    }

    fn begin_anew(&mut self) -> Result<Option<Stamped>, TrailError> {
        let draft = self.begin_a_key()?;
        self.write(&[draft])?;
        Ok(None)
    }

    /// The latest stamp, or key begun, of the present file: its record's number, its own, and the key that it names.
    fn announced(&self) -> Result<Option<(u64, u64, String)>, TrailError> {
        let bytes = self.present_bytes()?;
        let lines = bytes.split(|byte| *byte == b'\n').rev();
        let tells = |line: &&[u8]| line.windows(8).any(|part| part == b"\"stamp\":");
        let record = lines.filter(tells).find_map(|line| serde_json::from_slice::<Record>(line).ok());
        Ok(record.and_then(|record| {
            let stamp = record.stamp?;
            Some((record.seq, stamp.number, stamp.next))
        }))
    }

    /// The key that the latest stamp has named, if it is there. After a crash it may still be waiting for its place.
    fn key_of(&mut self, public: &str) -> Result<Option<Key>, TrailError> {
        let fits = |key: &Key| key.public() == public;
        if let Some(key) = self.read_key(KEY)?.filter(fits) {
            return Ok(Some(key));
        }
        let waiting = self.read_key(NEXT)?.filter(fits);
        if waiting.is_some() {
            self.take_next()?;
        }
        Ok(waiting)
    }

    fn take_next(&mut self) -> Result<(), TrailError> {
        let path = self.path_of(KEY);
        let failed = |error| io_error(&path, "replaced", error);
        if self.folder.seen(KEY).map_err(failed)?.is_some() {
            self.folder.open(KEY, false).and_then(|sheet| sheet.blank()).map_err(failed)?;
        }
        self.folder.rename(NEXT, KEY).map_err(failed)?;
        self.synced()
    }

    fn read_key(&self, name: &str) -> Result<Option<Key>, TrailError> {
        let path = self.path_of(name);
        let failed = |error| io_error(&path, "read", error);
        let Some(seen) = self.folder.seen(name).map_err(failed)? else { return Ok(None) };
        if seen.size != 2 * SEED as u64 {
            return Ok(None);
        }
        let mut bytes = [0; 2 * SEED];
        self.folder.open(name, false).and_then(|sheet| sheet.read_at(&mut bytes, 0)).map_err(failed)?;
        Ok(str::from_utf8(&bytes).ok().and_then(unhex).map(Key::new))
    }

    fn write_key(&self, name: &str, text: &str) -> Result<(), TrailError> {
        let path = self.path_of(name);
        let failed = |error| io_error(&path, "written", error);
        let mut sheet = self.folder.open(name, name == FIRST_KEY).map_err(failed)?;
        sheet.cut(0).and_then(|()| sheet.append(text.as_bytes())).and_then(|()| sheet.sync()).map_err(failed)
    }
}

fn random_key() -> Result<Key, TrailError> {
    let mut seed = [0; SEED];
    let mut filled = 0;
    while filled < SEED {
        let got = rustix::rand::getrandom(&mut seed[filled..], rustix::rand::GetRandomFlags::empty());
        filled += got.map_err(|error| io_error(std::path::Path::new("stamp.key"), "made", error))?;
    }
    Ok(Key::new(seed))
}
