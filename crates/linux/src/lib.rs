//! What Sophron reads from and does to a Linux machine: the sampler over /proc, identity by handle, the acts with
//! their verification, the guard of suspensions, the durable trail file, and safe ways to files.
//!
//! It knows no rules and prints nothing.

pub mod act;
pub mod bus;
pub mod cgroups;
mod events;
mod everybody;
mod exec;
mod exits;
pub mod fence;
pub mod files;
pub mod guard;
pub mod handle;
pub mod here;
pub mod inbox;
pub mod inspect;
pub mod jobs;
pub mod line;
mod living;
pub mod locks;
mod netlink;
pub mod new_files;
pub mod notify;
pub mod open_files;
pub mod own_life;
pub mod patience;
pub mod proc;
pub mod program;
pub mod roles;
mod sampler;
pub mod service_manager;
pub mod sockets;
pub mod sys;
pub mod system_log;
pub mod talk;
pub mod terminal;
pub mod trail;
pub mod volumes;

pub use sampler::{Demand, RiskyFiles, SLICES, SampleError, Sampler};
