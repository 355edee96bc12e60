//! What the manual pages show of each command. A test has the command line read each.

/// The command, a line, and what it does.
pub const EXAMPLES: &[(&str, &str, &str)] = &[
    ("sophron", "sophron checkup", "Says whether the machine is short of something, and because of whom."),
    ("sophron", "sophron status", "Says how the watcher stands."),
    ("sophron checkup", "sophron checkup --for 20s", "Looks for twenty seconds."),
    ("sophron checkup", "sophron checkup --at \"yesterday 18:00\"", "Looks back, in what the watcher has kept."),
    ("sophron list", "sophron list --by memory.held --limit 5", "The five that hold most memory."),
    ("sophron list", "sophron list --group app --where 'owner = ines'", "One user's programs, each with its total."),
    ("sophron list", "sophron list --since 08:00 --by growth", "Who has grown since then."),
    ("sophron inspect", "sophron inspect labelpress --for 10s", "Whether it works or hangs."),
    ("sophron lower", "sophron lower 51907-kqm --because \"the desk is slow\"", "Makes it give way to the others."),
    ("sophron suspend", "sophron suspend 51907-kqm --for 10m", "Lets it stand still for ten minutes at most."),
    ("sophron resume", "sophron resume 51907-kqm", "Lets it go on."),
    ("sophron resume", "sophron resume --left", "Whoever a watcher has left suspended that was ended with its guards."),
    (
        "sophron terminate",
        "sophron terminate 51907-kqm --force-after 10s",
        "Asks it to end, and ends it by force after ten seconds.",
    ),
    ("sophron restart", "sophron restart gatekeys --dry-run", "Shows which unit would be started anew."),
    ("sophron restore", "sophron restore --all", "Takes back every lowering that is in force."),
    ("sophron report", "sophron report --from demo --save day.html", "The demo day as a page."),
    (
        "sophron report",
        "sophron report --since yesterday --to customer --suggest \"Start the label program anew at noon.\"",
        "In plain words, for the person whose machine it is.",
    ),
    ("sophron usage", "sophron usage --group hour --since \"30d ago\"", "Which hour is bad, counted by days."),
    ("sophron usage", "sophron usage --by memory.held --against 7d", "Beside the week before."),
    (
        "sophron usage changes",
        "sophron usage changes --from demo-months",
        "Since when, and what else happened that day.",
    ),
    ("sophron usage export", "sophron usage export desk-03.jsonl.zst", "For another machine to look at."),
    ("sophron record", "sophron record day.jsonl.zst --for 8h --every 5s", "Records a working day."),
    (
        "sophron rehearse",
        "sophron rehearse rules.toml --from demo",
        "What these rules would have done on the demo day.",
    ),
    ("sophron suggest", "sophron suggest --app labelpress", "A rule with limits from what is usual here."),
    (
        "sophron rules check",
        "sophron rules check /etc/sophron/rules.toml",
        "Every error, each with its place and a mend.",
    ),
    ("sophron rules why", "sophron rules why press-leak labelpress", "Why that rule does or does not act on it now."),
    ("sophron rules reload", "sophron rules reload", "Exit status 3, and the old rules, where the new are not sound."),
    ("sophron rules new", "sophron rules new rules.toml", "Rules to begin with, all in shadow."),
    ("sophron watch", "sophron watch --rules rules.toml --shadow", "Watches, and does nothing."),
    ("sophron audit", "sophron audit --since \"yesterday 18:00\"", "What happened since then, the worst first."),
    ("sophron audit explain", "sophron audit explain 12", "One case, with words for the person whose program it was."),
    ("sophron audit verify", "sophron audit verify --key first.pub", "Whether the record is whole and genuine."),
    ("sophron status", "sophron status --format json", "For another program; exit status 3 where something is wrong."),
    (
        "sophron stand-back",
        "sophron stand-back labelpress --for 2h --because \"month-end labels\"",
        "Rules keep their hands off it.",
    ),
    ("sophron stand-back", "sophron stand-back press-leak --for 1h", "One rule keeps its hands off everybody."),
    ("sophron stand-back", "sophron stand-back --all --end", "All rules act again."),
    ("sophron channels try", "sophron channels try machine-log", "Sends a message by it now."),
    ("sophron answer", "sophron answer 12 let-run", "For one's own program, while it is asked."),
];

#[cfg(test)]
#[allow(clippy::unwrap_used, clippy::panic)]
mod tests {
    use super::EXAMPLES;

    #[test]
    fn examples_are_understood() {
        for (of, line, _) in EXAMPLES {
            assert!(line.starts_with(of), "{line} is not of {of}");
            let mut words: Vec<String> = vec![String::new()];
            let mut quote = None;
            for c in line.chars() {
                match (c, quote) {
                    ('"' | '\'', None) => quote = Some(c),
                    (c, Some(q)) if c == q => quote = None,
                    (' ', None) => words.push(String::new()),
                    (c, _) => words.last_mut().into_iter().for_each(|word| word.push(c)),
                }
            }
            sophron::command().try_get_matches_from(&words).unwrap_or_else(|error| panic!("{line}: {error}"));
        }
    }
}
