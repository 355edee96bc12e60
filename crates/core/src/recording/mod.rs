//! Recordings: snapshots as JSON Lines, only what changed. Bytes are an argument: files and compression are elsewhere.
//!
//! The first line is the [`Header`]; every other line is one sample. Keys are the field names, numbers are in base units.
//! A reader takes what it is given for untrusted: texts are made harmless again, numbers checked, counts bounded.

mod ours;
mod read;
mod row;
mod table;
mod write;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

pub use ours::{Asked, Ours, Outcome, identities};
pub use read::{ReadError, Replay};
pub use write::Writer;

use row::Row;

/// The recording format that this version writes.
pub const FORMAT: u32 = 1;

/// Longest line that is read, in bytes.
pub const LONGEST_LINE: usize = 16 * 1024 * 1024;

/// Most values in one line: 20,000 processes have some 600,000.
const MOST_VALUES: usize = 4_000_000;

/// Most bytes of names that all processes of a sample have together.
const MOST_TEXT: usize = 64 << 20;

/// Longest text that is taken, bytes.
const LONGEST_TEXT: usize = 16 << 10;

/// Most processes in one sample.
const MOST_PROCESSES: usize = 200_000;

/// What the first line says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Header {
    /// Always `recording`.
    pub sophron: String,
    /// The format, 1.
    pub format: u32,
    /// The machine's name.
    pub host: String,
    /// Its boot, as 32 hex digits.
    pub boot: String,
    /// Seconds between two samples.
    pub every: f64,
    /// When it begins.
    pub begun: Timestamp,
    /// The machine's time zone (IANA name), if known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// The user who recorded: what he may not read is missing.
    pub uid: u32,
}

/// One sample, as it is read.
#[derive(Debug, Default, Deserialize)]
struct Line<'l> {
    /// Monotonic clock, milliseconds since the beginning, to the microsecond.
    t: f64,
    /// Boot-time clock likewise, where it is not `t`: after a nap.
    #[serde(default)]
    b: Option<u64>,
    /// Wall-clock time, milliseconds since the beginning, where it is not `b`.
    #[serde(default)]
    w: Option<i64>,
    /// Machine fields that changed.
    #[serde(borrow, default)]
    m: Row<'l>,
    /// Processes that were not there before, whole.
    #[serde(borrow, default)]
    n: Vec<Row<'l>>,
    /// Fields of processes that changed.
    #[serde(borrow, default)]
    c: Vec<(u32, Row<'l>)>,
    /// Processes that are gone.
    #[serde(default)]
    g: Vec<u32>,
    /// What the watcher that recorded was doing.
    #[serde(default)]
    o: Ours,
}
