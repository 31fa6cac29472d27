//! Building media from parts: a layout's table, file systems and contents.
//!
//! ```
//! use std::path::Path;
//!
//! use jiff::tz::TimeZone;
//! use pinewrit_build::{BuildOptions, build, check, plan};
//! use pinewrit_core::Cancel;
//! use pinewrit_disk::MemoryDevice;
//! use pinewrit_image::OpenOptions;
//!
//! let text = r#"
//! [medium]
//! scheme = "gpt"
//!
//! [[partition]]
//! size = "rest"
//! filesystem = "ext4"
//! label = "root"
//!
//!   [[partition.content]]
//!   text = "larkfell-03"
//!   to = "/etc/hostname"
//! "#;
//! let layout = check(text, Path::new("."))?;
//! let device = MemoryDevice::new(32 << 20);
//! let options = BuildOptions {
//!     random: &|| [7; 16],
//!     now: 1_767_225_600,
//!     zone: TimeZone::UTC,
//!     open: OpenOptions::default(),
//! };
//! let planned = plan(&layout, &device, &options)?;
//! let report = build(&layout, &planned, &device, &options, &Cancel::default())?;
//! assert_eq!((report.files, report.bytes), (1, 11));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod layout;
mod names;

use std::collections::BTreeMap;
use std::io::Read;
use std::thread;
use std::time::Duration;

use crossbeam_channel::{Receiver, RecvTimeoutError, bounded};
use jiff::tz::TimeZone;
use pinewrit_core::Cancel;
use pinewrit_disk::{BlockDevice, ByteRange, DiskError, Window, open_plain};
use pinewrit_ext4::Timestamp;
use pinewrit_image::OpenOptions;
use pinewrit_settings::{Mistakes, Remark};
use pinewrit_table::{NewPartition, PartitionType, SchemeKind, TableEdit, TableError};
use pinewrit_volume::files::fill::{FillError, Refusal, Taken, Taking, look_at, total};
use pinewrit_volume::files::{FilesError, open_to_change};
use pinewrit_volume::format::{self, FormatError, FormatKind, FormatOptions};
use schemars::JsonSchema;
use serde::Serialize;

pub use layout::{Blob, Content, Layout, PartitionPlan, check};
use names::{Made, Names};

/// How often what has been gathered is sent to the device.
const FLUSH_EVERY: Duration = Duration::from_millis(250);

/// The inputs of a build besides its layout.
pub struct BuildOptions<'a> {
    /// Random numbers, for layouts without fixed identifiers.
    pub random: &'a dyn Fn() -> [u8; 16],
    /// The current time, for layouts without an epoch.
    pub now: i64,
    /// The time zone of a FAT's local times.
    pub zone: TimeZone,
    /// How archives are opened.
    pub open: OpenOptions,
}

