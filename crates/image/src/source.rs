//! A source: packed bytes that hold an image in some wrapping.

mod beside;
mod nested;
mod open;

use std::fmt;
use std::fs::File;
use std::io::{self, Read};
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use nested::PiecesInside;
pub(crate) use open::{open_path, open_url};
use pinewrit_disk::BlockDevice;

use crate::archive::{self, ArchiveInput};
use crate::fetch::{FetchOptions, FetchStats, Remote};
use crate::jumps::Jumps;
use crate::packed::{self, DeviceBytes, FileCursor, PackedBytes, PackedReader, Part};
use crate::spool::Spool;
use crate::summed::sum_up;
use crate::unwrap::decompress;
use crate::{
    ChecksumKind, ImageStream, Location, MAX_LAYERS, Member, MemberSum, NoChoice, NotAnImage,
    OneThread, OpenError, StreamError, UnpackedSize, Wrapping, content, sizes, xz_index,
    xz_streams,
};

/// How many bytes are read to recognise something.
const HEAD: usize = 8192;
/// The most other members to remember.
const MAX_OTHERS: usize = 100;

/// One layer around an image.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Layer {
    /// Its kind.
    pub wrapping: Wrapping,
    /// The member that was chosen, for archives.
    pub member: Option<Member>,
    /// The other members, as far as they are known without unpacking.
    pub others: Vec<Member>,
    /// The size of what comes out.
    pub unpacked: UnpackedSize,
    /// How many of the others precede the chosen one.
    pub(crate) before: usize,
}

impl fmt::Display for Layer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.member {
            Some(member) => write!(f, "{} with {}", self.wrapping, member.display_name()),
            None => write!(f, "{}", self.wrapping),
        }
    }
}

/// Options for opening a source.
#[derive(Clone, Debug, Default)]
pub struct OpenOptions {
    /// The name of the member to take out of an archive, in full or without its folders. Without
    /// it, the image is found automatically, if only one member can be it.
    pub member: Option<String>,
    /// Options for requests to servers.
    pub fetch: FetchOptions,
    /// Where to unpack what cannot be read as a stream.
    pub spool: Spool,
}

/// An opened source.
#[derive(Clone, Debug)]
pub struct ImageSource {
    location: Location,
    name: String,
    packed: Arc<dyn PackedBytes>,
    remote: Option<Arc<Remote>>,
    /// The packed bytes for a preview with random access.
    around: Option<Arc<dyn PackedBytes>>,
    layers: Vec<Layer>,
    inner: Option<Inner>,
    /// What a catalogue calls it.
    listed: Option<String>,
}

/// Packed bytes from the first layers, with random access.
#[derive(Clone, Debug)]
struct Inner {
    /// How many layers these are.
    after: usize,
    packed: Arc<dyn PackedBytes>,
}

/// The packed bytes, and the name of the whole.
pub(crate) struct Opened {
    name: String,
    pub(crate) packed: Arc<dyn PackedBytes>,
    remote: Option<Arc<Remote>>,
}

impl ImageSource {
    /// Opens the file at `path` and examines the start of its content.
    ///
    /// # Errors
    /// [`OpenError`]: there is no such file, it is not readable, or it is clearly not an image.
    pub fn open(path: &Path) -> Result<Self, OpenError> {
        Self::open_with(&Location::Path(path.to_owned()), &OpenOptions::default())
    }

    /// As [`ImageSource::open`], for paths and URLs, with options. A file that is one of several
    /// pieces, and a folder that holds them, are opened as the whole.
    ///
    /// # Errors
    /// As [`ImageSource::open`]; missing pieces; a server that does not answer properly.
    pub fn open_with(location: &Location, options: &OpenOptions) -> Result<Self, OpenError> {
        let opened = match location {
            Location::Path(path) => open_path(path)?,
            Location::Url(url) => open_url(location, url, &options.fetch)?,
            Location::Shelf(name) => return Err(OpenError::OnShelf { name: name.clone() }),
        };
        Self::found(location, opened, options)
    }

