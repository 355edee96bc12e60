//! Stamps: what was recorded so far is signed, and the key for the next stamp named.

use sophron_core::audit::stamps::begun;
use sophron_core::audit::{Came, Draft, Kind, Record, StampRecord};

use super::TrailError;
use super::folder::Folder;
use super::keys::Stamped;
use super::writer::Writer;

impl<F: Folder> Writer<F> {
    /// The draft of a key that begins.
    pub(super) fn begin_a_key(&self) -> Result<Draft, TrailError> {
        let key = self.stamper().begin()?;
        Ok(Draft { stamp: Some(begun(&key)), ..self.own(Kind::KeyBegun, Came::Begun, "a key for stamps was made") })
    }

    /// Signs what was recorded so far. Called with the lock held and the end known.
    pub(super) fn write_stamp(&mut self) -> Result<Option<Stamped>, TrailError> {
        let Some((seq, latest)) = self.announced()? else { return self.begin_anew() };
        let Some(link) = self.link() else { return Ok(None) };
        if seq == link.seq {
            // Nothing was recorded since.
            return Ok(None);
        }
        let Some(key) = self.stamper().named(&latest.next)? else { return self.begin_anew() };
        let next = self.stamper().another()?;
        let number = latest.number + 1;
        let stamp = key.stamp(number, &link, &next);
        let seen = format!("records up to {} are signed", link.seq);
        self.write(&[Draft { stamp: Some(stamp), ..self.own(Kind::Stamp, Came::Stamped, &seen) }])?;
        self.stamper().destroy()?;
        Ok(self.link().map(|link| Stamped { number, seq: link.seq, hash: link.hash }))
    }

    fn begin_anew(&mut self) -> Result<Option<Stamped>, TrailError> {
        let draft = self.begin_a_key()?;
        self.write(&[draft])?;
        Ok(None)
    }

    /// The latest stamp, or key begun, of the present file, with its record's number.
    fn announced(&self) -> Result<Option<(u64, StampRecord)>, TrailError> {
        let bytes = self.present_bytes()?;
        let lines = bytes.split(|byte| *byte == b'\n').rev();
        let tells = |line: &&[u8]| line.windows(8).any(|part| part == b"\"stamp\":");
        let record = lines.filter(tells).find_map(|line| serde_json::from_slice::<Record>(line).ok());
        Ok(record.and_then(|record| Some((record.seq, record.stamp?))))
    }
}
