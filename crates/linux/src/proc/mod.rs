//! Parsers of /proc files: bytes in, figures out. No file is opened here.

pub mod cgroup;
pub mod locks;
pub mod machine;
pub mod stat;
pub mod status;

/// The number in `bytes`, if it is one.
pub(crate) fn number<T: std::str::FromStr>(bytes: &[u8]) -> Option<T> {
    str::from_utf8(bytes).ok()?.trim().parse().ok()
}

/// The value of a `Name:  123 kB` line, in bytes.
pub(crate) fn kilobytes(text: &[u8], name: &[u8]) -> Option<u64> {
    let line = text.split(|byte| *byte == b'\n').find_map(|line| line.strip_prefix(name)?.strip_prefix(b":"))?;
    let value = line.strip_suffix(b" kB").unwrap_or(line);
    number::<u64>(value).map(|kib| kib.saturating_mul(1024))
}
