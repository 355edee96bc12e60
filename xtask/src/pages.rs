//! Manual pages in section 1, one a command, from the command line itself.

use clap::{Arg, Command};
use clap_mangen::Man;
use roff::{Roff, bold, roman};

use crate::examples::EXAMPLES;
use crate::{Outcome, rules_page};

/// What stands in the middle of the head of a page.
pub const MANUAL: &str = "Sophron";

/// Files of a page that concern every command.
const FILES: [(&str, &str); 5] = [
    (
        "/etc/sophron/rules.toml",
        "the rules of the machine's watcher, and rules.d/*.toml beside it; see sophron-rules(5)",
    ),
    ("/usr/share/sophron/starter.toml", "rules to begin with, all in shadow"),
    ("/var/lib/sophron/", "its state: the record in audit/, the last days of the machine, what is open"),
    ("~/.config/sophron/rules.toml", "the rules of an ordinary user's own watcher"),
    ("~/.local/state/sophron/", "its state"),
];

/// Every page: its file's name, and what is in it.
pub fn all() -> Outcome<Vec<(String, Vec<u8>)>> {
    let mut root = sophron::command().disable_help_subcommand(true);
    root.build();
    let mut pages = Vec::new();
    add(&root, None, &mut pages)?;
    pages.push(("sophron-rules.5".to_owned(), rules_page::page()?));
    Ok(pages)
}

fn add(command: &Command, of: Option<&str>, pages: &mut Vec<(String, Vec<u8>)>) -> Outcome<()> {
    let name = command.get_display_name().unwrap_or(command.get_name()).to_owned();
    for inner in command.get_subcommands().filter(|inner| !inner.is_hide_set()) {
        add(inner, Some(&name), pages)?;
    }
    pages.push((format!("{name}.1"), page(command, &name, of)?));
    Ok(())
}

fn page(command: &Command, name: &str, of: Option<&str>) -> Outcome<Vec<u8>> {
    let version = command.get_version().unwrap_or(env!("CARGO_PKG_VERSION"));
    let man = Man::new(command.clone()).title(name.to_uppercase()).source(format!("sophron {version}")).manual(MANUAL);
    let mut page = Vec::new();
    man.render_title(&mut page)?;
    man.render_name_section(&mut page)?;
    let usage = command.clone().render_usage().to_string();
    let mut synopsis = Roff::new();
    synopsis.control("SH", ["SYNOPSIS"]).control("nf", []);
    for line in usage.trim_start_matches("Usage: ").lines() {
        synopsis.text([roman(line.trim_start())]);
    }
    synopsis.control("fi", []).to_writer(&mut page)?;
    man.render_description_section(&mut page)?;
    // What has to be named first, and then how.
    for (heading, positional) in [("ARGUMENTS", true), ("OPTIONS", false)] {
        let is_meant = |argument: &Arg| argument.is_positional() == positional && !argument.is_hide_set();
        if command.get_arguments().any(is_meant) {
            let those =
                command.clone().mut_args(|argument| if is_meant(&argument) { argument } else { argument.hide(true) });
            let mut section = Vec::new();
            Man::new(those).render_options_section(&mut section)?;
            page.extend(String::from_utf8(section)?.replace(".SH OPTIONS", &format!(".SH {heading}")).into_bytes());
        }
    }
    if command.has_subcommands() {
        man.render_subcommands_section(&mut page)?;
    }
    let mut rest = Roff::new();
    let examples: Vec<_> = EXAMPLES.iter().filter(|(of, ..)| of.replace(' ', "-") == name).collect();
    if !examples.is_empty() {
        rest.control("SH", ["EXAMPLES"]);
    }
    for (_, line, what) in examples {
        rest.control("TP", []).text([bold(*line)]).text([roman(*what)]);
    }
    rest.control("SH", ["EXIT STATUS"]).control("nf", []);
    for line in sophron::EXIT_STATUS.lines().skip(1) {
        rest.text([roman(line.strip_prefix("  ").unwrap_or(line))]);
    }
    rest.control("fi", []);
    if of.is_none() {
        rest.control("SH", ["FILES"]);
        for (path, what) in FILES {
            rest.control("TP", []).text([bold(path)]).text([roman(what)]);
        }
    }
    rest.control("SH", ["SEE ALSO"]);
    let mut see: Vec<String> = of.map(|of| format!("{of}(1)")).into_iter().collect();
    if of.is_none() {
        see.extend(
            command
                .get_subcommands()
                .filter(|inner| !inner.is_hide_set())
                .filter_map(|inner| Some(format!("{}(1)", inner.get_display_name()?))),
        );
    }
    see.push("sophron-rules(5)".to_owned());
    rest.text([roman(see.join(", "))]);
    rest.to_writer(&mut page)?;
    Ok(page)
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    /// Each command has its page, and the page of rules files every key, field and function.
    #[test]
    fn nothing_is_without_a_page() {
        let pages = super::all().unwrap();
        let page = |name: &str| {
            let (_, bytes) = pages.iter().find(|(found, _)| found == name).unwrap();
            String::from_utf8(bytes.clone()).unwrap().replace('\\', "")
        };
        for name in ["sophron", "sophron-status", "sophron-rules-reload", "sophron-channels-try"] {
            let page = page(&format!("{name}.1"));
            assert!(page.contains(".SH SYNOPSIS") && page.contains(".SH \"EXIT STATUS\""), "{name}");
        }
        assert!(pages.iter().all(|(name, _)| !name.contains("guard")), "helpers have none");
        let rules = page("sophron-rules.5");
        let keys = sophron_core::rules::keys::TABLES.iter().flat_map(|(_, table)| table.keys).map(|key| key.name);
        let fields = sophron_core::model::Field::ALL.iter().map(|field| field.name());
        for name in keys.chain(fields).chain(["climb(memory, 20m)"]) {
            assert!(rules.contains(name), "{name} is not in sophron-rules(5)");
        }
    }
}
