//! The page about a write: one self-contained HTML file with drawn charts.

mod charts;
mod labels;
mod ledger;
mod measure;
mod pace;

use std::time::Duration;

use maud::{DOCTYPE, Markup, PreEscaped, html};
use pinewrit_core::inspect::Inspection;
use pinewrit_core::receipt::Receipt;

use crate::Message;
use crate::text::printable;
use crate::units;
pub use labels::{LabelSheet, code_text};
pub use ledger::LedgerPage;
pub use measure::measured_html;
use pace::{SlowSpot, slow_spots};

/// The most slow spots to list.
const MAX_SPOTS: usize = 12;

/// A medium on the page.
pub enum Section {
    /// It is finished.
    Done(Box<Finished>),
    /// It must not be used.
    Failed {
        /// Its name.
        name: String,
        /// What should have been written.
        image: String,
        /// What failed.
        message: Box<Message>,
    },
}

/// A medium that was written.
pub struct Finished {
    /// Its name.
    pub name: String,
    /// What was put on it.
    pub receipt: Receipt,
    /// What is on it now.
    pub content: Option<Inspection>,
}

const STYLE: &str = "
:root { color-scheme: light; --ink: #1d2a26; --soft: #5c6b66; --line: #d9e0dc; --paper: #f5f7f4; }
* { box-sizing: border-box; }
body { margin: 0; background: var(--paper); color: var(--ink); font: 15px/1.45 system-ui, 'DejaVu Sans', sans-serif; }
main { max-width: 1180px; margin: 0 auto; padding: 24px 28px 48px; }
h1 { font-size: 24px; margin: 0 0 2px; }
h2 { font-size: 15px; margin: 22px 0 6px; color: var(--soft); font-weight: 600; }
p.lead { margin: 0 0 14px; color: var(--soft); }
section { background: #fff; border: 1px solid var(--line); border-radius: 10px; padding: 20px 24px; margin-bottom: 22px; }
section.failed { border-left: 6px solid #c8452f; }
section.failed .lead { color: #a63522; font-weight: 600; }
.tiles { display: grid; grid-template-columns: repeat(auto-fit, minmax(170px, 1fr)); gap: 10px; margin: 12px 0 4px; }
.tile { border: 1px solid var(--line); border-radius: 8px; padding: 8px 12px; }
.tile b { display: block; font-size: 19px; font-variant-numeric: tabular-nums; }
.tile span { color: var(--soft); font-size: 13px; }
.charts { display: grid; grid-template-columns: repeat(auto-fit, minmax(480px, 1fr)); gap: 6px 20px; }
svg { width: 100%; height: auto; display: block; }
svg rect { shape-rendering: crispEdges; }
table { border-collapse: collapse; width: 100%; font-size: 14px; }
td, th { text-align: left; padding: 4px 14px 4px 0; border-bottom: 1px solid var(--line); vertical-align: top; }
th { color: var(--soft); font-weight: 500; white-space: nowrap; }
td.number { text-align: right; font-variant-numeric: tabular-nums; }
code { font: 13px 'DejaVu Sans Mono', monospace; overflow-wrap: anywhere; }
.legend { color: var(--soft); font-size: 13px; margin: 2px 0 0; }
.key { display: inline-block; width: 11px; height: 11px; border-radius: 2px; margin: 0 5px 0 14px; vertical-align: -1px; }
.key:first-child { margin-left: 0; }
";

/// Creates the page. Names come from media and files: none of them becomes markup.
pub fn html(sections: &[Section]) -> String {
    let title = match sections {
        [Section::Done(one)] => format!("{} on {}", one.receipt.image.name, one.name),
        [Section::Failed { name, image, .. }] => format!("{image} on {name}: failed"),
        _ => format!("{} media", sections.len()),
    };
    document(
        &title,
        &[STYLE],
        &html! {
            main {
                @for one in sections { (section(one)) }
            }
        },
    )
}

/// A whole page, without anything from outside.
fn document(title: &str, styles: &[&str], body: &Markup) -> String {
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                title { (printable(title)) }
                @for style in styles { style { (PreEscaped(style)) } }
            }
            body { (body) }
        }
    };
    page.into_string()
}

fn section(section: &Section) -> Markup {
    match section {
        Section::Done(finished) => done(finished),
        Section::Failed {
            name,
            image,
            message,
        } => html! {
            section.failed {
                h1 { (printable(image)) " on " (printable(name)) }
                p.lead { "failed: " (printable(message.what())) }
                table {
                    @for (name, value) in message.rows() {
                        tr { th { (printable(&name)) } td { (printable(value.trim())) } }
                    }
                }
            }
        },
    }
}

fn done(section: &Finished) -> Markup {
    let receipt = &section.receipt;
    let verified = if receipt.verified {
        "written, read back and equal"
    } else {
        "written, not read back"
    };
    let settings = receipt.settings.as_ref();
    let host_name = settings.and_then(|settings| settings.host_name.as_ref());
    let spots = slow_spots(receipt);
    html! {
        section {
            h1 {
                (printable(&receipt.image.name)) " on " (printable(&section.name))
                @if let Some(host_name) = host_name { ", as " (printable(host_name)) }
            }
            p.lead { (verified) ", " (printable(&receipt.finished)) }
            (tiles(receipt))
            h2 { "The medium" }
            // Drawn by the crate for charts, which escapes texts.
            (PreEscaped(charts::medium(section)))
            (legend(&[("#2f7d5b", "in use"), ("#cfe3d8", "free space, skipped"), ("#eceff1", "not part of the image")]))
            div.charts {
                div { h2 { "Pace over the medium" } (PreEscaped(charts::pace_over_offset(receipt, &spots))) }
                div { h2 { "Pace over time" } (PreEscaped(charts::pace_over_time(receipt))) }
            }
            (legend(&[("#2f7d5b", "written"), ("#3f6fb5", "read back"), ("#c8452f", "slow spot")]))
            h2 { "Slow spots" }
            (spot_table(section, &spots))
            h2 { "Facts" }
            (facts(receipt))
        }
    }
}

fn legend(keys: &[(&str, &str)]) -> Markup {
    html! {
        p.legend {
            @for (color, what) in keys {
                span.key style={ "background:" (color) } {}
                (what)
            }
        }
    }
}

fn tiles(receipt: &Receipt) -> Markup {
    let bytes = &receipt.bytes;
    let writing = Duration::from_secs_f64(receipt.write_seconds);
    let all = Duration::from_secs_f64(receipt.write_seconds + receipt.verify_seconds);
    let tiles = [
        (units::size(bytes.image), "image"),
        (units::size(bytes.written), "written"),
        (units::size(bytes.free), "free, not written"),
        (units::size(bytes.zero), "of it zeros"),
        (units::time(all), "writing and reading back"),
        (units::rate(bytes.written, writing), "mean pace of writing"),
    ];
    html! {
        div.tiles {
            @for (value, what) in &tiles {
                div.tile { b { (value) } span { (what) } }
            }
        }
    }
}

fn spot_table(section: &Finished, spots: &[SlowSpot]) -> Markup {
    if spots.is_empty() {
        return html! { p.legend { "none: no chunk took much longer than the others" } };
    }
    let partition = |spot: &SlowSpot| {
        let content = section.content.as_ref();
        let partition = content.and_then(|found| found.partition_at(spot.offset));
        partition.map_or("-".to_owned(), |p| p.number.to_string())
    };
    let more = spots.len().saturating_sub(MAX_SPOTS);
    html! {
        table {
            tr { th { "at" } th { "partition" } th { "while" } th { "took" } th { "usual" } }
            @for spot in spots.iter().take(MAX_SPOTS) {
                tr {
                    td { (units::size(spot.offset)) }
                    td { (partition(spot)) }
                    td { (spot.what) }
                    td { (format!("{:.1} s", spot.took)) }
                    td { (format!("{:.2} s", spot.usual)) }
                }
            }
        }
        @if more > 0 { p.legend { "and " (more) " more" } }
    }
}

fn facts(receipt: &Receipt) -> Markup {
    let medium = &receipt.medium;
    let words = [&medium.maker, &medium.model, &medium.bus];
    let words: Vec<&str> = words.into_iter().flatten().map(String::as_str).collect();
    let wrapping = match receipt.image.wrapping[..] {
        [] => "none".to_owned(),
        _ => receipt.image.wrapping.join(" around "),
    };
    let text = |text: &Option<String>| text.clone().unwrap_or_else(|| "-".to_owned());
    let rows = [
        ("medium", format!("{} {}", medium.name, words.join(" "))),
        ("tag", text(&medium.tag)),
        ("serial", text(&medium.serial)),
        ("size", units::exact(medium.size)),
        (
            "image",
            format!(
                "{}, {}",
                receipt.image.name,
                units::exact(receipt.image.unpacked_bytes).trim()
            ),
        ),
        ("wrapping", wrapping),
        ("checksum", text(&receipt.image.checksum)),
        ("disk id", text(&receipt.identifiers.table)),
        (
            "host name",
            text(
                &receipt
                    .settings
                    .as_ref()
                    .and_then(|settings| settings.host_name.clone()),
            ),
        ),
        ("started", receipt.begun.clone()),
        ("finished", receipt.finished.clone()),
        ("program", receipt.tool.clone()),
    ];
    html! {
        table {
            @for (name, value) in &rows {
                tr { th { (name) } td { code { (printable(value.trim())) } } }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_cannot_become_markup() {
        let failed = Section::Failed {
            name: "<b>\"a&b\"".to_owned(),
            image: "hut.img".to_owned(),
            message: Box::new(Message::new(crate::Exit::Medium, "<i>")),
        };
        let page = html(&[failed]);
        assert!(page.contains("&lt;b&gt;&quot;a&amp;b&quot;"), "{page}");
        assert!(!page.contains("<b>") && !page.contains("<i>"), "{page}");
    }
}
