//! Opening an image for a command.

use std::sync::Arc;
use std::time::Duration;

use pinewrit_args::{MediumArgs, RescueArgs, SourceArgs};
use pinewrit_disk::BlockDevice;
use pinewrit_host::MediumError;
use pinewrit_image::{
    ExpectedChecksum, FetchOptions, FetchStats, ImageSource, Location, OpenOptions, Spool,
    StreamError, find_beside,
};
use pinewrit_rescue::Rescue;
use pinewrit_ui::progress::Waiting;
use pinewrit_ui::{Event, Message, units, words};
use schemars::JsonSchema;
use serde::Serialize;

use crate::shelf::Listed;
use crate::{Context, medium, rescue, shelf};

/// Whether a download is kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Keep {
    /// It is kept.
    Yes,
    /// It is not.
    No,
}

/// How to open archives whose members are put on a medium.
pub fn plain_options() -> OpenOptions {
    OpenOptions {
        spool: Spool {
            folder: Some(crate::folders::spool),
            ..Spool::default()
        },
        member: None,
        fetch: FetchOptions {
            patience: Duration::from_secs(SourceArgs::plain().patience),
            cache: None,
            keep: false,
        },
    }
}

/// An image as it was named.
pub struct Named {
    /// The image.
    pub source: ImageSource,
    /// What the catalogue says, if it was named by its name on the shelf.
    pub listed: Option<Listed>,
}

impl Named {
    /// The checksum that it must have: the one given, or that of the catalogue, or one beside it.
    pub fn checksum(&self, given: Option<&str>) -> Result<Option<ExpectedChecksum>, Message> {
        let listed = self.listed.as_ref();
        let of_shelf = listed.and_then(|one| {
            let checksum = one.checksum.clone()?;
            Some(ExpectedChecksum::of_shelf(one.name.clone(), checksum))
        });
        let found = match (given, of_shelf) {
            (Some(text), _) => ExpectedChecksum::from_argument(text, &self.source).map(Some),
            (None, Some(of_shelf)) => Ok(Some(of_shelf)),
            (None, None) => find_beside(&self.source),
        };
        found.map_err(|e| words::checksum_error(&e))
    }
}

/// Opens the image at `location`.
pub fn open(
    cx: &Context,
    location: &Location,
    args: &SourceArgs,
    keep: Keep,
) -> Result<ImageSource, Message> {
    Ok(open_named(cx, location, args, keep)?.source)
}

/// The same, with what a catalogue says of it.
pub fn open_named(
    cx: &Context,
    location: &Location,
    args: &SourceArgs,
    keep: Keep,
) -> Result<Named, Message> {
    let Location::Shelf(name) = location else {
        let source = open_at(cx, location, args, keep)?;
        return Ok(Named {
            source,
            listed: None,
        });
    };
    let listed = shelf::find(cx, name)?;
    let source = open_at(cx, &listed.location, args, keep)?;
    Ok(Named {
        source: source.listed_as(listed.name.clone()),
        listed: Some(listed),
    })
}

fn open_at(
    cx: &Context,
    location: &Location,
    args: &SourceArgs,
    keep: Keep,
) -> Result<ImageSource, Message> {
    let options = OpenOptions {
        spool: Spool {
            folder: Some(crate::folders::spool),
            ..Spool::default()
        },
        member: args.member.clone(),
        fetch: FetchOptions {
            patience: Duration::from_secs(args.patience),
            cache: match location {
                Location::Url(_) => cx.folders.cache().ok(),
                Location::Path(_) | Location::Shelf(_) => None,
            },
            keep: keep == Keep::Yes,
        },
    };
    let waiting = Waiting::new(&cx.ui, format!("opening {}", location.name()));
    let what = format!("unpacking {} to a file first", location.name());
    waiting.watch(what, &options.spool.done, &options.spool.total);
    let opened = match medium::named_as_source(cx, location) {
        None => ImageSource::open_with(location, &options),
        Some(chosen) => {
            let name = chosen.name();
            let opened = cx.readers.open_for_reading(&chosen.path);
            let opened = opened.map_err(|e| words::named_medium_error(&name, &e))?;
            let location = Location::Path(chosen.path);
            ImageSource::of_device(&location, &name, Arc::from(opened.device), &options)
        }
    };
    drop(waiting);
    opened.map_err(|e| words::open_error(&e))
}

/// What is copied: a medium or an image.
pub struct CopySource {
    /// It as an image.
    pub source: ImageSource,
    /// It as a device, if all of it can be read anywhere: a medium, or an image in no wrapping.
    pub device: Option<Arc<dyn BlockDevice>>,
    /// The same device, if it is read around errors.
    pub rescue: Option<Arc<Rescue>>,
    /// What the catalogue says, if it was named by its name on the shelf.
    pub listed: Option<Listed>,
}