/// What was built.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct BuildReport {
    /// Files in all file systems.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// Why nothing was built.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum BuildError {
    /// The layout, or a file it uses, has mistakes.
    #[error(transparent)]
    Mistakes(#[from] Mistakes),
    /// The device failed.
    #[error(transparent)]
    Disk(#[from] DiskError),
    /// It was cancelled.
    #[error("stopped")]
    Cancelled,
}

fn mistake(line: usize, what: impl Into<String>, remedy: impl Into<String>) -> BuildError {
    BuildError::Mistakes(Mistakes(vec![Remark {
        line,
        what: what.into(),
        remedy: remedy.into(),
    }]))
}

/// The places of a layout's partitions.
#[derive(Debug)]
pub struct BuildPlan {
    table: TableEdit,
    /// The range of each partition, in the layout's order.
    ranges: Vec<ByteRange>,
    /// Their numbers.
    numbers: Vec<u32>,
}

impl BuildPlan {
    /// Writes the table alone.
    ///
    /// # Errors
    /// The device failed.
    pub fn write_table(&self, device: &dyn BlockDevice) -> Result<(), BuildError> {
        self.table.write(device).map_err(|error| match error {
            TableError::Disk(error) => BuildError::Disk(error),
            other => mistake(1, other.to_string(), ""),
        })
    }
}

impl BuildPlan {
    /// What texts may refer to, once the file systems exist.
    fn names(&self, layout: &Layout, device: &dyn BlockDevice) -> Result<Names, BuildError> {
        let places = self.numbers.iter().zip(&self.ranges);
        let made: Vec<Made<'_>> = layout
            .partitions
            .iter()
            .zip(places)
            .map(|(plan, (number, range))| Made {
                plan,
                number: *number,
                partuuid: self.table.partuuid(*number),
                range: *range,
            })
            .collect();
        Ok(Names::of(self.table.disk_id(), &made, device)?)
    }
}

/// A sequence of identifiers: derived from the layout's text, or random.
fn ids<'a>(layout: &'a Layout, options: &'a BuildOptions<'_>) -> impl FnMut() -> [u8; 16] + 'a {
    let mut count = 0u64;
    move || {
        count += 1;
        let Some(text) = &layout.identifiers else {
            return (options.random)();
        };
        let mut hasher = blake3::Hasher::new();
        hasher.update(text.as_bytes());
        hasher.update(&count.to_le_bytes());
        let mut bytes = [0; 16];
        bytes.copy_from_slice(&hasher.finalize().as_bytes()[..16]);
        bytes
    }
}

/// The smallest medium for a layout, in bytes; `None` if a partition takes the rest.
pub fn least_size(layout: &Layout) -> Option<u64> {
    let mut end = layout.alignment.max(1 << 20);
    for partition in &layout.partitions {
        let pinewrit_table::PartitionSize::Bytes(size) = partition.size else {
            return None;
        };
        let start = end.checked_next_multiple_of(layout.alignment)?;
        end = start.checked_add(size)?;
    }
    let blobs = layout.blobs.iter().map(|blob| {
        let len = std::fs::metadata(&blob.from).map_or(0, |facts| facts.len());
        blob.at.saturating_add(len)
    });
    let end = end.max(blobs.max().unwrap_or(0));
    // The backup of a GPT.
    end.checked_add(1 << 20)?.checked_next_multiple_of(1 << 20)
}

/// Works out the place of everything on a medium of `size` bytes, and checks its sources.
///
/// # Errors
/// All mistakes at once.
pub fn plan(
    layout: &Layout,
    device: &dyn BlockDevice,
    options: &BuildOptions<'_>,
) -> Result<BuildPlan, BuildError> {
    let mut remarks = Vec::new();
    let mut ids = ids(layout, options);
    let (size, sector) = (device.size(), device.logical_sector());
    let table = TableEdit::create(size, sector, layout.scheme, &mut ids);
    let mut table = table.map_err(|error| mistake(1, error.to_string(), "a larger medium"))?;
    let (mut ranges, mut numbers) = (Vec::new(), Vec::new());
    for partition in &layout.partitions {
        let new = NewPartition {
            alignment: layout.alignment,
            name: partition.name.clone(),
            ..NewPartition::new(partition.kind, partition.size)
        };
        match table.add(&new, &mut ids) {
            Ok(number) => {
                let range = range_of(&table, number, sector.bytes());
                ranges.push(range);
                numbers.push(number);
                if let Some(kind) = type_by_size(layout, partition, range, sector.bytes())
                    && let Err(error) = table.set_kind(number, kind)
                {
                    remarks.push(remark(partition.line, error.to_string(), ""));
                }
            }
            Err(error) => {
                let (what, remedy) = no_room(&error, size);
                remarks.push(remark(partition.line, what, remedy));
            }
        }
    }
    let active = layout.partitions.iter().position(|plan| plan.active);
    if let Some(index) = active.filter(|_| remarks.is_empty()) {
        let number = table.partitions()[index].number;
        if let Err(error) = table.activate(Some(number)) {
            remarks.push(remark(layout.partitions[index].line, error.to_string(), ""));
        }
    }
    for (partition, range) in layout.partitions.iter().zip(&ranges) {
        if let Some(kind) = partition.filesystem {
            let options = format_options(layout, partition, kind, *range, options.now, [0; 32]);
            if let Err(error) = format::check(range.len(), sector.bytes(), &options) {
                remarks.push(remark(
                    partition.line,
                    error.to_string(),
                    "another size or kind",
                ));
            }
        }
        let is_fat = matches!(partition.filesystem, Some(FormatKind::Fat(_)));
        for content in &partition.contents {
            let refusals = look_at(&content.portion, is_fat, &options.open).into_iter();
            remarks.extend(refusals.map(|refusal| at_line(content.line, refusal)));
        }
    }
    remarks.extend(blobs_in_the_way(layout, &ranges, size, sector.bytes()));
    if remarks.is_empty() {
        return Ok(BuildPlan {
            table,
            ranges,
            numbers,
        });
    }
    remarks.sort_by_key(|remark| remark.line);
    Err(Mistakes(remarks).into())
}

