//! A document as a page: one file that fetches nothing, runs nothing, and is read on paper and on a telephone as well.

mod plots;

use maud::{DOCTYPE, Markup, PreEscaped, html};
use sophron_core::document::{Block, Cell, Document, Entry, Plot, Table, TableRow, Text};
use sophron_core::severity::Tone;
use sophron_core::text::clean;

const STYLE: &str = include_str!("style.css");

/// Nothing but the page's own style.
const POLICY: &str = "default-src 'none'; style-src 'unsafe-inline'";

/// What turns a line round, or shows as nothing, is written out: a name is a claim, also here.
fn safe(text: &str) -> String {
    clean(text.as_bytes())
}

/// The class of a tone.
fn class(tone: Option<Tone>) -> &'static str {
    match tone {
        None => "plain",
        Some(Tone::Faint) => "faint",
        Some(Tone::Notice) => "notice",
        Some(Tone::Warning) => "warning",
        Some(Tone::Critical) => "critical",
    }
}

/// The whole page.
pub fn html(document: &Document) -> String {
    let mut parts: Vec<(Option<&str>, Vec<&Block>)> = vec![(None, Vec::new())];
    let mut foot: Vec<&Block> = Vec::new();
    let mut is_foot = false;
    for block in &document.blocks {
        match block {
            Block::Heading(text) => parts.push((Some(text), Vec::new())),
            Block::Gap => is_foot = true,
            block if is_foot => foot.push(block),
            block => parts.last_mut().into_iter().for_each(|(_, blocks)| blocks.push(block)),
        }
    }
    let title = document.blocks.iter().find_map(|block| match block {
        Block::Head(pieces) => Some(pieces.iter().take(2).map(|piece| safe(piece)).collect::<Vec<_>>().join(", ")),
        _ => None,
    });
    let mut number = 0;
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width,initial-scale=1";
                meta name="color-scheme" content="light dark";
                meta http-equiv="Content-Security-Policy" content=(POLICY);
                title { (title.unwrap_or_else(|| "Sophron".to_owned())) }
                style { (PreEscaped(STYLE)) }
            }
            body {
                (plots::hatches())
                @for (heading, blocks) in &parts {
                    @match heading {
                        None => header { (of_blocks(blocks, &mut number)) },
                        Some(heading) => section { h2 { (safe(heading)) } (of_blocks(blocks, &mut number)) },
                    }
                }
                @if !foot.is_empty() {
                    footer { (of_blocks(&foot, &mut number)) }
                }
            }
        }
    };
    page.into_string()
}

fn of_blocks(blocks: &[&Block], number: &mut usize) -> Markup {
    let mut next = blocks.iter().peekable();
    let mut out = Vec::new();
    while let Some(block) = next.next() {
        let drawn = |block: Option<&&&Block>| matches!(block, Some(Block::Plot(_)));
        out.push(match block {
            // Entries one after the other are one list.
            Block::Entry(entry) if !has_drawing(entry) => {
                let mut items = vec![item(entry)];
                while let Some(Block::Entry(entry)) =
                    next.next_if(|block| matches!(block, Block::Entry(entry) if !has_drawing(entry)))
                {
                    items.push(item(entry));
                }
                html! { ol class="told" { @for item in &items { (item) } } }
            }
            Block::Plot(plot) => {
                *number += 1;
                let axis = !drawn(next.peek());
                html! { (plots::wide(plot, *number)) @if axis { (plots::ticks(plot)) } }
            }
            block => of_block(block, number),
        });
    }
    html! { @for part in &out { (part) } }
}

fn of_block(block: &Block, number: &mut usize) -> Markup {
    match block {
        Block::Head(pieces) => {
            let (first, rest) = pieces.split_first().map_or(("", &[][..]), |(first, rest)| (first.as_str(), rest));
            html! { p class="where" { b { (safe(first)) } @for piece in rest { " " span { (safe(piece)) } } } }
        }
        Block::Verdict(_, text) => html! { h1 { (safe(text)) } },
        Block::Paragraph(text) => html! { p class="lead" { (safe(text)) } },
        Block::List(lines) => html! { ul class="fine" { @for line in lines { li { (safe(line)) } } } },
        Block::Entry(entry) => case(entry, number),
        Block::Tiles(tiles) => {
            let tile = |tile: &Plot| {
                *number += 1;
                plots::tile(tile, *number)
            };
            let tiles: Vec<Markup> = tiles.iter().map(tile).collect();
            html! { div class="grid" { @for tile in &tiles { (tile) } } }
        }
        Block::Table(table) => of_table(table),
        Block::Heading(_) | Block::Gap | Block::Plot(_) => html! {},
    }
}

