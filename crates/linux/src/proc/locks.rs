//! `/proc/locks` (proc_locks(5)): who waits for whose file lock.

/// Pairs of a holder and one that waits for it, by PID. Those that wait stand below the one that holds, each with an
/// arrow.
pub fn parse(locks: &str) -> Vec<(u32, u32)> {
    let mut holder = None;
    let mut pairs = Vec::new();
    for line in locks.lines() {
        let mut fields = line.split_whitespace().skip(1).peekable();
        let waits = fields.next_if_eq(&"->").is_some();
        let Some(pid) = fields.nth(3).and_then(|pid| pid.parse().ok()) else { continue };
        match (waits, holder) {
            (false, _) => holder = Some(pid),
            (true, Some(holder)) => pairs.push((holder, pid)),
            (true, None) => {}
        }
    }
    pairs
}

#[cfg(test)]
mod tests {
    #[test]
    fn who_waits_for_whom() {
        let locks = "1: POSIX  ADVISORY  WRITE 742 08:02:99 0 EOF\n1: -> POSIX  ADVISORY  WRITE 752 08:02:99 0 EOF\n\
            2: FLOCK  ADVISORY  WRITE 535 08:02:11 0 EOF\n2: -> FLOCK  ADVISORY  WRITE 536 08:02:11 0 EOF\n";
        assert_eq!(super::parse(locks), [(742, 752), (535, 536)]);
    }
}
