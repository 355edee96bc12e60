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
                while let Some(Block::Entry(entry)) = next.next_if(|block| matches!(block, Block::Entry(entry) if !has_drawing(entry))) {
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