    /// Opens what is on a medium: all of it, in whatever wrapping. `name` is its name in messages.
    ///
    /// # Errors
    /// As [`ImageSource::open`].
    pub fn of_device(
        location: &Location,
        name: &str,
        device: Arc<dyn BlockDevice>,
        options: &OpenOptions,
    ) -> Result<Self, OpenError> {
        let opened = Opened {
            name: name.to_owned(),
            packed: Arc::new(DeviceBytes(device)),
            remote: None,
        };
        Self::found(location, opened, options)
    }

    fn found(
        location: &Location,
        opened: Opened,
        options: &OpenOptions,
    ) -> Result<Self, OpenError> {
        let mut source = Self {
            location: location.clone(),
            name: opened.name,
            packed: opened.packed,
            remote: opened.remote,
            around: None,
            layers: Vec::new(),
            inner: None,
            listed: None,
        };
        let head = source.find_layers(options.member.as_deref(), &options.spool)?;
        let unlike = source.layers.is_empty()
            && archive::is_packed_name(&source.name)
            && !packed::has_boot_sector(&head);
        let checked = match content::check(&head) {
            Ok(()) if unlike => Err(NotAnImage::UnlikeItsName),
            Ok(()) => source.check_end(),
            checked => checked,
        };
        checked.map_err(|why| OpenError::NotAnImage {
            path: location.to_string().into(),
            why,
        })?;
        Ok(source)
    }

    /// Examines the end of a file without a wrapping.
    fn check_end(&self) -> Result<(), NotAnImage> {
        let Some(plain) = self.plain() else {
            return Ok(());
        };
        let mut end = [0; content::END];
        let place = plain.size().checked_sub(content::END as u64);
        match place.map(|place| plain.read_at(&mut end, place)) {
            Some(Ok(())) => content::check_end(&end),
            // An unreadable part is reported when it is reached.
            _ => Ok(()),
        }
    }

    /// Its location, as given.
    pub fn location(&self) -> &Location {
        &self.location
    }

    /// The source's name without folders, for messages. For pieces, that of the whole.
    pub fn name(&self) -> String {
        self.name.clone()
    }

    /// The same source, which a catalogue calls `name`, with its version.
    pub fn listed_as(self, name: String) -> Self {
        Self {
            listed: Some(name),
            ..self
        }
    }

    /// What the catalogue calls it, if it was named so.
    pub fn listed(&self) -> Option<&str> {
        self.listed.as_deref()
    }

    /// Size of the packed bytes; `None` if a server does not say.
    pub fn packed_size(&self) -> Option<u64> {
        self.packed.size()
    }

    /// The layers of compression, outermost first; empty for a raw image.
    pub fn layers(&self) -> &[Layer] {
        &self.layers
    }

    /// What is known about the image's size.
    pub fn unpacked_size(&self) -> UnpackedSize {
        match self.layers.last() {
            Some(innermost) => innermost.unpacked,
            None => self
                .packed_size()
                .map_or(UnpackedSize::Unknown, UnpackedSize::Exact),
        }
    }

    /// The open files or the device that it is in: one, several pieces, or none for a server.
    pub fn files(&self) -> impl ExactSizeIterator<Item = &File> {
        self.packed.files().iter().map(|part| &part.file)
    }

    /// Whether it is on a medium that was opened for it.
    pub fn is_on_device(&self) -> bool {
        self.remote.is_none() && self.packed.files().is_empty()
    }

    /// Temporary files with unpacked layers that could not be read as a stream.
    pub fn spooled_files(&self) -> impl Iterator<Item = &File> {
        let inner = self.inner.iter();
        inner.flat_map(|inner| inner.packed.files().iter().map(|part| &part.file))
    }