/// The type of a partition whose FAT is chosen by its size.
fn type_by_size(
    layout: &Layout,
    partition: &PartitionPlan,
    range: ByteRange,
    sector: u64,
) -> Option<PartitionType> {
    let Some(FormatKind::Fat(kind)) = partition.filesystem.filter(|_| partition.follows_size)
    else {
        return None;
    };
    // A partition that cannot be created is reported elsewhere.
    let made = pinewrit_fat::MakePlan::of(kind, range.len(), sector, None).ok()?;
    layout::type_for(made.width(), layout.scheme)
}

fn remark(line: usize, what: impl Into<String>, remedy: impl Into<String>) -> Remark {
    Remark {
        line,
        what: what.into(),
        remedy: remedy.into(),
    }
}

fn no_room(error: &TableError, size: u64) -> (String, &'static str) {
    match error {
        TableError::NoRoom { needed, largest } if *needed > 0 => (
            format!("no room for {needed} bytes on a medium of {size}; {largest} are left"),
            "smaller partitions, or a larger medium",
        ),
        other => (other.to_string(), "smaller partitions, or a larger medium"),
    }
}

fn range_of(table: &TableEdit, number: u32, sector: u64) -> ByteRange {
    let slots = table.partitions().iter();
    let mut found = slots
        .filter(|slot| slot.number == number)
        .map(|slot| ByteRange {
            start: slot.first.0 * sector,
            end: (slot.first.0 + slot.sectors) * sector,
        });
    found.next().unwrap_or(ByteRange { start: 0, end: 0 })
}

/// Blobs over the table, over partitions, over each other, or past the end.
fn blobs_in_the_way(layout: &Layout, ranges: &[ByteRange], size: u64, sector: u64) -> Vec<Remark> {
    let head = match layout.scheme {
        SchemeKind::Mbr => 512,
        SchemeKind::Gpt => 2 * sector + 128 * 128,
    };
    let tail = match layout.scheme {
        SchemeKind::Mbr => size,
        SchemeKind::Gpt => size - sector - 128 * 128,
    };
    let mut taken: Vec<(ByteRange, String)> = vec![
        (
            ByteRange {
                start: 0,
                end: head,
            },
            "the partition table".to_owned(),
        ),
        (
            ByteRange {
                start: tail,
                end: u64::MAX,
            },
            "the end of the medium".to_owned(),
        ),
    ];
    for (index, range) in ranges.iter().enumerate() {
        taken.push((*range, format!("partition {}", index + 1)));
    }
    let mut remarks = Vec::new();
    for blob in &layout.blobs {
        let len = std::fs::metadata(&blob.from).map_or(0, |facts| facts.len());
        let own = ByteRange {
            start: blob.at,
            end: blob.at.saturating_add(len),
        };
        let other = taken
            .iter()
            .find(|(range, _)| range.intersection(own).is_some());
        if let Some((range, name)) = other {
            let what = format!(
                "bytes {} to {} would overlap {name}, from {} on",
                own.start, own.end, range.start
            );
            remarks.push(remark(blob.line, what, "another `at`, or a larger `align`"));
        }
        taken.push((own, format!("the blob of line {}", blob.line)));
    }
    remarks
}

