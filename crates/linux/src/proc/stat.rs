//! `/proc/PID/stat` and `/proc/PID/task/TID/stat` (proc_pid_stat(5)).

use super::number;

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
    /// Fields 14 and 15: CPU time in user and kernel mode, clock ticks.
    pub cpu_ticks: u64,
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
    pub fn is_kernel(&self) -> bool {
        self.flags & KERNEL_THREAD != 0
    }
}

/// Reads a stat line. The name may hold any bytes, parentheses included: it ends at the last one.
pub fn parse(line: &[u8]) -> Option<Stat<'_>> {
    let open = line.iter().position(|byte| *byte == b'(')?;
    let close = line.iter().rposition(|byte| *byte == b')')?;
    let name = line.get(open + 1..close)?;
    // Field 3 is the first after the name.
    let fields: Vec<&[u8]> = line.get(close + 2..)?.split(|byte| *byte == b' ').take(24).collect();
    let field = |number: usize| fields.get(number - 3).copied();
    Some(Stat {
        name,
        state: *field(3)?.first()?,
        parent: number(field(4)?)?,
        session: number(field(6)?)?,
        terminal: number::<i32>(field(7)?)? as u32,
        flags: number(field(9)?)?,
        cpu_ticks: number::<u64>(field(14)?)? + number::<u64>(field(15)?)?,
        nice: number(field(19)?)?,
        threads: number(field(20)?)?,
        start: number(field(22)?)?,
        code: field(26).and_then(number).unwrap_or(0),
    })
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
        assert_eq!(stat.terminal, 34817);
        assert!(!stat.is_kernel());
    }

    #[test]
    fn a_cut_off_line_is_no_stat() {
        for end in 0..LINE.len() - 90 {
            assert_eq!(parse(&LINE[..end]), None, "{end}");
        }
    }
}