fn has_drawing(entry: &Entry) -> bool {
    entry.lines.iter().any(|line| matches!(line, Text::Plot(_))) || entry.word.starts_with("case ")
}

fn line(line: &Text) -> Markup {
    match line {
        Text::Words(words) | Text::Marked(words) => html! { @if !words.is_empty() { p { (safe(words)) } } },
        Text::Command(command, what) => html! {
            p class="next" { "next " code { (safe(command)) } @if !what.is_empty() { " " (safe(what)) } }
        },
        Text::Verbatim(drawn) => html! { pre { (safe(drawn)) } },
        Text::Title(..) | Text::Plot(_) | Text::Chart(_) => html! {},
    }
}

fn title(entry: &Entry) -> (String, String) {
    let title = entry.lines.iter().find_map(|line| match line {
        Text::Title(what, when) => Some((safe(what), safe(when))),
        _ => None,
    });
    title.unwrap_or_default()
}

fn item(entry: &Entry) -> Markup {
    let (what, when) = title(entry);
    html! {
        li class=(class(entry.tone)) {
            div class="w" { b class="tag" { (safe(&entry.word)) } h3 { (what) } time { (when) } }
            @for part in &entry.lines { (line(part)) }
        }
    }
}

/// Words on the left, the drawing on the right.
fn case(entry: &Entry, number: &mut usize) -> Markup {
    let (what, when) = title(entry);
    let drawing = entry.lines.iter().find_map(|line| match line {
        Text::Plot(plot) => Some(plot),
        _ => None,
    });
    *number += 1;
    html! {
        article class="case" id=(entry.word.replace(' ', "-")) {
            div {
                h3 { span class={ "no " (class(entry.tone)) } { (safe(&entry.word)) } " " (what) }
                p class="when" { (when) }
                @for part in &entry.lines { (line(part)) }
            }
            @if let Some(plot) = drawing { (plots::zoomed(plot, *number)) }
        }
    }
}

fn of_table(table: &Table) -> Markup {
    let last = table.columns.len();
    let heading = |place: usize, text: &String| html! { th scope="col" class=[(place + 1 == last).then_some("last")] { (safe(text)) } };
    html! {
        div class="scroll" {
            table class=(if table.shaded { "heat" } else { "use" }) {
                @if !table.caption.is_empty() { caption { (safe(&table.caption)) } }
                thead { tr { @for (place, text) in table.columns.iter().enumerate() { (heading(place, text)) } } }
                tbody { @for row in table.rows.iter() { (of_row(row, table, last)) } }
            }
        }
    }
}

