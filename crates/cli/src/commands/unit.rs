//! A unit of a user's own service manager, started anew as that user, who has asked for it: started by the watcher, never by hand.

use std::io::{Read, Write};

use sophron_linux::service_manager;

use crate::exit::{Exit, Failure};

/// Longest that it is told, bytes.
const LONGEST: u64 = 64 * 1024;

pub fn run() -> Result<Exit, Failure> {
    super::by_the_watcher("`sophron restart TARGET` starts a unit anew")?;
    let failed = |error: std::io::Error| Failure::new(Exit::Failed, "the unit cannot be started anew").because(error);
    let mut told = Vec::new();
    std::io::stdin().lock().take(LONGEST).read_to_end(&mut told).map_err(failed)?;
    let said = service_manager::restart_for_another(&told).map_err(failed)?;
    std::io::stdout().lock().write_all(&said).map_err(failed)?;
    Ok(Exit::Fine)
}
