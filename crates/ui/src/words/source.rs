//! Messages about sources: what cannot be opened, fetched or unpacked, and checksums.

use pinewrit_image::{
    ChecksumError, FetchError, NoChoice, NotAnImage, OpenError, PiecesFault, StreamError,
    StreamFault,
};

use crate::Exit;
use crate::Message;
use crate::units;

/// A source that cannot be opened.
pub fn open_error(error: &OpenError) -> Message {
    let source = |what: String| Message::new(Exit::Source, what);
    match error {
        OpenError::Missing { path } => source(format!("file {} does not exist", path.display()))
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

/// Names, one per line, up to a readable number.
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
        format!("{name} is a directory, but not of the pieces of one image"),
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
        .remedy("put the missing ones into the same directory"),
        PiecesFault::Short {
            name: piece,
            found,
            others,
        } => message(format!("{name} is not complete: a piece is too short"))
            .fact("piece", piece.clone())
            .fact("its size", units::exact(*found))
            .fact("others", units::exact(*others))
            .remedy(
                "get that piece again; if they were split to different sizes, join them with `cat`",
            ),
        other => message(format!("{name} cannot be assembled"))
            .fact("found", other.to_string())
            .remedy("are they named in order? if so, get the first and the last one again"),
    }
}

fn no_choice(name: &str, why: &NoChoice) -> Message {
    let message = |what: String| Message::new(Exit::Source, what);
    let list = |message: Message, names: &[String]| list(message, "members", names);
    match why {
        NoChoice::Several { names } => {
            let first = names.first().map_or("NAME", String::as_str);
            list(message(format!("{name} contains several images")), names)
                .remedy(format!("--member {first}"))
        }
        NoChoice::NotThere { wanted, names } if names.is_empty() => message(format!(
            "{name} is not an archive, so it has no member {wanted}"
        ))
        .remedy("omit --member"),
        NoChoice::NotThere { wanted, names } => {
            list(message(format!("{name} has no member {wanted}")), names)
                .remedy("--member with one of these names")
        }
        NoChoice::None { names } => list(message(format!("{name} contains no image")), names)
            .remedy("--member takes one anyway"),
    }
}

fn not_an_image(name: &str, why: NotAnImage) -> Message {
    let message = Message::new(Exit::Source, format!("{name} is not an image of a medium"));
    match why {
        NotAnImage::Empty => message
            .fact("content", "the file is empty")
            .remedy("get it again; the download or copy did not start"),
        NotAnImage::TooShort => message
            .fact("content", "less than one sector (512 bytes)")
            .remedy("get it again"),
        NotAnImage::Text => message
            .fact("content", "text")
            .remedy("name the image itself, not its README or checksum file"),
        NotAnImage::WebPage => message
            .fact("content", "a web page")
            .remedy("get it again: the server sent a page instead of the file"),
        NotAnImage::UnlikeItsName => message
            .fact(
                "content",
                "not compressed as its name says, and without a boot sector",
            )
            .remedy("get it again, the first piece too if it is in pieces; or rename it"),
        NotAnImage::Packed(kind) => message
            .fact(
                "content",
                format!("{kind}, a format that Pinewrit cannot unpack"),
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
            .remedy("check where it came from: the image itself is another file"),
        _ => message.fact("content", why.to_string()),
    }
}

/// A source that is damaged.
pub fn stream_error(name: &str, error: &StreamError) -> Message {
    let message = |what: &str| Message::new(Exit::Source, format!("{name} {what}"));
    let layer = error.layer.map_or("file", |layer| layer.word());
    // Archives are read out of order, so the amount read says nothing.
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
        StreamFault::Short { wanted, found } => message("is truncated")
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
        } => message("has to be unpacked to a file first, and there is not enough space for that")
            .fact("needed", units::exact(*needed).trim_start())
            .fact(
                "free",
                format!("{} in {}", units::size(*free), folder.display()),
            )
            .remedy("free some space there, or set XDG_CACHE_HOME to a directory with more")
            .remedy("or unpack it by hand, and name what comes out"),
        StreamFault::Memory { limit_mib } => message("needs too much memory to unpack")
            .fact("limit", format!("{limit_mib} MiB for the {layer} layer"))
            .remedy("compress it with a smaller window, or unpack it by hand"),
        StreamFault::Encrypted => message("is encrypted")
            .fact("layer", layer)
            .remedy("unpack it with its password, and name what comes out"),
        StreamFault::Unsupported { what } => {
            message("is compressed in a way that Pinewrit cannot read")
                .fact("layer", layer)
                .fact("found", what.clone())
                .remedy("unpack it by hand, and name what comes out")
        }
        StreamFault::Fetch(error) => fetch_error(name, error, source_bytes),
        StreamFault::Read(cause) => message("cannot be read")
            .fact("place", place)
            .fact("system", cause.to_string())
            .remedy("copy it to another disk; if that fails too, get it again"),
        other => message("cannot be unpacked").fact("found", other.to_string()),
    }
}

/// A server that does not deliver; `fetched` bytes had arrived in order.
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
            message("cannot be downloaded")
                .fact("server", format!("answers {status}: {meaning}"))
                .remedy(remedy)
        }
        FetchError::Silent { seconds } => message("has stalled")
            .fact("waited", units::counted(*seconds, "second"))
            .remedy("check the network and write it again; --patience SECONDS waits longer"),
        FetchError::Cut { detail } | FetchError::Connect { detail } => {
            message("cannot be downloaded: the connection keeps breaking")
                .fact("network", detail.clone())
                .remedy("check the network, the URL and the proxy settings")
        }
        FetchError::Host => message("cannot be downloaded: unknown host")
            .remedy("check the URL for typos, and the network"),
        FetchError::Tls { detail } => message("cannot be downloaded over a secure connection")
            .fact("found", detail.clone())
            .remedy("check this computer's clock and certificates; do not fall back to http"),
        FetchError::Redirects { limit } => message("cannot be downloaded")
            .fact(
                "server",
                format!("redirects too often: more than {limit} times"),
            )
            .remedy("look for another URL of the image"),
        FetchError::Changed => message("changed on the server while it was downloading")
            .remedy("start again: the data received belongs to the old version"),
        FetchError::Address { detail } => {
            message("is not the URL of a file").fact("found", detail.clone())
        }
        other => message("cannot be downloaded").fact("server", other.to_string()),
    }
}

/// A status in words, and what to try.
fn status_words(status: u16) -> (&'static str, &'static str) {
    match status {
        401 | 403 => (
            "it requires a login, or refuses",
            "download it with a browser and name the file",
        ),
        404 | 410 => (
            "there is no such file",
            "check the URL; newer versions often have another name",
        ),
        407 => (
            "the proxy requires a login",
            "check http_proxy and https_proxy",
        ),
        408 | 429 => ("too busy", "try again later"),
        500..=599 => ("something is wrong with the server", "try again later"),
        _ => ("this is not a file", "check the URL"),
    }
}

/// A checksum that cannot be used.
pub fn checksum_error(error: &ChecksumError) -> Message {
    match error {
        ChecksumError::Argument { text } => {
            Message::new(Exit::Usage, format!("`{text}` is not a checksum")).fact(
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
