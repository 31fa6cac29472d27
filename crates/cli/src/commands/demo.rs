//! `pinewrit demo`: the whole work once, with data that is compiled in.

use std::fs::{self, File};
use std::path::{Path, PathBuf};

use pinewrit_core::demo::{DEMO_IMAGE_SIZE, make_image};
use pinewrit_disk::{CacheUse, FileDevice, SectorSize};
use pinewrit_image::Location;

use super::{Outcome, configure, inspect, verify, write};
use crate::args::{
    ConfigureArgs, DemoArgs, InspectArgs, MediumArgs, SourceArgs, VerifyArgs, WriteArgs,
};
use crate::exit::Exit;
use crate::message::Message;
use crate::ui::{Ui, style};

const SETTINGS: &str = include_str!("../../../../demo/hut-03.toml");
/// The simulated card: what a "4 GB" card has.
const CARD_SIZE: u64 = 4_000_000_000;

/// The folder of the demo, removed at the end if it is a temporary one.
enum Folder {
    Kept(PathBuf),
    Temporary(tempfile::TempDir),
}

impl Folder {
    fn path(&self) -> &Path {
        match self {
            Self::Kept(path) => path,
            Self::Temporary(dir) => dir.path(),
        }
    }
}

pub(crate) fn run(ui: &Ui, args: &DemoArgs) -> Outcome {
    let folder = make_folder(args.dir.as_deref())?;
    // The demo's own steps belong to its output; what the commands say beside their result too.
    let path = |name: &str| folder.path().join(name);
    let (image, card, settings) = (
        path("larkfell-os.img.zst"),
        path("card.img"),
        path("hut-03.toml"),
    );

    step(ui, 1, "make the demo image and pack it", "");
    make_packed_image(&path("larkfell-os.img"), &image)?;
    fs::write(&settings, SETTINGS).map_err(|e| failed(&settings, &e))?;

    step(
        ui,
        2,
        "look into the packed image",
        "pinewrit inspect larkfell-os.img.zst",
    );
    inspect::run(
        ui,
        &InspectArgs {
            source: Location::Path(image.clone()),
            options: SourceArgs::plain(),
        },
    )?;

    step(
        ui,
        3,
        "write it to a simulated 4 GB card, and read it back",
        "pinewrit write larkfell-os.img.zst --to card.img --size 4GB",
    );
    let write_args = WriteArgs {
        image: Location::Path(image.clone()),
        keep_download: false,
        medium: MediumArgs::default(),
        to: card.clone(),
        size: Some(CARD_SIZE),
        options: SourceArgs::plain(),
        checksum: None,
        settings: None,
        no_verify: false,
        dry_run: false,
        yes: true,
    };
    write::run(ui, &write_args)?;

    step(
        ui,
        4,
        "compare the card with the image once more",
        "pinewrit verify card.img --image larkfell-os.img.zst",
    );
    verify::run(
        ui,
        &VerifyArgs {
            medium: card.clone(),
            image: Location::Path(image),
            options: SourceArgs::plain(),
        },
    )?;

    step(
        ui,
        5,
        "give it the settings of hut 3",
        "pinewrit configure card.img --settings hut-03.toml",
    );
    configure::run(
        ui,
        &ConfigureArgs {
            access: MediumArgs::default(),
            medium: card.clone(),
            settings,
            dry_run: false,
            yes: true,
        },
    )?;

    step(
        ui,
        6,
        "look at the finished card",
        "pinewrit inspect card.img",
    );
    inspect::run(
        ui,
        &InspectArgs {
            source: Location::Path(card),
            options: SourceArgs::plain(),
        },
    )?;

    let good = style::GOOD;
    ui.result(match &folder {
        Folder::Kept(path) => format!(
            "\n{good}the demo is done:{good:#} all files are in {}\n",
            path.display()
        ),
        Folder::Temporary(_) => format!(
            "\n{good}the demo is done{good:#} and its files are removed; \
             `pinewrit demo --dir DIR` keeps them\n"
        ),
    });
    Ok(())
}

fn step(ui: &Ui, number: u8, what: &str, command: &str) {
    let (strong, dim) = (style::STRONG, style::DIM);
    ui.result(format!("\n{strong}step {number}: {what}{strong:#}\n"));
    if !command.is_empty() {
        ui.result(format!("{dim}$ {command}{dim:#}\n"));
    }
}

fn make_folder(dir: Option<&Path>) -> Result<Folder, Message> {
    let Some(dir) = dir else {
        return tempfile::Builder::new()
            .prefix("pinewrit-demo-")
            .tempdir()
            .map(Folder::Temporary)
            .map_err(|e| failed(&std::env::temp_dir(), &e));
    };
    fs::create_dir_all(dir).map_err(|e| failed(dir, &e))?;
    let mut entries = fs::read_dir(dir).map_err(|e| failed(dir, &e))?;
    if entries.next().is_some() {
        return Err(
            Message::new(Exit::Usage, format!("{} is not empty", dir.display()))
                .remedy("name a new folder for the demo"),
        );
    }
    Ok(Folder::Kept(dir.to_owned()))
}

/// Makes the raw image, packs it, and removes the raw one.
fn make_packed_image(raw: &Path, packed: &Path) -> Outcome {
    let file = File::options()
        .read(true)
        .write(true)
        .create_new(true)
        .open(raw)
        .and_then(|file| file.set_len(DEMO_IMAGE_SIZE).map(|()| file))
        .map_err(|e| failed(raw, &e))?;
    let device = FileDevice::new(file, DEMO_IMAGE_SIZE, SectorSize::B512, CacheUse::Cached);
    make_image(&device).map_err(|error| {
        Message::new(Exit::Internal, "the demo image cannot be made")
            .fact("found", error.to_string())
    })?;
    pack(raw, packed)
        .and_then(|()| fs::remove_file(raw))
        .map_err(|e| failed(packed, &e))
}

fn pack(raw: &Path, packed: &Path) -> std::io::Result<()> {
    let mut encoder = zstd::Encoder::new(File::create(packed)?, 3)?;
    encoder.set_pledged_src_size(Some(DEMO_IMAGE_SIZE))?;
    encoder.include_contentsize(true)?;
    std::io::copy(&mut File::open(raw)?, &mut encoder)?;
    encoder.finish()?.sync_all()
}

fn failed(path: &Path, error: &std::io::Error) -> Message {
    let what = format!("{} cannot be written", path.display());
    Message::new(Exit::Internal, what).fact("system", error.to_string())
}
