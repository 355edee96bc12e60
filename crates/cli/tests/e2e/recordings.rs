//! Recordings: made, looked at, and given to us damaged.

use std::fs;
use std::io::Write;

use serde_json::Value;
use sophron_testkit::Stage;

use crate::stage;

fn look(stage: &Stage, from: &str, options: &[&str]) -> Value {
    let output = stage.run(&[&["list", "--from", from, "--format", "json"], options].concat());
    assert_eq!(output.status, Some(0), "{}", output.stderr);
    serde_json::from_str(&output.stdout).unwrap()
}

#[test]
fn what_is_recorded_can_be_looked_at() {
    let stage = stage();
    let press = stage.offender("labelpress", &["--grow", "400MiB/s", "--up-to", "64MiB", "--cpu", "20%"]);
    for name in ["plain.jsonl", "packed.jsonl.zst"] {
        let file = stage.path(name).display().to_string();
        let condition = format!("pid = {}", press.pid());
        let output = stage.run(&["record", &file, "--every", "300ms", "--for", "1500ms", "--where", &condition]);
        assert_eq!(output.status, Some(0), "{}", output.stderr);
        let mode = std::os::unix::fs::PermissionsExt::mode(&fs::metadata(&file).unwrap().permissions());
        assert_eq!(mode & 0o777, 0o600);
        let seen = look(&stage, &file, &[]);
        let row = &seen["rows"][0];
        assert_eq!((row["app"].as_str(), row["pid"].as_u64()), (Some("labelpress"), Some(press.pid().into())));
        assert!(row["cpu"].as_f64().is_some_and(|cpu| cpu > 0.0 && cpu < 60.0), "{row}");
        let again = stage.run(&["record", &file, "--for", "1s"]);
        assert!(again.status == Some(1) && again.stderr.contains("never overwrites"), "{}", again.stderr);
    }
}

#[test]
fn the_shipped_day_is_the_one_its_story_tells() {
    let root = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo");
    let lines = sophron_demo_day::lines(&fs::read_to_string(format!("{root}/story.toml")).unwrap()).unwrap();
    let packed = fs::read(format!("{root}/day.jsonl.zst")).unwrap();
    assert!(packed.len() < 2 << 20);
    let shipped = zstd::decode_all(&packed[..]).unwrap();
    assert!(lines.as_bytes() == shipped, "make it again with `cargo run -p sophron-demo-day`");
}

#[test]
fn the_demo_day_tells_its_stories() {
    let stage = stage();
    let top = |at: &str, options: &[&str]| look(&stage, "demo", &[&["--at", at, "--limit", "1"], options].concat());
    let app = |seen: &Value| seen["rows"][0]["app"].as_str().unwrap_or_default().to_owned();
    let morning = top("08:30", &[]);
    assert_eq!((morning["host"].as_str(), app(&morning).as_str()), (Some("mossgate-desk-03"), "plantledger"));
    let processes = morning["processes"].as_u64().unwrap();
    assert!((200..280).contains(&processes), "{processes}");
    let leak = top("10:40", &["--by", "memory"]);
    assert_eq!(app(&leak), "labelpress");
    assert!(leak["rows"][0]["memory.held"].as_u64().unwrap() > 700 << 20, "{}", leak["rows"][0]);
    let back = top("12:15", &["--by", "memory.held"]);
    assert_eq!(app(&back), "labelpress");
    assert_ne!(back["rows"][0]["pid"], leak["rows"][0]["pid"], "it came back as another process");
    assert_eq!(app(&top("13:30", &[])), "sheetlamp");
    let swarm = top("14:30", &["--group", "tree", "--where", "app = tilebaker"]);
    assert!(swarm["rows"][0]["cpu"].as_f64().unwrap() > 80.0, "{}", swarm["rows"][0]);
    let squeeze = top("15:48", &[]);
    assert!(squeeze["machine"]["machine.memory.available"].as_u64().unwrap() < 800 << 20, "{}", squeeze["machine"]);
    let quiet = stage.run(&["list", "--from", "demo", "--at", "12:45"]);
    assert!(quiet.stdout.contains("12:29:5"), "in the nap, the last sample before it: {}", quiet.stdout);
}

#[test]
fn what_is_no_sound_recording_is_said_and_what_is_sound_before_is_shown() {
    let stage = stage();
    let plain = stage.path("plain.jsonl").display().to_string();
    stage.run(&["record", &plain, "--every", "200ms", "--for", "1s"]);
    let whole = fs::read(&plain).unwrap();
    let packed = stage.path("packed.zst").display().to_string();
    // More than one sample, also where others want the cores: what is sound ends with one of them.
    stage.run(&["record", &packed, "--every", "200ms", "--for", "3s"]);
    let packed = fs::read(&packed).unwrap();
    let bomb = {
        let mut encoder = zstd::Encoder::new(Vec::new(), 1).unwrap();
        let zeros = vec![b'0'; 1 << 20];
        (0..256).for_each(|_| encoder.write_all(&zeros).unwrap());
        encoder.finish().unwrap()
    };
    let newer = String::from_utf8(whole.clone()).unwrap().replacen("\"format\":1", "\"format\":2", 1);
    let cases: [(&str, Vec<u8>, i32, &str); 7] = [
        ("cut.jsonl", whole[..whole.len() - 9].to_vec(), 0, "it was cut off"),
        ("cut.zst", packed[..packed.len() - 30].to_vec(), 0, "is sound until"),
        ("newer.jsonl", newer.into_bytes(), 1, "written by a newer version"),
        ("foreign.jsonl", b"hello\n".to_vec(), 1, "not a recording of Sophron"),
        ("empty.jsonl", Vec::new(), 1, "not a recording of Sophron"),
        ("bomb.zst", bomb, 1, "longer than"),
        ("damaged.jsonl", [&whole[..], b"{\"t\":\n"].concat(), 0, "is damaged"),
    ];
    for (name, bytes, status, words) in cases {
        let file = stage.path(name);
        fs::write(&file, bytes).unwrap();
        let output = stage.run(&["list", "--from", file.to_str().unwrap()]);
        assert!(
            output.status == Some(status) && output.stderr.contains(words),
            "{name}: {:?} {}",
            output.status,
            output.stderr
        );
        assert!(!output.stderr.contains("panicked"), "{}", output.stderr);
    }
    assert_eq!(stage.run(&["list", "--from", &plain, "--at", "later"]).status, Some(2));
}
