//! Whether what is in a source is an image of a medium, and one for these media.

use pinewrit_disk::BlockDevice;
use pinewrit_host::{MediumKind, Target};
use pinewrit_image::PeekDevice;
use pinewrit_volume::expect::{Expectation, expectation};

use super::NOTHING_WRITTEN;
use super::plan::{PREVIEW, Plan};
use crate::args::WriteArgs;
use crate::exit::Exit;
use crate::explain;
use crate::message::Message;
use crate::ui::{Answer, Ui, units};

/// Refuses or asks about what is no image that is known, is too short, or is for other media. Returns
/// whether it is written as it is.
pub(super) fn check(ui: &Ui, args: &WriteArgs, plan: &Plan) -> Result<bool, Message> {
    if args.is_draft {
        return Ok(true);
    }
    let Some(preview) = &plan.preview else {
        return Ok(args.as_it_is);
    };
    let device = PeekDevice::new(plan.source.for_a_look());
    let device = match plan.source.layers() {
        [] => device,
        _ => device.with_limit(PREVIEW),
    };
    let name = plan.source.name();
    let expected = expectation(&device).map_err(|e| explain::disk_error(&name, &e))?;
    if args.as_it_is {
        return Ok(true);
    }
    let is_unknown = preview.is_unknown() && !preview.has_boot_sector && expected.reach == 0;
    let doubts = [
        is_unknown.then(|| unknown(&name, &device)),
        too_short(plan, expected),
        other_sectors(args, plan, expected),
    ];
    let mut is_asked = false;
    // One yes is not an answer to the next question.
    for (message, question) in doubts.into_iter().flatten() {
        if args.dry_run || ui.ask(question) != Answer::Yes {
            return Err(message);
        }
        is_asked = true;
    }
    Ok(is_asked)
}

type Doubt = (Message, String);

fn unknown(name: &str, device: &dyn BlockDevice) -> Doubt {
    let mut head = [0; 16];
    let head = match device.read_at(0, &mut head) {
        Ok(()) => head.map(|byte| format!("{byte:02x}")).join(" "),
        Err(_) => "nothing that can be read".to_owned(),
    };
    let what = format!("{name} is not known to be an image of a medium");
    let message = Message::new(Exit::Source, what)
        .fact("found", "no partition table, boot sector or file system")
        .fact("begins", head)
        .fact("state", NOTHING_WRITTEN)
        .remedy("unpack or convert it first, if it is a format of its own")
        .remedy("--as-it-is writes its bytes as they are, as for loaders and firmware");
    (
        message,
        format!("{name} is not known to be an image. Write its bytes as they are?"),
    )
}

fn too_short(plan: &Plan, expected: Expectation) -> Option<Doubt> {
    let name = plan.source.name();
    let size = plan.source.unpacked_size().exact()?;
    let missing = expected
        .reach
        .checked_sub(size)
        .filter(|missing| *missing > 0)?;
    let message = Message::new(Exit::Source, format!("{name} is cut off"))
        .fact("its size", units::exact(size).trim_start())
        .fact(
            "should be",
            format!(
                "{}, as its partitions say; {} are missing",
                units::exact(expected.reach).trim_start(),
                units::size(missing)
            ),
        )
        .fact("state", NOTHING_WRITTEN)
        .remedy("get the image again, and its checksum with it")
        .remedy("--as-it-is writes what is there");
    Some((message, format!("{name} is cut off. Write what is there?")))
}

fn other_sectors(args: &WriteArgs, plan: &Plan, expected: Expectation) -> Option<Doubt> {
    let sector = expected.sector.filter(|_| args.into.is_none())?;
    let (medium, own) = plan.media.iter().find_map(|medium| match &medium.target {
        // A card file stands for a medium of any kind.
        Target::Existing(one) if one.kind != MediumKind::CardFile => {
            let own = one.device.logical_sector();
            (own != sector).then(|| (medium, own.bytes()))
        }
        _ => None,
    })?;
    let name = plan.source.name();
    let what = format!(
        "{name} is for media with other sectors than {} has",
        medium.name
    );
    let message = Message::new(Exit::Refused, what)
        .fact(
            "image",
            format!("its table counts sectors of {} bytes", sector.bytes()),
        )
        .fact(
            "medium",
            format!("has sectors of {own} bytes: no system would find the partitions"),
        )
        .fact("state", NOTHING_WRITTEN)
        .remedy("another medium or adapter; some adapters can be switched to other sectors")
        .remedy("pinewrit build makes the same partitions for any sectors")
        .remedy("--as-it-is writes it all the same");
    Some((
        message,
        format!("{name} is for media with other sectors. Write it all the same?"),
    ))
}
