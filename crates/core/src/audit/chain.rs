//! The chain: each line carries the hash of the line before it and its own, over its exact bytes.
//!
//! The hash of a record is SHA-256 of its line's bytes before `,"hash"`. Nothing is serialised again to verify,
//! so not a single byte of a line can change unseen. The chain goes on from one file of the trail to the next.

use jiff::Timestamp;
use serde::Serialize;
use sha2::{Digest, Sha256};

use super::about::Retired;
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
    /// The latest time of any record so far.
    pub latest: Option<Timestamp>,
}

impl Default for Link {
    fn default() -> Self {
        Link { seq: 0, hash: GENESIS.to_owned(), latest: None }
    }
}

#[derive(Serialize)]
struct Chained<'a> {
    seq: u64,
    #[serde(skip_serializing_if = "Option::is_none")]
    latest: Option<Timestamp>,
    #[serde(flatten)]
    draft: &'a Draft,
    prev: &'a str,
}

impl Link {
    /// The end that a record makes.
    pub fn after(record: &Record) -> Link {
        Link { seq: record.seq, hash: record.hash.clone(), latest: Some(record.reached()) }
    }

    /// The line of the next record, newline included; the link moves on to it.
    ///
    /// # Errors
    /// The draft cannot be written as JSON.
    pub fn seal(&mut self, draft: &Draft) -> Result<String, serde_json::Error> {
        let went_back = self.latest.filter(|latest| *latest > draft.at);
        let chained = Chained { seq: self.seq + 1, latest: went_back, draft, prev: &self.hash };
        let mut line = serde_json::to_string(&chained)?;
        line.pop();
        let hash = hex(&Sha256::digest(line.as_bytes()));
        line.push_str(&format!(",\"hash\":\"{hash}\"}}\n"));
        *self = Link { seq: self.seq + 1, hash, latest: Some(went_back.unwrap_or(draft.at)) };
        Ok(line)
    }
}

/// The first thing wrong with a trail.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fault {
    /// Which file, by its place among those that were read.
    pub file: usize,
    /// Which line of it, from 1.
    pub line: usize,
    /// The number that record should have.
    pub seq: u64,
    /// What is wrong.
    pub what: String,
}

/// The result of verifying a trail.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Verified {
    /// The records before the first fault.
    pub records: Vec<Record>,
    /// The end of the sound part.
    pub link: Link,
    /// How many bytes of the last file that was read that part has.
    pub sound_bytes: usize,
    /// What is wrong after it, if anything is.
    pub fault: Option<Fault>,
    /// Whether the fault is only a last line without its end, as a crash leaves it.
    pub torn: bool,
    /// How many files were read.
    files: usize,
}

/// Verifies a trail of one file from its first byte.
pub fn verify(bytes: &[u8]) -> Verified {
    verify_files(std::iter::once(bytes))
}

/// Verifies a trail of several files, the oldest first. Where older ones were removed the chain begins with the first
/// record there is, and a later record has to tell of the removal.
pub fn verify_files<'b>(files: impl Iterator<Item = &'b [u8]>) -> Verified {
    let mut verified = Verified::default();
    let files: Vec<&[u8]> = files.collect();
    for (place, bytes) in files.iter().enumerate() {
        verified.go_on(bytes, place + 1 == files.len());
        if verified.fault.is_some() {
            break;
        }
    }
    verified.check_the_beginning(&files);
    verified
}

impl Verified {
    fn go_on(&mut self, bytes: &[u8], is_last: bool) {
        let file = self.files;
        self.files += 1;
        self.sound_bytes = 0;
        for (index, line) in lines(bytes).enumerate() {
            let begins_later = file == 0 && index == 0;
            match one(line, if begins_later { None } else { Some(&self.link) }) {
                Ok(record) => {
                    self.link = Link::after(&record);
                    self.sound_bytes += line.len();
                    self.records.push(record);
                }
                Err(what) => {
                    self.torn = is_last && !line.ends_with(b"\n");
                    self.fault = Some(Fault { file, line: index + 1, seq: self.link.seq + 1, what });
                    return;
                }
            }
        }
        if bytes.is_empty() && !is_last {
            let what = "the file is empty, and others follow it".to_owned();
            self.fault = Some(Fault { file, line: 1, seq: self.link.seq + 1, what });
        }
    }

