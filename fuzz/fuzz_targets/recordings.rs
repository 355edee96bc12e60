//! A recording from anywhere: whatever its lines say, it is read, or refused with a word.

#![no_main]

use libfuzzer_sys::fuzz_target;
use sophron_core::recording::Replay;

const HEAD: &[u8] = br#"{"sophron":"recording","format":1,"host":"mossgate-desk-03","boot":"0000000000000000000000006d6f7373","every":2.0,"begun":"2026-11-23T07:30:00Z","uid":0}"#;

fuzz_target!(|bytes: &[u8]| {
    let mut lines = bytes.split(|byte| *byte == b'\n');
    // Half of the time the first line is sound, so that what follows is looked at.
    let first = if bytes.first() == Some(&b'{') { lines.next().unwrap_or_default() } else { HEAD };
    let Ok(mut replay) = Replay::begin(first) else { return };
    for line in lines {
        if let Err(error) = replay.next(line) {
            let _ = error.to_string();
            return;
        }
        let snapshot = replay.snapshot();
        assert!(snapshot.processes.windows(2).all(|pair| pair[0].id.pid < pair[1].id.pid));
    }
});
