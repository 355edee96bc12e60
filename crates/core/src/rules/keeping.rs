//! What is kept on disk, how, and for how long: `[lookback]`, `[usage]`, `[audit]`.

use std::time::Duration;

use super::keys::{self, Reading};
use super::options::table;
use super::section::{Section, Source};
use crate::command_lines::CommandLines;
use crate::diag::Diagnostic;
use crate::units::parse_size;

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

/// The history of usage: who used how much, hour by hour, kept by the watcher.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Usage {
    /// How far back; zero for not at all.
    pub keep: Duration,
    /// At most so many bytes on disk.
    pub most: u64,
    /// Whether it is kept whose the programs were.
    pub owners: bool,
    /// The group that may read it.
    pub readers: Option<String>,
}

impl Default for Usage {
    fn default() -> Self {
        Usage { keep: 400 * DAY, most: 200 << 20, owners: true, readers: None }
    }
}

/// How the audit trail is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Audit {
    /// What goes into it of command lines.
    pub command_lines: CommandLines,
    /// The group that may read it.
    pub readers: Option<String>,
    /// A file of that many bytes is followed by a new one.
    pub piece: u64,
    /// Files whose last record is older are removed.
    pub keep: Duration,
    /// So are the oldest while all together have more bytes than that.
    pub most: u64,
    /// It is signed that often.
    pub stamp: Duration,
}

impl Default for Audit {
    fn default() -> Self {
        let (piece, most) = (8 << 20, 1 << 30);
        Audit { command_lines: CommandLines::Masked, readers: None, piece, keep: 400 * DAY, most, stamp: 900 * SECOND }
    }
}

/// `[audit]`.
pub(super) fn audit(source: &mut Source<'_>, section: &Section<'_>) -> Audit {
    let mut audit = Audit::default();
    let Some(section) = table(source, section, "audit", "[audit]", "{ keep = \"400d\" }") else { return audit };
    source.only(&section, &keys::AUDIT, Reading::All);
    if let Some(text) = source.text(&section, "command_lines", "\"masked\"") {
        match CommandLines::ALL.into_iter().find(|way| way.word() == text.value) {
            Some(way) => audit.command_lines = way,
            None => source.error(
                Diagnostic::at(text.span, "`command_lines` is none of its words", "unknown")
                    .help(format!("write one of: {}", CommandLines::ALL.map(CommandLines::word).join(", "))),
            ),
        }
    }
    audit.readers = source.text(&section, "readers", "\"support\"").map(|text| text.value);
    audit.piece = size(source, &section, "piece", [64 << 10, 256 << 20], "64 KiB to 256 MiB").unwrap_or(audit.piece);
    audit.most = size(source, &section, "most", [LEAST, u64::MAX], "1 MiB or more").unwrap_or(audit.most);
    let keep = source.duration(&section, "keep", [DAY, 36_600 * DAY], "\"400d\"");
    let stamp = source.duration(&section, "stamp", [SECOND, 7 * DAY], "\"15m\"");
    (audit.keep, audit.stamp) = (keep.unwrap_or(audit.keep), stamp.unwrap_or(audit.stamp));
    audit
}

fn size(source: &mut Source<'_>, section: &Section<'_>, key: &str, range: [u64; 2], words: &str) -> Option<u64> {
    let text = source.text(section, key, "\"8 MiB\"")?;
    let size = parse_size(&text.value).ok().filter(|size| (range[0]..=range[1]).contains(size));
    if size.is_none() {
        source.error(
            Diagnostic::at(text.span, format!("`{key}` is a size of {words}"), "not that")
                .help(format!("write `{key} = \"8 MiB\"`")),
        );
    }
    size
}

/// `[lookback]`.
pub(super) fn lookback(source: &mut Source<'_>, section: &Section<'_>) -> Lookback {
    let mut lookback = Lookback::default();
    let Some(section) = table(source, section, "lookback", "[lookback]", "{ keep = \"3d\", most = \"300 MiB\" }")
    else {
        return lookback;
    };
    source.only(&section, &keys::LOOKBACK, Reading::All);
    let keep = source.duration(&section, "keep", [Duration::ZERO, 366 * DAY], "\"3d\"");
    let every = source.duration(&section, "every", [SECOND, 600 * SECOND], "\"10s\"");
    (lookback.keep, lookback.every) = (keep.unwrap_or(lookback.keep), every.unwrap_or(lookback.every));
    lookback.most = size(source, &section, "most", [LEAST, u64::MAX], "1 MiB or more").unwrap_or(lookback.most);
    lookback
}

/// `[usage]`. Its readers are let through the same folder as those of the trail: it can be given to one group only.
pub(super) fn usage(source: &mut Source<'_>, section: &Section<'_>, audit: &Audit) -> Usage {
    let mut usage = Usage::default();
    let Some(section) = table(source, section, "usage", "[usage]", "{ keep = \"400d\", most = \"200 MiB\" }") else {
        return usage;
    };
    source.only(&section, &keys::USAGE, Reading::All);
    let keep = source.duration(&section, "keep", [Duration::ZERO, 3660 * DAY], "\"400d\"");
    usage.keep = keep.unwrap_or(usage.keep);
    usage.most = size(source, &section, "most", [LEAST, u64::MAX], "1 MiB or more").unwrap_or(usage.most);
    usage.owners = source.flag(&section, "owners").unwrap_or(usage.owners);
    let readers = source.text(&section, "readers", "\"support\"");
    if let Some(text) = readers.as_ref().filter(|text| audit.readers.as_ref().is_some_and(|other| *other != text.value))
    {
        source.error(
            Diagnostic::at(text.span.clone(), "`readers` of [usage] and of [audit] are two groups", "another group")
                .help("both stand in one folder, which one group can be let into: name the same one"),
        );
    }
    usage.readers = readers.map(|text| text.value);
    usage
}
