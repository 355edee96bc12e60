//! Drawings of a page: shapes only. Every word stands beside them, placed by percent, so that it is readable at any width.

use std::fmt::Write;

use jiff::Timestamp;
use maud::{Markup, PreEscaped, html};
use sophron_core::document::{Axis, Drawing, Plot, Span, Stairs};
use sophron_core::severity::Tone;

use super::{class, safe};

/// Units over the width of a drawing.
const WIDE: f64 = 1000.0;

/// Two marks nearer than that part of the width do not stand on one row.
const NEAR: f64 = 0.2;

/// The patterns that others refer to.
pub fn hatches() -> Markup {
    html! {
        svg width="0" height="0" aria-hidden="true" class="defs" {
            defs {
                pattern id="blank" width="9" height="9" patternUnits="userSpaceOnUse" patternTransform="rotate(-45)" {
                    path class="hatch" d="M0 0V9" {}
                }
            }
        }
    }
}

/// Which part of the height a value is, from 0 to a little beyond 1; of what is no number, and of no height, nothing.
fn height_of(value: f64, full: f64) -> f64 {
    let part = value / full;
    if part.is_finite() { part.clamp(0.0, 1.08) } else { 0.0 }
}

fn x(axis: &Axis, at: Timestamp) -> f64 {
    axis.part(at) * WIDE
}

fn percent(axis: &Axis, at: Timestamp) -> String {
    format!("left:{:.2}%", axis.part(at) * 100.0)
}

/// The hours, and when nothing was seen.
fn ground(axis: &Axis, height: f64) -> Markup {
    html! {
        @for (at, _) in &axis.ticks { path class="g" d=(format!("M{:.1} 0V{height}", x(axis, *at))) {} }
        @for (from, until, _) in &axis.blanks {
            rect class="blank" x=(format!("{:.1}", x(axis, *from))) y="0"
                width=(format!("{:.1}", x(axis, *until) - x(axis, *from))) height=(height) {}
        }
    }
}

fn svg(plot: &Plot, height: f64, inner: &Markup) -> Markup {
    let says = safe(&plot.says);
    html! {
        svg viewBox=(format!("0 0 {WIDE} {height}")) preserveAspectRatio="none" role="img" aria-label=(says) {
            title { (says) }
            (ground(&plot.axis, height))
            (inner)
        }
    }
}

/// The times beneath drawings of one axis.
pub fn ticks(plot: &Plot) -> Markup {
    html! {
        div class="ch ax" aria-hidden="true" {
            span {}
            div class="pl" { @for (at, words) in &plot.axis.ticks { span style=(percent(&plot.axis, *at)) { (safe(words)) } } }
            span {}
        }
    }
}

/// A drawing over the whole width, with its name on the left and its limits on the right.
pub fn wide(plot: &Plot, number: usize) -> Markup {
    let name = html! { figcaption { b { (safe(&plot.title)) } span { (safe(&plot.of)) } } };
    match &plot.drawing {
        Drawing::Levels { bars, key } => levels(plot, bars, key, &name),
        Drawing::Spans(spans) => lane(plot, spans, &name),
        Drawing::Stairs(stairs) => {
            let height = 84.0;
            let words: Vec<&str> = stairs.limits.iter().map(|(_, words)| words.as_str()).collect();
            let highest = stairs.limits.iter().map(|(limit, _)| *limit).fold(f64::INFINITY, f64::min);
            html! {
                figure class="ch" {
                    (name)
                    div class="pl wide" { (svg(plot, height, &steps(plot, stairs, height, number))) (peak(plot, stairs)) }
                    div class="sc" {
                        @if !words.is_empty() {
                            span class="lab" style=(format!("top:{:.1}%", (1.0 - height_of(highest, stairs.full)) * 100.0)) {
                                (if words.len() == 1 { "limit " } else { "limits " }) (safe(&words.join(" and ")))
                            }
                        }
                    }
                }
            }
        }
    }
}