fn format_options(
    layout: &Layout,
    partition: &PartitionPlan,
    kind: FormatKind,
    range: ByteRange,
    now: i64,
    seed: [u8; 32],
) -> FormatOptions {
    let now = Timestamp::at(layout.epoch.unwrap_or(now));
    FormatOptions {
        inodes: partition.inodes,
        has_checksums: partition.has_checksums,
        start: range.start,
        ..FormatOptions::new(kind, &partition.label, seed, now)
    }
}

/// Builds a planned medium on `device`, which reads as zeros.
///
/// # Errors
/// [`BuildError`]; the device's content is then useless.
pub fn build(
    layout: &Layout,
    plan: &BuildPlan,
    device: &dyn BlockDevice,
    options: &BuildOptions<'_>,
    cancel: &Cancel,
) -> Result<BuildReport, BuildError> {
    let (done, is_done) = bounded::<()>(0);
    let report = thread::scope(|scope| {
        // Without this thread there is more to wait for at the end, no more.
        let flusher = thread::Builder::new().name("flush".to_owned());
        let _ = flusher.spawn_scoped(scope, move || keep_flushing(device, &is_done));
        let report = put_together(layout, plan, device, options, cancel);
        drop(done);
        report
    })?;
    device.flush()?;
    Ok(report)
}

/// Sends out what has been written, so that little is left to wait for at the end.
fn keep_flushing(device: &dyn BlockDevice, is_done: &Receiver<()>) {
    while let Err(RecvTimeoutError::Timeout) = is_done.recv_timeout(FLUSH_EVERY) {
        // Failures are reported by the last flush.
        let _ = device.flush();
    }
}

fn put_together(
    layout: &Layout,
    plan: &BuildPlan,
    device: &dyn BlockDevice,
    options: &BuildOptions<'_>,
    cancel: &Cancel,
) -> Result<BuildReport, BuildError> {
    let mut taken = Taken::default();
    // Identifiers other than those of the table.
    let mut ids = ids(layout, options);
    for _ in 0..=layout.partitions.len() {
        ids();
    }
    let mut times = Vec::new();
    for (partition, range) in layout.partitions.iter().zip(&plan.ranges) {
        times.push(None);
        let Some(kind) = partition.filesystem else {
            continue;
        };
        let mut seed = [0; 32];
        seed[..16].copy_from_slice(&ids());
        seed[16..].copy_from_slice(&ids());
        let made = format_options(layout, partition, kind, *range, options.now, seed);
        let window = Window::new(device, *range);
        format::format(&window, &made).map_err(|error| match error {
            FormatError::Disk(error) => BuildError::Disk(error),
            other => mistake(partition.line, other.to_string(), "another size or kind"),
        })?;
        if let Some(time) = times.last_mut() {
            *time = Some(made.now);
        }
    }
    let names = plan.names(layout, device)?;
    let all = layout.partitions.iter().zip(&plan.ranges).zip(times);
    for ((partition, range), now) in all {
        let Some(now) = now else { continue };
        let window = Window::new(device, *range);
        let work = Work {
            layout,
            options,
            names: &names,
            now,
            cancel,
        };
        let filled = work.fill(partition, &window, &mut taken);
        filled.map_err(|failure| not_filled(partition, range.len(), options, failure))?;
    }
    for blob in &layout.blobs {
        put_blob(blob, device)?;
    }
    plan.write_table(device)?;
    Ok(BuildReport {
        files: taken.files,
        bytes: taken.bytes,
    })
}

