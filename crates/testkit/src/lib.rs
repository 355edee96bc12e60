//! What Sophron's tests stand on: a clock that is handed on, snapshots made by hand, and a stage on which the built
//! program meets real processes.

#![forbid(unsafe_code)]

mod cgroup;
pub mod desk;
mod kernel;
pub mod receiver;
mod service_manager;
mod stage;
mod world;

pub use cgroup::ControlGroup;
pub use kernel::{ThreadSeen, children, held, is_gone, is_suspended, nices, threads, uid_of};
pub use service_manager::{StandIn, Told};
pub use stage::{
    Offender, Output, Own, Running, Stage, anothers_waiter, can_be_lowered, copy_program, eventually, is_root,
    usual_nice,
};
pub use world::{World, process};
