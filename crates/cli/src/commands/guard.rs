//! The guard of one suspension: started by the watcher, never by hand.

use std::os::fd::AsFd;
use std::os::unix::net::UnixStream;

use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use sophron_linux::guard;

use crate::exit::{Exit, Failure};

pub fn run() -> Result<Exit, Failure> {
    let failed = |error: std::io::Error| Failure::new(Exit::Failed, "the guard cannot watch").because(error);
    let (stop, told) = UnixStream::pair().map_err(failed)?;
    for signal in [SIGTERM, SIGINT, SIGHUP] {
        let told = told.try_clone().map_err(failed)?;
        signal_hook::low_level::pipe::register(signal, told).map_err(failed)?;
    }
    guard::serve(std::io::stdin().as_fd(), stop.as_fd()).map_err(failed)?;
    Ok(Exit::Fine)
}
