//! What the watcher keeps on disk, and for how long: `[lookback]`.

use std::time::Duration;

use super::options::table;
use super::section::{Keys, Section, Source};
use crate::diag::Diagnostic;
use crate::units::parse_size;

const LOOKBACK: Keys = Keys { known: &["keep", "most", "every"], pending: &[] };

const SECOND: Duration = Duration::from_secs(1);
const DAY: Duration = Duration::from_secs(86_400);

/// Smallest that the lookback may be held to, bytes.
const LEAST: u64 = 1 << 20;

/// The last days of the machine, kept by the watcher.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Lookback {
    /// How far back; zero for not at all.
    pub keep: Duration,
    /// At most so many bytes on disk.
    pub most: u64,
    /// A sample this often.
    pub every: Duration,
}

impl Default for Lookback {
    fn default() -> Self {
        Lookback { keep: 3 * DAY, most: 300 << 20, every: 10 * SECOND }
    }
}

/// `[lookback]`.
pub(super) fn lookback(source: &mut Source<'_>, section: &Section<'_>) -> Lookback {
    let mut lookback = Lookback::default();
    let Some(section) = table(source, section, "lookback", "[lookback]", "{ keep = \"3d\", most = \"300 MiB\" }")
    else {
        return lookback;
    };
    source.only(&section, &LOOKBACK);
    let keep = source.duration(&section, "keep", [Duration::ZERO, 366 * DAY], "\"3d\"");
    let every = source.duration(&section, "every", [SECOND, 600 * SECOND], "\"10s\"");
    (lookback.keep, lookback.every) = (keep.unwrap_or(lookback.keep), every.unwrap_or(lookback.every));
    if let Some(text) = source.text(&section, "most", "\"300 MiB\"") {
        match parse_size(&text.value) {
            Ok(most) if most >= LEAST => lookback.most = most,
            _ => source.error(
                Diagnostic::at(text.span, "`most` is a size of at least 1 MiB", "not that")
                    .help("write `most = \"300 MiB\"`"),
            ),
        }
    }
    lookback
}
