//! Why a write does not begin: the image does not fit, or is not meant for these media.

use pinewrit_core::write::PlanError;

use super::{configure_error, disk_error};
use crate::Exit;
use crate::Message;
use crate::units;

const NOTHING_WRITTEN: &str = "nothing was written";

/// An image that is larger than the medium.
pub fn too_large(medium: &str, image_bytes: u64, size: u64) -> Message {
    let short = units::size(image_bytes.saturating_sub(size));
    Message::new(
        Exit::Refused,
        format!("this image does not fit on {medium}"),
    )
    .fact("unpacked", units::exact(image_bytes))
    .fact("medium", format!("{}, {short} short", units::exact(size)))
    .remedy("a larger medium; `pinewrit inspect` shows what fills the image")
}

/// A write that cannot be planned.
pub fn plan_error(image: &str, error: &PlanError) -> Message {
    let usage = |what: String| Message::new(Exit::Usage, what).fact("state", NOTHING_WRITTEN);
    match error {
        PlanError::OneName { host_name, media } => Message::new(
            Exit::Usage,
            format!("{media} media would all have the host name {host_name}"),
        )
        .remedy("write each with settings of its own, or leave `hostname` out of them"),
        PlanError::TooLarge {
            medium,
            image,
            size,
        } => too_large(medium, *image, *size),
        PlanError::Image(error) => disk_error(image, error).fact("state", NOTHING_WRITTEN),
        PlanError::WholeMedium { partitions } => {
            let what = format!("{image} is an image of a whole medium");
            Message::new(Exit::Usage, what)
                .fact("it has", units::counted(*partitions as u64, "partition"))
                .fact("state", NOTHING_WRITTEN)
                .remedy("an image of one file system, or write it without --into")
        }
        PlanError::NothingToGrow => usage(format!("{image} has no partition that can grow"))
            .remedy("write it without --grow"),
        PlanError::Settings(error) => {
            configure_error(image, error).instead("state", NOTHING_WRITTEN)
        }
        other => usage(other.to_string()),
    }
}
