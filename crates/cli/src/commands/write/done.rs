//! What there is to say of a medium that was written, and its receipt.

use std::path::{Path, PathBuf};
use std::time::Duration;

use pinewrit_core::inspect::inspect;
use pinewrit_core::receipt::{
    Identifiers, Receipt, ReceiptChange, ReceiptImage, ReceiptMedium, ReceiptSettings,
};
use pinewrit_core::state::save;
use pinewrit_core::write::WriteReport;
use pinewrit_host::{MediumKind, Readers, Rescan};

use super::super::report::{self, FactList};
use super::super::{Outcome, configure, eject, records, settings};
use super::{OpenMedium, Plan, WriteEvent};
use crate::args::WriteArgs;
use crate::clock;
use crate::explain;
use crate::page::{Finished, Section};
use crate::ui::{Ui, style, units};

/// Everything there is to say of a finished medium.
pub(super) struct Done<'a> {
    pub(super) ui: &'a Ui,
    pub(super) args: &'a WriteArgs,
    pub(super) plan: &'a Plan,
    pub(super) medium: &'a OpenMedium,
    pub(super) begun: &'a str,
    /// How fetching went, in words.
    pub(super) download: &'a [(&'static str, String)],
}

impl Done<'_> {
    /// Keeps the receipt, tells the result, and ejects the medium if asked to.
    ///
    /// What belongs on a page about it is added to `sections`.
    pub(super) fn tell(
        &self,
        readers: &Readers,
        report: &WriteReport,
        sections: &mut Vec<Section>,
    ) -> Outcome {
        let receipt = self.receipt(report);
        let kept = self.keep(&receipt);
        if let Some(kept) = &kept {
            self.amend_whole(readers, &receipt, kept);
        }
        let device = &*self.medium.medium.device;
        if self.args.report.is_some() {
            sections.push(Section::Done(Box::new(Finished {
                name: self.medium.name.clone(),
                receipt,
                content: inspect(device, Some(device.size())).ok(),
            })));
        }
        let medium = &self.medium.medium;
        let ejecting = self.args.eject && medium.kind != MediumKind::CardFile;
        let ejected = ejecting.then(|| readers.eject_open(medium));
        let rescan = match ejected {
            // Nobody is to mount it now.
            Some(_) => Rescan::NotApplicable,
            None => medium.rescan(),
        };
        self.ui.event(&WriteEvent {
            command: self.args.command(),
            image: self.args.image.to_string(),
            medium: self.medium.id.clone(),
            receipt: kept
                .or_else(|| self.args.receipt.clone())
                .map(|place| place.display().to_string()),
            report,
        });
        self.ui.result(self.text(report, rescan, ejecting));
        match ejected {
            Some(Ok(power)) => {
                let text = eject::farewell(&self.medium.name, &power);
                self.ui.result(format!("{text}\n"));
                Ok(())
            }
            Some(Err(error)) => Err(eject::after_writing(&self.medium.name, &error)),
            None => Ok(()),
        }
    }

    /// Of a medium of which one partition was written: the receipt of the whole leaves that partition
    /// to the new one.
    fn amend_whole(&self, readers: &Readers, own: &Receipt, kept: &Path) {
        let Some((old, receipt)) = self.medium.whole.clone() else {
            return;
        };
        let amended = records::state().map(|state| {
            let mut receipt = receipt;
            // The device at hand is narrowed to the partition.
            if let Ok(medium) = readers.open_for_reading(&self.medium.medium.path) {
                receipt.identifiers = Identifiers::of(&*medium.device);
            }
            let number = own.medium.partition.map_or(0, |partition| partition.number);
            let name = kept.file_name().unwrap_or_default().to_string_lossy();
            receipt.changes.push(ReceiptChange {
                receipt: Some(name.into_owned()),
                ..clock::change("write --into", vec![format!("partition {number}")])
            });
            state.replace_receipt(&old, &receipt)
        });
        if let Ok(Err(error)) = amended {
            let why = explain::error_chain(&error);
            let text = format!("note: the receipt does not have this change: {why}\n");
            self.ui.warn(text);
        }
    }

    fn receipt(&self, report: &WriteReport) -> Receipt {
        let tool = concat!("pinewrit ", env!("CARGO_PKG_VERSION")).to_owned();
        let device = &*self.medium.medium.device;
        let facts = self.medium.facts.as_ref();
        let identity = facts.map(|facts| &facts.identity);
        let medium = ReceiptMedium {
            name: match facts {
                Some(_) => self.medium.medium.path.display().to_string(),
                None => full_name(&self.medium.medium.path),
            },
            tag: facts
                .and_then(|facts| facts.tag.as_ref())
                .map(ToString::to_string),
            bus: identity.map(|identity| identity.bus.word().to_owned()),
            maker: identity.and_then(|identity| identity.maker.clone()),
            model: identity.and_then(|identity| identity.model.clone()),
            serial: identity.and_then(|identity| identity.serial.clone()),
            size: device.size(),
            partition: self.medium.partition,
        };
        let source = &self.plan.source;
        let image = ReceiptImage {
            name: source.name(),
            wrapping: source.layers().iter().map(ToString::to_string).collect(),
            packed_bytes: source.packed_size(),
            unpacked_bytes: report.image_bytes,
            checksum: report.checksum.as_ref().map(|sum| sum.digest.clone()),
        };
        let mut receipt = Receipt::new(tool, report, medium, image);
        receipt.identifiers = Identifiers::of(device);
        receipt.begun = self.begun.to_owned();
        receipt.finished = clock::text();
        receipt.settings = self.plan.settings.as_ref().map(|checked| {
            let files = report.configured.iter().flat_map(|done| &done.files);
            ReceiptSettings {
                host_name: checked.host_name.clone(),
                digest: blake3::hash(settings::brief(checked).as_bytes())
                    .to_hex()
                    .to_string(),
                files: files.map(|file| file.path.clone()).collect(),
                intake: report.configured.as_ref().map(|done| done.intake.clone()),
                known_hosts: report
                    .configured
                    .as_ref()
                    .and_then(|done| Some(done.host_key.as_ref()?.known_hosts.clone())),
            }
        });
        receipt
    }

    /// Keeps a receipt in the state folder, and where it was asked for; returns where it is in the
    /// former. A full disk is no reason to call a good card bad.
    fn keep(&self, receipt: &Receipt) -> Option<PathBuf> {
        let own = match records::state() {
            Ok(state) => state
                .save_receipt(receipt)
                .map_err(|e| explain::error_chain(&e)),
            Err(_) => Err("it cannot be used".to_owned()),
        };
        if let Err(error) = &own {
            let text = format!("note: no receipt in the state folder: {error}\n");
            self.ui.warn(text);
        }
        if let Some(place) = &self.args.receipt {
            let kept = receipt.to_json().map_err(|e| e.to_string());
            let kept = kept.and_then(|json| save(place, &json).map_err(|e| e.to_string()));
            if let Err(error) = kept {
                let place = place.display();
                self.ui
                    .warn(format!("note: no receipt in {place}: {error}\n"));
            }
        }
        own.ok()
    }

    fn text(&self, report: &WriteReport, rescan: Rescan, ejecting: bool) -> String {
        let good = style::GOOD;
        let verified = if report.verified {
            "verified"
        } else {
            "not verified"
        };
        let settings = self.plan.settings.as_ref();
        let identity = settings.and_then(|settings| settings.host_name.as_ref());
        let identity = identity.map_or(String::new(), |name| format!(", as {name}"));
        let mut facts = FactList::default();
        facts.add(
            "written",
            if self.args.is_draft {
                "where it was put together, nothing had to be copied".to_owned()
            } else {
                amount(report.written_bytes, report.write_seconds)
            },
        );
        if report.kept_bytes > 0 {
            facts.add(
                "kept",
                format!(
                    "{}, which were there already",
                    units::size(report.kept_bytes)
                ),
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
            facts.add("free", format!("{free} of free space left as it was"));
        }
        facts.add("read back", self.read_back(report));
        if report.repeated > 0 {
            let requests = units::counted(u64::from(report.repeated), "request");
            facts.add(
                "repeated",
                format!("{requests} that failed at first: do not trust this medium for long"),
            );
        }
        if let (Some(expected), Some(found)) = (&self.plan.checksum, &report.checksum) {
            let (kind, origin) = (expected.checksum.kind.word(), report::origin(expected));
            facts.add(
                "checksum",
                format!("{kind} of the {} matches, {origin}", found.of),
            );
        }
        if let Some(grown) = &report.grown {
            facts.add("grown", report::grown(grown));
        }
        if let Some(why) = &report.not_grown {
            facts.add("not grown", why.as_str());
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
            facts.add("note", region_text(region));
        }
        if self.ui.verbose {
            let way = if self.medium.medium.is_direct {
                "direct, past the system's cache"
            } else {
                "through the system's cache"
            };
            facts.add("transfers", way);
        }
        if rescan == Rescan::InUse {
            let what = "this computer shows the old partitions until it is plugged in again";
            facts.add("note", what);
        }
        if !ejecting {
            facts.add(
                "next",
                match self.medium.medium.kind {
                    MediumKind::CardFile => {
                        format!("pinewrit inspect {}", self.medium.medium.path.display())
                    }
                    _ => format!("pinewrit eject {}, then take it out", self.medium.name),
                },
            );
        }
        format!(
            "{good}done:{good:#} {} holds {}, {verified}{identity}\n{}",
            self.medium.name,
            self.plan.source.name(),
            facts.to_text()
        )
    }

    fn read_back(&self, report: &WriteReport) -> String {
        let behind = self.medium.read_back == pinewrit_core::write::ReadBack::Behind;
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

/// By what a card file is found again.
fn full_name(path: &Path) -> String {
    let full = std::path::absolute(path);
    full.as_deref().unwrap_or(path).display().to_string()
}

/// Why a partition was written as a whole.
fn region_text(region: &pinewrit_volume::extents::RegionFacts) -> String {
    let what = match region.partition {
        Some(number) => format!("partition {number}"),
        None => "the file system".to_owned(),
    };
    let why = region.doubt.as_deref().unwrap_or_default();
    format!("every byte of {what} was written: {why}")
}

fn amount(bytes: u64, seconds: f64) -> String {
    let time = Duration::from_secs_f64(seconds);
    if seconds < 0.1 {
        // Too short for a rate that means anything.
        return units::size(bytes);
    }
    let rate = units::rate(bytes, time);
    format!("{} in {} ({rate})", units::size(bytes), units::time(time))
}