fn levels(
    plot: &Plot,
    bars: &[(Timestamp, Timestamp, Option<Tone>)],
    key: &[(Option<Tone>, String)],
    name: &Markup,
) -> Markup {
    let height = 48.0;
    let tall = |tone: &Option<Tone>| match tone {
        None => 10.0,
        Some(Tone::Faint) => 4.0,
        Some(Tone::Notice) => 28.0,
        Some(Tone::Warning) => 38.0,
        Some(Tone::Critical) => 48.0,
    };
    let bar = |(from, until, tone): &(Timestamp, Timestamp, Option<Tone>)| {
        let (left, right) = (x(&plot.axis, *from), x(&plot.axis, *until));
        let gap = ((right - left) * 0.08).min(0.6);
        html! {
            rect class=(class(*tone)) x=(format!("{:.2}", left + gap)) y=(height - tall(tone))
                width=(format!("{:.2}", (right - left - 2.0 * gap).max(0.3))) height=(tall(tone)) {}
        }
    };
    let inner = html! { @for of in bars { (bar(of)) } };
    html! {
        figure class="ch felt" {
            (name)
            div class="pl strip" {
                (svg(plot, height, &inner))
                @for (from, until, why) in &plot.axis.blanks {
                    @if x(&plot.axis, *until) - x(&plot.axis, *from) > 25.0 {
                        span class="why" style=(percent(&plot.axis, *from + until.duration_since(*from) / 2)) { (why) }
                    }
                }
            }
            div class="sc" {
                @for (tone, words) in key { span class="key" { i class={ "k-" (class(*tone)) } {} (safe(words)) } }
            }
        }
    }
}

fn lane(plot: &Plot, spans: &[Span], name: &Markup) -> Markup {
    let height = 30.0;
    let inner = html! {
        @for span in spans {
            rect class=(span.severity.word()) x=(format!("{:.1}", x(&plot.axis, span.from))) y="16"
                width=(format!("{:.1}", (x(&plot.axis, span.until) - x(&plot.axis, span.from)).max(2.0))) height="14" {}
        }
    };
    let middle = |span: &Span| span.from + span.until.duration_since(span.from) / 2;
    // Where numbers would stand on one another only the first of them does.
    let mut shown: Vec<&Span> = Vec::new();
    for span in spans {
        let free = |last: &&Span| x(&plot.axis, middle(span)) - x(&plot.axis, middle(last)) > 18.0;
        if shown.last().is_none_or(free) {
            shown.push(span);
        }
    }
    html! {
        figure class="ch" {
            (name)
            div class="pl lane" {
                (svg(plot, height, &inner))
                @for span in shown {
                    a class="cn" href=(format!("#case-{}", span.number)) style=(percent(&plot.axis, middle(span))) { (span.number) }
                }
            }
            div class="sc" {}
        }
    }
}

/// The outline of a figure that stays until the next, closed at the bottom.
fn outline(plot: &Plot, stairs: &Stairs, height: f64) -> String {
    let y = |value: f64| height - height_of(value, stairs.full) * height;
    let mut path = String::new();
    let mut open = false;
    for (place, (at, value)) in stairs.points.iter().enumerate() {
        let until = stairs.points.get(place + 1).map_or(plot.axis.until, |(next, _)| *next);
        let (left, right) = (x(&plot.axis, *at), x(&plot.axis, until));
        match value {
            Some(value) => {
                let start = if open { String::new() } else { format!("M{left:.1} {height}") };
                let _ = write!(path, "{start}V{:.1}H{right:.1}", y(*value));
                open = true;
            }
            None if open => {
                let _ = write!(path, "V{height}Z");
                open = false;
            }
            None => {}
        }
    }
    if open {
        let _ = write!(path, "V{height}Z");
    }
    path
}