    /// The download so far; `None` for files.
    pub fn fetch_stats(&self) -> Option<FetchStats> {
        self.remote.as_ref().map(|remote| remote.stats())
    }

    /// Makes all readers that wait for a server give up, for good.
    pub fn interrupt(&self) {
        if let Some(remote) = &self.remote {
            remote.interrupt();
        }
    }

    /// Completes a download that is to be kept, and keeps it. Returns where.
    ///
    /// # Errors
    /// The rest could not be fetched, or the file could not be written.
    pub fn keep_download(&self) -> io::Result<Option<std::path::PathBuf>> {
        match &self.remote {
            Some(remote) => remote.keep(),
            None => Ok(None),
        }
    }

    /// The same source for a quick look: reading fails with
    /// [`StreamFault::NotFetched`](crate::StreamFault::NotFetched) where a server would have to be
    /// asked for what will not be kept.
    pub fn for_a_look(&self) -> Self {
        let packed: Arc<dyn PackedBytes> = match &self.remote {
            Some(remote) => Arc::new(remote.start_only()),
            None => Arc::clone(&self.packed),
        };
        let around = self.remote.as_ref();
        Self {
            packed,
            around: around.map(|remote| Arc::new(remote.start_only().and_around()) as _),
            ..self.clone()
        }
    }

    /// Random access to the image, if its last layer allows it.
    pub(crate) fn jumps(&self) -> Option<Jumps> {
        let (after, packed) = self.base();
        let around = self.around.as_ref().filter(|_| self.inner.is_none());
        let packed = around.unwrap_or(packed);
        if !packed.can_jump() {
            return None;
        }
        let layer = match self.layers.get(after..)? {
            [] => return Some(Jumps::Stored(Arc::clone(packed))),
            [layer] => layer,
            _ => return None,
        };
        match (layer.wrapping, &layer.member) {
            (Wrapping::Xz, None) => Jumps::in_xz(packed),
            (Wrapping::Zstd, None) => Jumps::in_zstd(packed),
            (_, Some(_)) => Some(Jumps::Stored(self.stored_member()?)),
            _ => None,
        }
    }

    /// Why an xz file is unpacked by one thread; `None` if several do it, or if that is unknown.
    pub fn xz_in_one_thread(&self) -> Option<OneThread> {
        let outermost = self.layers.first().map(|layer| layer.wrapping);
        let size = self
            .packed_size()
            .filter(|_| outermost == Some(Wrapping::Xz))?;
        let blocks = xz_index::blocks(&*self.packed, size)?;
        xz_streams::one_thread(&blocks)
    }

    /// The packed bytes from the start.
    pub fn packed_reader(&self) -> PackedReader {
        PackedReader::new(Arc::clone(&self.packed))
    }

    /// Whether unwrapping needs random access to the packed bytes: zip and 7z have their
    /// directories at the end.
    pub fn reads_by_itself(&self) -> bool {
        let outermost = self.layers.first().map(|layer| layer.wrapping);
        let has_directory = matches!(outermost, Some(Wrapping::Zip | Wrapping::SevenZip));
        self.inner.is_some() || has_directory && self.packed.can_jump()
    }

    /// How many layers precede what is read, and what that is.
    fn base(&self) -> (usize, &Arc<dyn PackedBytes>) {
        match &self.inner {
            Some(inner) => (inner.after, &inner.packed),
            None => (0, &self.packed),
        }
    }

