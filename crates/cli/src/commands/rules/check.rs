//! `sophron rules check FILE`: every error at once, each with its place and a mend; then what is worth a second look.

use std::path::Path;

use sophron_core::protect::Protections;
use sophron_core::rules::{Present, RuleSet, Warning, review};
use sophron_core::telling::Channel;
use sophron_core::text::counted;
use sophron_core::units::exact_duration;
use sophron_linux::here::Users;

use super::cost::Cost;
use crate::exit::{Exit, Failure};
use crate::source;
use crate::ui::style::{Label, Styled};
use crate::ui::{self, paragraph, table};
use crate::watcher::{errand, rules_file};

pub fn run(file: &Path, strict: bool, with_cost: bool) -> Result<Exit, Failure> {
    let loaded = rules_file::load(file)?;
    let snapshot = source::present()?;
    // Whom the files protect, and not what this very command was started from.
    let protections = Protections { conditions: loaded.protections()?, ..Protections::default() };
    let users = std::cell::RefCell::new(Users::default());
    let has_user = |name: &str| users.borrow_mut().has(name);
    let present = Present { snapshot: &snapshot, protections: &protections, has_user: &has_user };
    let mut warnings = review(&loaded.rules, Some(present));
    warnings.extend(wanting(&loaded.rules));
    let cost = if with_cost { Some(Cost::measure(&loaded.rules)?) } else { None };
    if let Some((what, mend)) = cost.as_ref().and_then(Cost::warning) {
        warnings.push(Warning { rule: String::new(), what, mend });
    }
    let width = table::terminal_width();
    for warning in &warnings {
        let rule = if warning.rule.is_empty() { String::new() } else { format!("{}: ", warning.rule) };
        ui::out(paragraph::styled("warning", 9, &format!("{rule}{}", warning.what), width, Label::Warning));
        ui::out(paragraph::under("", 9, &warning.mend, width));
    }
    let rules = &loaded.rules;
    let armed = rules.rules.iter().filter(|rule| rule.armed).count();
    let protection = if rules.protect.is_empty() { "" } else { ", with protections" };
    let found = match warnings.len() {
        0 => "no errors".to_owned(),
        count => format!("no errors, {}", counted(count, "warning")),
    };
    ui::out(format_args!(
        "{}: {}. {}, {armed} armed{protection}; samples every {}\n",
        loaded.origin(),
        Styled(if warnings.is_empty() { Label::Heading } else { Label::Warning }, &found),
        counted(rules.rules.len(), "rule"),
        exact_duration(rules.every),
    ));
    for rule in &rules.rules {
        let steps: Vec<String> = rule.ladder.iter().map(ToString::to_string).collect();
        let shadow = if rule.armed { "" } else { " (in shadow: says what it would do)" };
        ui::out(format_args!("  {}{shadow}: {}\n", rule.name, steps.join(", ")));
    }
    if let Some(cost) = cost {
        ui::out(cost.text());
    }
    Ok(if strict && !warnings.is_empty() { Exit::Found } else { Exit::Fine })
}

/// Channels that lack something that stands in no rules file.
fn wanting(rules: &RuleSet) -> Vec<Warning> {
    let of_channel = |channel: &Channel| {
        let name = channel.name.clone();
        errand::wanting(channel, &rules.telling.as_user).into_iter().map(move |why| Warning {
            rule: String::new(),
            what: format!("the channel {name} cannot tell anybody: {why}"),
            mend: format!("`sophron channels try {name}` says how far it comes"),
        })
    };
    rules.telling.channels.iter().flat_map(of_channel).collect()
}
