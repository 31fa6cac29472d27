//! Everything known before the first byte: what is in the image, whether it fits, what speaks
//! against it, what the settings would do.

use pinewrit_disk::{BlockDevice, DiskError, Padded, SectorSize};
use pinewrit_firstboot::configure::{ConfigureError, ConfigureReport, prepare};
use pinewrit_host::{MediumKind, Target};
use pinewrit_image::{ImageSource, PeekDevice};
use pinewrit_settings::CheckedSettings;
use pinewrit_volume::expect::{Expectation, expectation};
use pinewrit_volume::extents::MapTracker;
use pinewrit_volume::{FilesystemFacts, FilesystemKind, Timestamp};

use super::request::{Destination, WriteRequest};
use crate::inspect::{Inspection, inspect};

/// How much of a packed image is examined before writing, in bytes.
pub const PREVIEW: u64 = 256 << 20;

/// A planned write that has not begun.
pub struct WritePlan {
    /// The image.
    pub source: ImageSource,
    /// The media.
    pub media: Vec<Destination>,
    /// What is requested.
    pub request: WriteRequest,
    /// The content of the image, as far as the preview reaches.
    pub preview: Option<Inspection>,
    /// What speaks against writing it; the user may overrule it.
    pub doubts: Vec<ImageDoubt>,
    /// What the settings would change in the image, as far as the preview reaches.
    pub rehearsal: Option<ConfigureReport>,
    /// Free bytes in the image, if it allows random access.
    surveyed: Option<u64>,
}

/// Why an image may not be one, or not one for these media.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ImageDoubt {
    /// It has neither a table nor a boot sector nor a file system.
    Unknown {
        /// Its first bytes, if they can be read.
        head: Option<[u8; 16]>,
    },
    /// It is shorter than its partitions say.
    CutOff {
        /// Its size in bytes.
        size: u64,
        /// Where they end, in bytes.
        reach: u64,
    },
    /// It is made for media with another sector size.
    OtherSectors {
        /// The medium.
        medium: String,
        /// Sectors of the image, in bytes.
        image_sector: u64,
        /// Sectors of the medium, in bytes.
        medium_sector: u64,
    },
}

/// Why a write cannot be planned. Nothing was written.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PlanError {
    /// A host name belongs to one unit.
    #[error("{media} media would all have the host name {host_name}")]
    OneName {
        /// The host name.
        host_name: String,
        /// How many media there are.
        media: usize,
    },
    /// The image does not fit.
    #[error("the image has {image} bytes, {medium} only {size}")]
    TooLarge {
        /// The medium.
        medium: String,
        /// Size of the image in bytes.
        image: u64,
        /// Size of the medium in bytes.
        size: u64,
    },
    /// The image could not be examined.
    #[error("the image could not be read")]
    Image(#[source] DiskError),
    /// A partition holds a file system, not an image with its own table.
    #[error("the image is one of a whole medium with {partitions} partitions")]
    WholeMedium {
        /// How many partitions it has.
        partitions: usize,
    },
    /// There is nothing to grow.
    #[error("the image has no partition that could grow")]
    NothingToGrow,
    /// The settings do not fit this image.
    #[error(transparent)]
    Settings(ConfigureError),
}

impl WritePlan {
    /// Examines the image, and what speaks against it. [`WritePlan::rehearse`] comes next.
    ///
    /// # Errors
    /// [`PlanError`].
    pub fn new(
        source: ImageSource,
        media: Vec<Destination>,
        request: WriteRequest,
    ) -> Result<Self, PlanError> {
        one_name_each(&request, media.len())?;
        for medium in &media {
            must_fit(&source, medium)?;
        }
        let preview = look_into(&source)?;
        let mut plan = Self {
            surveyed: media.first().and_then(|medium| survey(&source, medium)),
            preview,
            doubts: Vec::new(),
            rehearsal: None,
            source,
            media,
            request,
        };
        // There are no doubts about a medium that has just been built.
        if !plan.is_drafted() {
            plan.doubts = plan.doubts_of_image()?;
        }
        Ok(plan)
    }

    /// Applies the settings to a view of the image, to find faults that would otherwise come too
    /// late, and checks that growing is possible. Beyond the reach of the view, the write itself
    /// will tell.
    ///
    /// # Errors
    /// [`PlanError`].
    pub fn rehearse(&mut self) -> Result<(), PlanError> {
        let is_partition = self.media.iter().any(|medium| medium.partition.is_some());
        if let Some(settings) = self.request.settings.clone().filter(|_| !is_partition) {
            self.rehearsal = self.try_settings(settings)?;
        }
        if is_partition {
            self.must_be_a_filesystem()
        } else if self.request.grow {
            self.must_have_room_to_grow()
        } else {
            Ok(())
        }
    }

    /// Whether the media already hold the image, and only have to be finished.
    pub fn is_drafted(&self) -> bool {
        self.media.iter().any(Destination::is_drafted)
    }

    /// Free bytes in the image, as far as the preview shows.
    pub fn expected_free(&self) -> u64 {
        let Some(preview) = &self.preview else {
            return 0;
        };
        if let Some(free) = self.surveyed {
            return free;
        }
        let is_optical = |fs: &FilesystemFacts| fs.kind == FilesystemKind::ISO_9660;
        // An image spanned by an ISO 9660 file system is written completely.
        if preview.filesystem.as_ref().is_some_and(is_optical) {
            return 0;
        }
        let inside = preview.partitions.iter().map(|p| p.filesystem.as_ref());
        let all = inside.chain([preview.filesystem.as_ref()]).flatten();
        all.filter(|facts| facts.kind.has_files())
            .filter_map(|facts| facts.free)
            .sum()
    }

