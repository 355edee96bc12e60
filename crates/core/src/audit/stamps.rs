//! Stamps: signatures (Ed25519) over everything recorded so far.
//!
//! A chain alone can be computed anew by whoever can write the file. A stamp is signed with a key that is destroyed at once,
//! after it has named the next: who takes the machine over later has no key for the past.

use ed25519_dalek::{Signature, Signer, SigningKey, VerifyingKey};

use super::about::StampRecord;
use super::chain::{Fault, Link};
use super::record::Record;
use super::words::Kind;
use crate::text::hex;

/// Bytes of a private key.
pub const SEED: usize = 32;

/// A private key, used once.
pub struct Key(SigningKey);

impl std::fmt::Debug for Key {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Key of {}", self.public())
    }
}

impl Key {
    /// From random bytes.
    pub fn new(seed: [u8; SEED]) -> Key {
        Key(SigningKey::from_bytes(&seed))
    }

    /// What it was made from, to be kept until it is used.
    pub fn seed(&self) -> [u8; SEED] {
        self.0.to_bytes()
    }

    /// Its public half, lower-case hex.
    pub fn public(&self) -> String {
        hex(&self.0.verifying_key().to_bytes())
    }

    /// The stamp on everything up to `link`. The key must not be used again.
    pub fn stamp(&self, number: u64, link: &Link, next: &Key) -> StampRecord {
        let next = next.public();
        let signature = hex(&self.0.sign(&signed(number, link.seq, &link.hash, &next)).to_bytes());
        StampRecord { number, key: self.public(), next, signature }
    }
}

/// A key that begins: nothing vouches for it yet.
pub fn begun(next: &Key) -> StampRecord {
    StampRecord { number: 0, key: String::new(), next: next.public(), signature: String::new() }
}

fn signed(number: u64, seq: u64, hash: &str, next: &str) -> Vec<u8> {
    format!("sophron stamp {number} on record {seq} {hash} next {next}").into_bytes()
}

/// What the stamps of a trail show.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Stamps {
    /// How many.
    pub count: u64,
    /// The number and the hash of the record of the last one.
    pub last: Option<(u64, String)>,
    /// The public key with which the present line of stamps begins.
    pub first_key: Option<String>,
    /// Records at which a key began anew although there had been one: what stands before is vouched for by the stamps
    /// before only.
    pub begun_anew: Vec<u64>,
    /// A record that tells of a removal for which no stamp vouches. A writer signs before it removes.
    pub unsigned_removal: Option<u64>,
}

/// Checks the stamps of records whose chain is sound. With `key` one of them must be by that key, or name it, and none that
/// follows may be by another line; with `expect` the stamp whose record has that hash must be there.
///
/// # Errors
/// The first record that does not fit, or what is missing.
pub fn check(records: &[Record], key: Option<&str>, expect: Option<&str>) -> Result<Stamps, Fault> {
    let mut seen = Stamps::default();
    let mut due: Option<(u64, String)> = None;
    let mut known_key = key.is_none();
    let fault = |record: &Record, what: &str| Fault { file: 0, line: 0, seq: record.seq, what: what.to_owned() };
    for record in records {
        let Some(stamp) = &record.stamp else { continue };
        match record.kind {
            Kind::KeyBegun => {
                if due.is_some() {
                    seen.begun_anew.push(record.seq);
                    if known_key && key.is_some() {
                        return Err(fault(
                            record,
                            "a key begins anew here: nothing after it is by the key that was given",
                        ));
                    }
                }
                seen.first_key = Some(stamp.next.clone());
            }
            Kind::Stamp => {
                follows(record, stamp, due.as_ref()).map_err(|what| fault(record, what))?;
                seen.first_key.get_or_insert_with(|| stamp.key.clone());
                seen.count += 1;
                seen.last = Some((record.seq, record.hash.clone()));
            }
            _ => continue,
        }
        known_key = known_key || key == Some(stamp.key.as_str()) || key == Some(stamp.next.as_str());
        due = Some((stamp.number + 1, stamp.next.clone()));
    }
    let end = records.last().map_or(0, |record| record.seq);
    let signed = seen.last.as_ref().map_or(0, |(seq, _)| *seq);
    seen.unsigned_removal =
        records.iter().find(|record| record.retired.is_some() && record.seq > signed).map(|record| record.seq);
    if let Some(seq) = seen.unsigned_removal.filter(|_| key.is_some() || expect.is_some()) {
        let what =
            "it tells that older records were removed, and no stamp vouches for that: anybody could have written it";
        return Err(Fault { file: 0, line: 0, seq, what: what.to_owned() });
    }
    if !known_key {
        let what = "no stamp is by the key that was given: the trail is another one, or was written anew";
        return Err(Fault { file: 0, line: 0, seq: 1, what: what.to_owned() });
    }
    let is_there = |expect: &str| records.iter().any(|record| record.kind == Kind::Stamp && record.hash == expect);
    if expect.is_some_and(|expect| !is_there(expect)) {
        let what = "the stamp that was expected is not there: the end was cut off, or the trail written anew";
        return Err(Fault { file: 0, line: 0, seq: end + 1, what: what.to_owned() });
    }
    Ok(seen)
}

/// Whether a stamp is the one that the stamp before it announced.
fn follows(record: &Record, stamp: &StampRecord, due: Option<&(u64, String)>) -> Result<(), &'static str> {
    match due {
        Some((_, next)) if *next != stamp.key => Err("this stamp is by another key than the one before it named"),
        Some((number, _)) if *number != stamp.number => Err("a stamp before this one is missing"),
        _ if !is_genuine(record, stamp) => {
            Err("the signature of this stamp is not genuine: what is before it was changed")
        }
        _ => Ok(()),
    }
}

fn is_genuine(record: &Record, stamp: &StampRecord) -> bool {
    let genuine = || {
        let key = VerifyingKey::from_bytes(&unhex(&stamp.key)?).ok()?;
        let signature = Signature::from_bytes(&unhex(&stamp.signature)?);
        let message = signed(stamp.number, record.seq.checked_sub(1)?, &record.prev, &stamp.next);
        key.verify_strict(&message, &signature).ok()
    };
    genuine().is_some()
}

/// Bytes from hex digits.
pub fn unhex<const N: usize>(text: &str) -> Option<[u8; N]> {
    let mut bytes = [0; N];
    if text.len() != 2 * N || !text.is_ascii() {
        return None;
    }
    for (place, byte) in bytes.iter_mut().enumerate() {
        *byte = u8::from_str_radix(text.get(2 * place..2 * place + 2)?, 16).ok()?;
    }
    Some(bytes)
}
