//! What the Linux side does on a real machine. In one program, since each of them costs the time to link it; what changes its own
//! process for good has another one: `accuracy` and `descriptors`.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stdout)]
#![allow(unsafe_code, reason = "ptrace and locks on parts of a file")]

mod act;
mod fence;
mod freshness;
mod lazily;
mod locks;
mod order;
mod perform;
mod reuse;
mod sampler;
mod traced;
mod trail;
mod trail_crashes;
mod tree;
