//! What a process is called, and what of that is proven.

use std::collections::HashMap;
use std::fs;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};

use rustix::fs::AtFlags;
use sophron_core::interpreter::{Runs, is_interpreter, runs, shortened};
use sophron_core::model::Basis;
use sophron_core::text;

use crate::files;
use crate::program::Standing;

/// The part of a process that changes only with an exec.
#[derive(Debug, Clone)]
pub(super) struct Identity {
    pub app: String,
    /// Unread: it runs a script, and which one was not to be read: `app` is the kernel's short name.
    pub app_rests_on: Basis,
    pub path: Option<String>,
    pub path_rests_on: Basis,
    pub replaced: bool,
    pub command: Option<String>,
}

/// Where the kernel says that a file has no name in any folder (memfd_create(2)).
const ANONYMOUS: &[u8] = b"/memfd:";

impl Identity {
    /// From its short name, its folder in /proc, the link to its file, and its command line, if that could be read. What is
    /// not to be proven counts as a claim; otherwise `prove` knows which folders are safe.
    pub fn new(
        name: &[u8],
        folder: &Path,
        link: Option<PathBuf>,
        cmdline: Option<&[u8]>,
        prove: Option<&mut Guarded>,
    ) -> Identity {
        let (path, replaced) = link.map_or((None, false), |link| {
            let (path, replaced) = without_deleted(link);
            (Some(path), replaced)
        });
        let path_proven =
            prove.zip(path.as_deref()).is_some_and(|(guarded, path)| guarded.proves(folder, path, replaced));
        let base = path.as_ref().and_then(|path| path.file_name()).map(|name| text::clean(name.as_bytes()));
        let app_unread = cmdline.is_none() && base.as_deref().is_some_and(is_interpreter);
        let comm = || text::clean(name.strip_prefix(b"memfd:").unwrap_or(name));
        let anonymous = path.as_deref().is_some_and(is_anonymous);
        let runs = base.as_deref().zip(cmdline).and_then(|(base, cmdline)| runs(base, cmdline));
        let app_proven = path_proven && matches!(runs, None | Some(Runs::Text));
        let app = match runs {
            Some(Runs::Script(name)) => name,
            Some(Runs::Nameless) => comm(),
            Some(Runs::Text) | None => base.filter(|_| !app_unread && !anonymous).unwrap_or_else(comm),
        };
        Identity {
            app: shortened(app),
            app_rests_on: if app_unread { Basis::Unread } else { Basis::proven(app_proven && !anonymous) },
            path: path.map(|path| text::clean(path.as_os_str().as_bytes())),
            path_rests_on: Basis::proven(path_proven),
            replaced: replaced && !anonymous,
            command: cmdline.filter(|cmdline| !cmdline.is_empty()).map(text::command_line),
        }
    }
}

/// Cuts ` (deleted)` off: the file was replaced or removed since the start, and the old name still says what it is.
fn without_deleted(link: PathBuf) -> (PathBuf, bool) {
    let mut bytes = link.into_os_string().into_vec();
    let replaced = bytes.ends_with(b" (deleted)");
    if replaced {
        bytes.truncate(bytes.len() - b" (deleted)".len());
    }
    (PathBuf::from(std::ffi::OsString::from_vec(bytes)), replaced)
}

/// Which folders nobody but root (or we) can change, and their devices: looked at once a tick.
#[derive(Debug)]
pub(super) struct Guarded {
    folders: HashMap<PathBuf, Option<(u32, u32)>>,
    /// The mounts that we see.
    mounts: Option<PathBuf>,
}

impl Guarded {
    /// For a /proc root.
    pub fn new(root: &Path) -> Guarded {
        Guarded { folders: HashMap::new(), mounts: fs::read_link(root.join("self/ns/mnt")).ok() }
    }

    pub fn forget(&mut self) {
        self.folders.clear();
    }

    /// Whether the process whose folder in /proc that is runs the very file that stands at `path`, where nobody but root (or
    /// we) can put another. Of one that was replaced or removed since, that is so where it is root's (or ours) itself, on the
    /// disk of its folder, and seen by the mounts that we see: nobody else can have put it there. A mount namespace of one's
    /// own can show any path.
    fn proves(&mut self, process: &Path, path: &Path, replaced: bool) -> bool {
        let Some(running) = Standing::of(&process.join("exe"), AtFlags::empty()) else { return false };
        let Some(folder) = path.parent().filter(|_| running.is_guarded()) else { return false };
        let device = || Standing::of(folder, AtFlags::empty()).map(|folder| folder.device);
        let look = || files::is_guarded_folder(folder).then(device);
        let known = self.folders.get(folder).copied();
        let device = known.unwrap_or_else(|| *self.folders.entry(folder.to_owned()).or_insert(look().flatten()));
        let Some(device) = device else { return false };
        match replaced {
            true => {
                let mounts = fs::read_link(process.join("ns/mnt")).ok();
                device == running.device && mounts.is_some() && mounts == self.mounts
            }
            false => Standing::of(path, AtFlags::SYMLINK_NOFOLLOW)
                .is_some_and(|standing| (standing.device, standing.inode) == (running.device, running.inode)),
        }
    }
}

/// What a program that is no interpreter is called, by the link to its file.
pub(super) fn app_of(link: &Path) -> String {
    let (path, _) = without_deleted(link.to_owned());
    path.file_name().map(|name| shortened(text::clean(name.as_bytes()))).unwrap_or_default()
}

/// Whether what it is called does not follow from its file: it runs a script, or a file without a name.
pub(super) fn is_named_elsewhere(link: Option<&Path>) -> bool {
    let base = link.and_then(Path::file_name).map(|name| text::clean(name.as_bytes()));
    base.is_some_and(|base| is_interpreter(&base)) || link.is_some_and(is_anonymous)
}

fn is_anonymous(link: &Path) -> bool {
    link.as_os_str().as_bytes().starts_with(ANONYMOUS)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_has_no_name_of_its_own_goes_by_the_kernels_short_one() {
        let app = |link: &str, cmdline: &[u8]| {
            let identity =
                Identity::new(b"mill", Path::new("/proc/none"), Some(PathBuf::from(link)), Some(cmdline), None);
            (identity.app, identity.app_rests_on == Basis::Claim)
        };
        let mill = ("mill".to_owned(), true);
        assert_eq!(app("/memfd:press (deleted)", b"press\0"), mill);
        assert_eq!(app("/usr/bin/bash", b"bash\0/dev/fd/63\0"), mill);
        assert_eq!(app("/usr/bin/bash", b"bash\0-ec\0while :; do :; done\0").0, "bash");
        assert_eq!(app("/usr/bin/python3.11", b"python3\0-X\0dev\0/srv/svc.py\0").0, "svc.py");
        assert_eq!(app(&format!("/opt/{}", "x".repeat(200)), b"").0, "x".repeat(64));
    }

    #[test]
    fn a_replaced_file_keeps_its_name() {
        let (path, replaced) = without_deleted(PathBuf::from("/opt/fernpanel (deleted)"));
        assert_eq!((path.as_path(), replaced), (Path::new("/opt/fernpanel"), true));
    }
}
