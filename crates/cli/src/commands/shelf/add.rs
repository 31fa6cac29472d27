//! `pinewrit shelf add`: what a look into an image shows, as an entry of the catalogue.

use std::path::Path;

use jiff::civil::Date;
use pinewrit_args::AddImageArgs;
use pinewrit_boards::Extent;
use pinewrit_boards::chain::Verdict;
use pinewrit_core::inspect::{Inspection, inspect};
use pinewrit_disk::{BlockDevice, ReadCache};
use pinewrit_firstboot::configure::prepare;
use pinewrit_image::{Checksum, ChecksumKind, ImageSource, Location, Subject};
use pinewrit_session::source::{self, Keep};
use pinewrit_session::{Context, boards, clock, shelf, trust};
use pinewrit_settings::CheckedSettings;
use pinewrit_shelf::{Base, Catalogue, Image, ImageName, Shelf};
use pinewrit_ui::progress::Waiting;
use pinewrit_ui::words::inspection::FactList;
use pinewrit_ui::{Exit, Message, style, units, words};
use pinewrit_volume::Architecture;

use super::{ImageRow, Outcome, forget, get, save, tell, text_of};
use crate::commands::inspect::device;

pub(super) fn run(cx: &Context, args: &AddImageArgs) -> Outcome {
    let file = shelf::own_file(cx)?;
    // Mistakes in it are told before an image is read.
    shelf::read_own(&file)?;
    let named = source::open_named(cx, &args.image, &args.options, Keep::Yes)?;
    let vouched = trust::vouched(&named, None, None)?;
    let source = &named.source;
    let (mut image, of_system) = look_into(cx, source, args)?;
    (image.name, image.version) = named_by(source, args, of_system)?;
    image.source = source_text(source.location(), &file);
    let expected = vouched
        .checksum
        .filter(|sum| sum.subject != Some(Subject::Unpacked));
    let kind = match &expected {
        Some(sum) if !sum.checksum.kind.is_weak() => sum.checksum.kind,
        _ => ChecksumKind::Sha256,
    };
    let summed = get::sum(cx, source, kind)?;
    let is_other = |sum: &Checksum| sum.kind == kind && *sum != summed;
    if let Some(published) = expected.filter(|sum| is_other(&sum.checksum)) {
        let name = source.name();
        forget(cx, source.location());
        return Err(
            words::shelf::not_as_listed(&name, &published.checksum, &summed)
                .titled(format!("{name} is not the file that its publisher lists")),
        );
    }
    image.checksum = Some(summed);
    let told = |e| words::shelf::edit_error(&file.display().to_string(), &e);
    let text = pinewrit_shelf::add(&text_of(&file)?, &image).map_err(told)?;
    save(&file, &text)?;
    source::finish(cx, source, Keep::Yes);
    let catalogue = Catalogue {
        images: vec![image.clone()],
        ..Catalogue::default()
    };
    let shelf = Shelf::new(vec![(Base::File(file.clone()), catalogue)]);
    let rows = shelf.images();
    let rows = rows.iter().map(|found| ImageRow::of(cx, found, None));
    tell(cx, "shelf add", rows.collect());
    let signed = vouched.signature.as_ref();
    let signed = signed.map(|found| words::trust::signed(&found.file, &found.signed));
    cx.ui.result(told_text(&image, signed, &file));
    Ok(())
}

/// Name and version; what cannot be found must be given.
fn named_by(
    source: &ImageSource,
    args: &AddImageArgs,
    of_system: Option<String>,
) -> Result<(String, String), Message> {
    let (stem, in_name) = split(&source.name());
    let name = args.name.clone().unwrap_or(stem);
    let version = args.version.clone().or(in_name).or(of_system);
    let version = version.ok_or_else(|| {
        let place = source.name();
        let what = format!("no version was found in the name or in the system of {place}");
        Message::new(Exit::Usage, what).remedy("name it: --version 2.4")
    })?;
    match ImageName::parse(&format!("{name}@{version}")) {
        Ok(_) => Ok((name, version)),
        Err(error) => {
            Err(words::shelf::name_error(&error)
                .remedy("--name and --version say what it is called"))
        }
    }
}

/// Name and version in the name of a file: `larkfell-os-2.4.img.xz`.
fn split(file: &str) -> (String, Option<String>) {
    const ENDINGS: [&str; 16] = [
        "img", "iso", "raw", "bin", "xz", "gz", "zst", "bz2", "zip", "7z", "lz4", "lz", "tar",
        "tgz", "wic", "lzma",
    ];
    let mut stem = file;
    while let Some((rest, ending)) = stem.rsplit_once('.') {
        if !ENDINGS.contains(&ending.to_ascii_lowercase().as_str()) {
            break;
        }
        stem = rest;
    }
    let starts = |at: usize| {
        let rest = stem[at + 1..].trim_start_matches('v');
        rest.starts_with(|sign: char| sign.is_ascii_digit())
    };
    let mut breaks = stem.match_indices(['-', '_']).map(|(at, _)| at);
    match breaks.find(|at| *at > 0 && starts(*at)) {
        Some(at) => {
            let version = stem[at + 1..].trim_start_matches('v');
            (stem[..at].to_owned(), Some(version.to_owned()))
        }
        None => (stem.to_owned(), None),
    }
}

