//! The page about a write: one self-contained HTML file with drawn charts.

mod charts;
mod pace;

use pinewrit_core::inspect::Inspection;
use pinewrit_core::receipt::Receipt;

use crate::message::Message;
use crate::ui::text::printable;
use crate::ui::units;
use pace::{SlowSpot, slow_spots};

/// Slow spots that are listed.
const MAX_SPOTS: usize = 12;

/// A medium on the page.
pub(crate) enum Section {
    /// It is finished.
    Done(Box<Finished>),
    /// It is not to be used.
    Failed {
        /// What it is called.
        name: String,
        /// What was to be written.
        image: String,
        /// What failed.
        message: Box<Message>,
    },
}

/// A medium that was written.
pub(crate) struct Finished {
    /// What it is called.
    pub(crate) name: String,
    /// What was put on it.
    pub(crate) receipt: Receipt,
    /// What is on it now.
    pub(crate) content: Option<Inspection>,
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
";

/// Makes the page.
pub(crate) fn html(sections: &[Section]) -> String {
    let title = match sections {
        [Section::Done(one)] => format!("{} on {}", one.receipt.image.name, one.name),
        [Section::Failed { name, image, .. }] => format!("{image} on {name}: failed"),
        _ => format!("{} media", sections.len()),
    };
    let bodies: String = sections.iter().map(section).collect();
    format!(
        "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n\
         <meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n\
         <title>{}</title>\n<style>{STYLE}</style>\n</head>\n<body>\n<main>\n{bodies}</main>\n</body>\n</html>\n",
        escape(&title)
    )
}

fn section(section: &Section) -> String {
    match section {
        Section::Done(finished) => done(finished),
        Section::Failed {
            name,
            image,
            message,
        } => {
            let row = |(name, value): (String, String)| {
                format!(
                    "<tr><th>{}</th><td>{}</td></tr>\n",
                    escape(&name),
                    escape(value.trim())
                )
            };
            format!(
                "<section class=\"failed\">\n<h1>{} on {}</h1>\n<p class=\"lead\">failed: {}</p>\n\
                 <table>\n{}</table>\n</section>\n",
                escape(image),
                escape(name),
                escape(message.what()),
                message.rows().into_iter().map(row).collect::<String>(),
            )
        }
    }
}

fn done(section: &Finished) -> String {
    let receipt = &section.receipt;
    let verified = if receipt.verified {
        "written, read back and equal"
    } else {
        "written, not read back"
    };
    let (image, name) = (escape(&receipt.image.name), escape(&section.name));
    let identity = receipt
        .settings
        .as_ref()
        .and_then(|settings| settings.host_name.as_ref());
    let identity = identity.map_or(String::new(), |host| format!(", as {}", escape(host)));
    let spots = slow_spots(receipt);
    format!(
        "<section>\n<h1>{image} on {name}{identity}</h1>\n<p class=\"lead\">{verified}, {}</p>\n\
         {}<h2>The medium</h2>\n{}{}<div class=\"charts\">\n<div><h2>Pace over the medium</h2>{}</div>\n\
         <div><h2>Pace over time</h2>{}</div>\n</div>\n{}<h2>Slow spots</h2>\n{}<h2>FactList</h2>\n{}</section>\n",
        escape(&receipt.finished),
        tiles(receipt),
        charts::medium(section),
        MAP_LEGEND,
        charts::pace_over_offset(receipt, &spots),
        charts::pace_over_time(receipt),
        PACE_LEGEND,
        spot_table(section, &spots),
        facts(receipt),
    )
}

const MAP_LEGEND: &str = "<p class=\"legend\">\
    <span class=\"key\" style=\"background:#2f7d5b;margin-left:0\"></span>in use\
    <span class=\"key\" style=\"background:#cfe3d8\"></span>free space, left as it was\
    <span class=\"key\" style=\"background:#eceff1\"></span>not part of the image</p>\n";
const PACE_LEGEND: &str = "<p class=\"legend\">\
    <span class=\"key\" style=\"background:#2f7d5b;margin-left:0\"></span>written\
    <span class=\"key\" style=\"background:#3f6fb5\"></span>read back\
    <span class=\"key\" style=\"background:#c8452f\"></span>slow spot</p>\n";

fn tiles(receipt: &Receipt) -> String {
    let bytes = &receipt.bytes;
    let seconds =
        std::time::Duration::from_secs_f64(receipt.write_seconds + receipt.verify_seconds);
    let tiles = [
        (units::size(bytes.image), "image"),
        (units::size(bytes.written), "written"),
        (units::size(bytes.free), "free, not written"),
        (units::size(bytes.zero), "of it zeros"),
        (units::time(seconds), "writing and reading back"),
        (
            units::rate(
                bytes.written,
                std::time::Duration::from_secs_f64(receipt.write_seconds),
            ),
            "mean pace of writing",
        ),
    ];
    let tile = |(value, what): &(String, &str)| {
        format!(
            "<div class=\"tile\"><b>{}</b><span>{what}</span></div>\n",
            escape(value)
        )
    };
    format!(
        "<div class=\"tiles\">\n{}</div>\n",
        tiles.iter().map(tile).collect::<String>()
    )
}

fn spot_table(section: &Finished, spots: &[SlowSpot]) -> String {
    if spots.is_empty() {
        return "<p class=\"legend\">none: no chunk took much longer than the others</p>\n"
            .to_owned();
    }
    let mut rows = String::from(
        "<table><tr><th>at</th><th>partition</th><th>while</th><th>took</th><th>usual</th></tr>\n",
    );
    for spot in spots.iter().take(MAX_SPOTS) {
        let content = section.content.as_ref();
        let partition = content.and_then(|found| found.partition_at(spot.offset));
        let partition = partition.map_or("-".to_owned(), |p| p.number.to_string());
        rows += &format!(
            "<tr><td>{}</td><td>{partition}</td><td>{}</td><td>{:.1} s</td><td>{:.2} s</td></tr>\n",
            units::size(spot.offset),
            spot.what,
            spot.took,
            spot.usual
        );
    }
    let more = spots.len().saturating_sub(MAX_SPOTS);
    let more = if more > 0 {
        format!("<p class=\"legend\">and {more} more</p>\n")
    } else {
        String::new()
    };
    format!("{rows}</table>\n{more}")
}

fn facts(receipt: &Receipt) -> String {
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
        ("begun", receipt.begun.clone()),
        ("finished", receipt.finished.clone()),
        ("program", receipt.tool.clone()),
    ];
    let row = |(name, value): &(&str, String)| {
        format!(
            "<tr><th>{name}</th><td><code>{}</code></td></tr>\n",
            escape(value.trim())
        )
    };
    format!(
        "<table>\n{}</table>\n",
        rows.iter().map(row).collect::<String>()
    )
}

/// Names come from media and files: none of them may become markup.
fn escape(text: &str) -> String {
    printable(text)
        .replace('&', "&amp;")
        .replace('<', "&lt;")
        .replace('>', "&gt;")
        .replace('"', "&quot;")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_cannot_become_markup() {
        assert_eq!(escape("<b>\"a&b\""), "&lt;b&gt;&quot;a&amp;b&quot;");
    }
}
