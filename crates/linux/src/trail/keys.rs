//! The keys of stamps: each is used once and destroyed as soon as the stamp that names the next is on disk.
//!
//! `stamp.key` holds the private key of the next stamp, `stamp.next` the one after while a stamp is being written, and
//! `first.pub` the first public key, to be kept elsewhere.

use std::path::{Path, PathBuf};

use sophron_core::audit::stamps::{Key, SEED, unhex};
use sophron_core::text::hex;

use super::folder::{Folder, Sheet};
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

/// The keys in a folder of the trail. Whoever uses it holds the trail's lock.
pub(super) struct Stamper<'f, F: Folder> {
    pub folder: &'f F,
    /// Where that folder is, for messages.
    pub place: &'f Path,
}

impl<F: Folder> Stamper<'_, F> {
    /// The first key, written to disk; whoever could sign before cannot any more.
    pub fn begin(&self) -> Result<Key, TrailError> {
        let key = random_key()?;
        self.write(KEY, &hex(&key.seed()))?;
        self.write(FIRST_KEY, &format!("{}\n", key.public()))?;
        self.synced()?;
        Ok(key)
    }

    /// The key after the next, which waits on disk until the stamp that names it is.
    pub fn another(&self) -> Result<Key, TrailError> {
        let next = random_key()?;
        self.write(NEXT, &hex(&next.seed()))?;
        self.synced()?;
        Ok(next)
    }

    /// The key that the latest stamp has named, if it is there. After a crash it may still be waiting for its place.
    pub fn named(&self, public: &str) -> Result<Option<Key>, TrailError> {
        let fits = |key: &Key| key.public() == public;
        if let Some(key) = self.read(KEY)?.filter(fits) {
            return Ok(Some(key));
        }
        let waiting = self.read(NEXT)?.filter(fits);
        if waiting.is_some() {
            self.destroy()?;
        }
        Ok(waiting)
    }

    /// Overwrites the key that was used, and puts the next in its place: from here on nobody can sign for the past any more.
    pub(crate) fn destroy(&self) -> Result<(), TrailError> {
        let path = self.path_of(KEY);
        let failed = |error| io_error(&path, "replaced", error);
        if self.folder.seen(KEY).map_err(failed)?.is_some() {
            self.folder.open(KEY, false).and_then(|sheet| sheet.blank()).map_err(failed)?;
        }
        self.folder.rename(NEXT, KEY).map_err(failed)?;
        self.synced()
    }

    fn path_of(&self, name: &str) -> PathBuf {
        self.place.join(name)
    }

    fn synced(&self) -> Result<(), TrailError> {
        self.folder.sync().map_err(|error| io_error(self.place, "synced", error))
    }

    fn read(&self, name: &str) -> Result<Option<Key>, TrailError> {
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

    fn write(&self, name: &str, text: &str) -> Result<(), TrailError> {
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
        filled += got.map_err(|error| io_error(Path::new("stamp.key"), "made", error))?;
    }
    Ok(Key::new(seed))
}
