//! `[figures]`: what others' monitoring reads of the watcher.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

use super::keys::{self, Reading};
use super::options::table;
use super::section::{Section, Source};
use crate::diag::Diagnostic;

const SECOND: Duration = Duration::from_secs(1);

/// Where figures are written, and how often.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Figures {
    /// Into this file.
    pub file: Option<PathBuf>,
    /// To whoever asks there: on this machine.
    pub serve: Option<SocketAddr>,
    /// That often.
    pub every: Duration,
}

/// `[figures]`.
pub(super) fn figures(source: &mut Source<'_>, section: &Section<'_>) -> Option<Figures> {
    let example = "\"/run/sophron/figures.txt\"";
    let section = table(source, section, "figures", "[figures]", "{ file = \"/run/sophron/figures.txt\" }")?;
    source.only(&section, &keys::FIGURES, Reading::All);
    let file = source.path(&section, "file", example);
    let example = "\"127.0.0.1:7411\"";
    let serve = source.text(&section, "serve", example).and_then(|text| {
        let here = text.value.parse().ok().filter(|address: &SocketAddr| address.ip().is_loopback());
        if here.is_none() {
            let title = "`serve` is an address of this machine's own, and a port";
            let mend =
                format!("write `serve = {example}`; what is to be read from elsewhere is passed on by another program");
            source.error(Diagnostic::at(text.span, title, "not 127.0.0.1 or [::1] with a port").help(mend));
        }
        here
    });
    if section.get("file").is_none() && section.get("serve").is_none() {
        source.missing(&section, "file", "\"/run/sophron/figures.txt\"");
    }
    let every = source.duration(&section, "every", [SECOND, 600 * SECOND], "\"15s\"").unwrap_or(15 * SECOND);
    Some(Figures { file, serve, every })
}
