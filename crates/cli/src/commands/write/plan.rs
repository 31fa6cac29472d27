//! Everything that is known before the first byte.

use std::path::{Path, PathBuf};

use pinewrit_core::inspect::{Inspection, PartitionFacts, inspect, inspect_medium};
use pinewrit_core::receipt::{Receipt, ReceiptPartition};
use pinewrit_core::unfinished::UnfinishedWrite;
use pinewrit_disk::{BlockDevice, ByteRange, DiskError, Padded, SectorSize};
use pinewrit_firstboot::configure::{ConfigureError, ConfigureReport, prepare};
use pinewrit_firstboot::settings::CheckedSettings;
use pinewrit_host::{Bus, Footing, MediumKind, Readers, Target};
use pinewrit_image::{
    ExpectedChecksum, ImageSource, Location, PeekDevice, UnpackedSize, find_beside,
};
use pinewrit_volume::extents::MapTracker;
use pinewrit_volume::{FilesystemFacts, FilesystemKind};

use super::super::report::{self, FactList};
use super::super::source::{self, Keep};
use super::super::target::{self, Chosen};
use super::super::{Outcome, change, records, settings};
use super::{NOTHING_WRITTEN, content};
use crate::args::WriteArgs;
use crate::clock;
use crate::exit::Exit;
use crate::explain;
use crate::message::Message;
use crate::ui::progress::Waiting;
use crate::ui::{Ui, style, units};

/// How far into a packed image is looked before writing.
pub(super) const PREVIEW: u64 = 256 << 20;

/// Everything that is known before the first byte.
pub(super) struct Plan {
    pub(super) source: ImageSource,
    pub(super) media: Vec<PlannedMedium>,
    pub(super) checksum: Option<ExpectedChecksum>,
    pub(super) settings: Option<CheckedSettings>,
    /// What is in the image, as far as a quick look reaches.
    pub(super) preview: Option<Inspection>,
    /// Bytes of the image that are free, where it can be read anywhere.
    pub(super) surveyed: Option<u64>,
    /// It is written although it is not known to be an image, or is too short.
    pub(super) as_it_is: bool,
    /// What the settings would change in the image, as far as a quick look reaches.
    pub(super) trial: Option<ConfigureReport>,
}

/// A medium to be written.
pub(super) struct PlannedMedium {
    /// Its tag, or the card file's name.
    pub(super) name: String,
    /// What its notes are kept by: its tag, or the card file's full path.
    pub(super) key: String,
    pub(super) chosen: Chosen,
    pub(super) target: Target,
    /// What is on it now.
    pub(super) present: Option<Inspection>,
    /// An earlier write that was not finished.
    pub(super) note: Option<UnfinishedWrite>,
    /// The partition that is written, if it is not all of the medium.
    pub(super) partition: Option<ReceiptPartition>,
    /// The receipt of the whole medium without that partition, and where it is.
    pub(super) whole: Option<(PathBuf, Receipt)>,
}

impl PlannedMedium {
    /// Whether there is nothing on it that could be lost.
    pub(super) fn is_new(&self) -> bool {
        self.present.is_none() && matches!(self.target, Target::New { .. })
    }

    /// Whether it holds the image already.
    pub(super) fn is_drafted(&self) -> bool {
        matches!(self.target, Target::New { draft: Some(_), .. })
    }

    /// How it is connected; `None` for card files.
    pub(super) fn bus(&self) -> Option<Bus> {
        self.chosen.facts.as_ref().map(|facts| facts.identity.bus)
    }
}

/// Whether the download is kept.
pub(super) fn keep(args: &WriteArgs) -> Keep {
    if args.keep_download {
        Keep::Yes
    } else {
        Keep::No
    }
}

