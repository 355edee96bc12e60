//! The program: what it does is in the library beside it.

#![forbid(unsafe_code)]

use std::process::ExitCode;

fn main() -> ExitCode {
    sophron::run()
}
