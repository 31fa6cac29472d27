//! `pinewrit estimate net`

use ipnet::IpNet;
use pinewrit_settings::estimate::{NetReport, Pool, net};
use pinewrit_ui::words::inspection::FactList;
use pinewrit_ui::{Event, Exit, Message, Ui, style, units};
use schemars::JsonSchema;
use serde::Serialize;

use crate::commands::Outcome;

#[derive(Serialize, JsonSchema)]
pub(crate) struct NetEvent<'a> {
    command: &'static str,
    #[serde(flatten)]
    report: &'a NetReport,
}

impl Event for NetEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["estimate net"];
}

pub(super) fn run(ui: &Ui, wanted: IpNet, pool: Option<Pool>, with: &[IpNet]) -> Outcome {
    let report = net(wanted, pool, with);
    ui.event(&NetEvent {
        command: "estimate net",
        report: &report,
    });
    ui.result(text(&report, pool));
    for warning in &report.warnings {
        let style = style::WARNING;
        ui.say(format!(
            "{style}warning:{style:#} {}\n            → {}\n",
            warning.what, warning.remedy
        ));
    }
    if report.mistakes.is_empty() && report.overlaps.is_empty() {
        return Ok(());
    }
    let what = format!("{} does not work like this", report.network);
    let message = Message::new(Exit::Differences, what);
    let message = report.mistakes.iter().fold(message, |message, what| {
        message.fact("mistake", what.as_str())
    });
    let message = report.overlaps.iter().fold(message, |message, net| {
        message.fact("overlaps", net.as_str())
    });
    Err(match &report.next_free {
        Some(free) if !report.overlaps.is_empty() => message.remedy(format!(
            "{free} is the next one of that size without overlaps"
        )),
        _ => message,
    })
}

fn text(report: &NetReport, pool: Option<Pool>) -> String {
    let strong = style::STRONG;
    let mut facts = FactList::default();
    facts.add("mask", report.mask.as_str());
    facts.add("usable", format!("{} to {}", report.first, report.last));
    let count = report
        .usable
        .map_or("more than 2^64".to_owned(), units::grouped);
    facts.add("units", count);
    if let Some(broadcast) = &report.broadcast {
        facts.add("broadcast", broadcast.as_str());
    }
    if let (Some(pool), Some(size)) = (pool, report.pool) {
        let beside = report.beside_pool.map_or(String::new(), |beside| {
            format!(", {} left for static addresses", units::grouped(beside))
        });
        let size = units::grouped(size);
        facts.add(
            "pool",
            format!("{} to {}: {size}{beside}", pool.first, pool.last),
        );
    }
    if let Some(free) = &report.next_free {
        facts.add("next free", free.as_str());
    }
    format!("{strong}{}{strong:#}\n{}", report.network, facts.to_text())
}
