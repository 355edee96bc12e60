//! A TOML table read key by key, every error kept with its place.

use std::ops::Range;
use std::path::PathBuf;
use std::time::Duration;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::keys::{Reading, Table};
use crate::condition::{Condition, Place};
use crate::diag::Diagnostic;
use crate::text::nearest;
use crate::units::{exact_duration, parse_duration};

/// A string of the file: its value, its place, and where its bytes begin if they map one to one.
pub(super) struct Text {
    pub value: String,
    pub span: Range<usize>,
    offset: Option<usize>,
}

/// The file's text and the errors found in it so far.
pub(super) struct Source<'s> {
    pub text: &'s str,
    pub errors: Vec<Diagnostic>,
}

/// One table of the file, with its name for messages.
#[derive(Clone, Copy)]
pub(super) struct Section<'t> {
    pub table: &'t DeTable<'t>,
    pub start: usize,
    pub name: &'static str,
}

impl<'t> Section<'t> {
    pub fn get(&self, key: &str) -> Option<&'t Spanned<DeValue<'t>>> {
        self.table.iter().find(|(name, _)| name.get_ref() == key).map(|(_, value)| value)
    }

    /// The place of its heading.
    pub fn place(&self) -> Range<usize> {
        self.start..self.start
    }
}

impl Source<'_> {
    pub fn error(&mut self, diagnostic: Diagnostic) {
        self.errors.push(diagnostic);
    }

    /// Reports every key the table may not have.
    pub fn only(&mut self, section: &Section<'_>, keys: &Table, reading: Reading) {
        let known = keys.names(reading);
        for name in section.table.keys() {
            let (key, span) = (name.get_ref().as_ref(), name.span());
            if known.contains(&key) {
                continue;
            }
            let shown = crate::text::clean(key.as_bytes());
            let all = format!("{} has the keys {}", section.name, known.join(", "));
            let near = || nearest(key, known.iter().copied()).map(|near| format!("write `{near}`"));
            let help = keys.of_others(key).map(str::to_owned).or_else(near);
            let error = Diagnostic::at(span, format!("{} has no key `{shown}`", section.name), "unknown key")
                .help(help.unwrap_or(all));
            self.error(error);
        }
    }

    pub(crate) fn wrong_type(&mut self, value: &Spanned<DeValue<'_>>, key: &str, wanted: &str, example: &str) {
        let found = match value.get_ref() {
            DeValue::String(_) => "a text",
            DeValue::Integer(_) | DeValue::Float(_) => "a bare number",
            DeValue::Boolean(_) => "true or false",
            DeValue::Datetime(_) => "a date or time",
            DeValue::Array(_) => "a list",
            DeValue::Table(_) => "a table",
        };
        self.error(
            Diagnostic::at(
                value.span(),
                format!("`{key}` wants {wanted}, and this is {found}"),
                format!("not {wanted}"),
            )
            .help(format!("write `{key} = {example}`")),
        );
    }

    pub fn missing(&mut self, section: &Section<'_>, key: &str, example: &str) {
        self.error(
            Diagnostic::at(section.place(), format!("{} lacks `{key}`", section.name), "in this table")
                .help(format!("add `{key} = {example}`")),
        );
    }

    /// Each table under a key that may be there more than once, with its place.
    pub fn each(
        &mut self,
        section: &Section<'_>,
        key: &str,
        name: &'static str,
        mut one: impl FnMut(&mut Self, &Section<'_>, &Spanned<DeValue<'_>>),
    ) {
        let Some(value) = section.get(key) else { return };
        let DeValue::Array(tables) = value.get_ref() else {
            let title = format!("{name} stands under `[[{key}]]`");
            self.error(
                Diagnostic::at(value.span(), title, "one pair of brackets is missing")
                    .help(format!("write `[[{key}]]`")),
            );
            return;
        };
        for value in tables.iter() {
            match value.get_ref() {
                DeValue::Table(table) => one(self, &Section { table, start: value.span().start, name }, value),
                _ => self.wrong_type(value, key, "a table", &format!("…` under `[[{key}]]")),
            }
        }
    }

    /// What a table is called by: its `name`, which it has to have.
    pub fn name(&mut self, section: &Section<'_>, example: &str) -> Option<Text> {
        let Some(name) = self.text(section, "name", example) else {
            if section.get("name").is_none() {
                self.missing(section, "name", example);
            }
            return None;
        };
        let plain = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_' | '.');
        if name.value.is_empty() || name.value.chars().count() > 64 || !name.value.chars().all(plain) {
            let title = format!("{}'s name is 1 to 64 letters, digits, `-`, `_` and `.`", section.name);
            self.error(Diagnostic::at(name.span, title, "not a name").help(format!("write `name = {example}`")));
            return None;
        }
        Some(name)
    }

    pub fn text(&mut self, section: &Section<'_>, key: &str, example: &str) -> Option<Text> {
        let value = section.get(key)?;
        let DeValue::String(string) = value.get_ref() else {
            self.wrong_type(value, key, "a text in quotes", example);
            return None;
        };
        let span = value.span();
        let offset = self.text.get(span.clone()).and_then(|raw| content_offset(raw, string)).map(|at| span.start + at);
        Some(Text { value: string.to_string(), span, offset })
    }

    pub fn duration(
        &mut self,
        section: &Section<'_>,
        key: &str,
        range: [Duration; 2],
        example: &str,
    ) -> Option<Duration> {
        let text = self.text(section, key, example)?;
        match parse_duration(&text.value) {
            Ok(duration) if duration >= range[0] && duration <= range[1] => Some(duration),
            Ok(_) => {
                let [least, most] = range.map(exact_duration);
                self.error(
                    Diagnostic::at(text.span, format!("`{key}` is out of range"), "out of range")
                        .help(format!("write something from `{least}` to `{most}`")),
                );
                None
            }
            Err(_) => {
                let shown = crate::text::clean(text.value.as_bytes());
                let title = format!("`{shown}` is not a duration");
                self.error(
                    Diagnostic::at(text.span, title, "wants a number with ms, s, m, h or d")
                        .help(format!("write `{key} = {example}`")),
                );
                None
            }
        }
    }

    /// The whole path of a file.
    pub fn path(&mut self, section: &Section<'_>, key: &str, example: &str) -> Option<PathBuf> {
        let text = self.text(section, key, example)?;
        let path = PathBuf::from(&text.value);
        if path.is_absolute() {
            return Some(path);
        }
        let title = format!("`{key}` is the whole path of a file");
        self.error(Diagnostic::at(text.span, title, "does not begin at /").help(format!("write `{key} = {example}`")));
        None
    }

    /// A list of texts, each with its place.
    pub fn texts(&mut self, section: &Section<'_>, key: &str, example: &str) -> Option<Vec<(String, Range<usize>)>> {
        let value = section.get(key)?;
        let items: Vec<&Spanned<DeValue<'_>>> = match value.get_ref() {
            DeValue::Array(items) => items.iter().collect(),
            _ => Vec::new(),
        };
        let texts: Vec<_> =
            items.iter().filter_map(|item| Some((item.get_ref().as_str()?.to_owned(), item.span()))).collect();
        if items.is_empty() || texts.len() < items.len() {
            self.wrong_type(value, key, "a list of texts", example);
        }
        Some(texts)
    }

    /// One of some words; whatever is none of them is an error that offers the nearest. `ours` answers words of others.
    pub fn word(
        &mut self,
        section: &Section<'_>,
        key: &str,
        words: &[&'static str],
        ours: impl Fn(&str) -> Option<String>,
    ) -> Option<&'static str> {
        let first = words.first().map(|word| format!("\"{word}\"")).unwrap_or_default();
        let text = self.text(section, key, &first)?;
        let found = words.iter().copied().find(|word| *word == text.value);
        if found.is_none() {
            let near = || nearest(&text.value, words.iter().copied()).map(|near| format!("write `{key} = \"{near}\"`"));
            let help = ours(&text.value).or_else(near).unwrap_or_else(|| format!("words: {}", words.join(", ")));
            let shown = crate::text::clean(text.value.as_bytes());
            self.error(
                Diagnostic::at(text.span, format!("`{shown}` is no `{key}` of {}", section.name), "not known")
                    .help(help),
            );
        }
        found
    }

    pub fn flag(&mut self, section: &Section<'_>, key: &str) -> Option<bool> {
        let value = section.get(key)?;
        let flag = value.get_ref().as_bool();
        if flag.is_none() {
            self.wrong_type(value, key, "true or false", "true");
        }
        flag
    }

    pub fn integer(&mut self, section: &Section<'_>, key: &str, range: [i64; 2], example: &str) -> Option<i64> {
        let value = section.get(key)?;
        let DeValue::Integer(integer) = value.get_ref() else {
            self.wrong_type(value, key, "a whole number", example);
            return None;
        };
        let number = i64::from_str_radix(integer.as_str(), integer.radix()).ok();
        let fits = number.filter(|number| (range[0]..=range[1]).contains(number));
        if fits.is_none() {
            self.error(
                Diagnostic::at(value.span(), format!("`{key}` is out of range"), "out of range")
                    .help(format!("write a number from {} to {}", range[0], range[1])),
            );
        }
        fits
    }

    pub fn condition(&mut self, section: &Section<'_>, key: &str, place: Place) -> Option<Condition> {
        let text = self.text(section, key, "'memory.held > 750 MiB'")?;
        match Condition::parse(&text.value, place) {
            Ok(condition) => Some(condition),
            Err(errors) => {
                for error in errors {
                    let placed = match text.offset {
                        Some(offset) if error.span.is_some() => error.shifted(offset),
                        _ => error.moved_to(text.span.clone()),
                    };
                    self.error(placed);
                }
                None
            }
        }
    }
}

/// Where the content begins in the raw text of a TOML string, if its bytes are the string's own.
fn content_offset(raw: &str, value: &str) -> Option<usize> {
    let quote = ["'''", "\"\"\"", "'", "\""].into_iter().find(|quote| raw.starts_with(quote))?;
    let inner = raw.strip_prefix(quote)?.strip_suffix(quote)?;
    let trimmed =
        if quote.len() == 3 { inner.strip_prefix("\r\n").or(inner.strip_prefix('\n')).unwrap_or(inner) } else { inner };
    (trimmed == value).then_some(raw.len() - quote.len() - trimmed.len())
}
