//! Files under the /proc root, through one descriptor and one buffer.

use std::fmt::Write;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, CWD, Dir, Mode, OFlags};

use super::SampleError;
use crate::exec;
use crate::handle::is_in_need;

#[derive(Debug)]
pub(crate) struct Files {
    root: PathBuf,
    folder: OwnedFd,
    buffer: Vec<u8>,
    path: String,
}

/// Whether an exec is under way by that `statm`. Who has none is gone; where it cannot be read for want of anything, it is not known.
fn unless_gone(memory: io::Result<&[u8]>) -> io::Result<()> {
    match memory {
        Ok(memory) => exec::check(memory),
        Err(error) if is_in_need(&error) => Err(error),
        Err(_) => Ok(()),
    }
}

impl Files {
    pub fn new(root: &Path) -> Result<Files, SampleError> {
        let folder = rustix::fs::openat(CWD, root, OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())
            .map_err(|error| SampleError { path: root.to_owned(), source: error.into() })?;
        Ok(Files { root: root.to_owned(), folder, buffer: vec![0; 4096], path: String::new() })
    }

    pub fn open(&mut self, pid: u32, file: &str) -> io::Result<OwnedFd> {
        self.path.clear();
        // Writing to a string does not fail.
        let _ = write!(self.path, "{pid}/{file}");
        Ok(rustix::fs::openat(&self.folder, self.path.as_str(), OFlags::RDONLY | OFlags::CLOEXEC, Mode::empty())?)
    }

    /// A file of a process, whole, and whose folder it stands in: both are of the very same process, whoever gets its
    /// number meanwhile.
    pub fn first(&mut self, pid: u32, file: &str) -> io::Result<(&[u8], u32)> {
        self.name(pid);
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let folder = rustix::fs::openat(&self.folder, self.path.as_str(), flags, Mode::empty())?;
        let uid = rustix::fs::fstat(&folder)?.st_uid;
        let memory = rustix::fs::openat(&folder, "statm", OFlags::RDONLY | OFlags::CLOEXEC, Mode::empty());
        unless_gone(memory.map_err(io::Error::from).and_then(|memory| self.whole(memory)))?;
        let fd = rustix::fs::openat(&folder, file, OFlags::RDONLY | OFlags::CLOEXEC, Mode::empty())?;
        Ok((self.whole(fd)?, uid))
    }

    /// Every process there is, in no order.
    pub fn pids(&self) -> io::Result<Vec<u32>> {
        let mut pids = Vec::new();
        for entry in Dir::read_from(&self.folder)? {
            pids.extend(crate::proc::number::<u32>(entry?.file_name().to_bytes()));
        }
        Ok(pids)
    }

    /// Whether what an exec of a process holds may be asked for. Who has no `statm` is gone, as what is asked for next will show.
    ///
    /// # Errors
    /// It is in the middle of one.
    pub fn gate(&mut self, pid: u32) -> io::Result<()> {
        unless_gone(self.of(pid, "statm"))
    }

    /// A file of a process that an exec could hold up.
    pub fn guarded(&mut self, pid: u32, file: &str) -> io::Result<&[u8]> {
        self.gate(pid)?;
        self.of(pid, file)
    }

    /// A file of a process, whole.
    pub fn of(&mut self, pid: u32, file: &str) -> io::Result<&[u8]> {
        let fd = self.open(pid, file)?;
        self.whole(fd)
    }

    /// A kept descriptor, from its beginning.
    pub fn again(&mut self, fd: impl AsFd) -> io::Result<&[u8]> {
        let length = rustix::io::pread(fd, &mut self.buffer[..], 0)?;
        Ok(&self.buffer[..length])
    }

    fn whole(&mut self, fd: OwnedFd) -> io::Result<&[u8]> {
        let mut length = 0;
        loop {
            let read = rustix::io::read(&fd, &mut self.buffer[length..])?;
            length += read;
            // A /proc file comes whole in one read, unless the buffer was too small for it.
            if read == 0 || length < self.buffer.len() {
                return Ok(&self.buffer[..length]);
            }
            self.buffer.resize(self.buffer.len() * 2, 0);
        }
    }

    /// A file of the machine that has to be there.
    pub fn parsed<T>(&mut self, file: &str, parse: impl FnOnce(&[u8]) -> Option<T>) -> Result<T, SampleError> {
        let path = self.root.join(file);
        let odd = || io::Error::from(io::ErrorKind::InvalidData);
        let read = self.machine(file).and_then(|text| parse(text).ok_or_else(odd));
        read.map_err(|source| SampleError { path, source })
    }

    /// A file of the machine that not every machine has.
    pub(crate) fn optional<T>(&mut self, file: &str, parse: impl FnOnce(&[u8]) -> Option<T>) -> Option<T> {
        self.machine(file).ok().and_then(parse)
    }

    fn machine(&mut self, file: &str) -> io::Result<&[u8]> {
        let fd = rustix::fs::openat(&self.folder, file, OFlags::RDONLY | OFlags::CLOEXEC, Mode::empty())?;
        self.whole(fd)
    }

    /// The owner of the folder `/proc/PID`. The files in it are given to root where a process does not let itself be
    /// examined (PR_SET_DUMPABLE, prctl(2)); the folder is not.
    pub fn uid(&mut self, pid: u32) -> io::Result<u32> {
        self.name(pid);
        Ok(rustix::fs::statat(&self.folder, self.path.as_str(), AtFlags::empty())?.st_uid)
    }

    fn name(&mut self, pid: u32) {
        self.path.clear();
        // Writing to a string does not fail.
        let _ = write!(self.path, "{pid}");
    }

    pub fn link(&mut self, pid: u32, file: &str) -> Option<PathBuf> {
        use std::os::unix::ffi::OsStringExt;
        let link = rustix::fs::readlinkat(&self.folder, format!("{pid}/{file}"), Vec::new()).ok()?;
        Some(PathBuf::from(std::ffi::OsString::from_vec(link.into_bytes())))
    }

    pub fn root(&self) -> &Path {
        &self.root
    }
}