/// An address, or the path from the catalogue's folder; outside of it, the full path.
fn source_text(location: &Location, catalogue: &Path) -> String {
    let Location::Path(path) = location else {
        return location.to_string();
    };
    let full = std::path::absolute(path).unwrap_or_else(|_| path.clone());
    let folder = std::path::absolute(catalogue).unwrap_or_default();
    let relative = folder
        .parent()
        .and_then(|folder| full.strip_prefix(folder).ok());
    relative.unwrap_or(&full).display().to_string()
}

/// What a look into it shows, and the version of the system in it.
fn look_into(
    cx: &Context,
    source: &ImageSource,
    args: &AddImageArgs,
) -> Result<(Image, Option<String>), Message> {
    let name = source.name();
    let _waiting = Waiting::new(&cx.ui, format!("looking into {name}"));
    let device = device(source);
    let device = ReadCache::new(&*device);
    let size = source.unpacked_size().exact();
    let found = inspect(&device, size).map_err(|e| words::disk_error(&name, &e))?;
    let extent = Extent::Image(size);
    let boards = match args.boards.as_slice() {
        [] => starting(&device, extent),
        given => given.to_vec(),
    };
    let image = Image {
        date: args.date.or_else(|| day_of(source.location())),
        boards,
        architecture: architecture(&found),
        packed: source.packed_size(),
        unpacked: size,
        smallest: args.smallest,
        intake: intake(&device),
        notes: args.notes.clone(),
        signed: args.signed,
        ..Image::default()
    };
    Ok((image, found.system.and_then(|system| system.version)))
}

/// The known boards that start from it.
fn starting(device: &dyn BlockDevice, extent: Extent) -> Vec<String> {
    let known = boards::all()
        .into_iter()
        .filter_map(|(_, board)| board.ok());
    let starts = |board: &pinewrit_boards::Board| {
        let judged = pinewrit_boards::judge(board, device, extent);
        judged.is_ok_and(|found| found.verdict == Verdict::Starts)
    };
    known.filter(starts).map(|board| board.name).collect()
}

/// The architecture of its kernels and loaders, if they agree.
fn architecture(found: &Inspection) -> Option<Architecture> {
    let kernels = found.kernels.iter().map(|kernel| kernel.architecture);
    let loaders = found.boot.uefi.iter().map(|loader| loader.architecture);
    let mut all = kernels.chain(loaders);
    let first = all.next()?;
    all.all(|other| other == first).then_some(first)
}

/// How it takes settings, tried with a host name.
fn intake(device: &dyn BlockDevice) -> Option<String> {
    let settings = CheckedSettings {
        host_name: Some("larkfell".to_owned()),
        ..CheckedSettings::default()
    };
    let prepared = prepare(device, &settings, clock::timestamp()).ok()?;
    Some(prepared.report().intake.clone())
}

fn day_of(location: &Location) -> Option<Date> {
    let changed = std::fs::metadata(location.path()?).ok()?.modified().ok()?;
    let time = jiff::Timestamp::try_from(changed).ok()?;
    Some(time.to_zoned(jiff::tz::TimeZone::system()).date())
}

fn told_text(image: &Image, signed: Option<String>, file: &Path) -> String {
    let (good, strong) = (style::GOOD, style::STRONG);
    let mut facts = FactList::default();
    let sizes = [image.packed, image.unpacked].map(|size| size.map(units::size));
    facts.add(
        "size",
        match sizes {
            [Some(packed), Some(unpacked)] if packed != unpacked => {
                format!("{packed} packed, {unpacked} unpacked")
            }
            [packed, unpacked] => unpacked.or(packed).unwrap_or_default(),
        },
    );
    if let Some(checksum) = &image.checksum {
        facts.add("checksum", checksum.to_string());
    }
    if let Some(signed) = signed {
        facts.add("signed", signed);
    }
    let unknown = || "not found out".to_owned();
    let architecture = image.architecture.map(|one| one.word().to_owned());
    facts.add("runs on", architecture.unwrap_or_else(unknown));
    facts.add(
        "boards",
        match image.boards.as_slice() {
            [] => "none of those that are known; --board names one".to_owned(),
            boards => boards.join(", "),
        },
    );
    facts.add("intake", image.intake.clone().unwrap_or_else(unknown));
    if let Some(date) = image.date {
        facts.add("date", date.to_string());
    }
    let name = image.full_name();
    facts.add(
        "next",
        format!("pinewrit write shelf:{} --to MEDIUM", image.name),
    );
    format!(
        "{good}done:{good:#} {strong}{name}{strong:#} is in {}\n{}",
        file.display(),
        facts.to_text()
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("larkfell-os-2.4.img.xz", "larkfell-os", Some("2.4"))]
    #[case("larkfell_os_v2.4-rc1.tar.gz", "larkfell_os", Some("2.4-rc1"))]
    #[case("hut-3-os.img", "hut", Some("3-os"))]
    #[case("larkfell-os.img", "larkfell-os", None)]
    #[case("2024-os.img", "2024-os", None)]
    #[case("os-20261002-arm64.img.zst", "os", Some("20261002-arm64"))]
    fn names_and_versions(#[case] file: &str, #[case] name: &str, #[case] version: Option<&str>) {
        assert_eq!(split(file), (name.to_owned(), version.map(str::to_owned)));
    }
}