/// The figure; what is beyond the limit in full colour, what is below it tinted.
fn steps(plot: &Plot, stairs: &Stairs, height: f64, number: usize) -> Markup {
    let path = outline(plot, stairs, height);
    let shape = format!("#d{number}");
    let y = |value: f64| height - height_of(value, stairs.full) * height;
    let least = stairs.limits.iter().map(|(limit, _)| *limit).fold(f64::INFINITY, f64::min);
    let limit = if least.is_finite() { y(least) } else { height };
    let (top, tall) = if stairs.falls { (limit, height - limit) } else { (-9.0, limit + 9.0) };
    let painted = |place: usize, (from, until, severity): &(Timestamp, Timestamp, sophron_core::severity::Severity)| {
        let (left, right) = (x(&plot.axis, *from), x(&plot.axis, *until));
        let (below, beyond) = (format!("b{number}-{place}"), format!("p{number}-{place}"));
        let wide = (right - left).max(0.5);
        html! {
            clipPath id=(below) { rect x=(format!("{left:.1}")) y="-9" width=(format!("{wide:.1}")) height=(height + 18.0) {} }
            @if least.is_finite() {
                clipPath id=(beyond) { rect x=(format!("{left:.1}")) y=(format!("{top:.1}")) width=(format!("{wide:.1}")) height=(format!("{tall:.1}")) {} }
            }
            @if stairs.falls {
                rect class=(severity.word()) x=(format!("{left:.1}")) y=(format!("{limit:.1}")) width=(format!("{wide:.1}")) height=(format!("{tall:.1}")) {}
                use class="a" href=(shape) clip-path=(format!("url(#{below})")) {}
            } @else {
                use class={ (severity.word()) " dim" } href=(shape) clip-path=(format!("url(#{below})")) {}
                @if least.is_finite() { use class=(severity.word()) href=(shape) clip-path=(format!("url(#{beyond})")) {} }
            }
        }
    };
    html! {
        // Drawn several times, told once.
        defs { path id=(&shape[1..]) d=(path) {} }
        use class="a" href=(shape) {}
        @for (place, of) in stairs.painted.iter().enumerate() { (painted(place, of)) }
        @for (limit, _) in &stairs.limits { path class="lim" d=(format!("M0 {:.1}H{WIDE}", y(*limit))) {} }
        @for mark in &stairs.marks {
            path class=(if mark.by_itself { "tick e" } else { "tick" }) d=(format!("M{:.1} 0V{height}", x(&plot.axis, mark.at))) {}
        }
    }
}

fn peak(plot: &Plot, stairs: &Stairs) -> Markup {
    let Some((at, value, words)) = &stairs.peak else { return PreEscaped(String::new()) };
    let right = plot.axis.part(*at) > 0.9;
    let left = plot.axis.part(*at) < 0.06;
    let class = if right {
        "peak l"
    } else if left {
        "peak r"
    } else {
        "peak"
    };
    let top = (1.0 - height_of(*value, stairs.full)) * 100.0;
    html! { span class=(class) style=(format!("{};top:{top:.1}%", percent(&plot.axis, *at))) { (safe(words)) } }
}

/// A small drawing under its name.
pub fn tile(plot: &Plot, number: usize) -> Markup {
    let Drawing::Stairs(stairs) = &plot.drawing else { return PreEscaped(String::new()) };
    let words = stairs.peak.as_ref().map_or("", |(_, _, words)| words.as_str());
    html! {
        figure class="sm" {
            figcaption { b { (safe(&plot.title)) } " " span { (safe(&plot.of)) } em { (safe(words)) } }
            (svg(plot, 44.0, &steps(plot, stairs, 44.0, number)))
        }
    }
}

/// A case: its readings, its limit, and what happened beneath.
pub fn zoomed(plot: &Plot, number: usize) -> Markup {
    let Drawing::Stairs(stairs) = &plot.drawing else { return PreEscaped(String::new()) };
    let height = 92.0;
    // Words of marks that are near one another stand on several rows; where none is free the mark has none.
    let mut rows = Vec::new();
    let mut last = [f64::NEG_INFINITY; 3];
    for mark in &stairs.marks {
        let at = plot.axis.part(mark.at);
        if let Some(row) = last.iter().position(|before| at - before >= NEAR) {
            last[row] = at;
            rows.push((mark, row, at));
        }
    }
    html! {
        figure {
            div class="pl zoom" {
                (svg(plot, height, &steps(plot, stairs, height, number)))
                @for (limit, words) in &stairs.limits {
                    span class="ll" style=(format!("top:{:.1}%", (1.0 - height_of(*limit, stairs.full)) * 100.0)) { (safe(words)) }
                }
            }
            div class="steps" {
                @for (mark, row, at) in &rows {
                    span class={ "stp r" (row) @if *at > 0.8 { " end" } } style=(percent(&plot.axis, mark.at)) {
                        b { (safe(&mark.word)) } " " (safe(&mark.clock))
                    }
                }
            }
        }
    }
}
