//! `sophron rules explain FILE [RULE]`: a rule said back in plain sentences, and whom it covers now.

use std::path::Path;

use sophron_core::rules::{Rule, explain};
use sophron_core::subject::Judged;

use crate::exit::{Exit, Failure};
use crate::source;
use crate::ui::style::{Label, Styled};
use crate::ui::{self, paragraph, table, when};
use crate::watcher::rules_file;

const INDENT: usize = 9;

pub fn run(file: &Path, rule: Option<&str>) -> Result<Exit, Failure> {
    let loaded = rules_file::load(file)?;
    let chosen: Vec<&Rule> = match rule {
        Some(name) => vec![super::named(&loaded.rules, name)?.1],
        None => loaded.rules.rules.iter().collect(),
    };
    let snapshot = source::present()?;
    let width = table::terminal_width();
    let head = [
        Styled(Label::Heading, &snapshot.machine.host).to_string(),
        when::date(snapshot.moment.wall),
        format!("rules: {}", loaded.origin()),
    ];
    ui::out(table::flow(&head, width));
    for rule in chosen {
        ui::out(format_args!("\n{}\n", Styled(Label::Heading, &rule.name)));
        if let Some(note) = &rule.note {
            ui::out(paragraph::under("", INDENT, note, width));
        }
        let mut last = "";
        for (word, sentence) in explain(rule, &loaded.rules.telling) {
            ui::out(paragraph::under(if word == last { "" } else { word }, INDENT, &sentence, width));
            last = word;
            let nobody_is_picked = rule.judge == Judged::Machine && rule.covers.is_none();
            if word == "whom" && !nobody_is_picked {
                ui::out(paragraph::under("", INDENT, &super::covered_words(rule, &snapshot), width));
            }
        }
    }
    Ok(Exit::Fine)
}
