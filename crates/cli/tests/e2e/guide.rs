//! The guide's commands, run as they stand: what they show is what the guide shows.

use std::fmt::Write;
use std::path::Path;

use crate::stage;

/// A block that is run begins so.
const CONSOLE: &str = "```console\n$ sophron ";

#[test]
fn every_command_of_the_guide_shows_what_it_says() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/guide.md");
    let guide = std::fs::read_to_string(&path).unwrap();
    let stage = stage();
    let (mut told, mut rest) = (String::new(), guide.as_str());
    while let Some(at) = rest.find(CONSOLE) {
        let (before, block) = rest.split_at(at);
        told.push_str(before);
        // A file that stands before the command is written first.
        if let Some((name, text)) = before.split_once("`:\n\n```toml\n") {
            let name = name.rsplit('`').next().unwrap();
            std::fs::write(stage.path(name), text.split("```").next().unwrap()).unwrap();
        }
        let (line, after) = block[CONSOLE.len()..].split_once('\n').unwrap();
        let (command, file) = match line.split_once(" > ") {
            Some((command, file)) => (command, Some(file)),
            None => (line, None),
        };
        let output = stage.command(&words(command)).current_dir(stage.path("")).output().unwrap();
        let shown = String::from_utf8(output.stdout).unwrap();
        let complained = String::from_utf8(output.stderr).unwrap();
        assert!(matches!(output.status.code(), Some(0 | 3)), "{line}: {complained}");
        if let Some(file) = file {
            std::fs::write(stage.path(file), &shown).unwrap();
        }
        // What went into the file is shown all the same.
        let trimmed: String = (complained + &shown).lines().map(|line| format!("{}\n", line.trim_end())).collect();
        write!(told, "{CONSOLE}{line}\n{trimmed}```").unwrap();
        rest = after.split_once("```").unwrap().1;
    }
    told.push_str(rest);
    if std::env::var_os("UPDATE_DOCS").is_some() {
        std::fs::write(&path, &told).unwrap();
    }
    assert!(told == std::fs::read_to_string(&path).unwrap(), "run with UPDATE_DOCS=1 and read what has changed");
}

/// Words of a command line, with single quotes.
fn words(line: &str) -> Vec<&str> {
    let mut words = Vec::new();
    for (number, part) in line.split('\'').enumerate() {
        match number % 2 {
            0 => words.extend(part.split_whitespace()),
            _ => words.push(part),
        }
    }
    words
}
