//! A document for programs: everything that it tells people, in its order, and nothing of how it is laid out.

use serde_json::json;
use sophron_core::document::{Block, Cell, Chart, Document, Table, TableRow, Text};
use sophron_core::severity::Tone;
use sophron_testkit::World;

#[test]
fn all_that_is_told_is_in_the_object() {
    let at = World::new(Vec::new()).moment.wall;
    let chart = Chart {
        points: vec![(at, 812.0), (at, 900.5)],
        limit: 750.0,
        falls: false,
        until: at,
        marks: vec![(at, 'b')],
        legend: "b begins",
    };
    let mut document = Document::new(10);
    document.push(Block::Head(vec!["mossgate-desk-03".to_owned(), "over 5 s".to_owned()]));
    document.push(Block::Verdict(Some(Tone::Warning), "short of memory".to_owned()));
    document.push(Block::Gap);
    document.push(Block::Heading("suspects".to_owned()));
    document.entry("who", ["labelpress 746-wkc (ines)"]);
    document.entry("nobody", Vec::<String>::new());
    document.toned(
        "next",
        Some(Tone::Notice),
        [
            Text::Command("sophron inspect 746-wkc".to_owned(), "who it is".to_owned()),
            Text::Marked("look at it".to_owned()),
            Text::Verbatim("  [[rule]]".to_owned()),
            Text::Chart(chart),
        ],
    );
    document.push(Block::Table(Table {
        caption: "cpu".to_owned(),
        columns: vec!["app".to_owned(), "cpu time".to_owned()],
        rows: vec![TableRow {
            name: ("labelpress".to_owned(), "ines".to_owned()),
            cells: vec![Cell::figure(90.0, "2 min".to_owned())],
            ..TableRow::default()
        }],
        ..Table::default()
    }));
    document.push(Block::Paragraph("Hello ines.".to_owned()));
    let time = at.to_string();
    assert_eq!(
        document.json(),
        json!({
            "head": ["mossgate-desk-03", "over 5 s"],
            "entries": [
                { "word": "verdict", "lines": ["short of memory"] },
                { "word": "heading", "lines": ["suspects"] },
                { "word": "who", "lines": ["labelpress 746-wkc (ines)"] },
                { "word": "next", "tone": "notice", "lines": [
                    { "command": "sophron inspect 746-wkc", "what": "who it is" },
                    "look at it",
                    "  [[rule]]",
                    { "points": [[time, 812.0], [time, 900.5]], "limit": 750.0 },
                ] },
                { "word": "table", "lines": [{
                    "caption": "cpu",
                    "columns": ["app", "cpu time"],
                    "rows": [{ "name": "labelpress", "of": "ines", "cells": [90.0], "sum": false }],
                }] },
                { "word": null, "lines": ["Hello ines."] },
            ],
        })
    );
    assert_eq!(Document::new(0).json(), json!({ "head": null, "entries": [] }));
}