/// What filling has in common for all partitions.
struct Work<'a> {
    layout: &'a Layout,
    options: &'a BuildOptions<'a>,
    names: &'a Names,
    now: Timestamp,
    cancel: &'a Cancel,
}

impl Work<'_> {
    fn fill(
        &self,
        partition: &PartitionPlan,
        window: &Window<'_>,
        taken: &mut Taken,
    ) -> Result<(), Filled> {
        if partition.contents.is_empty() {
            return Ok(());
        }
        let at = |line: usize| move |error: FillError| Filled { line, error };
        let of_files = |error: FilesError| at(partition.line)(error.into());
        let files = open_to_change(window, self.now).map_err(of_files)?;
        let mut files = files.with_zone(&self.options.zone);
        let mut fill = files.fill().map_err(of_files)?;
        let mut seen = BTreeMap::new();
        for content in &partition.contents {
            fill.in_one_piece(content.is_first);
            let mut taking = Taking {
                portion: &content.portion,
                fill: &mut *fill,
                epoch: self.layout.epoch,
                now: options_time(self.layout, self.now),
                taken,
                seen: &mut seen,
                is_stopped: &|| self.cancel.is_cancelled(),
                options: &self.options.open,
                names: Some(self.names),
            };
            taking
                .all()
                .and_then(|()| fill.tell_refused())
                .map_err(at(content.line))?;
            if content.is_first {
                fill.move_to_front().map_err(at(content.line))?;
            }
        }
        drop(fill);
        files.close().map_err(of_files)
    }
}

/// Why a partition was not filled, and the responsible line in the layout.
struct Filled {
    line: usize,
    error: FillError,
}

/// Why filling a partition of `size` bytes failed, as mistakes in the layout. If not everything
/// fits, with its total size.
fn not_filled(
    partition: &PartitionPlan,
    size: u64,
    options: &BuildOptions<'_>,
    Filled { line, error }: Filled,
) -> BuildError {
    let refusals = match error {
        FillError::Refused(refusals) => refusals,
        FillError::Cancelled => return BuildError::Cancelled,
        FillError::Files(error) => match error.into_disk() {
            Ok(error) => return error.into(),
            Err(error) => vec![Refusal::new(
                format!("the file system: {error}"),
                "omit it, or change it",
            )],
        },
        other => vec![Refusal::new(other.to_string(), "")],
    };
    let is_full = refusals.iter().any(|one| one.is_for_room);
    let mut remarks: Vec<Remark> = refusals
        .into_iter()
        .map(|refusal| at_line(line, refusal))
        .collect();
    let portions = partition.contents.iter().map(|content| &content.portion);
    if let Some(total) = is_full.then(|| total(portions, &options.open)).flatten() {
        remarks.push(remark(
            partition.line,
            format!("{total} bytes of files go into a partition of {size} bytes"),
            "its size must hold them, plus some space for the file system itself",
        ));
    }
    Mistakes(remarks).into()
}

fn at_line(line: usize, refusal: Refusal) -> Remark {
    remark(line, refusal.what, refusal.remedy)
}

fn options_time(layout: &Layout, now: Timestamp) -> Timestamp {
    layout.epoch.map_or(now, Timestamp::at)
}

fn put_blob(blob: &Blob, device: &dyn BlockDevice) -> Result<(), BuildError> {
    let failed = |error: std::io::Error| {
        let what = format!("{} cannot be read: {error}", blob.from.display());
        mistake(blob.line, what, "")
    };
    let mut file = open_plain(&blob.from).map_err(failed)?;
    let mut buffer = vec![0; 1 << 20];
    let mut at = blob.at;
    loop {
        match file.read(&mut buffer).map_err(failed)? {
            0 => return Ok(()),
            len => {
                device.write_at(at, &buffer[..len])?;
                at += len as u64;
            }
        }
    }
}