    /// The first record is the first of all, or a later one tells that those before it were removed.
    fn check_the_beginning(&mut self, files: &[&[u8]]) {
        let Some(first) = self.records.first() else { return };
        let told: Vec<Retired> = match self.fault {
            None => self.records.iter().filter_map(|record| record.retired.clone()).collect(),
            Some(_) => files.iter().flat_map(|bytes| retirements(bytes)).collect(),
        };
        if let Some(fault) = missing(first.seq, &first.prev, &told) {
            self.fault = Some(fault);
            self.torn = false;
            self.records.clear();
            self.link = Link::default();
        }
    }
}

fn retirements(bytes: &[u8]) -> impl Iterator<Item = Retired> {
    lines(bytes).filter(|line| is_notable(line)).filter_map(|line| serde_json::from_slice::<Record>(line).ok()?.retired)
}

/// A trail whose chain was checked without reading what its records say.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Checked {
    /// How many records are sound.
    pub records: u64,
    /// The number of the first.
    pub first: u64,
    /// The last sound record, and those that tell of keys, stamps and removed files, in order.
    pub notable: Vec<Record>,
    /// The end of the sound part.
    pub link: Link,
    /// What is wrong after it, if anything is.
    pub fault: Option<Fault>,
    /// Whether the fault is only a last line without its end, as a crash leaves it.
    pub torn: bool,
}

/// Checks the chain of one file: the first thing wrong with it.
pub fn check(bytes: &[u8]) -> Option<Fault> {
    check_files(&[bytes]).fault
}

/// Checks the chain of several files, the oldest first. All of every line is hashed; only few lines are read.
pub fn check_files(files: &[&[u8]]) -> Checked {
    let mut walk = Walk::default();
    for (file, bytes) in files.iter().enumerate() {
        let is_last = file + 1 == files.len();
        for (index, line) in lines(bytes).enumerate() {
            if let Err(what) = walk.line(line) {
                let torn = is_last && !line.ends_with(b"\n");
                let fault = Fault { file, line: index + 1, seq: walk.checked.link.seq + 1, what };
                return walk.end(Some((fault, torn)), || files.iter().flat_map(|bytes| retirements(bytes)).collect());
            }
        }
    }
    walk.end(None, Vec::new)
}

/// A trail that is checked line by line, so that none of it has to be held.
#[derive(Debug, Default)]
pub struct Walk {
    checked: Checked,
    /// The number of the first record, and what it follows on.
    beginning: Option<(u64, String)>,
    last: Vec<u8>,
}

impl Walk {
    /// The next line, newline included.
    ///
    /// # Errors
    /// Why it does not follow on the one before, or is no record.
    pub fn line(&mut self, line: &[u8]) -> Result<(), String> {
        let link = self.beginning.is_some().then_some(&self.checked.link);
        let frame = Frame::of(line, link)?;
        if self.beginning.is_none() {
            self.beginning = Some((frame.seq, frame.prev.to_owned()));
        }
        self.checked.link = Link { seq: frame.seq, hash: frame.hash.to_owned(), latest: None };
        self.checked.records += 1;
        self.last.clear();
        self.last.extend_from_slice(line);
        if is_notable(line) {
            self.checked.notable.extend(serde_json::from_slice::<Record>(line).ok());
        }
        Ok(())
    }

    /// The number of the last sound record.
    pub fn seq(&self) -> u64 {
        self.checked.link.seq
    }