/// Checks everything that can be checked before writing.
pub(super) fn make(ui: &Ui, readers: &Readers, args: &WriteArgs) -> Result<Plan, Message> {
    let source = source::open(ui, &args.image, &args.options, keep(args))?;
    let checksum = match &args.checksum {
        Some(text) => ExpectedChecksum::from_argument(text, &source).map(Some),
        None => find_beside(&source),
    };
    let checksum = checksum.map_err(|e| explain::checksum_error(&e))?;
    let settings = args.settings.as_ref();
    let intake = args.intake.as_deref();
    let settings = settings.map(|path| settings::read(ui, path, intake));
    let settings = settings.transpose()?;
    must_be_of_one(args, settings.as_ref())?;
    let needed = needed(readers, args, &source)?;
    let mut media: Vec<PlannedMedium> = Vec::new();
    for named in &args.to {
        let medium = open_medium(ui, readers, args, named, (&media, &needed))?;
        check_source_and_fit(&source, &medium)?;
        media.push(medium);
    }
    let preview = look_into(ui, &source)?;
    let plan = Plan {
        checksum,
        settings,
        surveyed: media.first().and_then(|medium| survey(&source, medium)),
        preview,
        as_it_is: false,
        trial: None,
        source,
        media,
    };
    let plan = Plan {
        as_it_is: content::check(ui, args, &plan)?,
        ..plan
    };
    let plan = try_settings(ui, args, plan)?;
    if args.into.is_some() {
        must_be_a_file_system(&plan)?;
    } else if args.grow {
        check_growth(&plan)?;
    }
    Ok(plan)
}

/// A partition holds a file system, not a medium with a table of its own.
fn must_be_a_file_system(plan: &Plan) -> Outcome {
    let preview = plan.preview.as_ref();
    let count = preview.map_or(0, |preview| preview.partitions.len());
    if count == 0 {
        return Ok(());
    }
    let what = format!("{} is an image of a whole medium", plan.source.name());
    Err(Message::new(Exit::Usage, what)
        .fact("it has", units::counted(count as u64, "partition"))
        .fact("state", NOTHING_WRITTEN)
        .remedy("an image of one file system, or write it without --into"))
}

/// A host name is for one unit.
fn must_be_of_one(args: &WriteArgs, settings: Option<&CheckedSettings>) -> Outcome {
    let host_name = settings.and_then(|settings| settings.host_name.as_ref());
    match host_name.filter(|_| args.to.len() > 1) {
        None => Ok(()),
        Some(name) => Err(Message::new(
            Exit::Usage,
            format!(
                "{} media would all answer to the name {name}",
                args.to.len()
            ),
        )
        .remedy("write each with settings of its own, or leave `hostname` out of them")),
    }
}

/// What a write needs until its end, and where that is.
fn needed(
    readers: &Readers,
    args: &WriteArgs,
    source: &ImageSource,
) -> Result<Vec<(&'static str, Footing)>, Message> {
    let files = source.files();
    let mut needed: Vec<_> = files
        .map(|file| ("the image", readers.footing_of_file(file)))
        .collect();
    let spooled = source.spooled_files();
    needed.extend(spooled.map(|file| ("the unpacked archive", readers.footing_of_file(file))));
    if let Some(state) = records::state_for_writing()? {
        needed.push(("the state folder", readers.footing(state.path())));
    }
    let asked = [("the receipt", &args.receipt), ("the report", &args.report)];
    for (what, path) in asked {
        needed.extend(path.as_ref().map(|path| (what, readers.footing(path))));
    }
    Ok(needed)
}

fn open_medium(
    ui: &Ui,
    readers: &Readers,
    args: &WriteArgs,
    named: &Path,
    (others, needed): (&[PlannedMedium], &[(&str, Footing)]),
) -> Result<PlannedMedium, Message> {
    target::must_not_end_so(named, &[])?;
    let mut chosen = target::find(readers, named, args.size.is_some())?;
    let mut name = chosen.name();
    let mut key = chosen.key();
    if others.iter().any(|other| other.key == key) {
        return Err(Message::new(Exit::Usage, format!("{name} is named twice"))
            .remedy("name each medium once"));
    }
    target::must_not_be_system(&chosen)?;
    // Before anything of it is unmounted.
    target::must_not_meet(readers, &chosen, needed)?;
    let footing = readers.footing(&chosen.path);
    let is_met = |other: &&PlannedMedium| readers.footing(&other.chosen.path).meets(&footing);
    if let Some(other) = others.iter().find(is_met) {
        let what = format!("{name} and {} are the same medium", other.name);
        return Err(Message::new(Exit::Refused, what).remedy("name each medium once"));
    }
    let permits = if args.dry_run {
        chosen.given_permits(&args.medium)
    } else {
        chosen.permits(ui, readers, &args.medium)?
    };
    let target = readers
        .open_target(&chosen.path, args.size, &permits)
        .map_err(|e| explain::named_medium_error(&name, &e))?;
    let target = match &args.image {
        Location::Path(draft) if args.is_draft => target.drafted(draft.clone()),
        _ => target,
    };
    let (target, partition, whole) = match &args.into {
        None => (target, None, None),
        Some(wanted) => {
            match &target {
                // What is half done elsewhere on it would stay so.
                Target::Existing(medium) if !args.dry_run => {
                    change::settle_interrupted(ui, &chosen, medium, args.yes)?;
                }
                _ => change::tell_interrupted(ui, readers, &chosen.path),
            }
            let range = find_partition(&target, &name, wanted)?;
            let (partition, range) = range;
            let whole = receipt_without(&chosen, &target, range)?;
            let target = match target {
                Target::Existing(medium) => Target::Existing(medium.narrowed(range)),
                other => other,
            };
            name = format!("partition {} of {name}", partition.number);
            key = format!("{key} partition {}", partition.number);
            (target, Some(partition), whole)
        }
    };
    // A medium that cannot be read now may still be worth writing; it will tell by itself.
    let present = match &target {
        Target::Existing(medium) => inspect_medium(&*medium.device).ok(),
        Target::New { .. } => None,
    };
    // What has a table was finished since, by whomever.
    let is_blank = present.as_ref().is_none_or(Inspection::is_unknown);
    Ok(PlannedMedium {
        note: records::state_if_any()
            .and_then(|state| state.note(&key))
            .filter(|_| is_blank),
        name,
        key,
        chosen,
        target,
        present,
        partition,
        whole,
    })
}

