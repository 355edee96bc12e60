//! Whoever is in the middle of an exec(2). He holds a lock of his own meanwhile, and closes files under it: one on a file system that does
//! not answer keeps him there for good. What asks for that lock (`stat`, `io`, `environ`, `maps`, every link, on new kernels; proc(5)
//! names none of it) waits for as long, so `statm`, which asks for nothing, is read first.

use std::fs;
use std::io;
use std::time::Duration;

use crate::proc::number;

/// Whether whose `statm` that is has an address space and no program in it yet. Nobody can look like that at will: the end of a program's
/// code is behind its beginning (PR_SET_MM_END_CODE, prctl(2)).
pub(crate) fn is_under_way(statm: &[u8]) -> bool {
    let mut fields = statm.split(|byte| *byte == b' ');
    let size = fields.next().and_then(number::<u64>);
    let code = fields.nth(2).and_then(number::<u64>);
    size.is_some_and(|size| size > 0) && code == Some(0)
}

/// Whether what he holds may be asked for, by his `statm`.
///
/// # Errors
/// He is in the middle of an exec: nothing is known of him now.
pub(crate) fn check(statm: &[u8]) -> io::Result<()> {
    let why = "it is in the middle of starting another program";
    if is_under_way(statm) { Err(io::Error::new(io::ErrorKind::ResourceBusy, why)) } else { Ok(()) }
}

/// An exec that ends takes a part of that; whoever wants to know is so patient.
pub(crate) const MOMENT: Duration = Duration::from_millis(1);
const MOMENTS: usize = 20;

/// Whether what he holds may be asked for.
///
/// # Errors
/// He is in the middle of an exec that does not end, or gone.
pub(crate) fn gate(pid: u32) -> io::Result<()> {
    patiently(|| check(&fs::read(format!("/proc/{pid}/statm"))?))
}

/// What that says once it is not that an exec is under way, or after as long as one may take.
pub(crate) fn patiently(mut ask: impl FnMut() -> io::Result<()>) -> io::Result<()> {
    for _ in 0..MOMENTS {
        match ask() {
            Err(error) if is_busy(&error) => std::thread::sleep(MOMENT),
            told => return told,
        }
    }
    ask()
}

/// Whether an error says that.
pub(crate) fn is_busy(error: &io::Error) -> bool {
    error.kind() == io::ErrorKind::ResourceBusy
}

/// A file of a process that an exec could hold up.
///
/// # Errors
/// It cannot be read, or he is in the middle of an exec.
pub(crate) fn read(pid: u32, file: &str) -> io::Result<Vec<u8>> {
    gate(pid)?;
    fs::read(format!("/proc/{pid}/{file}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_process_without_a_program_is_starting_one() {
        assert!(is_under_way(b"1 1 0 0 0 1 0\n") && is_under_way(b"512 30 0 0 0 12 0\n"));
        assert!(!is_under_way(b"0 0 0 0 0 0 0\n"), "a kernel thread, or a zombie");
        assert!(!is_under_way(b"907 308 281 1 0 377 0\n") && !is_under_way(b""));
        assert!(gate(std::process::id()).is_ok());
    }
}