    /// What was found, with the first line that was not sound, if any was not, and whether it was only torn. `told` are the
    /// removals of files that are told anywhere, sound or not.
    pub fn end(self, fault: Option<(Fault, bool)>, told: impl FnOnce() -> Vec<Retired>) -> Checked {
        let mut checked = self.checked;
        if !is_notable(&self.last) {
            checked.notable.extend(serde_json::from_slice::<Record>(&self.last).ok());
        }
        if let Some((seq, prev)) = self.beginning {
            checked.first = seq;
            // Behind a fault nothing is trusted; but that fault is the first one only if somewhere the removal is told.
            let told = match fault {
                Some(_) => told(),
                None => checked.notable.iter().filter_map(|record| record.retired.clone()).collect(),
            };
            if let Some(fault) = missing(seq, &prev, &told) {
                return Checked { fault: Some(fault), ..Checked::default() };
            }
        }
        (checked.fault, checked.torn) = fault.map_or((None, false), |(fault, torn)| (Some(fault), torn));
        checked
    }
}

/// Lines with their newline; the last may lack it.
fn lines(bytes: &[u8]) -> impl Iterator<Item = &[u8]> {
    let mut rest = bytes;
    std::iter::from_fn(move || {
        let end = memchr::memchr(b'\n', rest).map_or(rest.len(), |newline| newline + 1);
        let (line, after) = rest.split_at(end);
        rest = after;
        (!line.is_empty()).then_some(line)
    })
}

/// Whether these are the lower-case hex digits of those bytes.
fn is_hex_of(digits: &[u8], bytes: &[u8]) -> bool {
    const HEX: &[u8; 16] = b"0123456789abcdef";
    let fits =
        |(pair, byte): (&[u8], &u8)| pair[0] == HEX[usize::from(byte >> 4)] && pair[1] == HEX[usize::from(byte & 15)];
    digits.len() == 2 * bytes.len() && digits.chunks_exact(2).zip(bytes).all(fits)
}

/// Whether a line tells of a key, a stamp or a removed file: by its end, where these keys stand.
fn is_notable(line: &[u8]) -> bool {
    let end = &line[line.len().saturating_sub(700)..];
    let has = |key: &[u8]| memchr::memmem::find(end, key).is_some();
    has(b"\"stamp\":{") || has(b"\"retired\":{")
}

/// What is wrong with a trail that begins with that record, if anything is.
fn missing(seq: u64, prev: &str, told: &[Retired]) -> Option<Fault> {
    let is_told = told.iter().any(|retired| retired.records[1] + 1 == seq && retired.hash == prev);
    let is_first_of_all = seq == 1 && prev == GENESIS;
    (!is_first_of_all && !is_told).then(|| {
        let what = format!("records 1 to {} are missing, and none tells that they were removed", seq.saturating_sub(1));
        Fault { file: 0, line: 1, seq: 1, what }
    })
}

/// What binds a line into the chain.
struct Frame<'l> {
    seq: u64,
    prev: &'l str,
    hash: &'l str,
}

