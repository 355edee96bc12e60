//! Asking what may never answer: a file on a network disk that is gone, a file that hangs its reader.

use std::sync::mpsc::{Receiver, channel};
use std::thread::Builder;
use std::time::Duration;

/// The answer of `ask`, if it comes within that time. It is asked by a thread that can be done without: one that never
/// gets its answer waits on, and ends with the program. `None` also where no thread can be started any more.
pub fn within<T: Send + 'static>(patience: Duration, ask: impl FnOnce() -> T + Send + 'static) -> Option<T> {
    beside(ask).within(patience)
}

/// The same, asked while something else is done.
pub fn beside<T: Send + 'static>(ask: impl FnOnce() -> T + Send + 'static) -> Asked<T> {
    let (sender, answer) = channel();
    // Without a thread nobody sends: there is no answer.
    let _ = Builder::new().name("asking".to_owned()).spawn(move || sender.send(ask()));
    Asked(answer)
}

/// What is being asked.
#[derive(Debug)]
pub struct Asked<T>(Receiver<T>);

impl<T> Asked<T> {
    /// The answer, if it comes within that time from now.
    pub fn within(self, patience: Duration) -> Option<T> {
        self.0.recv_timeout(patience).ok()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_does_not_answer_is_left_behind() {
        assert_eq!(within(Duration::from_secs(10), || 7), Some(7));
        let (held, hangs) = channel::<()>();
        assert_eq!(within(Duration::from_millis(5), move || hangs.recv().is_err()), None);
        drop(held);
    }
}
