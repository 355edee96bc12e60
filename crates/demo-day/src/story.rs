//! The story file.

use jiff::civil::{DateTime, Time};
use serde::Deserialize;
use sophron_core::units::{parse_rate, parse_size};

use crate::StoryError;

/// A day on one machine.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Story {
    pub(crate) host: String,
    pub(crate) zone: String,
    pub(crate) begin: DateTime,
    pub(crate) end: DateTime,
    pub(crate) every: u64,
    pub(crate) cores: u32,
    pub(crate) memory: Size,
    pub(crate) swap: Size,
    pub(crate) kernel_threads: u32,
    pub(crate) seed: u64,
    pub(crate) program: Vec<Program>,
    pub(crate) event: Vec<Event>,
}

/// A program, once or several times.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Program {
    pub app: String,
    pub owner: String,
    #[serde(default = "one")]
    pub count: u32,
    pub memory: Size,
    #[serde(default)]
    pub cpu: f64,
    #[serde(default)]
    pub active: f64,
    #[serde(default = "one")]
    pub threads: u32,
    pub unit: String,
    pub from: Option<Time>,
    pub until: Option<Time>,
    pub disk_read: Option<String>,
}

/// Something that happens.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Event {
    pub what: What,
    #[serde(default)]
    pub app: String,
    #[serde(default)]
    pub worker: String,
    pub from: Time,
    pub until: Time,
    #[serde(default)]
    pub cpu: f64,
    #[serde(default)]
    pub memory: Option<Size>,
    #[serde(default)]
    pub per_minute: Option<Size>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum What {
    Busy,
    Leak,
    Burst,
    Nap,
    Spin,
    Swarm,
    Squeeze,
}

/// A size as it is written in rules: `640 MiB`.
#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(try_from = "String")]
pub(crate) struct Size(pub u64);

impl TryFrom<String> for Size {
    type Error = String;

    fn try_from(text: String) -> Result<Size, String> {
        parse_size(&text).map(Size)
    }
}

fn one() -> u32 {
    1
}

impl Story {
    /// Reads a story.
    ///
    /// # Errors
    /// It is no story.
    pub fn read(text: &str) -> Result<Story, StoryError> {
        toml::from_str(text).map_err(|error| StoryError(error.to_string()))
    }
}

impl Program {
    /// Bytes a second read from disks when active.
    pub fn disk_read(&self) -> f64 {
        self.disk_read.as_deref().and_then(|rate| parse_rate(rate).ok()).unwrap_or(0.0)
    }
}
