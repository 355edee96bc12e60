//! The keys of a rule that say when, how often and on whom: `hours`, `again`, `budget`, `pick`; and the file's own
//! `[hours]` and `[cap]`.

use std::sync::Arc;
use std::time::Duration;

use toml::Spanned;
use toml::de::DeValue;

use super::keys::{self, Reading};
use super::section::{Section, Source};
use super::{Again, Budget, Cap, Hours, Pick, Span};
use crate::condition::{Condition, Term};
use crate::diag::Diagnostic;
use crate::sorted::SortedMap;
use crate::text::nearest;
use crate::units::{Kind, parse_quantity};

const WEEK: Duration = Duration::from_secs(7 * 86_400);
const SECOND: Duration = Duration::from_secs(1);

/// The names of `[hours]`.
pub(super) type Names = SortedMap<String, Arc<[Span]>>;

/// A table under a key, or an error that says so.
pub(super) fn table<'t>(
    source: &mut Source<'_>,
    section: &Section<'t>,
    key: &str,
    name: &'static str,
    example: &str,
) -> Option<Section<'t>> {
    let value = section.get(key)?;
    match value.get_ref() {
        DeValue::Table(table) => Some(Section { table, start: value.span().start, name }),
        _ => {
            source.wrong_type(value, key, "a table", example);
            None
        }
    }
}

/// `[hours]`: names for times.
pub(super) fn names(source: &mut Source<'_>, section: &Section<'_>, names: &mut Names) {
    let example = "{ office = [\"Mon-Sat 07:10-18:20\"] }";
    let Some(section) = table(source, section, "hours", "[hours]", example) else { return };
    for (name, value) in section.table.iter() {
        let plain = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_');
        if matches!(name.get_ref().as_ref(), "always" | "not" | "") || !name.get_ref().chars().all(plain) {
            source.error(
                Diagnostic::at(name.span(), "this name cannot be given to hours", "not a name")
                    .help("a name is letters, digits, `-` and `_`; `always` and `not` mean something already"),
            );
            continue;
        }
        let items: Vec<&Spanned<DeValue<'_>>> = match value.get_ref() {
            DeValue::Array(items) => items.iter().collect(),
            DeValue::String(_) => vec![value],
            _ => Vec::new(),
        };
        if items.is_empty() {
            source.wrong_type(value, name.get_ref(), "a list of times", "[\"Mon-Sat 07:10-18:20\"]");
        }
        let mut spans = Vec::new();
        for item in items {
            match item.get_ref().as_str().map(Span::parse) {
                Some(Ok(span)) => spans.push(span),
                Some(Err(why)) => source.error(
                    Diagnostic::at(
                        item.span(),
                        format!("not a time of the week: {}", crate::text::clean(why.as_bytes())),
                        "not read",
                    )
                    .help("write it as `Mon-Sat 07:10-18:20`, `Sun`, `Mon,Wed 22:00-06:00` or `daily 12:00-13:00`"),
                ),
                None => source.wrong_type(item, name.get_ref(), "a list of texts", "[\"Mon-Sat 07:10-18:20\"]"),
            }
        }
        names.insert(name.get_ref().to_string(), spans.into());
    }
}

/// `hours = "office"`, `"not office"` or `"always"`; under whichever key they stand.
pub(super) fn hours(source: &mut Source<'_>, section: &Section<'_>, key: &str, names: &Names) -> Option<Hours> {
    let text = source.text(section, key, "\"not office\"")?;
    let written = text.value.trim();
    let (outside, name) = match written.strip_prefix("not ") {
        Some(name) => (true, name.trim()),
        None => (false, written),
    };
    if name == "always" && !outside {
        return Some(Hours::default());
    }
    if let Some(spans) = names.get(name) {
        return Some(Hours::named(name, outside, Arc::clone(spans)));
    }
    let shown = crate::text::clean(name.as_bytes());
    let help = match nearest(name, names.keys().map(String::as_str)) {
        Some(near) => format!("write `{near}`"),
        None if names.is_empty() => "name them first: `[hours]`, `office = [\"Mon-Sat 07:10-18:20\"]`".to_owned(),
        None => format!("hours: always, {}", names.keys().cloned().collect::<Vec<_>>().join(", ")),
    };
    source.error(Diagnostic::at(text.span, format!("there are no hours called `{shown}`"), "not known").help(help));
    None
}

