//! A table fitted to the width: a heading over every column, no line ever wraps.

use std::borrow::Cow;

use unicode_width::UnicodeWidthStr;

use super::style::{Label, Styled};

/// One column.
#[derive(Debug, Clone)]
pub struct Column {
    heading: Cow<'static, str>,
    right: bool,
    /// Gives way when the width is short.
    gives_way: bool,
}

impl Column {
    pub fn text(heading: impl Into<Cow<'static, str>>) -> Column {
        Column { heading: heading.into(), right: false, gives_way: false }
    }

    pub fn number(heading: impl Into<Cow<'static, str>>) -> Column {
        Column { heading: heading.into(), right: true, gives_way: false }
    }

    pub fn gives_way(mut self) -> Column {
        self.gives_way = true;
        self
    }
}

const GAP: usize = 2;
const NARROWEST: usize = 6;

/// The table as text; `width` is that of the terminal, `None` where there is none.
pub fn render(columns: &[Column], rows: &[Vec<String>], width: Option<usize>) -> String {
    let mut widths: Vec<usize> = columns
        .iter()
        .enumerate()
        .map(|(place, column)| {
            rows.iter()
                .filter_map(|row| row.get(place))
                .map(|cell| cell.width())
                .max()
                .unwrap_or(0)
                .max(column.heading.width())
        })
        .collect();
    if let Some(width) = width {
        shrink(columns, &mut widths, width);
    }
    let headings: Vec<String> = columns.iter().map(|column| column.heading.to_string()).collect();
    // Where no column can give way any more, the line itself is cut.
    let cut = |line: String| width.map_or_else(|| line.clone(), |width| fit(&line, width));
    let mut text = format!("{}\n", Styled(Label::Heading, cut(line(columns, &widths, &headings))));
    for row in rows {
        text.push_str(&cut(line(columns, &widths, row)));
        text.push('\n');
    }
    text
}

/// Pieces of text in a row, two spaces between them; what does not fit goes to the next row, at a space if it has to be.
pub fn flow(pieces: &[String], width: Option<usize>) -> String {
    let width = width.unwrap_or(usize::MAX);
    let seen = |text: &str| anstream::adapter::strip_str(text).to_string().width();
    let mut rows: Vec<String> = Vec::new();
    for piece in pieces.iter().filter(|piece| !piece.is_empty()) {
        match rows.last_mut() {
            Some(row) if seen(row) + GAP + seen(piece) <= width => row.push_str(&format!("  {piece}")),
            _ if seen(piece) <= width => rows.push(piece.clone()),
            _ => rows.extend(wrap(piece, width)),
        }
    }
    rows.into_iter().map(|row| row + "\n").collect()
}

/// Breaks at spaces; a word that is longer than the row stands on a row of its own.
pub fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut rows = vec![String::new()];
    for word in text.split_inclusive(' ') {
        if let Some(row) = rows.last_mut() {
            if row.is_empty() || row.width() + word.trim_end().width() <= width {
                row.push_str(word);
                continue;
            }
            row.truncate(row.trim_end().len());
        }
        rows.push(word.to_owned());
    }
    rows
}

/// Takes from the widest column that gives way until the line fits or none is left to take from.
fn shrink(columns: &[Column], widths: &mut [usize], width: usize) {
    let needed = |widths: &[usize]| widths.iter().sum::<usize>() + GAP * widths.len().saturating_sub(1);
    while needed(widths) > width {
        let able = (0..columns.len()).filter(|place| columns[*place].gives_way && widths[*place] > NARROWEST);
        let Some(widest) = able.max_by_key(|place| widths[*place]) else { return };
        widths[widest] -= 1;
    }
}

fn line(columns: &[Column], widths: &[usize], cells: &[String]) -> String {
    let mut line = String::new();
    for (place, (column, width)) in columns.iter().zip(widths).enumerate() {
        let cell = fit(cells.get(place).map_or("", String::as_str), *width);
        let padding = " ".repeat(width.saturating_sub(cell.width()));
        let (before, after) = if column.right { (padding.as_str(), "") } else { ("", padding.as_str()) };
        line.push_str(&format!("{before}{cell}{after}"));
        line.push_str(&" ".repeat(GAP));
    }
    line.trim_end().to_owned()
}

/// Cuts at the width, wide characters counted as two, and marks the cut.
fn fit(text: &str, width: usize) -> String {
    if text.width() <= width {
        return text.to_owned();
    }
    let mut cut = String::new();
    for c in text.chars() {
        let mut longer = cut.clone();
        longer.push(c);
        if longer.width() + 1 > width {
            break;
        }
        cut = longer;
    }
    cut.push('…');
    cut
}

/// The width of the terminal on standard output.
pub fn terminal_width() -> Option<usize> {
    let size = rustix::termios::tcgetwinsize(std::io::stdout()).ok()?;
    Some(usize::from(size.ws_col)).filter(|columns| *columns >= 20)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn wide_characters_keep_the_columns_aligned_and_nothing_wraps() {
        let columns = [Column::text("app").gives_way(), Column::number("cpu"), Column::text("owner")];
        let rows = [["苗木ラベル印刷", "98", "ines"], ["labelpress", "3.4", "tomas"]]
            .map(|row| row.map(str::to_owned).to_vec());
        let text = anstream::adapter::strip_str(&render(&columns, &rows, Some(24))).to_string();
        insta::assert_snapshot!(text, @r"
        app           cpu  owner
        苗木ラベル…    98  ines
        labelpress    3.4  tomas
        ");
        assert!(text.lines().all(|line| line.width() <= 24));
        let narrow = anstream::adapter::strip_str(&render(&columns, &rows, Some(12))).to_string();
        assert!(narrow.lines().all(|line| line.width() <= 12), "{narrow}");
        let pieces = ["mossgate-desk-03".to_owned(), "10:40:00 BST".to_owned(), "10 of 225 processes".to_owned()];
        assert_eq!(flow(&pieces, Some(32)), "mossgate-desk-03  10:40:00 BST\n10 of 225 processes\n");
        assert_eq!(flow(&pieces, Some(9)).lines().last(), Some("processes"));
    }
}
