//! Messages about sources: what cannot be opened, fetched or unpacked, and checksums.

use pinewrit_image::{
    ChecksumError, FetchError, NoChoice, NotAnImage, OpenError, PiecesFault, StreamError,
    StreamFault,
};

use crate::exit::Exit;
use crate::message::Message;
use crate::ui::units;

/// A source that cannot be opened.
pub(crate) fn open_error(error: &OpenError) -> Message {
    let source = |what: String| Message::new(Exit::Source, what);
    match error {
        OpenError::Missing { path } => source(format!("there is no file {}", path.display()))
            .remedy("check the path; `ls` shows what is there"),
        OpenError::Folder { path, names } => folder(&path.display().to_string(), names),
        OpenError::Pieces { path, why } => pieces(&path.display().to_string(), why),
        OpenError::Special { path } => source(format!(
            "{} is neither a file nor a block device",
            path.display()
        ))
        .remedy("save it to a file first"),
        OpenError::Io {
            path,
            source: cause,
        } if cause.kind() == std::io::ErrorKind::PermissionDenied => {
            let what = format!("no permission for {}", path.display());
            Message::new(Exit::Refused, what)
                .fact("system", cause.to_string())
                .remedy("run it with sudo, or change its permissions")
        }
        OpenError::Io {
            path,
            source: cause,
        } => source(format!("{} cannot be opened", path.display()))
            .fact("system", cause.to_string())
            .remedy("check the path"),
        OpenError::NotAnImage { path, why } => not_an_image(&path.display().to_string(), *why),
        OpenError::NoChoice { path, why } => no_choice(&path.display().to_string(), why),
        OpenError::TooManyLayers { path } => source(format!(
            "{} has more than {} layers of compression",
            path.display(),
            pinewrit_image::MAX_LAYERS
        ))
        .remedy("unpack it once by hand and look at what comes out"),
        OpenError::Stream { path, source } => stream_error(&path.display().to_string(), source),
        other => source(other.to_string()),
    }
}

/// Names, a line each, as far as anyone reads them.
fn list(message: Message, what: &'static str, names: &[String]) -> Message {
    let shown = names.iter().take(12).enumerate();
    let message = shown.fold(message, |message, (index, name)| {
        message.fact(if index == 0 { what } else { "" }, name.as_str())
    });
    match names.len().saturating_sub(12) {
        0 => message,
        more => message.fact("", format!("and {more} more")),
    }
}

fn folder(name: &str, files: &[String]) -> Message {
    let message = Message::new(
        Exit::Source,
        format!("{name} is a folder, and not that of the pieces of one image"),
    );
    match files {
        [] => message.fact("files", "none"),
        files => list(message, "files", files),
    }
    .remedy("name the image inside it")
}

fn pieces(name: &str, why: &PiecesFault) -> Message {
    let message = |what: String| Message::new(Exit::Source, what);
    match why {
        PiecesFault::Missing { names, present } => list(
            message(format!("{name} is not complete: pieces are missing")),
            "missing",
            names,
        )
        .fact("there", units::counted(*present as u64, "piece"))
        .remedy("get the missing ones into the same folder"),
        PiecesFault::Short {
            name: piece,
            found,
            others,
        } => message(format!("{name} is not complete: a piece is too short"))
            .fact("piece", piece.clone())
            .fact("its size", units::exact(*found))
            .fact("others", units::exact(*others))
            .remedy(
                "get that piece again; if they were cut to different sizes, join them with `cat`",
            ),
        other => message(format!("{name} cannot be put together"))
            .fact("found", other.to_string())
            .remedy("are they named in their order? else get the first and the last one again"),
    }
}

