//! A package for Debian: an archive of two archives (deb(5)). Made here, since it is little, and since it is to have the same bytes
//! wherever it is made.

use std::fmt::Write as _;

use ar::{Builder as Ar, Header as ArHeader};
use md5::{Digest, Md5};
use sophron_core::text::hex;
use tar::{Builder as Tar, EntryType, Header};

use crate::Outcome;
use crate::tree::{Entry, Package, deb_machine, packaging, packed};

/// What runs at installing and removing.
const SCRIPTS: [&str; 3] = ["postinst", "prerm", "postrm"];

/// The package's bytes.
pub fn package(package: &Package) -> Outcome<Vec<u8>> {
    let control = archive(package.time, &control_files(package)?)?;
    let data = archive(package.time, &package.entries)?;
    let mut ar = Ar::new(Vec::new());
    for (name, bytes) in [("debian-binary", b"2.0\n".to_vec()), ("control.tar.gz", control), ("data.tar.gz", data)] {
        let mut header = ArHeader::new(name.as_bytes().to_vec(), bytes.len() as u64);
        header.set_mode(0o100_644);
        header.set_mtime(u64::from(package.time));
        ar.append(&header, bytes.as_slice())?;
    }
    Ok(ar.into_inner()?)
}

/// A tar of root's files, compressed.
fn archive(time: u32, entries: &[Entry]) -> Outcome<Vec<u8>> {
    let mut tar = Tar::new(Vec::new());
    let root = Entry { path: String::new(), mode: 0o755, bytes: None };
    for entry in std::iter::once(&root).chain(entries) {
        let bytes = entry.bytes.as_deref().unwrap_or_default();
        let mut header = Header::new_gnu();
        header.set_entry_type(if entry.bytes.is_some() { EntryType::Regular } else { EntryType::Directory });
        header.set_mode(entry.mode);
        header.set_mtime(u64::from(time));
        header.set_size(bytes.len() as u64);
        header.set_uid(0);
        header.set_gid(0);
        header.set_username("root")?;
        header.set_groupname("root")?;
        let slash = if entry.bytes.is_some() { "" } else { "/" };
        let path = if entry.path.is_empty() { "./".to_owned() } else { format!("./{}{slash}", entry.path) };
        // A path is written as it stands: dpkg wants the `./` before it.
        let place = &mut header.as_gnu_mut().ok_or("no GNU header")?.name;
        place.get_mut(..path.len()).ok_or_else(|| format!("{path} is too long"))?.copy_from_slice(path.as_bytes());
        header.set_cksum();
        tar.append(&header, bytes)?;
    }
    packed(&tar.into_inner()?)
}

fn control_files(package: &Package) -> Outcome<Vec<Entry>> {
    let file =
        |path: &str, mode: u32, text: String| Entry { path: path.to_owned(), mode, bytes: Some(text.into_bytes()) };
    let mut sums = String::new();
    let mut size = 0;
    for entry in &package.entries {
        // Every file and folder counts at least 1 KiB (deb-control(5), Installed-Size).
        size += entry.bytes.as_ref().map_or(1, |bytes| bytes.len().div_ceil(1024).max(1));
        if let Some(bytes) = &entry.bytes {
            writeln!(sums, "{}  {}", hex(&Md5::digest(bytes)), entry.path)?;
        }
    }
    let program =
        package.entries.iter().find(|entry| entry.path == "usr/bin/sophron").and_then(|entry| entry.bytes.as_deref());
    let control = packaging("control")?
        .replace("@VERSION@", &format!("{}-{}", package.version, package.revision))
        .replace("@MACHINE@", deb_machine())
        .replace("@SIZE@", &size.to_string())
        .replace(
            "@LIBC@",
            &c_library(program.unwrap_or_default()).ok_or("the program names no version of the C library")?,
        );
    let mut files = vec![file("control", 0o644, control), file("md5sums", 0o644, sums)];
    for script in SCRIPTS {
        files.push(file(script, 0o755, packaging(script)?));
    }
    files.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(files)
}

/// The version of the C library that a program needs at least: the highest that a symbol of it names, as `2.34`.
fn c_library(program: &[u8]) -> Option<String> {
    const NAME: &[u8] = b"GLIBC_2.";
    let minor = |at: usize| {
        let digits = program[at + NAME.len()..].iter().take_while(|byte| byte.is_ascii_digit());
        String::from_utf8(digits.copied().collect()).ok()?.parse::<u32>().ok()
    };
    let found = (0..program.len().saturating_sub(NAME.len())).filter(|at| program[*at..].starts_with(NAME));
    found.filter_map(minor).max().map(|minor| format!("2.{minor}"))
}

#[cfg(test)]
#[allow(clippy::unwrap_used, clippy::panic)]
mod tests {
    use super::*;

    #[test]
    fn the_c_library_is_the_newest_that_is_named() {
        assert_eq!(c_library(b"..GLIBC_2.2.5\0GLIBC_2.34\0GLIBC_2.9\0").as_deref(), Some("2.34"));
        assert_eq!(c_library(b"GLIBC_"), None);
    }

    #[test]
    fn a_package_is_the_same_every_time() {
        let package = || Package {
            version: "0.1.0".to_owned(),
            revision: 1,
            time: 1_800_000_000,
            entries: vec![Entry {
                path: "usr/bin/sophron".to_owned(),
                mode: 0o755,
                bytes: Some(b"GLIBC_2.34".to_vec()),
            }],
        };
        let made = super::package(&package()).unwrap();
        assert_eq!(made, super::package(&package()).unwrap());
        let mut ar = ar::Archive::new(made.as_slice());
        let mut names = Vec::new();
        while let Some(entry) = ar.next_entry() {
            names.push(String::from_utf8(entry.unwrap().header().identifier().to_vec()).unwrap());
        }
        assert_eq!(names, ["debian-binary", "control.tar.gz", "data.tar.gz"]);
    }
}