    /// The image in one file or on a medium, if it has no wrapping.
    pub fn plain(&self) -> Option<PlainImage<'_>> {
        match (&self.layers[..], self.packed.files(), self.packed.device()) {
            ([], [part], _) => Some(PlainImage(Plain::File(part))),
            ([], [], Some(device)) => Some(PlainImage(Plain::Device(device))),
            _ => None,
        }
    }

    /// Unwraps packed bytes, from wherever they come, into the image. They are not used where the
    /// source [reads by itself](Self::reads_by_itself).
    ///
    /// In that case `counter` goes up by the bytes of the file that are read.
    ///
    /// # Errors
    /// A decoder could not be created.
    pub fn unwrap(&self, packed: ImageStream, counter: &Arc<AtomicU64>) -> io::Result<ImageStream> {
        Ok(self.unwrap_summed(packed, counter, None)?.0)
    }

    /// As [`ImageSource::unwrap`], with a checksum of the outermost archive's member on the way.
    ///
    /// # Errors
    /// A decoder could not be created.
    pub fn unwrap_summed(
        &self,
        packed: ImageStream,
        counter: &Arc<AtomicU64>,
        kind: Option<ChecksumKind>,
    ) -> io::Result<(ImageStream, Option<MemberSum>)> {
        let mut stream = packed;
        let mut wanted = kind;
        let mut sum = None;
        let (base, inner) = self.base();
        if base > 0 {
            stream = Box::new(PackedReader::new(Arc::clone(inner)));
            if let Some(kind) = wanted.take() {
                // The member is there as a whole.
                let whole = Box::new(PackedReader::new(Arc::clone(inner)));
                let (mut whole, of_member) = sum_up(whole, kind);
                io::copy(&mut whole, &mut io::sink())?;
                sum = Some(of_member);
            }
        }
        for (index, layer) in self.layers.iter().enumerate().skip(base) {
            stream = match &layer.member {
                None => decompress(stream, layer.wrapping)?,
                Some(member) => {
                    let input = self.archive_input(index, stream, counter);
                    archive::open(layer.wrapping, input, member.name.clone())
                }
            };
            if let (Some(_), Some(kind)) = (&layer.member, wanted) {
                let (summed, of_member) = sum_up(stream, kind);
                (stream, sum, wanted) = (summed, Some(of_member), None);
            }
        }
        Ok((stream, sum))
    }

    fn archive_input(
        &self,
        index: usize,
        stream: ImageStream,
        counter: &Arc<AtomicU64>,
    ) -> ArchiveInput {
        let is_first = index == self.base().0 && self.reads_by_itself();
        match (is_first, self.cursor(counter)) {
            (true, Some(cursor)) => ArchiveInput::File(cursor),
            _ => ArchiveInput::Stream(stream),
        }
    }

    /// A cursor, if the packed bytes allow random access.
    fn cursor(&self, counter: &Arc<AtomicU64>) -> Option<FileCursor> {
        let packed = self.base().1;
        let size = packed.size().filter(|_| packed.can_jump())?;
        Some(FileCursor::new(
            Arc::clone(packed),
            size,
            Arc::clone(counter),
        ))
    }

    /// The image's bytes from the start.
    ///
    /// # Errors
    /// A decoder could not be created.
    pub fn stream(&self) -> io::Result<ImageStream> {
        self.unwrap(Box::new(self.packed_reader()), &Arc::default())
    }

    /// Finds the layers one by one; returns the first bytes of the image.
    fn find_layers(&mut self, wanted: Option<&str>, spool: &Spool) -> Result<Vec<u8>, OpenError> {
        let mut wanted = wanted;
        loop {
            let head = self
                .read_head()
                .map_err(|error| self.stream_failed(error))?;
            let Some(wrapping) = Wrapping::detect(&head) else {
                return match wanted {
                    // There is no archive to take it from.
                    Some(wanted) => Err(self.no_choice(NoChoice::NotThere {
                        wanted: wanted.to_owned(),
                        names: Vec::new(),
                    })),
                    None => Ok(head),
                };
            };
            if self.layers.len() == MAX_LAYERS {
                return Err(OpenError::TooManyLayers {
                    path: self.location.to_string().into(),
                });
            }
            if wrapping == Wrapping::SevenZip && !self.can_jump_here() {
                let inner = self.spooled(spool).map_err(|e| self.stream_failed(e))?;
                self.inner = Some(Inner {
                    after: self.layers.len(),
                    packed: inner,
                });
            }
            let layer = if wrapping.is_archive() {
                match self.find_pieces(wrapping, wanted, spool)? {
                    Some(PiecesInside { layer, packed }) => {
                        self.inner = Some(Inner {
                            after: self.layers.len() + 1,
                            packed,
                        });
                        layer
                    }
                    None => self.find_member(wrapping, wanted.take())?,
                }
            } else {
                Layer {
                    wrapping,
                    member: None,
                    others: Vec::new(),
                    before: 0,
                    unpacked: if self.can_jump_here() || self.layers.is_empty() {
                        sizes::find(&**self.base().1, wrapping)
                    } else {
                        UnpackedSize::Unknown
                    },
                }
            };
            self.layers.push(layer);
        }
    }

    /// The next archive, with its member.
    fn find_member(&self, kind: Wrapping, wanted: Option<&str>) -> Result<Layer, OpenError> {
        let cursor = self.cursor(&Arc::default());
        let input = match cursor.filter(|_| self.layers.len() == self.base().0) {
            Some(cursor) => ArchiveInput::File(cursor),
            None => ArchiveInput::Stream(self.stream().map_err(|e| self.stream_failed(e))?),
        };
        let members =
            archive::list(kind, input, wanted).map_err(|error| self.stream_failed(error))?;
        let member = archive::choose(&members, wanted).map_err(|why| self.no_choice(why))?;
        let before = members.iter().take_while(|other| **other != member).count();
        let others = members.into_iter().filter(|other| *other != member);
        Ok(Layer {
            wrapping: kind,
            before,
            others: others.take(MAX_OTHERS).collect(),
            unpacked: member
                .size
                .map_or(UnpackedSize::Unknown, UnpackedSize::Exact),
            member: Some(member),
        })
    }

    fn no_choice(&self, why: NoChoice) -> OpenError {
        OpenError::NoChoice {
            path: self.location.to_string().into(),
            why,
        }
    }

    fn stream_failed(&self, error: io::Error) -> OpenError {
        OpenError::Stream {
            path: self.location.to_string().into(),
            source: StreamError::from_io(error),
        }
    }

    fn read_head(&self) -> io::Result<Vec<u8>> {
        let mut head = Vec::with_capacity(HEAD);
        self.stream()?.take(HEAD as u64).read_to_end(&mut head)?;
        Ok(head)
    }
}

