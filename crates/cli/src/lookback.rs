//! The lookback on disk: the last days of this machine in pieces, each a recording by itself. The running watcher writes
//! them; commands that look read them.

use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

use sophron_core::order::InOrder;

const ENDING: &str = ".jsonl.zst";
const FORM: &str = "%Y%m%dT%H%M%S.%3f";

/// One piece.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Piece {
    pub path: PathBuf,
    /// When it begins, by its name.
    pub begun: Timestamp,
    pub size: u64,
}

pub fn folder(state: &Path) -> PathBuf {
    state.join("lookback")
}

/// The name of a piece that begins then.
pub fn name(begun: Timestamp) -> String {
    format!("{}{ENDING}", begun.to_zoned(TimeZone::UTC).strftime(FORM))
}

/// The pieces that are there, the oldest first. Other files are left alone.
pub fn pieces(state: &Path) -> io::Result<Vec<Piece>> {
    let mut pieces = Vec::new();
    for entry in std::fs::read_dir(folder(state))? {
        let entry = entry?;
        let begun = entry.file_name().to_str().and_then(|name| begun(name.strip_suffix(ENDING)?));
        let Some(begun) = begun else { continue };
        // One that was removed meanwhile is none.
        let Ok(data) = entry.metadata() else { continue };
        if data.is_file() {
            pieces.push(Piece { path: entry.path(), begun, size: data.len() });
        }
    }
    pieces.order_by_key(|piece| piece.begun);
    Ok(pieces)
}

fn begun(name: &str) -> Option<Timestamp> {
    let at = DateTime::strptime(FORM, name).ok()?;
    at.to_zoned(TimeZone::UTC).ok().map(|at| at.timestamp())
}

/// Removes what is older than `keep`, and the oldest until no more than `most` bytes are left. A piece is as old as its
/// newest sample: that is where the next one begins.
pub fn prune(state: &Path, keep: Duration, most: u64, now: Timestamp) -> io::Result<()> {
    let pieces = pieces(state)?;
    let oldest = SignedDuration::try_from(keep).ok().and_then(|keep| now.checked_sub(keep).ok());
    let mut total: u64 = pieces.iter().map(|piece| piece.size).sum();
    let ends = pieces.iter().skip(1).map(|piece| piece.begun);
    for (piece, end) in pieces.iter().zip(ends) {
        if total <= most && oldest.is_none_or(|oldest| end >= oldest) {
            break;
        }
        std::fs::remove_file(&piece.path)?;
        total -= piece.size;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_oldest_pieces_go_first_and_the_newest_stays() {
        let state = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder(state.path())).unwrap();
        let now: Timestamp = "2026-11-23T12:00:00Z".parse().unwrap();
        let begun: Vec<Timestamp> = (0..6).map(|hours| now - SignedDuration::from_hours(6 - hours)).collect();
        for at in &begun {
            std::fs::write(folder(state.path()).join(name(*at)), [0; 1000]).unwrap();
        }
        std::fs::write(folder(state.path()).join("notes.txt"), "mine").unwrap();
        let left = || pieces(state.path()).unwrap().iter().map(|piece| piece.begun).collect::<Vec<_>>();
        assert_eq!(left(), begun);
        let hours = |hours: u64| Duration::from_secs(hours * 3600);
        prune(state.path(), hours(72), 1 << 20, now).unwrap();
        assert_eq!(left(), begun);
        // The one that begins at 8:00 has samples until 9:00.
        prune(state.path(), Duration::from_secs(3 * 3600 + 60), 1 << 20, now).unwrap();
        assert_eq!(left(), begun[2..]);
        prune(state.path(), hours(72), 2500, now).unwrap();
        assert_eq!(left(), begun[4..]);
        prune(state.path(), Duration::ZERO, 10, now).unwrap();
        assert_eq!(left(), begun[5..]);
        assert!(folder(state.path()).join("notes.txt").exists());
    }
}