fn of_row(row: &TableRow, table: &Table, columns: usize) -> Markup {
    let count = row.cells.len();
    let cell = |place: usize, cell: &Cell| {
        // Words at the end of a row take the room that is left.
        let words = cell.value.is_none() && !cell.text.is_empty() && place + 1 == count;
        let room = (columns - 1).saturating_sub(place);
        let span = (words && room > 1).then_some(room);
        let shaded = table.shaded && !row.sum && place + 1 < count && !cell.text.is_empty();
        let class = match () {
            () if words => "words",
            () if cell.text.is_empty() => "no",
            () if shaded && cell.share > 0.55 => "hi",
            () if table.shaded && place + 1 == count => "sum",
            () => "",
        };
        let share = shaded.then(|| format!("--k:{:.2}", cell.share));
        let text = if cell.text.is_empty() { "·".to_owned() } else { safe(&cell.text) };
        html! { td class=[(!class.is_empty()).then_some(class)] colspan=[span] style=[share] { (text) } }
    };
    html! {
        tr class=[row.sum.then_some("all")] {
            th scope="row" { (safe(&row.name.0)) @if !row.name.1.is_empty() { " " span { (safe(&row.name.1)) } } }
            @for (place, of) in row.cells.iter().enumerate() { (cell(place, of)) }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use super::*;

    /// Relative luminance (WCAG 2).
    fn luminance(colour: &str) -> f64 {
        let part = |at: usize| {
            let value = f64::from(u8::from_str_radix(&colour[at..at + 2], 16).unwrap()) / 255.0;
            if value <= 0.04045 { value / 12.92 } else { ((value + 0.055) / 1.055).powf(2.4) }
        };
        0.2126 * part(1) + 0.7152 * part(3) + 0.0722 * part(5)
    }

    fn contrast(one: &str, other: &str) -> f64 {
        let (one, other) = (luminance(one), luminance(other));
        (one.max(other) + 0.05) / (one.min(other) + 0.05)
    }

    /// The colours of each palette, as the style has them: light, dark, printed.
    fn palettes() -> Vec<BTreeMap<String, String>> {
        let of = |part: &str| {
            let body = part.split('}').next().unwrap_or_default();
            let pair = |pair: &str| {
                let (name, value) = pair.trim().strip_prefix("--")?.split_once(':')?;
                let value = if value.len() == 4 { value.replace("fff", "ffffff") } else { value.to_owned() };
                Some((name.to_owned(), value))
            };
            body.split(';').filter_map(pair).collect()
        };
        STYLE.split(":root{").skip(1).map(of).collect()
    }

    /// What is written is read by weak eyes as well, and a severity is never told by its colour alone: its word stands there.
    #[test]
    fn every_palette_is_readable() {
        let palettes = palettes();
        assert_eq!(palettes.len(), 3, "light, dark and printed");
        for palette in palettes {
            assert_eq!(palette.len(), 10, "{palette:?}");
            let against = |name: &str| contrast(&palette[name], &palette["bg"]);
            for text in ["ink", "mute", "notice", "warning", "critical"] {
                assert!(against(text) >= 4.5, "{text}: {:.1} {palette:?}", against(text));
            }
            for line in ["fill", "line"] {
                assert!(against(line) >= 1.7, "{line}: {:.1} {palette:?}", against(line));
            }
            assert!(contrast(&palette["line"], &palette["bg"]) >= 3.0, "the outline of figures");
        }
    }

    /// A name is a claim, also here: it is shown, and nothing of it is run, turned round or fetched.
    #[test]
    fn whatever_a_name_says_is_only_shown() {
        let name = "</title><script>alert(1)</script>\u{202e}gpj\" onload=\"x\"><img src=http://mossgate>";
        let axis = sophron_core::document::Axis {
            from: jiff::Timestamp::UNIX_EPOCH,
            until: jiff::Timestamp::from_second(60).unwrap(),
            ticks: Vec::new(),
            blanks: Vec::new(),
        };
        let stairs = sophron_core::document::Stairs {
            points: vec![(jiff::Timestamp::UNIX_EPOCH, Some(f64::NAN)), (jiff::Timestamp::UNIX_EPOCH, Some(1e300))],
            full: 0.0,
            limits: vec![(f64::INFINITY, name.to_owned())],
            falls: true,
            painted: vec![(
                jiff::Timestamp::UNIX_EPOCH,
                jiff::Timestamp::UNIX_EPOCH,
                sophron_core::severity::Severity::Notice,
            )],
            marks: Vec::new(),
            peak: Some((jiff::Timestamp::UNIX_EPOCH, 1.0, name.to_owned())),
        };
        let plot = Plot {
            title: name.to_owned(),
            of: name.to_owned(),
            says: name.to_owned(),
            axis,
            drawing: sophron_core::document::Drawing::Stairs(stairs),
        };
        let mut document = Document::new(0);
        document.push(Block::Head(vec![name.to_owned(), name.to_owned()]));
        document.push(Block::Verdict(None, name.to_owned()));
        document.push(Block::Heading(name.to_owned()));
        document.toned(
            name,
            Some(Tone::Critical),
            [
                Text::Title(name.to_owned(), name.to_owned()),
                Text::Words(name.to_owned()),
                Text::Command(name.to_owned(), name.to_owned()),
            ],
        );
        document.push(Block::List(vec![name.to_owned()]));
        document.push(Block::Plot(Box::new(plot.clone())));
        document.push(Block::Tiles(vec![plot.clone()]));
        document.toned("case 1", None, [Text::Title(name.to_owned(), String::new()), Text::Plot(Box::new(plot))]);
        let row = TableRow {
            name: (name.to_owned(), name.to_owned()),
            cells: vec![Cell::words(name)],
            ..TableRow::default()
        };
        document.push(Block::Table(Table {
            caption: name.to_owned(),
            columns: vec![name.to_owned(), name.to_owned()],
            shaded: true,
            rows: vec![row],
            ..Table::default()
        }));
        let page = html(&document);
        for forbidden in ["<script", "<img", "\u{202e}", "\" onload=", "url(http", "NaN", "inf"] {
            let found = page.find(forbidden).map(|at| &page[at.saturating_sub(60)..(at + 60).min(page.len())]);
            assert_eq!(found, None, "{forbidden}");
        }
        assert!(page.contains("&lt;script&gt;alert(1)") && page.contains("\\u{202e}"));
    }
}
