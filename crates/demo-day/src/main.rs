//! Makes `demo/day.jsonl.zst` from `demo/story.toml`; run it in the repository's folder.

#![forbid(unsafe_code)]

use std::error::Error;
use std::fs;

/// Small rather than fast: it is made once and read often.
const LEVEL: i32 = 19;

fn main() -> Result<(), Box<dyn Error>> {
    let lines = sophron_demo_day::lines(&fs::read_to_string("demo/story.toml")?)?;
    let packed = zstd::encode_all(lines.as_bytes(), LEVEL)?;
    fs::write("demo/day.jsonl.zst", &packed)?;
    println!("demo/day.jsonl.zst: {} lines, {} bytes, packed {}", lines.lines().count(), lines.len(), packed.len());
    Ok(())
}