fn no_choice(name: &str, why: &NoChoice) -> Message {
    let message = |what: String| Message::new(Exit::Source, what);
    let list = |message: Message, names: &[String]| list(message, "members", names);
    match why {
        NoChoice::Several { names } => {
            let first = names.first().map_or("NAME", String::as_str);
            list(message(format!("{name} holds several images")), names)
                .remedy(format!("--member {first}"))
        }
        NoChoice::NotThere { wanted, names } if names.is_empty() => message(format!(
            "{name} is no archive, so it has no member {wanted}"
        ))
        .remedy("leave --member out"),
        NoChoice::NotThere { wanted, names } => {
            list(message(format!("{name} has no member {wanted}")), names)
                .remedy("--member with one of these names")
        }
        NoChoice::None { names } => list(message(format!("{name} holds no image")), names)
            .remedy("--member takes one all the same"),
    }
}

fn not_an_image(name: &str, why: NotAnImage) -> Message {
    let message = Message::new(Exit::Source, format!("{name} is not an image of a medium"));
    match why {
        NotAnImage::Empty => message
            .fact("content", "nothing: it has 0 bytes")
            .remedy("get it again; the download or copy did not begin"),
        NotAnImage::TooShort => message
            .fact("content", "less than one sector (512 bytes)")
            .remedy("get it again"),
        NotAnImage::Text => message
            .fact("content", "text")
            .remedy("name the image itself, not its read-me or checksum file"),
        NotAnImage::WebPage => message
            .fact("content", "a web page")
            .remedy("get it again: the server sent a page instead of the file"),
        NotAnImage::UnlikeItsName => message
            .fact(
                "content",
                "not packed as its name says, and without a boot sector",
            )
            .remedy("get it again, the first piece too if it is in pieces; or rename it"),
        NotAnImage::Packed(kind) => message
            .fact(
                "content",
                format!("packed as {kind}, which is not unpacked here"),
            )
            .remedy("unpack it and name the image that comes out"),
        NotAnImage::Disk(kind) => message
            .fact(
                "content",
                format!("a virtual machine's disk in the format {kind}"),
            )
            .remedy("convert it to a raw image and name that"),
        NotAnImage::Encrypted(by) => message
            .fact("content", format!("encrypted by {by}"))
            .remedy("decrypt it and name what comes out"),
        NotAnImage::Other(kind) => message
            .fact("content", kind)
            .remedy("look where it came from: the image itself is another file"),
        _ => message.fact("content", why.to_string()),
    }
}

/// A source that is damaged.
pub(crate) fn stream_error(name: &str, error: &StreamError) -> Message {
    let message = |what: &str| Message::new(Exit::Source, format!("{name} {what}"));
    let layer = error.layer.map_or("file", |layer| layer.word());
    // Archives are read here and there; how far they were read says nothing.
    let place = match error.layer {
        Some(layer) if layer.is_archive() => format!("in the {layer} archive"),
        _ => format!("byte {} of the {layer} data", units::grouped(error.packed)),
    };
    let unpacked = units::exact(error.unpacked);
    let source_bytes = error.packed;
    match &error.fault {
        StreamFault::Truncated => message("ends too early")
            .fact("place", place)
            .fact("unpacked", unpacked)
            .remedy("get it again: the download or copy was cut off"),
        StreamFault::Damaged { detail } => message("is damaged")
            .fact("place", place)
            .fact("unpacked", unpacked)
            .fact("found", detail.clone())
            .remedy("get it again, and compare its checksum with the published one"),
        StreamFault::Short { wanted, found } => message("is cut off")
            .fact("its size", units::exact(*found).trim_start())
            .fact(
                "should be",
                format!("{}, as its table says", units::exact(*wanted).trim_start()),
            )
            .remedy("get the image again, and its checksum with it")
            .remedy("--as-it-is writes what is there"),
        StreamFault::NoRoom {
            needed,
            free,
            folder,
        } => message("has to be unpacked to a file first, and there is no room for that")
            .fact("needed", units::exact(*needed).trim_start())
            .fact(
                "free",
                format!("{} in {}", units::size(*free), folder.display()),
            )
            .remedy("make room there, or set XDG_CACHE_HOME to a folder with more")
            .remedy("or unpack it by hand, and name what comes out"),
        StreamFault::Memory { limit_mib } => message("needs too much memory to unpack")
            .fact("limit", format!("{limit_mib} MiB for the {layer} layer"))
            .remedy("pack it with a smaller window, or unpack it by hand"),
        StreamFault::Encrypted => message("is encrypted")
            .fact("layer", layer)
            .remedy("unpack it with its password, and name what comes out"),
        StreamFault::Unsupported { what } => message("is packed in a way that is not read here")
            .fact("layer", layer)
            .fact("found", what.clone())
            .remedy("unpack it by hand, and name what comes out"),
        StreamFault::Fetch(error) => fetch_error(name, error, source_bytes),
        StreamFault::Read(cause) => message("cannot be read")
            .fact("place", place)
            .fact("system", cause.to_string())
            .remedy("copy it to another disk; if that fails too, get it again"),
        other => message("cannot be unpacked").fact("found", other.to_string()),
    }
}

