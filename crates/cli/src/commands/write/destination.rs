//! Finding and opening the targets of a write.

use std::path::{Path, PathBuf};

use pinewrit_core::inspect::{Inspection, PartitionFacts, inspect, inspect_medium};
use pinewrit_core::receipt::{Receipt, ReceiptPartition};
use pinewrit_core::write::Destination;
use pinewrit_disk::ByteRange;
use pinewrit_host::{Footing, Target};
use pinewrit_image::Location;
use pinewrit_ui::{Exit, MediumName, Message, words};

use super::Wish;
use pinewrit_session::medium::{self, Chosen};
use pinewrit_session::{Context, change};

/// Opens all media of a write, each with its name in JSON.
pub(super) fn open_all(
    cx: &Context,
    wish: &Wish<'_>,
) -> Result<(Vec<Destination>, Vec<MediumName>), Message> {
    let needed = needed(cx, wish)?;
    let (mut media, mut ids) = (Vec::new(), Vec::new());
    for named in wish.to {
        let (medium, id) = open(cx, wish, named, (&media, &needed))?;
        media.push(medium);
        ids.push(id);
    }
    Ok((media, ids))
}

/// What a write needs until its end, and its places.
fn needed(cx: &Context, wish: &Wish<'_>) -> Result<Vec<(&'static str, Footing)>, Message> {
    let of_file = |what, file| (what, cx.readers.footing_of_file(file));
    let files = wish.source.files();
    let mut needed: Vec<_> = files.map(|file| of_file("the image", file)).collect();
    if let Some(path) = wish.source.location().path()
        && wish.source.is_on_device()
    {
        needed.push(("the image", cx.readers.footing(path)));
    }
    let spooled = wish.source.spooled_files();
    needed.extend(spooled.map(|file| of_file("the unpacked archive", file)));
    if let Some(state) = cx.folders.state_for_writing()? {
        needed.push(("the state directory", cx.readers.footing(state.path())));
    }
    let asked = [
        ("the receipt", wish.request.receipt.as_deref()),
        ("the report", wish.report),
    ];
    for (what, path) in asked {
        needed.extend(path.map(|path| (what, cx.readers.footing(path))));
    }
    Ok(needed)
}

fn open(
    cx: &Context,
    wish: &Wish<'_>,
    named: &Path,
    (others, needed): (&[Destination], &[(&str, Footing)]),
) -> Result<(Destination, MediumName), Message> {
    medium::must_not_end_so(named, &[])?;
    let mut chosen = medium::find(cx, named, wish.size.is_some())?;
    let mut name = chosen.name();
    let mut key = chosen.key();
    if others.iter().any(|other| other.key == key) {
        return Err(Message::new(Exit::Usage, format!("{name} is named twice"))
            .remedy("name each medium once"));
    }
    medium::must_not_be_system(&chosen)?;
    // Before anything of it is unmounted.
    medium::must_not_meet(cx, &chosen, needed)?;
    let footing = cx.readers.footing(&chosen.path);
    let is_met = |other: &&Destination| cx.readers.footing(&other.path).meets(&footing);
    if let Some(other) = others.iter().find(is_met) {
        let what = format!("{name} and {} are the same medium", other.name);
        return Err(Message::new(Exit::Refused, what).remedy("name each medium once"));
    }
    let permits = if wish.dry_run {
        chosen.given_permits(wish.access)
    } else {
        chosen.permits(cx, wish.access)?
    };
    let target = cx
        .readers
        .open_target(&chosen.path, wish.size, &permits)
        .map_err(|e| words::named_medium_error(&name, &e))?;
    let target = match wish.image {
        Location::Path(draft) if wish.is_draft => target.drafted(draft.clone()),
        _ => target,
    };
    let (target, partition, whole) = match wish.into {
        None => (target, None, None),
        Some(wanted) => {
            let (target, partition, whole) = narrowed(cx, wish, &chosen, target, wanted)?;
            name = format!("partition {} of {name}", partition.number);
            key = format!("{key} partition {}", partition.number);
            (target, Some(partition), whole)
        }
    };
    // A medium that cannot be read now may still be writable; the write will show.
    let present = match &target {
        Target::Existing(medium) => inspect_medium(&*medium.device).ok(),
        Target::New { .. } => None,
    };
    // A medium with a table has been finished since, by somebody.
    let is_blank = present.as_ref().is_none_or(Inspection::is_unknown);
    let state = cx.folders.state_if_any();
    let destination = Destination {
        note: state
            .and_then(|state| state.note(&key))
            .filter(|_| is_blank),
        name,
        key,
        path: chosen.path.clone(),
        facts: chosen.facts.clone(),
        target,
        partition,
        whole,
        present,
    };
    Ok((destination, chosen.medium_name()))
}

/// One partition of a medium, and the receipt of the whole without it.
type Narrowed = (Target, ReceiptPartition, Option<(PathBuf, Receipt)>);

fn narrowed(
    cx: &Context,
    wish: &Wish<'_>,
    chosen: &Chosen,
    target: Target,
    wanted: &str,
) -> Result<Narrowed, Message> {
    match &target {
        // Interrupted work elsewhere on it would stay unfinished.
        Target::Existing(medium) if !wish.dry_run => {
            change::settle_interrupted(cx, chosen, medium, wish.yes)?;
        }
        _ => change::tell_interrupted(cx, &chosen.path),
    }
    let name = chosen.name();
    let Target::Existing(medium) = target else {
        let what = format!("{name} does not exist yet, and has no partitions");
        return Err(
            Message::new(Exit::Usage, what).remedy("pinewrit table create, or build, creates them")
        );
    };
    let size = medium.device.size();
    let found = inspect(&*medium.device, Some(size)).map_err(|e| words::disk_error(&name, &e))?;
    let number = change::partition(&name, &found, wanted)?;
    let mut all = found.partitions.iter();
    let range = all.find(|p| p.number == number).map(PartitionFacts::range);
    let Some(range) = range.filter(|range| range.end <= size) else {
        let what = format!("partition {number} reaches past the end of {name}");
        return Err(Message::new(Exit::Medium, what).remedy("pinewrit table show tells more"));
    };
    let partition = ReceiptPartition {
        number,
        start: range.start,
    };
    let whole = receipt_without(cx, chosen, &*medium.device, range)?;
    let target = Target::Existing(medium.narrowed(range));
    Ok((target, partition, whole))
}

/// The receipt of a whole medium without a partition that is about to be written.
fn receipt_without(
    cx: &Context,
    chosen: &Chosen,
    device: &dyn pinewrit_disk::BlockDevice,
    range: ByteRange,
) -> Result<Option<(PathBuf, Receipt)>, Message> {
    let key = chosen.key();
    let state = cx.folders.state_for_writing()?;
    let found = state.and_then(|state| state.find_receipt(device, chosen.subject(&key)));
    let without = found.map(|found| Ok((found.path, found.receipt.without(device, range)?)));
    let without = without.transpose();
    without.map_err(|e| words::disk_error(&chosen.name(), &e))
}
