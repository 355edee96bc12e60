//! `sophron rules …`: rules files written, checked, and asked.

mod check;
mod cost;
mod draft;
mod explain;
mod fields;
mod list;
mod new;
mod reload;
mod why;

use sophron_core::condition::Truth;
use sophron_core::facts::Facts;
use sophron_core::model::{Process, Snapshot};
use sophron_core::rules;
use sophron_core::rules::keys::{TABLES, plain};
use sophron_core::rules::{Rule, RuleSet};
use sophron_core::text::{clean, nearest};

use crate::args::Rules;
use crate::exit::{Exit, Failure};
use crate::ui::style::{Label, Styled};
use crate::ui::{self, paragraph, table};

/// Where the meaning of a key begins.
const INDENT: usize = 18;

pub fn run(command: Rules) -> Result<Exit, Failure> {
    match command {
        Rules::Check { file, strict, cost } => check::run(&file, strict, cost),
        Rules::Explain { file, rule } => explain::run(&file, rule.as_deref()),
        Rules::Why(args) => why::run(&args),
        Rules::Draft(args) => draft::run(&args),
        Rules::List { rules, format } => list::run(rules.as_deref(), format),
        Rules::Reload { state } => reload::run(state.folder.as_deref()),
        Rules::New { file } => new::run(file.as_deref()),
        Rules::Keys => {
            ui::out(keys());
            Ok(Exit::Fine)
        }
        Rules::Schema => {
            let schema = rules::keys::schema();
            ui::out(format_args!("{}\n", serde_json::to_string_pretty(&schema).unwrap_or_default()));
            Ok(Exit::Fine)
        }
        Rules::Fields { name, format } => fields::run(name.as_deref(), format),
    }
}

/// Every key, by the table that the loader goes by.
fn keys() -> String {
    let width = table::terminal_width();
    let mut text = String::new();
    for (heading, keys) in TABLES {
        text.push_str(&format!("{}\n", Styled(Label::Heading, heading)));
        for key in keys.keys {
            text.push_str(&paragraph::under(&format!("  {}", key.name), INDENT, &plain(key.about), width));
        }
    }
    text
}

/// The rule of that name.
pub fn named<'r>(rules: &'r RuleSet, name: &str) -> Result<(usize, &'r Rule), Failure> {
    let found = rules.rules.iter().enumerate().find(|(_, rule)| rule.name == name);
    found.ok_or_else(|| {
        let failure = Failure::new(Exit::Failed, format!("no rule is called {}", clean(name.as_bytes())));
        match nearest(name, rules.rules.iter().map(|rule| &*rule.name)) {
            Some(near) => failure.hint(format!("the nearest is {near}")),
            None => failure.hint("`sophron rules list` shows all"),
        }
    })
}

/// Whom a rule covers, and of how many it is not known.
fn covered<'s>(rule: &Rule, snapshot: &'s Snapshot) -> (Vec<&'s Process>, usize) {
    let mut covered = Vec::new();
    let mut unknown = 0;
    for process in snapshot.processes.iter().filter(|process| !process.has_ended()) {
        let facts = Facts::new(process, &snapshot.machine);
        match rule.covering(&facts) {
            Truth::True => covered.push(process),
            Truth::Unknown => unknown += 1,
            Truth::False => {}
        }
    }
    (covered, unknown)
}

/// `3 now: labelpress 51907-kqm (ines), …`.
fn covered_words(rule: &Rule, snapshot: &Snapshot) -> String {
    let (covered, unknown) = covered(rule, snapshot);
    let names: Vec<String> = covered.iter().take(3).map(|process| process.label()).collect();
    let more = if covered.len() > names.len() { ", …" } else { "" };
    let who = match covered.len() {
        0 => "nobody now".to_owned(),
        count => format!("{count} now: {}{more}", names.join(", ")),
    };
    match unknown {
        0 => who,
        count => format!("{who}; of {count} processes it cannot be told"),
    }
}
