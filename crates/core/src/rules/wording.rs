//! Rules in their own words: the lines of a file that a table stands in.

use toml::de::DeValue;

use super::section::Section;

/// Where the tables of a file begin.
pub(super) fn starts(section: &Section<'_>) -> Vec<usize> {
    let mut starts = Vec::new();
    for (_, value) in section.table.iter() {
        match value.get_ref() {
            DeValue::Table(inner) => {
                starts.push(value.span().start);
                starts.extend(
                    inner.iter().filter(|(_, value)| value.get_ref().is_table()).map(|(_, value)| value.span().start),
                );
            }
            DeValue::Array(items) => starts.extend(items.iter().map(|item| item.span().start)),
            _ => {}
        }
    }
    starts
}

/// A table as it stands in the file: from its heading to the next.
pub(super) fn wording(text: &str, starts: &[usize], start: usize) -> String {
    // The parts of a dotted heading begin inside of it.
    let is_heading = |other: &usize| text.get(..*other).is_some_and(|before| before.ends_with('\n'));
    let start = text.get(..start).and_then(|before| before.rfind('\n')).map_or(0, |newline| newline + 1);
    let end = starts.iter().copied().filter(|other| *other > start && is_heading(other)).min().unwrap_or(text.len());
    text.get(start..end).unwrap_or_default().trim_end().to_owned()
}
