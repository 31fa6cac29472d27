//! What is about to be written, in words.

use pinewrit_core::inspect::PartitionFacts;
use pinewrit_core::unfinished::UnfinishedWrite;
use pinewrit_core::write::{Destination, WritePlan};
use pinewrit_host::{MediumKind, Target};
use pinewrit_image::UnpackedSize;
use pinewrit_ui::words::inspection::{self, FactList};
use pinewrit_ui::{style, units, words};

use pinewrit_session::trust::FoundSignature;
use pinewrit_session::{Context, measure, medium, settings};

/// How long it takes on the slowest medium, in seconds and in words; unless nothing is known of one
/// of them, or the ledger may not answer at once.
pub(super) fn expected(cx: &Context, plan: &WritePlan) -> Option<(f64, String)> {
    let image = plan.source.unpacked_size().exact()?;
    let used = image.saturating_sub(plan.expected_free());
    let media: Option<Vec<_>> = plan
        .media
        .iter()
        .map(|medium| medium.facts.as_ref())
        .collect();
    let media = media.filter(|_| cx.has_ledger_here())?;
    let paces: Option<Vec<_>> = measure::paces(cx, &media).into_iter().collect();
    let expected = paces?
        .into_iter()
        .map(|pace| pace.expected(used, plan.request.verify));
    expected.max_by(|a, b| a.0.total_cmp(&b.0))
}

/// A plan, and how much of it to show.
pub(super) struct PlanText<'a> {
    pub(super) plan: &'a WritePlan,
    pub(super) is_verbose: bool,
    /// How long it is expected to take.
    pub(super) expected: Option<&'a str>,
    pub(super) signature: Option<&'a FoundSignature>,
    /// A medium is copied, which no checksum was published for.
    pub(super) is_copy: bool,
}

impl PlanText<'_> {
    /// The plan in words.
    pub(super) fn to_text(&self) -> String {
        let source = &self.plan.source;
        let mut facts = FactList::default();
        let size = match source.unpacked_size() {
            UnpackedSize::Exact(bytes) => units::size(bytes),
            UnpackedSize::AtLeast(bytes) => format!("at least {}", units::size(bytes)),
            UnpackedSize::Unknown => "size unknown".to_owned(),
        };
        let wrapping = match source.layers() {
            [] => size,
            _ => format!("{}, {size} unpacked", inspection::wrapping(source)),
        };
        facts.add("image", format!("{}  {wrapping}", source.name()));
        if let Some(why) = source.xz_in_one_thread().filter(|_| self.is_verbose) {
            facts.add("unpacking", inspection::one_thread(why));
        }
        if let Some(image) = source.unpacked_size().exact() {
            facts.add("to write", self.amount(image));
        }
        for medium in &self.plan.media {
            let (text, fits) = (medium_text(medium), self.fits(medium));
            match self.plan.media.len() {
                1 => {
                    facts.add("medium", text);
                    facts.add("fits", fits);
                }
                // One line each.
                _ => facts.add("medium", format!("{text}; fits: {fits}")),
            }
        }
        match &self.plan.preview {
            Some(preview) => inspection::content(preview, &mut facts),
            None => facts.add("content", "not known before more of it is fetched"),
        }
        match &self.plan.request.checksum {
            Some(sum) => facts.add("checksum", inspection::checksum(sum)),
            None if self.is_copy => {}
            None => facts.add("checksum", "none given, none found beside the image"),
        }
        if let Some(found) = self.signature {
            facts.add("signed", words::trust::signed(&found.file, &found.signed));
        }
        if let Some(settings) = &self.plan.request.settings {
            facts.add("settings", settings::brief(settings));
            match &self.plan.rehearsal {
                Some(trial) => facts.add("intake", format!("{}: {}", trial.intake, trial.reason)),
                None => facts.add(
                    "intake",
                    "decided when the image has been read: its root is too far in for a quick look",
                ),
            }
        }
        if let Some(expected) = self.expected {
            facts.add("takes", expected);
        }
        for medium in &self.plan.media {
            self.add_present(medium, &mut facts);
        }
        facts.to_text()
    }

    /// How much will be written, as far as known.
    fn amount(&self, image: u64) -> String {
        let free = self.plan.expected_free().min(image);
        let is_seen = |partition: &PartitionFacts| partition.filesystem.is_some();
        let all_seen = self
            .plan
            .preview
            .as_ref()
            .is_some_and(|preview| preview.partitions.iter().all(is_seen));
        match free {
            _ if self.plan.request.every_byte => format!("{}, every byte", units::size(image)),
            free if !all_seen => format!(
                "{} at most; free space of file systems is skipped",
                units::size(image - free)
            ),
            0 => format!("{}; no free space in it", units::size(image)),
            free => format!(
                "about {}; the image's other {} are free space, which is skipped",
                units::size(image - free),
                units::size(free)
            ),
        }
    }

    fn fits(&self, medium: &Destination) -> String {
        let warning = style::WARNING;
        let size = medium.target.size();
        match self.plan.source.unpacked_size().exact() {
            Some(image) => format!("yes, {} to spare", units::size(size - image)),
            None if self.plan.source.unpacked_size().at_least() > size => {
                let doubt = "probably not; the size given by its wrapping may be wrong";
                format!("{warning}{doubt}{warning:#}")
            }
            None => "not known before it is unpacked; it stops at the medium's end".to_owned(),
        }
    }

    fn add_present(&self, medium: &Destination, facts: &mut FactList) {
        let warning = style::WARNING;
        let of = match self.plan.media.len() {
            1 => String::new(),
            _ => format!("on {}: ", medium.name),
        };
        if let Some(note) = &medium.note {
            facts.add("started", format!("{of}{}", unfinished_text(note)));
        } else if let Some(present) = &medium.present {
            let summary = inspection::summary(present);
            facts.add(
                "replaces",
                if present.is_unknown() {
                    format!("{of}{summary}")
                } else {
                    format!("{of}{warning}{summary}{warning:#}")
                },
            );
        }
    }
}

/// An unfinished write in words.
pub(crate) fn unfinished_text(note: &UnfinishedWrite) -> String {
    let amount = match note.total {
        Some(total) => format!("{} of {}", units::size(note.done), units::size(total)),
        None => units::size(note.done),
    };
    let (image, begun) = (&note.image_name, &note.begun);
    format!("writing {image} was interrupted: {amount} written, started {begun}")
}

fn medium_text(one: &Destination) -> String {
    let kind = match &one.target {
        Target::New { .. } => "new card file",
        Target::Existing(existing) => match existing.kind {
            MediumKind::CardFile => "card file",
            MediumKind::BlockDevice => "block device",
            MediumKind::Simulated => "simulated medium",
        },
    };
    let what = one.facts.as_ref().map(medium::describe);
    let what = what.unwrap_or_else(|| format!("{kind}, {}", units::size(one.target.size())));
    format!("{}  {what}", one.name)
}