/// The receipt of a whole medium without a partition that is about to be written.
fn receipt_without(
    chosen: &Chosen,
    target: &Target,
    range: ByteRange,
) -> Result<Option<(PathBuf, Receipt)>, Message> {
    let Target::Existing(medium) = target else {
        return Ok(None);
    };
    let key = chosen.key();
    let device = &*medium.device;
    let state = records::state_for_writing()?;
    let found = state.and_then(|state| state.find_receipt(device, chosen.subject(&key)));
    let without = found.map(|found| Ok((found.path, found.receipt.without(device, range)?)));
    let without = without.transpose();
    without.map_err(|e| explain::disk_error(&chosen.name(), &e))
}

/// A partition of a medium that is there, and where it is.
fn find_partition(
    target: &Target,
    name: &str,
    wanted: &str,
) -> Result<(ReceiptPartition, ByteRange), Message> {
    let Target::Existing(medium) = target else {
        let what = format!("{name} is not there yet, and has no partitions");
        return Err(
            Message::new(Exit::Usage, what).remedy("pinewrit table create, or build, makes some")
        );
    };
    let size = medium.device.size();
    let found = inspect(&*medium.device, Some(size)).map_err(|e| explain::disk_error(name, &e))?;
    let number = change::partition(name, &found, wanted)?;
    let all = found.partitions.iter();
    let range = all
        .filter(|p| p.number == number)
        .map(PartitionFacts::range)
        .next();
    let Some(range) = range.filter(|range| range.end <= size) else {
        let what = format!("partition {number} reaches past the end of {name}");
        return Err(Message::new(Exit::Medium, what).remedy("pinewrit table show tells more"));
    };
    let partition = ReceiptPartition {
        number,
        start: range.start,
    };
    Ok((partition, range))
}

fn check_source_and_fit(source: &ImageSource, medium: &PlannedMedium) -> Outcome {
    match source.unpacked_size().exact() {
        Some(image) if image > medium.target.size() => Err(explain::too_large(
            &medium.name,
            image,
            medium.target.size(),
        )),
        _ => Ok(()),
    }
}

/// How much of an image in no wrapping is free.
fn survey(source: &ImageSource, medium: &PlannedMedium) -> Option<u64> {
    let size = source.plain()?.size();
    let sector = match &medium.target {
        Target::Existing(medium) => medium.device.logical_sector(),
        Target::New { .. } => SectorSize::B512,
    };
    let device = PeekDevice::new(source.for_a_look());
    MapTracker::survey(&device, size, sector).ok()
}

/// Looks into the image, as far as that is quick.
fn look_into(ui: &Ui, source: &ImageSource) -> Result<Option<Inspection>, Message> {
    let _waiting = Waiting::new(ui, format!("looking into {}", source.name()));
    let device = PeekDevice::new(source.for_a_look());
    let device = match source.layers() {
        // Without a wrapping, any place costs the same.
        [] => device,
        _ => device.with_limit(PREVIEW),
    };
    match inspect(&device, source.unpacked_size().exact()) {
        Ok(preview) => Ok(Some(preview)),
        // So far into a download that it is not fetched for a look.
        Err(DiskError::PastEnd { .. }) if source.fetch_stats().is_some() => Ok(None),
        Err(error) => {
            let message = explain::disk_error(&source.name(), &error);
            Err(message.fact("state", NOTHING_WRITTEN))
        }
    }
}

