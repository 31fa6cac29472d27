//! The page about media that were measured.

use maud::{Markup, PreEscaped, html};
use pinewrit_measure::{Piece, SpeedReport};

use super::{STYLE, charts, document, legend};
use crate::text::printable;
use crate::words::measure::{Measured, page_rows};

/// Creates the page, the media side by side first. Names come from media: none of them becomes
/// markup.
pub fn measured_html(all: &[Measured]) -> String {
    let title = match all {
        [one] => format!("{}, measured", one.name),
        _ => format!("{} media, measured", all.len()),
    };
    let body = html! {
        main {
            @if all.len() > 1 {
                section {
                    h1 { (printable(&title)) }
                    div.charts {
                        div { h2 { "One after the other" } (PreEscaped(charts::bars(&rates(all)))) }
                        div { h2 { "Anywhere, 4 KiB a request" } (PreEscaped(charts::bars(&requests(all)))) }
                    }
                    (legend(&[("#2f7d5b", "writing"), ("#3f6fb5", "reading")]))
                }
            }
            @for one in all { (section(one)) }
        }
    };
    document(&title, &[STYLE], &body)
}

fn section(one: &Measured) -> Markup {
    html! {
        section.failed[!one.is_real()] {
            h1 { (printable(&one.name)) }
            p.lead { (printable(&one.model)) }
            div.charts {
                @if let Some(speed) = &one.speed {
                    div { (pace(speed)) }
                }
                div {
                    h2 { "Facts" }
                    table {
                        @for (name, text) in page_rows(one) {
                            tr { th { (name) } td { (printable(&text)) } }
                        }
                    }
                }
            }
        }
    }
}

fn pace(speed: &SpeedReport) -> Markup {
    let write = speed.write.as_ref();
    let written = write.map_or(Vec::new(), |write| curve(&write.pieces));
    html! {
        h2 { "Pace in the scratch space" }
        // Drawn by the crate for charts, which escapes texts.
        (PreEscaped(charts::pace_of_pieces(&written, &curve(&speed.read.pieces))))
        (legend(&[("#2f7d5b", "writing"), ("#3f6fb5", "reading")]))
    }
}

/// Megabytes done, and MB/s.
fn curve(pieces: &[Piece]) -> Vec<(f64, f64)> {
    let mut done = 0.0;
    let point = |piece: &Piece| {
        let megabytes = piece.bytes as f64 / 1e6;
        done += megabytes;
        (done, megabytes / piece.seconds.max(1e-6))
    };
    pieces.iter().map(point).collect()
}

fn rates(all: &[Measured]) -> Vec<charts::Bar> {
    let bar = |one: &Measured| charts::Bar {
        name: one.name.clone(),
        written: one
            .speed
            .as_ref()
            .and_then(|speed| Some(speed.write.as_ref()?.sustained / 1e6)),
        read: one.speed.as_ref().map(|speed| speed.read.sustained / 1e6),
        unit: "MB/s",
    };
    all.iter().map(bar).collect()
}

fn requests(all: &[Measured]) -> Vec<charts::Bar> {
    let bar = |one: &Measured| charts::Bar {
        name: one.name.clone(),
        written: one
            .speed
            .as_ref()
            .and_then(|speed| Some(speed.write_anywhere?.per_second)),
        read: one
            .speed
            .as_ref()
            .map(|speed| speed.read_anywhere.per_second),
        unit: "/s",
    };
    all.iter().map(bar).collect()
}
