//! The shelf in words.

use pinewrit_image::Checksum;
use pinewrit_shelf::{Change, EditError, Found, ImageName, NameError, NotFound};

use super::error_chain;
use crate::text::printable;
use crate::{Exit, Message, style, units};

/// A text that is no name of an image.
pub fn name_error(error: &NameError) -> Message {
    Message::new(Exit::Usage, error.to_string())
        .remedy("shelf:NAME or shelf:NAME@VERSION; `pinewrit shelf list` shows them")
}

/// A name that means no image.
pub fn not_found(error: &NotFound, is_empty: bool) -> Message {
    let list = "`pinewrit shelf list` shows what there is";
    match error {
        NotFound::Name { near, .. } => {
            let message = Message::new(Exit::Source, error.to_string());
            match near {
                Some(near) => message.remedy(format!("did you mean shelf:{near}?")),
                None if is_empty => message
                    .remedy("pinewrit shelf add IMAGE begins a catalogue")
                    .remedy("pinewrit shelf use ADDRESS follows a team's"),
                None => message.remedy(list),
            }
        }
        NotFound::Version { name, known, .. } => {
            let message = Message::new(Exit::Source, error.to_string());
            let message = message.fact("versions", known.join(", "));
            message.remedy(format!("shelf:{name} is the newest"))
        }
        NotFound::Contradiction { each, .. } => {
            let message = Message::new(Exit::Source, error.to_string());
            let message = each.iter().fold(message, |message, (place, checksum)| {
                message.fact(printable(&place.to_string()), short(&checksum.to_string()))
            });
            message
                .fact("state", "nothing was written")
                .remedy("ask the publisher which file is theirs")
                .remedy("pinewrit shelf remove drops one of them")
        }
    }
}

/// As much of a checksum as tells it from another one.
pub fn short(checksum: &str) -> String {
    match checksum.char_indices().nth(23) {
        Some((at, _)) => format!("{}…", &checksum[..at]),
        None => checksum.to_owned(),
    }
}

/// A catalogue in which a version is another file than before.
pub fn changed(address: &str, changes: &[Change]) -> Message {
    let what = match changes {
        [one] => format!("{} is another file than before", one.name),
        _ => format!("{} images are other files than before", changes.len()),
    };
    let message = Message::new(Exit::Source, what).fact("catalogue", printable(address));
    let message = changes.iter().take(10).fold(message, |message, change| {
        let now = match &change.now {
            Some(now) => short(&now.to_string()),
            None => "no checksum".to_owned(),
        };
        let text = format!(
            "{} was {}, now {now}",
            change.name,
            short(&change.before.to_string())
        );
        message.fact("checksum", text)
    });
    message
        .fact("state", "nothing was written; the catalogue is not used")
        .remedy("ask the publisher: a new file should have a new version")
        .remedy(format!(
            "if it is meant so: pinewrit shelf use {} --accept",
            printable(address)
        ))
}

/// A medium that is smaller than the catalogue asks for.
pub fn too_small(name: &str, size: u64, smallest: u64) -> Message {
    Message::new(
        Exit::Refused,
        format!("this image is meant for media larger than {name}"),
    )
    .fact("medium", units::exact(size))
    .fact("asked for", units::exact(smallest))
    .fact("state", "nothing was written")
    .remedy("a larger medium, or `write --as-it-is` if you know that it is enough")
}

/// An image that is not the file that the shelf lists.
pub fn not_as_listed(name: &str, expected: &Checksum, found: &Checksum) -> Message {
    Message::new(
        Exit::Source,
        format!("{name} is not the file that the shelf lists"),
    )
    .fact("expected", short(&expected.to_string()))
    .fact("found", short(&found.to_string()))
    .fact("state", "it is not kept")
    .remedy("fetch it again: the download may have been damaged")
    .remedy("if it happens again, do not use the image, and tell the publisher")
}

/// A catalogue's file that cannot be changed.
pub fn edit_error(file: &str, error: &EditError) -> Message {
    let what = match error {
        EditError::Known(name) => {
            return Message::new(Exit::Usage, format!("{name} is in {file} already"))
                .remedy(format!("pinewrit shelf remove {name}, then add it again"))
                .remedy("or give it a version of its own with --version");
        }
        _ => format!("{file} cannot be changed"),
    };
    Message::new(Exit::Settings, what).fact("found", error_chain(error))
}

/// Which image a name means, in one line, and what is newer.
pub fn chosen(found: &Found<'_>, newest: Option<&ImageName>) -> String {
    let (strong, warning) = (style::STRONG, style::WARNING);
    let own = found.image.full_name();
    let mut text = format!(
        "shelf: {strong}{own}{strong:#}, {}\n",
        printable(&found.location().to_string())
    );
    if let Some(newest) = newest.filter(|newest| **newest != own) {
        text += &format!("       {newest} is newer\n");
    }
    if let Some(instead) = &found.image.replaced_by {
        text += &format!("       {warning}replaced by {instead}{warning:#}\n");
    }
    if let Some(notes) = &found.image.notes {
        text += &format!("       {}\n", printable(notes));
    }
    text
}