/// `again = { after = "20m", risen = "130 MiB" }`.
pub(super) fn again(source: &mut Source<'_>, section: &Section<'_>, breach: Option<&Condition>) -> Option<Again> {
    let section = table(source, section, "again", "again", "{ after = \"20m\" }")?;
    source.only(&section, &keys::AGAIN, Reading::All);
    let after = source.duration(&section, "after", [SECOND, WEEK], "\"20m\"");
    let mut again = Again { after, risen: None };
    if let Some(text) = source.text(&section, "risen", "\"130 MiB\"") {
        let wanted = breach.and_then(leading_kind);
        match (parse_quantity(&text.value), wanted) {
            (Some(value), Some(kind)) if value.kind() == kind => again.risen = Some(value),
            // The breach has errors of its own.
            (_, None) if breach.is_none() => {}
            (_, kind) => {
                let kind = kind.unwrap_or(Kind::Size);
                source.error(
                    Diagnostic::at(
                        text.span,
                        format!("`risen` is {}, as what the breach limits", kind.with_article()),
                        "not that kind",
                    )
                    .help(format!("write `risen = \"{}\"`", kind.example())),
                );
            }
        }
    }
    Some(again)
}

/// The kind of what the breach limits first.
fn leading_kind(condition: &Condition) -> Option<Kind> {
    match condition {
        Condition::Any(parts) | Condition::All(parts) => parts.iter().find_map(leading_kind),
        Condition::Not(inner) => leading_kind(inner),
        Condition::Compare(quantity, comparison, Term::Literal(_) | Term::Quantity(_)) => {
            comparison.needs_order().then(|| quantity.kind())
        }
        _ => None,
    }
}

/// `budget = { cases = 3, per = "1h" }`.
pub(super) fn budget(source: &mut Source<'_>, section: &Section<'_>) -> Option<Budget> {
    let section = table(source, section, "budget", "budget", "{ cases = 3, per = \"1h\" }")?;
    source.only(&section, &keys::BUDGET, Reading::All);
    for (key, example) in [("cases", "3"), ("per", "\"1h\"")] {
        if section.get(key).is_none() {
            source.missing(&section, key, example);
        }
    }
    let cases = source.integer(&section, "cases", [1, 1000], "3");
    let per = source.duration(&section, "per", [SECOND, WEEK], "\"1h\"");
    Some(Budget { cases: u32::try_from(cases?).ok()?, per: per? })
}

/// `pick = "most memory"`.
pub(super) fn pick(source: &mut Source<'_>, section: &Section<'_>) -> Option<Pick> {
    let text = source.text(section, "pick", "\"most memory\"")?;
    let found = Pick::ALL.into_iter().find(|pick| pick.words() == text.value);
    if found.is_none() {
        let shown = crate::text::clean(text.value.as_bytes());
        let all = Pick::ALL.map(Pick::words);
        let help = nearest(&text.value, all)
            .map_or(format!("write one of: {}", all.join(", ")), |near| format!("write `{near}`"));
        source.error(Diagnostic::at(text.span, format!("`{shown}` is no choice"), "unknown").help(help));
    }
    found
}

/// `[cap]`: the most acts of all rules together in an hour.
pub(super) fn cap(source: &mut Source<'_>, section: &Section<'_>) -> Cap {
    let mut cap = Cap::default();
    let Some(section) = table(source, section, "cap", "[cap]", "{ acts = 20, terminations = 5 }") else { return cap };
    source.only(&section, &keys::CAP, Reading::All);
    let mut number =
        |key, example| source.integer(&section, key, [0, 10_000], example).and_then(|n| u32::try_from(n).ok());
    cap.acts = number("acts", "20").unwrap_or(cap.acts);
    cap.terminations = number("terminations", "5").unwrap_or(cap.terminations);
    cap
}
