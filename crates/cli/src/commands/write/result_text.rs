//! A finished medium, in words.

use std::time::Duration;

use pinewrit_core::write::{ReadBack, WritePlan, WriteReport, WrittenMedium};
use pinewrit_host::{MediumKind, Rescan};
use pinewrit_ui::words::inspection::{self, FactList};
use pinewrit_ui::{style, units, words};

use crate::commands::configure;

/// A written medium, and remarks about it.
pub(super) struct ResultText<'a> {
    pub(super) plan: &'a WritePlan,
    pub(super) medium: &'a WrittenMedium,
    pub(super) rescan: Rescan,
    pub(super) is_ejected: bool,
    pub(super) is_draft: bool,
    pub(super) is_copy: bool,
    pub(super) is_verbose: bool,
    /// How fetching went.
    pub(super) download: &'a [(&'static str, String)],
}

impl ResultText<'_> {
    /// The result in words.
    pub(super) fn to_text(&self, report: &WriteReport) -> String {
        let good = style::GOOD;
        let verified = if report.verified {
            "verified"
        } else {
            "not verified"
        };
        let settings = self.plan.request.settings.as_ref();
        let identity = settings.and_then(|settings| settings.host_name.as_ref());
        let identity = identity.map_or(String::new(), |name| format!(", as {name}"));
        let mut facts = FactList::default();
        facts.add(
            "written",
            if self.is_draft {
                "in place, nothing had to be copied".to_owned()
            } else {
                amount(report.written_bytes, report.write_seconds)
            },
        );
        if report.kept_bytes > 0 {
            facts.add(
                "skipped",
                format!("{}, already there", units::size(report.kept_bytes)),
            );
        }
        let (used, zero) = (
            units::size(report.used_bytes),
            units::size(report.zero_bytes),
        );
        if report.zero_bytes > 0 {
            facts.add("in use", format!("{used}, {zero} of it zeros"));
        }
        if report.free_bytes > 0 {
            let free = units::size(report.free_bytes);
            facts.add("free", format!("{free} of free space skipped"));
        }
        facts.add("read back", self.read_back(report));
        if let Some(expected) = self.plan.request.expected_seconds {
            let time = |seconds: f64| units::time(Duration::from_secs_f64(seconds));
            let took = time(report.write_seconds + report.verify_seconds);
            facts.add("took", format!("{took}; {} were expected", time(expected)));
        }
        if report.repeated > 0 {
            let requests = units::counted(u64::from(report.repeated), "request");
            facts.add(
                "repeated",
                format!("{requests} that failed at first: do not trust this medium for long"),
            );
        }
        if let (Some(expected), Some(found)) = (&self.plan.request.checksum, &report.checksum) {
            let (kind, origin) = (expected.checksum.kind.word(), inspection::origin(expected));
            facts.add(
                "checksum",
                format!("{kind} of the {} matches, {origin}", found.of),
            );
        }
        for one in &report.recovered {
            facts.add("finished", words::recovered(one));
        }
        if let Some(grown) = &report.grown {
            facts.add("grown", inspection::grown(grown));
        }
        if let Some(why) = &report.not_grown {
            facts.add("not grown", why.as_str());
        }
        if let Some(as_new) = &report.as_new {
            words::as_new_facts(as_new, &mut facts);
        }
        if let Some(renewed) = &report.renewed {
            words::renewed(renewed, false, &mut facts);
        }
        if let Some(configured) = &report.configured {
            facts.add("settings", configure::files(configured));
            for (name, text) in configure::more(configured) {
                facts.add(name, text);
            }
        }
        for (name, text) in self.download {
            facts.add(name, text.as_str());
        }
        for region in report
            .regions
            .iter()
            .filter(|region| region.doubt.is_some())
        {
            facts.add("note", region_text(region, "written"));
        }
        if self.is_verbose {
            let way = if self.medium.medium.is_direct {
                "direct, past the system's cache"
            } else {
                "through the system's cache"
            };
            facts.add("transfers", way);
        }
        if self.rescan == Rescan::InUse {
            let what = "this computer shows the old partitions until it is reconnected";
            facts.add("note", what);
        }
        if !self.is_ejected {
            facts.add(
                "next",
                match self.medium.medium.kind {
                    MediumKind::CardFile => {
                        format!("pinewrit inspect {}", self.medium.medium.path.display())
                    }
                    _ => format!("pinewrit eject {}, then remove it", self.medium.name),
                },
            );
        }
        format!(
            "{good}done:{good:#} {} holds {}{}, {verified}{identity}\n{}",
            self.medium.name,
            if self.is_copy { "a copy of " } else { "" },
            self.plan.source.name(),
            facts.to_text()
        )
    }

    fn read_back(&self, report: &WriteReport) -> String {
        let behind = self.medium.read_back == ReadBack::Behind;
        match (report.verified, behind) {
            (false, _) => "not done (--no-verify)".to_owned(),
            (true, true) => format!(
                "{} while writing, all equal",
                units::size(report.used_bytes)
            ),
            (true, false) => amount(report.used_bytes, report.verify_seconds),
        }
    }
}

/// Why a partition was written as a whole.
pub(crate) fn region_text(region: &pinewrit_volume::extents::RegionFacts, done: &str) -> String {
    let what = match region.partition {
        Some(number) => format!("partition {number}"),
        None => "the file system".to_owned(),
    };
    let why = region.doubt.as_deref().unwrap_or_default();
    format!("every byte of {what} was {done}: {why}")
}

fn amount(bytes: u64, seconds: f64) -> String {
    let time = Duration::from_secs_f64(seconds);
    if seconds < 0.1 {
        // Too short for a meaningful rate.
        return units::size(bytes);
    }
    let rate = units::rate(bytes, time);
    format!("{} in {} ({rate})", units::size(bytes), units::time(time))
}
