//! A person's terminals, for whoever has no desktop: a line on each that takes one (write(1), mesg(1): a terminal that its group may
//! write to).

use std::fs::{File, OpenOptions};
use std::io::Write;
use std::os::unix::fs::{FileTypeExt, MetadataExt, OpenOptionsExt};
use std::path::PathBuf;

use sophron_core::telling::Notice;

/// Most terminals that a line is written on.
const MOST: usize = 16;

/// Not to wait, nor to take it as our own (open(2)).
const QUIETLY: i32 = rustix::fs::OFlags::NONBLOCK.union(rustix::fs::OFlags::NOCTTY).bits().cast_signed();

/// Those that take lines.
#[derive(Debug, Default)]
pub struct Terminals(Vec<File>);

impl Terminals {
    /// That user's, as they are now; we have to be that user.
    pub fn of(uid: u32) -> Terminals {
        let consoles = (1..=12).map(|number| PathBuf::from(format!("/dev/tty{number}")));
        let all = std::fs::read_dir("/dev/pts").into_iter().flatten().flatten().map(|entry| entry.path());
        let open = |path: PathBuf| {
            let file = OpenOptions::new().write(true).custom_flags(QUIETLY).open(path).ok()?;
            let about = file.metadata().ok()?;
            // `mesg y`: its group may write to it.
            let takes = about.file_type().is_char_device() && about.uid() == uid && about.mode() & 0o020 != 0;
            takes.then_some(file)
        };
        Terminals(all.chain(consoles).filter_map(open).take(MOST).collect())
    }

    /// Writes it on each; on how many.
    pub(super) fn write(&mut self, notice: &Notice) -> usize {
        let text = text(notice);
        self.0.retain_mut(|terminal| terminal.write_all(text.as_bytes()).is_ok());
        self.0.len()
    }
}

/// In lines of a terminal; names from outside are harmless by now.
fn text(notice: &Notice) -> String {
    let answers: Vec<String> = notice
        .answers
        .iter()
        .map(|(answer, label)| format!("  {label}: sophron answer {} {answer}\r\n", notice.case))
        .collect();
    format!("\r\n\x07Sophron: {}. {}\r\n{}", notice.title, notice.body, answers.concat())
}