    /// The image, as far as the preview reaches.
    fn view(&self) -> PeekDevice {
        view(&self.source)
    }

    fn doubts_of_image(&self) -> Result<Vec<ImageDoubt>, PlanError> {
        let (Some(preview), false) = (&self.preview, self.request.as_it_is) else {
            return Ok(Vec::new());
        };
        let device = self.view();
        let expected = expectation(&device).map_err(PlanError::Image)?;
        let is_unknown = preview.is_unknown() && !preview.has_boot_sector && expected.reach == 0;
        let unknown = is_unknown.then(|| {
            let mut head = [0; 16];
            let read = device.read_at(0, &mut head);
            ImageDoubt::Unknown {
                head: read.is_ok().then_some(head),
            }
        });
        let doubts = [
            unknown,
            self.cut_off(expected),
            self.other_sectors(expected),
        ];
        Ok(doubts.into_iter().flatten().collect())
    }

    fn cut_off(&self, expected: Expectation) -> Option<ImageDoubt> {
        let size = self.source.unpacked_size().exact()?;
        let reach = expected.reach;
        (reach > size).then_some(ImageDoubt::CutOff { size, reach })
    }

    fn other_sectors(&self, expected: Expectation) -> Option<ImageDoubt> {
        let sector = expected.sector?;
        self.media.iter().find_map(|medium| match &medium.target {
            // A card file stands for a medium of any kind.
            Target::Existing(one)
                if one.kind != MediumKind::CardFile && medium.partition.is_none() =>
            {
                let own = one.device.logical_sector();
                (own != sector).then(|| ImageDoubt::OtherSectors {
                    medium: medium.name.clone(),
                    image_sector: sector.bytes(),
                    medium_sector: own.bytes(),
                })
            }
            _ => None,
        })
    }

    fn must_be_a_filesystem(&self) -> Result<(), PlanError> {
        let preview = self.preview.as_ref();
        match preview.map_or(0, |preview| preview.partitions.len()) {
            0 => Ok(()),
            partitions => Err(PlanError::WholeMedium { partitions }),
        }
    }

    fn must_have_room_to_grow(&self) -> Result<(), PlanError> {
        match &self.preview {
            Some(preview) if preview.partitions.is_empty() => Err(PlanError::NothingToGrow),
            _ => Ok(()),
        }
    }

    fn try_settings(
        &self,
        mut tried: CheckedSettings,
    ) -> Result<Option<ConfigureReport>, PlanError> {
        tried.grows_root = self.request.grows();
        // Added content has as much room as on the smallest medium.
        let sizes = self.media.iter().map(|medium| medium.target.size());
        let trial = try_settings(&self.view(), tried, sizes.min(), self.request.now());
        trial.map_err(PlanError::Settings)
    }
}

/// What settings would change in an image, on media of at least `smallest` bytes; `None` if that is
/// out of a view's reach.
///
/// # Errors
/// [`ConfigureError`]: they do not fit this image.
pub fn try_settings(
    view: &PeekDevice,
    mut tried: CheckedSettings,
    smallest: Option<u64>,
    now: Timestamp,
) -> Result<Option<ConfigureReport>, ConfigureError> {
    let grows = tried.grows_root;
    let larger = Padded::new(view, smallest.filter(|_| grows).unwrap_or(0));
    let report = |tried: &CheckedSettings, device: &dyn BlockDevice| {
        prepare(device, tried, now).map(|prepared| prepared.report().clone())
    };
    let mut trial = report(&tried, &larger);
    if grows && trial.as_ref().is_err_and(ConfigureError::is_out_of_reach) {
        // The end of the file system, where the room is, is out of reach.
        tried.grows_root = false;
        tried.swap = None;
        trial = report(&tried, view);
    }
    match trial {
        Ok(report) => Ok(Some(report)),
        Err(error) if error.is_out_of_reach() => Ok(None),
        Err(error) => Err(error),
    }
}

/// A view of an image, as far as that is quick.
pub fn view(source: &ImageSource) -> PeekDevice {
    let device = PeekDevice::new(source.for_a_look());
    // Without a wrapping, every place costs the same.
    if source.layers().is_empty() {
        device
    } else {
        device.with_limit(PREVIEW)
    }
}

fn one_name_each(request: &WriteRequest, media: usize) -> Result<(), PlanError> {
    let settings = request.settings.as_ref();
    match settings.and_then(|settings| settings.host_name.clone()) {
        Some(host_name) if media > 1 => Err(PlanError::OneName { host_name, media }),
        _ => Ok(()),
    }
}

fn must_fit(source: &ImageSource, medium: &Destination) -> Result<(), PlanError> {
    let size = medium.target.size();
    match source.unpacked_size().exact() {
        Some(image) if image > size => Err(PlanError::TooLarge {
            medium: medium.name.clone(),
            image,
            size,
        }),
        _ => Ok(()),
    }
}

/// How much of an image without a wrapping is free.
fn survey(source: &ImageSource, medium: &Destination) -> Option<u64> {
    let size = source.plain()?.size();
    let sector = match &medium.target {
        Target::Existing(medium) => medium.device.logical_sector(),
        Target::New { .. } => SectorSize::B512,
    };
    let device = PeekDevice::new(source.for_a_look());
    MapTracker::survey(&device, size, sector).ok()
}

/// Examines the image, as far as that is quick.
fn look_into(source: &ImageSource) -> Result<Option<Inspection>, PlanError> {
    match inspect(&view(source), source.unpacked_size().exact()) {
        Ok(preview) => Ok(Some(preview)),
        // Too far into a download to fetch it for a preview.
        Err(DiskError::PastEnd { .. }) if source.fetch_stats().is_some() => Ok(None),
        Err(error) => Err(PlanError::Image(error)),
    }
}
