//! Makes `demo/day.jsonl.zst` from `demo/story.toml`, and `demo/months.jsonl.zst` from that and `demo/months.toml`; run it in the repository's folder.

#![forbid(unsafe_code)]

use std::error::Error;
use std::fs;

/// Small rather than fast: it is made once and read often.
const LEVEL: i32 = 19;

fn main() -> Result<(), Box<dyn Error>> {
    let story = fs::read_to_string("demo/story.toml")?;
    keep("demo/day.jsonl.zst", &sophron_demo_day::lines(&story)?)?;
    keep("demo/months.jsonl.zst", &sophron_demo_day::months(&story, &fs::read_to_string("demo/months.toml")?)?)
}

fn keep(path: &str, lines: &str) -> Result<(), Box<dyn Error>> {
    let packed = zstd::encode_all(lines.as_bytes(), LEVEL)?;
    fs::write(path, &packed)?;
    println!("{path}: {} lines, {} bytes, packed {}", lines.lines().count(), lines.len(), packed.len());
    Ok(())
}
