//! `/proc/PID/stat` and `/proc/PID/task/TID/stat` (proc_pid_stat(5)).

/// The figures of one stat line that Sophron uses.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stat<'a> {
    /// Field 2: the short name, as bytes.
    pub name: &'a [u8],
    /// Field 3: the state's letter.
    pub state: u8,
    /// Field 4: the parent's PID.
    pub parent: u32,
    /// Field 6: the session.
    pub session: u32,
    /// Field 7: the controlling terminal's device number; 0 for none.
    pub terminal: u32,
    /// Field 9: kernel flags.
    pub flags: u32,
    /// Field 12: page faults that waited for a disk.
    pub faults: u64,
    /// Fields 14 and 15: CPU time in user and kernel mode, clock ticks.
    pub cpu_ticks: u64,
    /// Fields 16 and 17: the same of children that ended and were waited for, and of theirs.
    pub children_ticks: u64,
    /// Field 19: niceness.
    pub nice: i32,
    /// Field 20: number of threads.
    pub threads: u32,
    /// Field 22: start time, clock ticks since boot.
    pub start: u64,
    /// Field 26: the start of the program's code; 0 where it may not be read. It changes with an exec.
    pub code: u64,
}

const KERNEL_THREAD: u32 = 0x0020_0000;

impl Stat<'_> {
    /// Whether it is a kernel thread (PF_KTHREAD).
    pub(crate) fn is_kernel(&self) -> bool {
        self.flags & KERNEL_THREAD != 0
    }
}

/// Reads a stat line. The name may hold any bytes, parentheses included: it ends at the last one.
pub fn parse(line: &[u8]) -> Option<Stat<'_>> {
    let open = line.iter().position(|byte| *byte == b'(')?;
    let close = line.iter().rposition(|byte| *byte == b')')?;
    let name = line.get(open + 1..close)?;
    // Field 3 is the first after the name.
    let mut fields = line.get(close + 2..)?.split(|byte| *byte == b' ');
    let state = *fields.next()?.first()?;
    let parent = integer(fields.next()?)?;
    // Field 5 is the process group; after field 7 comes its foreground group.
    let session = integer(fields.nth(1)?)?;
    let terminal = integer::<i64>(fields.next()?)? as u32;
    let flags = integer(fields.nth(1)?)?;
    let faults = integer(fields.nth(2)?)?;
    let cpu_ticks = integer::<u64>(fields.nth(1)?)?.saturating_add(integer(fields.next()?)?);
    let children_ticks = integer::<u64>(fields.next()?)?.saturating_add(integer(fields.next()?)?);
    let nice = integer(fields.nth(1)?)?;
    let threads = integer(fields.next()?)?;
    let start = integer(fields.nth(1)?)?;
    let code = fields.nth(3).and_then(integer).unwrap_or(0);
    Some(Stat {
        name,
        state,
        parent,
        session,
        terminal,
        flags,
        faults,
        cpu_ticks,
        children_ticks,
        nice,
        threads,
        start,
        code,
    })
}

/// A whole number; the numbers of this file are read for every process at every tick.
fn integer<T: TryFrom<i128>>(digits: &[u8]) -> Option<T> {
    let (negative, digits) = match digits.strip_prefix(b"-") {
        Some(rest) => (true, rest),
        None => (false, digits),
    };
    if digits.is_empty() || digits.len() > 20 {
        return None;
    }
    let mut value: u64 = 0;
    for digit in digits {
        let digit = digit.wrapping_sub(b'0');
        if digit > 9 {
            return None;
        }
        value = value.checked_mul(10)?.checked_add(u64::from(digit))?;
    }
    let value = i128::from(value);
    T::try_from(if negative { -value } else { value }).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    const LINE: &[u8] =
        b"51907 (label) R 1 (x) S 1 51907 51900 34817 51907 4194304 90 0 0 0 150 25 0 0 20 10 4 0 88120 \
        9000 500 18446744073709551615 4198400 4202496 140722 0 0 0\n";

    #[test]
    fn a_name_with_parentheses_does_not_shift_the_fields() {
        let stat = parse(LINE).unwrap();
        assert_eq!((stat.name, stat.state, stat.parent), (&b"label) R 1 (x"[..], b'S', 1));
        assert_eq!((stat.cpu_ticks, stat.nice, stat.threads, stat.start, stat.code), (175, 10, 4, 88120, 4_198_400));
        assert_eq!((stat.terminal, stat.session, stat.faults, stat.children_ticks), (34817, 51900, 0, 0));
        assert!(!stat.is_kernel());
    }

    /// Found by fuzzing: no figure is too large.
    #[test]
    fn sums_of_any_figures_are_figures() {
        let line = String::from_utf8_lossy(LINE).replace(" 150 25 ", &format!(" {0} {0} ", u64::MAX));
        assert_eq!(parse(line.as_bytes()).unwrap().cpu_ticks, u64::MAX);
    }

    #[test]
    fn a_cut_off_line_is_no_stat() {
        for end in 0..LINE.len() - 90 {
            assert_eq!(parse(&LINE[..end]), None, "{end}");
        }
    }
}
