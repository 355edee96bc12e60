//! One look at every process, while an act waits for it.

use std::io;
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread::Builder;

use crate::handle::is_gone;
use crate::sampler::Files;

/// Of so many processes one thread reads a file of each: a millisecond's work.
const OF_ONE_THREAD: usize = 100;

/// Most threads that do so at once, on however few cores: of two the kernel often leaves the second on the first one's core until it is
/// all over, and of more at least one finds its way to another.
const MOST_THREADS: usize = 3;

/// So many are taken at a time, so that whoever is held up has little left to do.
const AT_A_TIME: usize = 16;

/// What `see` sees of every process in `/proc`, by several threads where there are many, each with a memory of its own; and the error
/// where somebody could not be read for want of descriptors or memory: who was seen is not everybody then. Of whom is gone there is
/// nothing to see, and what may not be read is another user's.
pub(crate) fn of_each<M: Default, T: Send>(
    see: impl Fn(&mut Files, u32, &mut M) -> io::Result<Option<T>> + Sync,
) -> (Vec<T>, Option<io::Error>) {
    let (pids, mut files) = match open().and_then(|files| Ok((files.pids()?, files))) {
        Ok(found) => found,
        Err(error) => return (Vec::new(), Some(error)),
    };
    let next = AtomicUsize::new(0);
    let look = |files: &mut Files| {
        let (mut seen, mut memory) = (Vec::new(), M::default());
        while let Some(left) = pids.get(next.fetch_add(AT_A_TIME, Ordering::Relaxed)..) {
            for pid in left.iter().take(AT_A_TIME) {
                match see(files, *pid, &mut memory) {
                    Ok(found) => seen.extend(found),
                    Err(error) if is_gone(&error) || error.kind() == io::ErrorKind::PermissionDenied => {}
                    Err(error) => return (seen, Some(error)),
                }
            }
        }
        (seen, None)
    };
    std::thread::scope(|scope| {
        let mut others = Vec::new();
        for _ in 1..pids.len().div_ceil(OF_ONE_THREAD).min(MOST_THREADS) {
            // Where no more can be had, those there are do it all.
            let Ok(mut files) = open() else { break };
            let look = &look;
            match Builder::new().name("look".to_owned()).spawn_scoped(scope, move || look(&mut files)) {
                Ok(other) => others.push(other),
                Err(_) => break,
            }
        }
        let (mut seen, mut error) = look(&mut files);
        for other in others {
            // A panic in it has been printed.
            let (more, theirs) = other.join().unwrap_or((Vec::new(), Some(io::ErrorKind::Other.into())));
            seen.extend(more);
            error = error.or(theirs);
        }
        (seen, error)
    })
}

fn open() -> io::Result<Files> {
    Files::new(Path::new("/proc")).map_err(|error| error.source)
}
