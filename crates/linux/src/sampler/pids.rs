//! Which processes there are: a full listing now and then, and between them only the PIDs handed out since.

use std::io;

use super::SLICES;
use super::files::Files;
use super::row::Row;
use crate::sys;

/// A longer range of PIDs is listed, not probed.
const MOST_PROBED: u32 = 4000;

/// What was found.
pub(super) struct Found {
    /// Everybody, in order, if everybody was listed.
    pub all: Option<Vec<u32>>,
    /// Those that were not known.
    pub new: Vec<u32>,
    /// Whether the numbers have begun anew: any may be another one's by now.
    pub anew: bool,
}

#[derive(Debug, Default)]
pub(super) struct Pids {
    last: Option<u32>,
    since_listing: u32,
}

impl Pids {
    /// `handed_out` is the PID that was handed out last (`/proc/loadavg`): what came since stands between the last one
    /// seen and this one, unless the numbers have begun anew.
    pub fn find(&mut self, reader: &Files, live: bool, handed_out: Option<u32>, known: &[Row]) -> io::Result<Found> {
        let range = self.last.zip(handed_out).filter(|(last, now)| live && last <= now && now - last <= MOST_PROBED);
        let anew = live && self.last.zip(handed_out).is_none_or(|(last, now)| last > now);
        self.last = handed_out;
        self.since_listing += 1;
        match range {
            Some((last, now)) if self.since_listing < SLICES => {
                let new = (last + 1..=now).filter(|pid| sys::process_cpu_time(*pid).is_ok()).collect();
                Ok(Found { all: None, new, anew })
            }
            _ => {
                self.since_listing = 0;
                let mut all = reader.pids()?;
                all.sort_unstable();
                let is_new = |pid: &&u32| known.binary_search_by_key(*pid, |row| row.pid).is_err();
                let new = all.iter().filter(is_new).copied().collect();
                Ok(Found { all: Some(all), new, anew })
            }
        }
    }
}