/// Opens a medium or an image to be copied; a medium has to hold still meanwhile.
pub fn open_to_copy(
    cx: &Context,
    location: &Location,
    options: &SourceArgs,
    (access, is_dry): (&MediumArgs, bool),
    rescue: &RescueArgs,
) -> Result<CopySource, Message> {
    let chosen = match location.path() {
        Some(path) => Some(medium::find(cx, path, false)?),
        None => None,
    };
    let Some(mut chosen) = chosen else {
        if rescue.rescue.is_some() {
            return Err(rescue::only_media(location));
        }
        let named = open_named(cx, location, options, Keep::No)?;
        return Ok(CopySource::packed(named));
    };
    chosen.hold_still(cx, access, is_dry)?;
    let is_file = chosen.facts.is_none() && chosen.path.is_file();
    // What cannot be read is no wrapping.
    if is_file && rescue.rescue.is_none() {
        let named = open_named(cx, location, options, Keep::No)?;
        let source = &named.source;
        let is_plain = source.layers().is_empty() && source.files().len() == 1;
        if !is_plain {
            return Ok(CopySource::packed(named));
        }
    }
    let name = chosen.name();
    let opened = cx.readers.open_for_reading(&chosen.path);
    let opened = opened.map_err(|e| match e {
        // It is not to be created.
        MediumError::Missing { .. } => words::medium_error(&e),
        _ => words::named_medium_error(&name, &e),
    })?;
    let mut device: Arc<dyn BlockDevice> = Arc::from(opened.device);
    let rescue = match &rescue.rescue {
        None => None,
        Some(place) => {
            let begun = rescue::begin(cx, &chosen, device, (place, rescue))?;
            device = Arc::clone(&begun) as Arc<dyn BlockDevice>;
            Some(begun)
        }
    };
    let location = Location::Path(chosen.path);
    Ok(CopySource {
        source: of_device(&location, &name, &device)?,
        device: Some(device),
        rescue,
        listed: None,
    })
}

impl CopySource {
    /// An image in a wrapping, or on a server.
    fn packed(named: Named) -> Self {
        Self {
            source: named.source,
            device: None,
            rescue: None,
            listed: named.listed,
        }
    }
}

/// A device as an image, in no wrapping.
pub fn of_device(
    location: &Location,
    name: &str,
    device: &Arc<dyn BlockDevice>,
) -> Result<ImageSource, Message> {
    let options = OpenOptions::default();
    let opened = ImageSource::of_device(location, name, Arc::clone(device), &options);
    opened.map_err(|e| words::open_error(&e))
}

/// Keeps a finished download if requested; reports how fetching went.
pub fn finish(cx: &Context, source: &ImageSource, keep: Keep) -> Vec<(&'static str, String)> {
    let waiting = Waiting::new(&cx.ui, "downloading the rest".to_owned());
    let kept = source.keep_download();
    drop(waiting);
    let Some(stats) = source.fetch_stats() else {
        return Vec::new();
    };
    cx.ui.event(&DownloadEvent {
        fetched_bytes: stats.fetched,
        kept_bytes: stats.kept,
        resumed: stats.resumed,
        unconfirmed: stats.unconfirmed,
    });
    let mut lines = vec![("downloaded", amount(&stats))];
    match kept {
        Ok(Some(path)) => lines.push(("kept in", path.display().to_string())),
        Ok(None) => {
            let why = cx.folders.cache().err().filter(|_| keep == Keep::Yes);
            lines.extend(why.map(|why| ("not kept", why)));
        }
        // The medium is fine anyway.
        Err(error) => lines.push(("not kept", reason(&error))),
    }
    lines
}

/// What came from a server.
#[derive(Serialize, JsonSchema)]
pub struct DownloadEvent {
    /// Bytes fetched now.
    fetched_bytes: u64,
    /// Bytes left from an earlier download.
    kept_bytes: u64,
    /// How often the connection broke and was restored.
    resumed: u64,
    /// Whether the server could not be asked for a newer one.
    unconfirmed: bool,
}

impl Event for DownloadEvent {
    const EVENT: &'static str = "download";
}

fn amount(stats: &FetchStats) -> String {
    let mut text = units::size(stats.fetched);
    if stats.kept > 0 {
        text += &format!(", {} kept from earlier", units::size(stats.kept));
    }
    if stats.resumed > 0 {
        let times = units::counted(stats.resumed, "time");
        text += &format!("; the connection broke and was resumed {times}");
    }
    if stats.unconfirmed {
        text += "; the server could not be reached to check for a newer one";
    }
    text
}

fn reason(error: &std::io::Error) -> String {
    match StreamError::in_io(error) {
        Some(found) => found.to_string(),
        None => error.to_string(),
    }
}
