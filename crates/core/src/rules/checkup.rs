//! `[checkup]` of a rules file: other limits, and findings that are known.

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::keys::{self, Reading};
use super::section::{Section, Source};
use crate::checkup::{FindingKind, Known, LIMITS, Limit, Settings};
use crate::diag::Diagnostic;
use crate::text::nearest;
use crate::units::{Kind, parse_percent, parse_rate, parse_size};

/// Reads the table `[checkup]`.
pub(super) fn settings(source: &mut Source<'_>, value: &Spanned<DeValue<'_>>) -> Settings {
    let mut settings = Settings::default();
    let DeValue::Table(table) = value.get_ref() else {
        source.wrong_type(value, "checkup", "a table", "{ machine.cpu = { notice = \"90%\" } }");
        return settings;
    };
    limits(source, table, "", &mut settings);
    settings
}

/// Dotted keys are tables in tables: a figure's name is put together from them.
fn limits(source: &mut Source<'_>, table: &DeTable<'_>, above: &str, settings: &mut Settings) {
    for (key, value) in table {
        let name = format!("{above}{}", key.get_ref());
        if name == "known" {
            known(source, value, settings);
            continue;
        }
        let limit = LIMITS.iter().find(|limit| limit.field.name() == name);
        match (limit, value.get_ref()) {
            (Some(limit), DeValue::Table(levels)) => {
                let section = Section { table: levels, start: value.span().start, name: "a limit of [checkup]" };
                source.only(&section, &keys::LIMIT, Reading::All);
                let [notice, critical] = ["notice", "critical"].map(|key| level(source, &section, key, limit));
                settings.limits.set(limit.watched, notice, critical);
                let (notice, critical) = settings.limits.levels(limit.watched);
                if (limit.over && notice > critical) || (!limit.over && notice < critical) {
                    let (notice, critical) = (limit.shown(notice), limit.shown(critical));
                    let title = format!("the notice level {notice} lies beyond the critical one, {critical}");
                    source.error(
                        Diagnostic::at(value.span(), title, "never reached")
                            .help("give both, the milder one as `notice`"),
                    );
                }
            }
            (Some(_), _) => source.wrong_type(value, &name, "a table", "{ notice = \"90%\", critical = \"98%\" }"),
            (None, DeValue::Table(inner)) => {
                let prefix = format!("{name}.");
                if LIMITS.iter().any(|limit| limit.field.name().starts_with(&prefix)) {
                    limits(source, inner, &prefix, settings);
                } else {
                    unknown(source, key.span(), &whole(&name, inner));
                }
            }
            (None, _) => unknown(source, key.span(), &name),
        }
    }
}

/// The whole dotted name that begins with `name`, up to the levels.
fn whole(name: &str, inner: &DeTable<'_>) -> String {
    match inner.iter().next() {
        Some((key, _)) if keys::LIMIT.names(Reading::All).contains(&key.get_ref().as_ref()) => name.to_owned(),
        Some((key, value)) => {
            let name = format!("{name}.{}", key.get_ref());
            match value.get_ref() {
                DeValue::Table(deeper) => whole(&name, deeper),
                _ => name,
            }
        }
        None => name.to_owned(),
    }
}

fn unknown(source: &mut Source<'_>, span: std::ops::Range<usize>, name: &str) {
    let names = LIMITS.map(|limit| limit.field.name());
    let near = nearest(name, names.into_iter().chain(["known"]));
    let help = near.map_or(format!("[checkup] has limits on {}", names.join(", ")), |near| format!("write `{near}`"));
    let shown = crate::text::clean(name.as_bytes());
    source.error(Diagnostic::at(span, format!("checkup has no limit on `{shown}`"), "unknown figure").help(help));
}

fn level(source: &mut Source<'_>, section: &Section<'_>, key: &str, limit: &Limit) -> Option<f64> {
    let value = section.get(key)?;
    let number = match value.get_ref() {
        DeValue::Integer(integer) if limit.kind == Kind::Count => integer.as_str().parse().ok(),
        DeValue::Float(float) if limit.kind == Kind::Count => float.as_str().parse().ok(),
        DeValue::String(text) => match limit.kind {
            Kind::Percent => parse_percent(text).ok(),
            Kind::Rate => parse_rate(text).ok(),
            Kind::Size => parse_size(text).ok().map(|bytes| bytes as f64),
            _ => text.parse().ok(),
        },
        _ => None,
    };
    let number = number.filter(|number: &f64| number.is_finite() && *number >= 0.0);
    if number.is_none() {
        let example = match limit.kind {
            Kind::Count => format!("{:.1}", limit.notice),
            _ => format!("\"{}\"", limit.shown(limit.notice)),
        };
        let title = format!("the limit on {} is {}", limit.field, limit.kind.with_article());
        let label = format!("not {}", limit.kind.with_article());
        source.error(Diagnostic::at(value.span(), title, label).help(format!("write `{key} = {example}`")));
    }
    number
}

fn known(source: &mut Source<'_>, value: &Spanned<DeValue<'_>>, settings: &mut Settings) {
    const EXAMPLE: &str = "…` under `[[checkup.known]]";
    let DeValue::Array(items) = value.get_ref() else {
        source.wrong_type(value, "known", "a list of tables", EXAMPLE);
        return;
    };
    for item in items.iter() {
        let DeValue::Table(table) = item.get_ref() else {
            source.wrong_type(item, "known", "a table", EXAMPLE);
            continue;
        };
        let section = Section { table, start: item.span().start, name: "a known finding" };
        source.only(&section, &keys::KNOWN, Reading::All);
        for (key, example) in [("finding", "\"files\""), ("reason", "\"the new disk comes in December\"")] {
            if section.get(key).is_none() {
                source.missing(&section, key, example);
            }
        }
        let finding = source.text(&section, "finding", "\"files\"");
        let clean = |text: super::section::Text| crate::text::clean(text.value.as_bytes());
        let of = source.text(&section, "of", "\"/srv/herbarium\"").map(clean);
        let reason = source.text(&section, "reason", "\"the new disk comes in December\"").map(clean);
        let Some(finding) = finding else { continue };
        match FindingKind::ALL.into_iter().find(|kind| kind.word() == finding.value) {
            Some(kind) => settings.known.extend(reason.map(|reason| Known { finding: kind, of, reason })),
            None => {
                let words = FindingKind::ALL.map(FindingKind::word);
                let near = nearest(&finding.value, words);
                let help = near.map_or(format!("write one of {}", words.join(", ")), |near| format!("write `{near}`"));
                let shown = crate::text::clean(finding.value.as_bytes());
                let title = format!("checkup has no finding `{shown}`");
                source.error(Diagnostic::at(finding.span, title, "unknown finding").help(help));
            }
        }
    }
}
