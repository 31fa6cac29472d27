//! What speaks against an image: questions before it is written.

use pinewrit_core::write::{Destination, ImageDoubt, WritePlan};
use pinewrit_ui::{Answer, Exit, Message, Ui, units, words};

use super::{NOTHING_WRITTEN, Wish};
use crate::commands::Outcome;

/// Refuses, or asks about, an image that is not recognised, too short, or meant for other media.
/// After a yes it is written unchanged.
pub(super) fn ask(ui: &Ui, wish: &Wish<'_>, plan: &mut WritePlan) -> Result<(), Message> {
    let name = plan.source.name();
    // One yes is not an answer to the next question.
    for doubt in &plan.doubts {
        let (message, question) = in_words(&name, doubt);
        if wish.dry_run || ui.ask(question) != Answer::Yes {
            return Err(message.fact("state", NOTHING_WRITTEN));
        }
    }
    plan.request.as_it_is |= !plan.doubts.is_empty();
    Ok(())
}

/// An image may be meant for larger media than it fits on.
pub(super) fn must_be_large_enough(wish: &Wish<'_>, media: &[Destination]) -> Outcome {
    let Some(smallest) = wish.smallest else {
        return Ok(());
    };
    let small = media.iter().find(|medium| medium.target.size() < smallest);
    small.map_or(Ok(()), |medium| {
        Err(words::shelf::too_small(
            &medium.name,
            medium.target.size(),
            smallest,
        ))
    })
}

fn in_words(name: &str, doubt: &ImageDoubt) -> (Message, String) {
    match doubt {
        ImageDoubt::Unknown { head } => (
            unknown(name, head.as_ref()),
            format!("{name} is not a known kind of image. Write its bytes as they are?"),
        ),
        ImageDoubt::CutOff { size, reach } => (
            cut_off(name, *size, *reach),
            format!("{name} is truncated. Write what is there?"),
        ),
        ImageDoubt::OtherSectors {
            medium,
            image_sector,
            medium_sector,
        } => (
            other_sectors(name, medium, (*image_sector, *medium_sector)),
            format!("{name} is for media with other sector sizes. Write it anyway?"),
        ),
    }
}

fn unknown(name: &str, head: Option<&[u8; 16]>) -> Message {
    let head = match head {
        Some(head) => head.map(|byte| format!("{byte:02x}")).join(" "),
        None => "nothing that can be read".to_owned(),
    };
    let what = format!("{name} is not a known kind of image");
    Message::new(Exit::Source, what)
        .fact("found", "no partition table, boot sector or file system")
        .fact("begins", head)
        .remedy("unpack or convert it first, if it is a format of its own")
        .remedy("--as-it-is writes its bytes as they are, as for loaders and firmware")
}

fn cut_off(name: &str, size: u64, reach: u64) -> Message {
    let missing = units::size(reach.saturating_sub(size));
    let reach = units::exact(reach);
    Message::new(Exit::Source, format!("{name} is truncated"))
        .fact("its size", units::exact(size).trim_start())
        .fact(
            "should be",
            format!(
                "{}, as its partitions say; {missing} are missing",
                reach.trim_start()
            ),
        )
        .remedy("get the image again, and its checksum with it")
        .remedy("--as-it-is writes what is there")
}

fn other_sectors(name: &str, medium: &str, (image, own): (u64, u64)) -> Message {
    let what = format!("{name} is for media with other sector sizes than {medium}");
    Message::new(Exit::Refused, what)
        .fact(
            "image",
            format!("its table counts sectors of {image} bytes"),
        )
        .fact(
            "medium",
            format!("has sectors of {own} bytes: no system would find the partitions"),
        )
        .remedy("another medium or adapter; some adapters can be switched to other sectors")
        .remedy("pinewrit build makes the same partitions for any sector size")
        .remedy("--as-it-is writes it anyway")
}
