//! The mounted disks: how full they are.

use std::fs::File;
use std::io::{Read, Seek};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use sophron_core::model::Volume;
use sophron_core::text;

/// Kinds that are full by nature.
const IMAGES: [&str; 3] = ["squashfs", "iso9660", "erofs"];

/// A file system that stands on a disk of this machine (proc_pid_mountinfo(5)). Network file systems, which can hang
/// whoever asks them, are not among them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mount {
    point: PathBuf,
    device: String,
    number: u64,
}

/// The mounted disks of `self/mountinfo` under a /proc root, each device once.
pub fn mounted(proc: &Path) -> Vec<Mount> {
    let lines = std::fs::read(proc.join("self/mountinfo")).unwrap_or_default();
    let mut mounts: Vec<Mount> = Vec::new();
    for line in lines.split(|byte| *byte == b'\n').filter_map(parse) {
        if !mounts.iter().any(|known| known.number == line.number) {
            mounts.push(line);
        }
    }
    mounts
}

fn parse(line: &[u8]) -> Option<Mount> {
    let line = str::from_utf8(line).ok()?;
    let (before, after) = line.split_once(" - ")?;
    let mut fields = before.split(' ');
    let (major, minor) = fields.nth(2)?.split_once(':')?;
    let point = PathBuf::from(unescaped(fields.nth(1)?));
    let mut after = after.split(' ');
    let (kind, device) = (after.next()?, after.next()?);
    let number = rustix::fs::makedev(major.parse().ok()?, minor.parse().ok()?);
    let is_disk = device.starts_with("/dev/") && !IMAGES.contains(&kind);
    is_disk.then(|| Mount { point, device: text::clean(device.as_bytes()), number })
}

/// Blanks and backslashes stand as octal numbers in mountinfo.
fn unescaped(point: &str) -> String {
    point.replace("\\040", " ").replace("\\011", "\t").replace("\\134", "\\")
}

impl Mount {
    /// How full it is; `None` where it does not say. It may hang its caller.
    pub fn look(&self) -> Option<Volume> {
        let stat = rustix::fs::statvfs(&self.point).ok()?;
        let used = stat.f_blocks.saturating_sub(stat.f_bfree);
        let size = (used + stat.f_bavail).saturating_mul(stat.f_frsize);
        (size > 0).then(|| Volume {
            point: text::clean(self.point.as_os_str().as_encoded_bytes()),
            device: self.device.clone(),
            size,
            free: stat.f_bavail.saturating_mul(stat.f_frsize),
            number: self.number,
        })
    }
}

/// Kinds of file systems whose other end may not answer.
const REMOTE: [&str; 8] = ["nfs", "cifs", "smb", "fuse", "9p", "ceph", "afs", "glusterfs"];

/// Where file systems are mounted at present that may hang whoever asks them: network disks and those of programs.
#[derive(Debug)]
pub(crate) struct RemotePoints {
    mounts: Option<File>,
    points: Vec<PathBuf>,
}

impl RemotePoints {
    /// Of a /proc root.
    pub fn new(proc: &Path) -> RemotePoints {
        let mut mounts = File::open(proc.join("self/mountinfo")).ok();
        let points = mounts.as_mut().map(points_of).unwrap_or_default();
        RemotePoints { mounts, points }
    }

    /// Whether a path leads into one of them.
    pub fn lead_to(&mut self, path: &Path) -> bool {
        if let Some(mounts) = &mut self.mounts {
            // The kernel tells of every change (proc_pid_mounts(5)).
            let mut changes = [PollFd::new(mounts, PollFlags::PRI)];
            if poll(&mut changes, Some(&Timespec::default())).is_ok_and(|changed| changed > 0) {
                self.points = points_of(mounts);
            }
        }
        self.points.iter().any(|point| path.starts_with(point))
    }
}

fn points_of(mounts: &mut File) -> Vec<PathBuf> {
    let mut lines = Vec::new();
    let _ = mounts.rewind().and_then(|()| mounts.read_to_end(&mut lines));
    let point = |line: &[u8]| {
        let line = str::from_utf8(line).ok()?;
        let (before, after) = line.split_once(" - ")?;
        let remote = REMOTE.iter().any(|kind| after.starts_with(kind));
        remote.then(|| PathBuf::from(unescaped(before.split(' ').nth(4).unwrap_or_default())))
    };
    lines.split(|byte| *byte == b'\n').filter_map(point).collect()
}

/// A look at all mounted disks by a thread that can be done without: a disk that does not answer hangs only that one.
#[derive(Debug)]
pub struct Survey {
    mounts: Vec<Mount>,
    answers: Receiver<(usize, Option<Volume>)>,
}

impl Survey {
    /// Begins to look.
    pub fn begin(proc: &Path) -> Survey {
        let mounts = mounted(proc);
        let (sender, answers) = channel();
        for (at, mount) in mounts.iter().cloned().enumerate() {
            let sender = sender.clone();
            // A disk that nobody can be sent to has not answered.
            let _ = std::thread::Builder::new().spawn(move || sender.send((at, mount.look())));
        }
        Survey { mounts, answers }
    }

    /// What has answered, and where those are mounted that have not within that time.
    pub fn finish(self, at_most: Duration) -> (Vec<Volume>, Vec<String>) {
        let give_up = Instant::now() + at_most;
        let mut silent: Vec<Option<&Mount>> = self.mounts.iter().map(Some).collect();
        let mut volumes = Vec::new();
        while silent.iter().any(Option::is_some) {
            let left = give_up.saturating_duration_since(Instant::now());
            let Ok((at, volume)) = self.answers.recv_timeout(left) else { break };
            silent[at] = None;
            volumes.extend(volume);
        }
        let name = |mount: &Mount| text::clean(mount.point.as_os_str().as_encoded_bytes());
        (volumes, silent.into_iter().flatten().map(name).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_disks_count_and_names_are_read_back() {
        let disk = parse(b"29 1 254:2 / /srv/two\\040words rw,relatime shared:1 - ext4 /dev/vda2 rw").unwrap();
        assert_eq!((disk.point.to_str(), disk.device.as_str()), (Some("/srv/two words"), "/dev/vda2"));
        assert_eq!(parse(b"30 1 0:25 / /dev/shm rw - tmpfs tmpfs rw"), None);
        assert_eq!(parse(b"31 1 7:1 / /snap/x ro - squashfs /dev/loop1 ro"), None);
        assert_eq!(parse(b"32 1 0:44 / /net rw - nfs4 server:/x rw"), None);
    }
}
