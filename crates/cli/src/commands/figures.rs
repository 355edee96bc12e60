//! Figures by HTTP on this machine: started by the watcher, never by hand. Its standard input says behind which fence, and then brings
//! texts; its standard output is the socket that listens.

use std::io::{BufRead, BufReader, Read};
use std::net::TcpListener;
use std::os::fd::AsFd;

use sophron_core::figures::CONTENT_TYPE;
use sophron_linux::fence::Fence;

use crate::exit::{Exit, Failure};

/// Longest line that says behind which fence, bytes.
const LONGEST: u64 = 4096;

pub fn run() -> Result<Exit, Failure> {
    super::by_the_watcher("`[figures]`, `serve = \"127.0.0.1:7411\"` in the rules file")?;
    let failed = |error: std::io::Error| Failure::new(Exit::Failed, "no figures can be served").because(error);
    let mut texts = BufReader::new(std::io::stdin());
    let mut fence = String::new();
    texts.by_ref().take(LONGEST).read_line(&mut fence).map_err(failed)?;
    let fence: Fence = serde_json::from_str(&fence).map_err(|error| failed(error.into()))?;
    let listener = TcpListener::from(std::io::stdout().as_fd().try_clone_to_owned().map_err(failed)?);
    fence.enter().map_err(failed)?;
    sophron_deliver::serve::serve(listener, texts, CONTENT_TYPE).map_err(failed)?;
    Ok(Exit::Fine)
}
