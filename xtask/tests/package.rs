//! A package, as whoever installs it finds it.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used)]

use std::collections::BTreeMap;
use std::io::Read;
use std::path::Path;
use std::process::Command;

use md5::{Digest, Md5};

/// The files of one part of a package, with their modes.
fn part(package: &Path, name: &str) -> BTreeMap<String, (u32, Vec<u8>)> {
    let mut members = ar::Archive::new(std::fs::File::open(package).unwrap());
    let mut files = BTreeMap::new();
    while let Some(member) = members.next_entry() {
        let member = member.unwrap();
        if member.header().identifier() != name.as_bytes() {
            continue;
        }
        for entry in tar::Archive::new(flate2::read::GzDecoder::new(member)).entries().unwrap() {
            let mut entry = entry.unwrap();
            let path = entry.path().unwrap().to_string_lossy().trim_start_matches("./").to_owned();
            let (mode, is_file) = (entry.header().mode().unwrap(), entry.header().entry_type().is_file());
            let mut bytes = Vec::new();
            entry.read_to_end(&mut bytes).unwrap();
            if is_file {
                files.insert(path, (mode & 0o7777, bytes));
            }
        }
    }
    files
}

#[test]
fn a_package_holds_the_program_its_units_and_the_sum_of_every_file() {
    let folder = tempfile::tempdir().unwrap();
    // Any program will do.
    let program = env!("CARGO_BIN_EXE_xtask");
    let made = Command::new(program)
        .args(["deb", "--revision", "7", "--program", program, "--out"])
        .arg(folder.path())
        .output()
        .unwrap();
    assert!(made.status.success(), "{made:?}");
    let mut packages = std::fs::read_dir(folder.path()).unwrap().map(|entry| entry.unwrap().path());
    let package = packages.find(|path| path.extension().is_some_and(|kind| kind == "deb")).unwrap();
    assert!(package.to_string_lossy().contains("-7_"), "{package:?}");

    let data = part(&package, "data.tar.gz");
    let (mode, bytes) = &data["usr/bin/sophron"];
    assert!(*mode == 0o755 && bytes.starts_with(b"\x7fELF"), "{mode:o}");
    for unit in ["usr/lib/systemd/system/sophron.service", "usr/lib/systemd/user/sophron.service"] {
        let (mode, text) = &data[unit];
        assert_eq!(*mode, 0o644);
        assert!(String::from_utf8_lossy(text).contains("ExecStart=/usr/bin/sophron watch"), "{unit}");
    }
    let control = part(&package, "control.tar.gz");
    let (_, sums) = &control["md5sums"];
    let sums = String::from_utf8_lossy(sums);
    let told: BTreeMap<&str, &str> =
        sums.lines().map(|line| line.split_once("  ").unwrap()).map(|(sum, path)| (path, sum)).collect();
    assert_eq!(told.len(), data.len(), "every file has a sum");
    for (path, (_, bytes)) in &data {
        let sum: String = Md5::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect();
        assert_eq!(told[path.as_str()], sum, "{path}");
    }
}