impl<'l> Frame<'l> {
    /// Of a line that follows on `link`; the first that there is follows on whatever it names.
    fn of(line: &'l [u8], link: Option<&Link>) -> Result<Frame<'l>, String> {
        let line = line.strip_suffix(b"\n").ok_or("the last line is torn: its end is missing")?;
        let cut =
            line.len().checked_sub(HASH_KEY.len() + HASH_DIGITS + 2).ok_or("the line is too short for a record")?;
        let (signed, rest) = line.split_at(cut);
        let digits = rest
            .strip_prefix(HASH_KEY)
            .and_then(|rest| rest.strip_suffix(b"\"}"))
            .ok_or("the line does not end with its hash")?;
        if !is_hex_of(digits, &Sha256::digest(signed)) {
            return Err("its bytes do not match its hash: the record was changed".to_owned());
        }
        let text = |bytes: &'l [u8]| str::from_utf8(bytes).ok();
        let seq = signed.strip_prefix(b"{\"seq\":").and_then(|rest| rest.split(|byte| *byte == b',').next());
        let seq = seq.and_then(text).and_then(|digits| digits.parse().ok());
        let prev = signed.strip_suffix(b"\"").and_then(|rest| rest.get(rest.len().checked_sub(HASH_DIGITS)?..));
        let (Some(seq), Some(prev), Some(hash)) = (seq, prev.and_then(text), text(digits)) else {
            return Err("it is not a record: its number or the hash before it is missing".to_owned());
        };
        match link {
            Some(link) if prev != link.hash => {
                Err("it does not follow the record before it: one was removed, inserted or moved".to_owned())
            }
            Some(link) if seq != link.seq + 1 => Err(format!("its number is {seq}, and {} was due", link.seq + 1)),
            _ => Ok(Frame { seq, prev, hash }),
        }
    }
}

/// One line, which follows on `link`; the first that there is follows on whatever it names.
fn one(line: &[u8], link: Option<&Link>) -> Result<Record, String> {
    Frame::of(line, link)?;
    serde_json::from_slice(line).map_err(|error| format!("it is not a record: {error}"))
}

/// What a writer has to cut from the end of a file before it may append.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Repair {
    /// How many bytes stay.
    pub keep: usize,
    /// The torn bytes, as text.
    pub cut: String,
}

/// The end of a file for a writer: the link to chain to, if it has a record, and the torn bytes behind it, if a crash left
/// any.
///
/// # Errors
/// The last whole line is not a record whose hash is right: nothing may be appended to that.
pub fn tail(bytes: &[u8]) -> Result<(Option<Link>, Option<Repair>), String> {
    let keep = bytes.iter().rposition(|byte| *byte == b'\n').map_or(0, |newline| newline + 1);
    let repair = (keep < bytes.len())
        .then(|| Repair { keep, cut: crate::text::clean(&bytes[keep..]).chars().take(4096).collect() });
    if keep == 0 {
        return Ok((None, repair));
    }
    let start = bytes[..keep - 1].iter().rposition(|byte| *byte == b'\n').map_or(0, |newline| newline + 1);
    let record = one(&bytes[start..keep], None).map_err(|what| format!("its last record is not sound: {what}"))?;
    Ok((Some(Link::after(&record)), repair))
}

/// The place of the first line of a file, in bytes, whose record reaches that time; the file's length where none does.
/// Found by halving: a line here and there is read, not all.
pub fn find_time(bytes: &[u8], since: Timestamp) -> usize {
    let line_at =
        |place: usize| bytes[..place].iter().rposition(|byte| *byte == b'\n').map_or(0, |newline| newline + 1);
    let line_end =
        |start: usize| bytes[start..].iter().position(|byte| *byte == b'\n').map_or(bytes.len(), |end| start + end + 1);
    let (mut low, mut high) = (0, bytes.len());
    while low < high {
        let start = line_at(low + (high - low) / 2).max(low);
        let end = line_end(start);
        // A line that cannot be read is for `verify` to name: it is taken along.
        let reached = serde_json::from_slice::<Reached>(&bytes[start..end]).ok();
        match reached.is_some_and(|reached| reached.latest.unwrap_or(reached.at) < since) {
            true => low = end,
            false => high = start,
        }
    }
    low
}

/// Whether a line, by how it begins, was recorded while the clock was behind what it had been (a record's `latest`).
pub fn clock_was_behind(line: &[u8]) -> bool {
    let number = line.strip_prefix(b"{\"seq\":").unwrap_or_default();
    let after = number.iter().position(|byte| !byte.is_ascii_digit()).unwrap_or(number.len());
    number[after..].starts_with(b",\"latest\":")
}

#[derive(serde::Deserialize)]
struct Reached {
    at: Timestamp,
    #[serde(default)]
    latest: Option<Timestamp>,
}
