//! The very words of a rule as they stand in its file, for the record.

use toml::Spanned;
use toml::de::DeValue;

/// A table as it stands in the file: from its heading to the line of its last value. What stands below that, as a comment
/// over the next rule, is none of its.
pub(super) fn wording(text: &str, table: &Spanned<DeValue<'_>>) -> String {
    let start = text.get(..table.span().start).and_then(|before| before.rfind('\n')).map_or(0, |newline| newline + 1);
    let last = end(table);
    let line = text.get(last..).and_then(|after| after.find('\n')).map_or(text.len(), |newline| last + newline);
    text.get(start..line).unwrap_or_default().trim_end().to_owned()
}

/// Where the last of what is in it ends.
fn end(value: &Spanned<DeValue<'_>>) -> usize {
    let inside = match value.get_ref() {
        DeValue::Table(table) => table.iter().map(|(_, value)| end(value)).max(),
        DeValue::Array(items) => items.iter().map(end).max(),
        _ => None,
    };
    inside.unwrap_or_default().max(value.span().end)
}