/// A server that does not give what it should; `fetched` bytes had arrived in order.
fn fetch_error(name: &str, error: &FetchError, fetched: u64) -> Message {
    let message = |what: &str| {
        let message = Message::new(Exit::Source, format!("{name} {what}"));
        match fetched {
            0 => message,
            _ => message.fact("fetched", units::exact(fetched)),
        }
    };
    match error {
        FetchError::Status { status } => {
            let (meaning, remedy) = status_words(*status);
            message("cannot be fetched")
                .fact("server", format!("answers {status}: {meaning}"))
                .remedy(remedy)
        }
        FetchError::Silent { seconds } => message("does not arrive any more")
            .fact("waited", units::counted(*seconds, "second"))
            .remedy("check the network and write it again; --patience SECONDS waits longer"),
        FetchError::Cut { detail } | FetchError::Connect { detail } => {
            message("cannot be fetched: no lasting connection")
                .fact("network", detail.clone())
                .remedy("check the network, the address and the proxy settings")
        }
        FetchError::Host => message("cannot be fetched: nobody knows that host")
            .remedy("check the address for typing mistakes, and the network"),
        FetchError::Tls { detail } => message("cannot be fetched over a secured connection")
            .fact("found", detail.clone())
            .remedy("check this computer's clock and certificates; never take http instead"),
        FetchError::Redirects { limit } => message("cannot be fetched")
            .fact(
                "server",
                format!("sends on and on: more than {limit} times"),
            )
            .remedy("look for another address of the image"),
        FetchError::Changed => message("changed on the server while it was fetched")
            .remedy("begin anew: what has arrived belongs to the older one"),
        FetchError::Address { detail } => {
            message("is no address of a file").fact("found", detail.clone())
        }
        other => message("cannot be fetched").fact("server", other.to_string()),
    }
}

/// A status in words, and what to try.
fn status_words(status: u16) -> (&'static str, &'static str) {
    match status {
        401 | 403 => (
            "it wants to know who asks, or refuses",
            "fetch it with a browser and name the file",
        ),
        404 | 410 => (
            "there is no such file",
            "check the address; newer versions often have another name",
        ),
        407 => (
            "the proxy wants a login",
            "check http_proxy and https_proxy",
        ),
        408 | 429 => ("too busy", "try again later"),
        500..=599 => ("something is wrong with the server", "try again later"),
        _ => ("this is no file", "check the address"),
    }
}

/// A checksum that cannot be used.
pub(crate) fn checksum_error(error: &ChecksumError) -> Message {
    match error {
        ChecksumError::Argument { text } => {
            Message::new(Exit::Usage, format!("`{text}` is no checksum")).fact(
                "form",
                "sha256: and 64 hexadecimal digits, or a checksum file",
            )
        }
        ChecksumError::Io { path, source } => Message::new(
            Exit::Source,
            format!("the checksum file {} cannot be read", path.display()),
        )
        .fact("system", source.to_string()),
        ChecksumError::NotListed { path, name } => Message::new(
            Exit::Source,
            format!("{} lists no checksum for {name}", path.display()),
        )
        .remedy("was the image renamed? give --checksum sha256:… instead"),
        other => Message::new(Exit::Source, other.to_string()),
    }
}