/// An image without a wrapping in one file or on a medium, with random access.
#[derive(Clone, Copy)]
pub struct PlainImage<'a>(Plain<'a>);

#[derive(Clone, Copy)]
enum Plain<'a> {
    File(&'a Part),
    Device(&'a dyn BlockDevice),
}

impl<'a> PlainImage<'a> {
    /// Its size in bytes.
    pub fn size(&self) -> u64 {
        match self.0 {
            Plain::File(part) => part.len,
            Plain::Device(device) => device.size(),
        }
    }

    /// The medium that it is on, if that was opened for it.
    pub fn device(&self) -> Option<&'a dyn BlockDevice> {
        match self.0 {
            Plain::File(_) => None,
            Plain::Device(device) => Some(device),
        }
    }

    /// Reads exactly what the buffer holds.
    ///
    /// # Errors
    /// The system's; the file may have become shorter.
    pub fn read_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()> {
        match self.0 {
            Plain::File(part) => {
                let read = part.file.read_exact_at(buffer, offset);
                read.map_err(|error| match error.kind() {
                    io::ErrorKind::UnexpectedEof => packed::became_shorter(),
                    _ => error,
                })
            }
            Plain::Device(device) => device.read_once(offset, buffer).map_err(io::Error::other),
        }
    }

    /// Whether a range is a hole in the file, as far as the system says.
    pub fn is_hole(&self, offset: u64, len: u64) -> bool {
        match self.0 {
            Plain::File(part) => part.is_hole(offset, len),
            Plain::Device(_) => false,
        }
    }
}
