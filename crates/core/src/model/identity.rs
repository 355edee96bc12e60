//! Who a process truly is, and the short form of it that people type.

use std::fmt;
use std::str::FromStr;

use sha2::{Digest, Sha256};

/// One boot of one machine: `/proc/sys/kernel/random/boot_id` (random(4)) as a number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct Boot(pub u128);

impl FromStr for Boot {
    type Err = std::num::ParseIntError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        u128::from_str_radix(&text.trim().replace('-', ""), 16).map(Boot)
    }
}

impl fmt::Display for Boot {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:032x}", self.0)
    }
}

/// The true identity of a process. A PID alone is reused; with the start time and the boot it is not.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ProcessId {
    /// The process ID.
    pub pid: u32,
    /// Start time in clock ticks since boot: `/proc/PID/stat` field 22 (proc_pid_stat(5)).
    pub start: u64,
    /// The boot it was started in.
    pub boot: Boot,
}

impl ProcessId {
    /// The PID with its three check letters.
    pub fn checked(&self) -> CheckedPid {
        let mut hash = Sha256::new();
        hash.update(self.boot.0.to_be_bytes());
        hash.update(self.pid.to_be_bytes());
        hash.update(self.start.to_be_bytes());
        let digest = hash.finalize();
        let number = u16::from_be_bytes([digest[0], digest[1]]) % 400;
        let letters = [digit_letter(self.pid), LETTERS[usize::from(number / 20)], LETTERS[usize::from(number % 20)]];
        CheckedPid { pid: self.pid, letters }
    }
}

/// Neither look-alikes nor sound-alikes, and no vowels that could spell a word.
const LETTERS: [u8; 20] = *b"bcdfghjkmnpqrstvwxyz";

/// The check letter over the PID's digits: a weighted sum modulo 19. The modulus is a prime above 9 and
/// neighbouring weights differ, so every single wrong digit and every swap of neighbours changes it.
fn digit_letter(pid: u32) -> u8 {
    let mut rest = pid;
    let mut sum = 0;
    for weight in 1.. {
        sum += (rest % 10) * weight;
        rest /= 10;
        if rest == 0 {
            break;
        }
    }
    LETTERS[(sum % 19) as usize]
}

/// A PID with three check letters, `51907-kqm`: a guard against slips of the hand, not an identity.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct CheckedPid {
    /// The process ID.
    pub pid: u32,
    letters: [u8; 3],
}

impl CheckedPid {
    /// Whether these letters are those of `id`.
    pub fn fits(&self, id: &ProcessId) -> bool {
        id.checked() == *self
    }
}

impl fmt::Display for CheckedPid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let [a, b, c] = self.letters.map(char::from);
        f.pad(&format!("{}-{a}{b}{c}", self.pid))
    }
}

/// Why a text is not a checked PID.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum CheckedPidError {
    /// Not digits, a hyphen and three of the check letters.
    #[error("`{0}` is not a checked PID; it looks like `51907-kqm`, as `sophron list` prints it")]
    Form(String),
    /// The first letter does not fit the digits: the PID was mistyped.
    #[error("the letters of `{0}` do not fit its digits; one of them is mistyped")]
    Mistyped(String),
}

impl FromStr for CheckedPid {
    type Err = CheckedPidError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let form = || CheckedPidError::Form(text.to_owned());
        let (digits, letters) = text.split_once('-').ok_or_else(form)?;
        let letters: [u8; 3] = letters.as_bytes().try_into().map_err(|_| form())?;
        if digits.starts_with(['0', '+']) || !letters.iter().all(|letter| LETTERS.contains(letter)) {
            return Err(form());
        }
        let pid = digits.parse().map_err(|_| form())?;
        if letters[0] != digit_letter(pid) {
            return Err(CheckedPidError::Mistyped(text.to_owned()));
        }
        Ok(CheckedPid { pid, letters })
    }
}
