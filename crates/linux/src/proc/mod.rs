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
    let is_it = |line: &&[u8]| line.strip_prefix(name).is_some_and(|rest| rest.starts_with(b":"));
    value_of(text.split(|byte| *byte == b'\n').find(is_it)?)
}

/// The same of that line.
pub(crate) fn value_of(line: &[u8]) -> Option<u64> {
    let value = line.get(line.iter().position(|byte| *byte == b':')? + 1..)?;
    number::<u64>(value.strip_suffix(b" kB").unwrap_or(value)).map(|kib| kib.saturating_mul(1024))
}
