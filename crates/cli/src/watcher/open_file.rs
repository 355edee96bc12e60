//! What is open, kept for the next run: a thread that writes the newest state to `open.json`, and has it on disk.

use std::path::Path;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use sophron_core::open::Open;
use sophron_core::text::with_causes;
use sophron_linux::files;

/// The name of the file in the state folder.
const NAME: &str = "open.json";

/// Largest that is read, bytes.
const LARGEST: u64 = 64 << 20;

/// After writing it rests for so many times as long as that took, and so that it writes no more than so many bytes a second: whoever
/// brings forth case after case does not fill the disk's time. A kill right after an act is to find it written.
const RESTS: u32 = 5;
const BYTES_A_SECOND: f64 = 512.0 * 1024.0;

/// But never for longer.
const LONGEST_REST: Duration = Duration::from_millis(500);

/// Told when it is on disk, or why it is not.
pub type Then = Box<dyn FnOnce(Result<(), String>) + Send>;

/// The thread.
pub struct OpenFile {
    jobs: Option<Sender<(Open, Option<Then>)>>,
    thread: Option<JoinHandle<()>>,
}

impl OpenFile {
    /// Starts it.
    ///
    /// # Errors
    /// No thread can be started.
    pub fn start(state: &Path, failed: impl Fn(String) + Send + 'static) -> std::io::Result<OpenFile> {
        let (jobs, incoming) = channel();
        let path = state.join(NAME);
        let run = move || keep(&path, &incoming, &failed);
        let thread = std::thread::Builder::new().name("open".to_owned()).spawn(run)?;
        Ok(OpenFile { jobs: Some(jobs), thread: Some(thread) })
    }

    /// The newest state, and who waits for it to be on disk.
    pub fn put(&self, open: Open, then: Option<Then>) {
        if let Some(jobs) = &self.jobs {
            // It ends only after us.
            let _ = jobs.send((open, then));
        }
    }

    /// Writes what is left.
    pub fn end(mut self) {
        self.jobs = None;
        // A panic in it has been printed.
        let _ = self.thread.take().map(JoinHandle::join);
    }
}

fn keep(path: &Path, incoming: &Receiver<(Open, Option<Then>)>, failed: &dyn Fn(String)) {
    let mut said = None;
    while let Ok((open, then)) = incoming.recv() {
        let (mut newest, mut waiting) = (open, Vec::from_iter(then));
        for (open, then) in incoming.try_iter() {
            newest = open;
            waiting.extend(then);
        }
        let began = Instant::now();
        let written = serde_json::to_vec(&newest).map_err(|error| error.to_string());
        let size = written.as_ref().map_or(0, Vec::len);
        let written =
            written.and_then(|bytes| files::replace_durably(path, &bytes).map_err(|error| with_causes(&error)));
        if let Err(why) = &written
            && said.as_ref() != Some(why)
        {
            failed(why.clone());
        }
        said = written.as_ref().err().cloned();
        let urgent = !waiting.is_empty();
        waiting.into_iter().for_each(|then| then(written.clone()));
        if !urgent {
            let rest = (began.elapsed() * RESTS).max(Duration::from_secs_f64(size as f64 / BYTES_A_SECOND));
            std::thread::sleep(rest.min(LONGEST_REST));
        }
    }
}

/// What an earlier run has left; none where there is none.
///
/// # Errors
/// It cannot be read: why.
pub fn read(state: &Path) -> Result<Option<Open>, String> {
    let bytes = match files::read_trusted(&state.join(NAME), LARGEST) {
        Ok(bytes) => bytes,
        Err(error) if error.is_missing() => return Ok(None),
        Err(error) => return Err(with_causes(&error)),
    };
    Open::read(&bytes).map(Some)
}
