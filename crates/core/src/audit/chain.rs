//! The chain: each line carries the hash of the line before it and its own, over its exact bytes.
//!
//! The hash of a record is SHA-256 of its line's bytes before `,"hash"`. Nothing is serialised again to verify,
//! so not a single byte of a line can change unseen.

use serde::Serialize;
use sha2::{Digest, Sha256};

use super::record::{Draft, Record};
use crate::text::hex;

/// What the first record of a trail names as the hash before it.
pub const GENESIS: &str = "0000000000000000000000000000000000000000000000000000000000000000";

const HASH_KEY: &[u8] = b",\"hash\":\"";
const HASH_DIGITS: usize = 64;

/// The end of a trail, to which the next record is chained.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Link {
    /// The number of the last record; 0 before the first.
    pub seq: u64,
    /// Its hash.
    pub hash: String,
}

impl Default for Link {
    fn default() -> Self {
        Link { seq: 0, hash: GENESIS.to_owned() }
    }
}

#[derive(Serialize)]
struct Chained<'a> {
    seq: u64,
    #[serde(flatten)]
    draft: &'a Draft,
    prev: &'a str,
}

impl Link {
    /// The line of the next record, newline included; the link moves on to it.
    ///
    /// # Errors
    /// The draft cannot be written as JSON.
    pub fn seal(&mut self, draft: &Draft) -> Result<String, serde_json::Error> {
        let chained = Chained { seq: self.seq + 1, draft, prev: &self.hash };
        let mut line = serde_json::to_string(&chained)?;
        line.pop();
        let hash = hex(&Sha256::digest(line.as_bytes()));
        line.push_str(&format!(",\"hash\":\"{hash}\"}}\n"));
        *self = Link { seq: self.seq + 1, hash };
        Ok(line)
    }
}

/// The first thing wrong with a trail.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fault {
    /// Which line, from 1.
    pub line: usize,
    /// The number that record should have.
    pub seq: u64,
    /// What is wrong.
    pub what: String,
}

/// The result of verifying a trail.
#[derive(Debug, Clone, PartialEq)]
pub struct Verified {
    /// The records before the first fault.
    pub records: Vec<Record>,
    /// The end of the sound part.
    pub link: Link,
    /// How many bytes that part has.
    pub sound_bytes: usize,
    /// What is wrong after it, if anything is.
    pub fault: Option<Fault>,
    /// Whether the fault is only a last line without its end, as a crash leaves it.
    pub torn: bool,
}

/// Verifies a trail from its first byte.
pub fn verify(bytes: &[u8]) -> Verified {
    let mut verified =
        Verified { records: Vec::new(), link: Link::default(), sound_bytes: 0, fault: None, torn: false };
    for (index, line) in bytes.split_inclusive(|byte| *byte == b'\n').enumerate() {
        match one(line, &verified.link) {
            Ok(record) => {
                verified.link = Link { seq: record.seq, hash: record.hash.clone() };
                verified.sound_bytes += line.len();
                verified.records.push(record);
            }
            Err(what) => {
                verified.torn = !line.ends_with(b"\n");
                verified.fault = Some(Fault { line: index + 1, seq: verified.link.seq + 1, what });
                break;
            }
        }
    }
    verified
}

fn one(line: &[u8], link: &Link) -> Result<Record, String> {
    let line = line.strip_suffix(b"\n").ok_or("the last line is torn: its end is missing")?;
    let cut = line.len().checked_sub(HASH_KEY.len() + HASH_DIGITS + 2).ok_or("the line is too short for a record")?;
    let (signed, rest) = line.split_at(cut);
    let digits = rest
        .strip_prefix(HASH_KEY)
        .and_then(|rest| rest.strip_suffix(b"\"}"))
        .ok_or("the line does not end with its hash")?;
    let hash = hex(&Sha256::digest(signed));
    if hash.as_bytes() != digits {
        return Err("its bytes do not match its hash: the record was changed".to_owned());
    }
    let record: Record = serde_json::from_slice(line).map_err(|error| format!("it is not a record: {error}"))?;
    if record.prev != link.hash {
        return Err("it does not follow the record before it: one was removed, inserted or moved".to_owned());
    }
    if record.seq != link.seq + 1 {
        return Err(format!("its number is {}, and {} was due", record.seq, link.seq + 1));
    }
    Ok(record)
}

/// What a writer has to cut from the end of a file before it may append.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Repair {
    /// How many bytes stay.
    pub keep: usize,
    /// The torn bytes, as text.
    pub cut: String,
}

/// The end of a trail for a writer: the link to chain to and the torn bytes behind it, if a crash left any.
///
/// # Errors
/// The last whole line is not a record whose hash is right: nothing may be appended to that.
pub fn tail(bytes: &[u8]) -> Result<(Link, Option<Repair>), String> {
    let keep = bytes.iter().rposition(|byte| *byte == b'\n').map_or(0, |newline| newline + 1);
    let repair = (keep < bytes.len())
        .then(|| Repair { keep, cut: crate::text::clean(&bytes[keep..]).chars().take(4096).collect() });
    if keep == 0 {
        return Ok((Link::default(), repair));
    }
    let start = bytes[..keep - 1].iter().rposition(|byte| *byte == b'\n').map_or(0, |newline| newline + 1);
    let line = &bytes[start..keep];
    let record: Record =
        serde_json::from_slice(line).map_err(|error| format!("its last record cannot be read: {error}"))?;
    let before = Link { seq: record.seq.wrapping_sub(1), hash: record.prev.clone() };
    one(line, &before).map_err(|what| format!("its last record is not sound: {what}"))?;
    Ok((Link { seq: record.seq, hash: record.hash }, repair))
}