/// Puts the settings into a view of the image, for what would be found out too late otherwise.
/// Where the view does not reach, the writing tells.
fn try_settings(ui: &Ui, args: &WriteArgs, plan: Plan) -> Result<Plan, Message> {
    let Some(settings) = plan.settings.as_ref().filter(|_| args.into.is_none()) else {
        return Ok(plan);
    };
    let grows = args.grow || settings.grows_root;
    let mut tried = settings.clone();
    tried.grows_root = grows;
    let device = PeekDevice::new(plan.source.for_a_look());
    let device = match plan.source.layers() {
        [] => device,
        _ => device.with_limit(PREVIEW),
    };
    // What is put there has as much room as the smallest medium gives it.
    let sizes = plan.media.iter().map(|medium| medium.target.size());
    let smallest = sizes.min().filter(|_| grows);
    let larger = Padded::new(&device, smallest.unwrap_or(0));
    let report = |tried: &CheckedSettings, device: &dyn BlockDevice| {
        prepare(device, tried, clock::timestamp()).map(|prepared| prepared.report().clone())
    };
    let mut trial = report(&tried, &larger);
    if grows && trial.as_ref().is_err_and(is_out_of_reach) {
        // The end of the file system is not seen, where the room is.
        tried.grows_root = false;
        tried.swap = None;
        trial = report(&tried, &device);
    }
    let trial = match trial {
        Ok(report) => report,
        Err(error) if is_out_of_reach(&error) => return Ok(plan),
        Err(error) => {
            let message = explain::configure_error(&plan.source.name(), &error);
            return Err(message.instead("state", NOTHING_WRITTEN));
        }
    };
    if !args.dry_run {
        settings::must_have_way_in(ui, &trial, args.yes)?;
    }
    Ok(Plan {
        trial: Some(trial),
        ..plan
    })
}

/// Whether an error only says that the quick look ended.
fn is_out_of_reach(error: &ConfigureError) -> bool {
    if let ConfigureError::Unseen { .. } = error {
        return true;
    }
    let mut cause: Option<&dyn std::error::Error> = Some(error);
    while let Some(error) = cause {
        let is_disk = error.downcast_ref::<DiskError>().is_some();
        if is_disk || error.downcast_ref::<std::io::Error>().is_some() {
            return true;
        }
        cause = error.source();
    }
    false
}

/// What cannot be grown is told before writing, where the quick look reaches.
fn check_growth(plan: &Plan) -> Outcome {
    let Some(preview) = &plan.preview else {
        return Ok(());
    };
    if !preview.partitions.is_empty() {
        return Ok(());
    }
    let name = plan.source.name();
    let what = format!("{name} has no partition that could be grown");
    Err(Message::new(Exit::Usage, what)
        .fact("state", NOTHING_WRITTEN)
        .remedy("write it without --grow"))
}

impl Plan {
    /// Bytes of the image that are free, as far as the quick look tells.
    pub(super) fn expected_free(&self) -> u64 {
        let Some(preview) = &self.preview else {
            return 0;
        };
        if let Some(free) = self.surveyed {
            return free;
        }
        // An image that is an ISO 9660 file system as a whole is written as a whole.
        if preview
            .filesystem
            .as_ref()
            .is_some_and(|fs| fs.kind == FilesystemKind::ISO_9660)
        {
            return 0;
        }
        let known = |facts: &&FilesystemFacts| facts.kind.has_files();
        let inside = preview.partitions.iter().map(|p| p.filesystem.as_ref());
        let all = inside.chain([preview.filesystem.as_ref()]).flatten();
        all.filter(known).filter_map(|facts| facts.free).sum()
    }

