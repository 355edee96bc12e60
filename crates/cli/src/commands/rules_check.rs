//! `sophron rules check FILE`: every error at once, each with its place and a mend.

use std::path::Path;

use crate::exit::{Exit, Failure};
use crate::ui;
use crate::watcher::rules_file;

pub fn run(file: &Path) -> Result<Exit, Failure> {
    let loaded = rules_file::load(file)?;
    let rules = &loaded.rules;
    let armed = rules.rules.iter().filter(|rule| rule.armed).count();
    let plural = |count: usize, one: &str| if count == 1 { format!("1 {one}") } else { format!("{count} {one}s") };
    let protection = if !rules.protect.is_empty() { ", with protections" } else { "" };
    ui::out(format_args!(
        "{}: no errors. {}, {armed} armed{protection}; samples every {}\n",
        loaded.origin(),
        plural(rules.rules.len(), "rule"),
        sophron_core::units::exact_duration(rules.every),
    ));
    for rule in &rules.rules {
        let steps: Vec<String> = rule
            .ladder
            .iter()
            .map(|step| format!("{} {}", sophron_core::units::exact_duration(step.at), step.action))
            .collect();
        let shadow = if rule.armed { "" } else { " (in shadow: says what it would do)" };
        ui::out(format_args!("  {}{shadow}: {}\n", rule.name, steps.join(", ")));
    }
    Ok(Exit::Fine)
}
