//! `sophron demo` as a new user runs it.

use sophron_testkit::is_gone;

use crate::stage;

#[test]
fn the_demo_shows_every_step_and_leaves_nothing_running() {
    let stage = stage();
    let output = stage.run(&["demo"]);
    assert_eq!(output.status, Some(0), "{}{}", output.stdout, output.stderr);
    let shown = |word: &str, app: &str| {
        output.stdout.lines().any(|line| line.contains(&format!("  {word} ")) && line.contains(&format!(" {app} ")))
    };
    for (word, app) in [
        ("alert", "labelpress"),
        ("lowered", "labelpress"),
        ("suspended", "labelpress"),
        ("resumed", "labelpress"),
        ("asked", "labelpress"),
        ("shown", "labelpress"),
        ("no answer", "labelpress"),
        ("ended", "labelpress"),
        ("ended", "sheetlamp"),
        ("remains", "tilebaker"),
        ("ended", "tilebaker"),
        ("spared", "fernpanel"),
        ("shadow", "plantledger"),
    ] {
        assert!(shown(word, app), "{word} {app}:\n{}", output.stdout);
    }
    assert!(output.stdout.contains("records are whole and in order"), "{}", output.stdout);
    let ended = output.stdout.lines().filter(|line| line.ends_with("  ended")).count();
    assert_eq!(ended, 3, "what was ended stands as ended:\n{}", output.stdout);
    let cast = output
        .stdout
        .lines()
        .filter(|line| line.starts_with("  ") && !line.starts_with("   "))
        .filter_map(|line| line.split_whitespace().nth(1));
    let pids: Vec<u32> = cast.filter_map(|pid| pid.parse().ok()).collect();
    assert_eq!(pids.len(), 5, "{}", output.stdout);
    assert!(pids.into_iter().all(is_gone));
    let folder = output.stdout.split_whitespace().last().unwrap();
    let mut left: Vec<String> =
        std::fs::read_dir(folder).unwrap().flatten().map(|entry| entry.file_name().into_string().unwrap()).collect();
    left.sort();
    assert_eq!(left, ["rules.toml", "state"]);
    std::fs::remove_dir_all(folder).unwrap();
}
