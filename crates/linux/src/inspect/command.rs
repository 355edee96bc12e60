//! The command line as it is, for who asks for it by name.

use std::fs;
use std::time::Duration;

use sophron_core::model::ProcessId;
use sophron_core::text;

/// How long a command line is waited for: a process that hangs may hang whoever asks for it.
const PATIENCE: Duration = Duration::from_millis(40);

/// The command line of a process as it is, made harmless, secrets included (`/proc/PID/cmdline`). `None` when it is another
/// process by now, or cannot be read.
pub fn command_line(id: &ProcessId) -> Option<String> {
    let pid = id.pid;
    let bytes = crate::patience::within(PATIENCE, move || fs::read(format!("/proc/{pid}/cmdline")))?.ok()?;
    // Read first, identified afterwards: the number was not another's in between.
    crate::handle::Handle::open(id).ok()?;
    Some(text::unmasked_command_line(&bytes))
}