    /// The plan in words.
    pub(super) fn to_text(&self, ui: &Ui, args: &WriteArgs) -> String {
        let source = &self.source;
        let mut facts = FactList::default();
        let size = match source.unpacked_size() {
            UnpackedSize::Exact(bytes) => units::size(bytes),
            UnpackedSize::AtLeast(bytes) => format!("at least {}", units::size(bytes)),
            UnpackedSize::Unknown => "size unknown".to_owned(),
        };
        let wrapping = match source.layers() {
            [] => size,
            _ => format!("{}, {size} unpacked", report::wrapping(source)),
        };
        facts.add("image", format!("{}  {wrapping}", source.name()));
        if let Some(why) = source.xz_in_one_thread().filter(|_| ui.verbose) {
            facts.add("unpacking", report::one_thread(why));
        }
        if let Some(image) = source.unpacked_size().exact() {
            facts.add("to write", self.amount(image, args));
        }
        for medium in &self.media {
            let (text, fits) = (medium_text(medium), self.fits(medium));
            match self.media.len() {
                1 => {
                    facts.add("medium", text);
                    facts.add("fits", fits);
                }
                // One line each.
                _ => facts.add("medium", format!("{text}; fits: {fits}")),
            }
        }
        match &self.preview {
            Some(preview) => report::content(preview, &mut facts),
            None => facts.add("content", "not known before more of it is fetched"),
        }
        match &self.checksum {
            Some(sum) => facts.add("checksum", report::checksum(sum)),
            None => facts.add("checksum", "none given, none found beside the image"),
        }
        if let Some(settings) = &self.settings {
            facts.add("settings", settings::brief(settings));
            match &self.trial {
                Some(trial) => facts.add("intake", format!("{}: {}", trial.intake, trial.reason)),
                None => facts.add(
                    "intake",
                    "decided when the image has passed: its root lies too far into it for a quick look",
                ),
            }
        }
        for medium in &self.media {
            self.add_present(medium, &mut facts);
        }
        facts.to_text()
    }

    /// How much will be written, as far as that is known.
    fn amount(&self, image: u64, args: &WriteArgs) -> String {
        let free = self.expected_free().min(image);
        let is_seen = |partition: &PartitionFacts| partition.filesystem.is_some();
        let all_seen = self
            .preview
            .as_ref()
            .is_some_and(|preview| preview.partitions.iter().all(is_seen));
        match free {
            _ if args.every_byte => format!("{}, every byte", units::size(image)),
            free if !all_seen => format!(
                "{} at most; free space of file systems is left as it is",
                units::size(image - free)
            ),
            0 => format!("{}; nothing of it is free space", units::size(image)),
            free => format!(
                "about {}; {} of it are free space, which is left as it is",
                units::size(image - free),
                units::size(free)
            ),
        }
    }

    fn fits(&self, medium: &PlannedMedium) -> String {
        let warning = style::WARNING;
        let size = medium.target.size();
        match self.source.unpacked_size().exact() {
            Some(image) => format!("yes, {} stay free", units::size(size - image)),
            None if self.source.unpacked_size().at_least() > size => {
                let doubt = "probably not; what the wrapping says of its size may be wrong";
                format!("{warning}{doubt}{warning:#}")
            }
            None => "not known before it is unpacked; it stops at the medium's end".to_owned(),
        }
    }

    fn add_present(&self, medium: &PlannedMedium, facts: &mut FactList) {
        let warning = style::WARNING;
        let of = match self.media.len() {
            1 => String::new(),
            _ => format!("on {}: ", medium.name),
        };
        if let Some(note) = &medium.note {
            facts.add("begun", format!("{of}{}", unfinished_text(note)));
        } else if let Some(present) = &medium.present {
            let summary = report::summary(present);
            facts.add(
                "lost",
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
pub(in super::super) fn unfinished_text(note: &UnfinishedWrite) -> String {
    let amount = match note.total {
        Some(total) => format!("{} of {}", units::size(note.done), units::size(total)),
        None => units::size(note.done),
    };
    let (image, begun) = (&note.image_name, &note.begun);
    format!("{image} was not finished: {amount} were written, begun {begun}")
}

fn medium_text(medium: &PlannedMedium) -> String {
    let kind = match &medium.target {
        Target::New { .. } => "new card file",
        Target::Existing(existing) => match existing.kind {
            MediumKind::CardFile => "card file",
            MediumKind::BlockDevice => "block device",
            MediumKind::Simulated => "simulated medium",
        },
    };
    let what = medium.chosen.facts.as_ref().map(target::describe);
    let what = what.unwrap_or_else(|| format!("{kind}, {}", units::size(medium.target.size())));
    format!("{}  {what}", medium.name)
}
