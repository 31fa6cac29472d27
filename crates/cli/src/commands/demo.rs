//! `pinewrit demo`: the whole work once, with data that is compiled in.

use std::cell::Cell;
use std::fs::{self, File};
use std::path::{Path, PathBuf};

use pinewrit_core::demo::{DEMO_IMAGE_SIZE, make_image};
use pinewrit_disk::{CacheUse, FileDevice, SectorSize};
use pinewrit_host::{Rack, Readers};
use pinewrit_image::Location;

use super::{Outcome, configure, inspect, media, rack, records, verify, write};
use crate::args::{
    ChangeArgs, ConfigureArgs, DemoArgs, InspectArgs, MediaArgs, MediumArgs, SourceArgs,
    VerifyArgs, WriteArgs,
};
use crate::exit::Exit;
use crate::explain;
use crate::message::Message;
use crate::ui::{Ui, style};

const SETTINGS: &str = include_str!("../../../../demo/hut-03.toml");
/// The readers that hold the card to be written, and the disk that must not be.
const CARD: &str = "rack:slot";
const SYSTEM_DISK: &str = "rack:bay-1";

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

/// The demo's files, and the readers that it works with.
struct Demo<'a> {
    ui: &'a Ui,
    readers: Readers,
    image: PathBuf,
    settings: PathBuf,
    steps: Cell<u8>,
}

pub(crate) fn run(ui: &Ui, args: &DemoArgs) -> Outcome {
    let folder = make_folder(args.dir.as_deref())?;
    let path = |name: &str| folder.path().join(name);
    records::keep_in(path("state"));
    let (image, rack, settings) = (
        path("larkfell-os.img.zst"),
        path("rack.toml"),
        path("hut-03.toml"),
    );
    fs::write(&settings, SETTINGS).map_err(|e| failed(&settings, &e))?;
    fs::write(&rack, rack::SAMPLE).map_err(|e| failed(&rack, &e))?;
    let opened = Rack::open(&rack).map_err(|e| explain::rack_error(&e))?;
    let demo = Demo {
        ui,
        readers: Readers::Rack(opened),
        image,
        settings,
        steps: Cell::new(0),
    };
    demo.step("make the demo image and pack it", "");
    make_packed_image(&path("larkfell-os.img"), &demo.image)?;
    demo.all_steps()?;

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

impl Demo<'_> {
    fn all_steps(&self) -> Outcome {
        let card = self.tag_of(CARD)?;
        let disk = self.tag_of(SYSTEM_DISK)?;
        let rack = "pinewrit --rack rack.toml";

        self.step(
            "what is plugged in? (simulated readers)",
            &format!("{rack} media --all"),
        );
        let all = MediaArgs {
            all: true,
            watch: false,
        };
        media::run(self.ui, &self.readers, &all)?;

        self.step(
            "look into the packed image",
            "pinewrit inspect larkfell-os.img.zst",
        );
        self.inspect(Location::Path(self.image.clone()))?;

        let image = "larkfell-os.img.zst";
        self.step(
            "name the wrong disk, the one that runs the computer",
            &format!("{rack} write {image} --to {disk} --yes"),
        );
        self.be_refused(&disk)?;

        self.step(
            "write it to the card, and read it back",
            &format!("{rack} write {image} --to {card}"),
        );
        self.write(&card)?;

        self.step(
            "compare the card with the receipt of its writing",
            &format!("{rack} verify {card}"),
        );
        let args = VerifyArgs {
            medium: PathBuf::from(&card),
            image: None,
            options: SourceArgs::plain(),
            every_byte: false,
            receipt: None,
        };
        verify::run(self.ui, &self.readers, &args)?;

        self.step(
            "give it the settings of hut 3",
            &format!("{rack} configure {card} --settings hut-03.toml"),
        );
        let args = ConfigureArgs {
            change: ChangeArgs {
                medium: PathBuf::from(&card),
                access: MediumArgs::default(),
                dry_run: false,
                yes: true,
            },
            settings: self.settings.clone(),
        };
        configure::run(self.ui, &self.readers, &args)?;

        self.step(
            "look at the finished card",
            &format!("{rack} inspect {card}"),
        );
        self.inspect(Location::Path(PathBuf::from(&card)))
    }

    fn step(&self, what: &str, command: &str) {
        let (strong, dim) = (style::STRONG, style::DIM);
        let number = self.steps.get() + 1;
        self.steps.set(number);
        self.ui
            .result(format!("\n{strong}step {number}: {what}{strong:#}\n"));
        if !command.is_empty() {
            self.ui.result(format!("{dim}$ {command}{dim:#}\n"));
        }
    }

    /// The tag of the medium in a reader.
    fn tag_of(&self, reader: &str) -> Result<String, Message> {
        let media = self.readers.media().unwrap_or_default();
        let medium = media.into_iter().find(|medium| medium.name.0 == reader);
        let tag = medium.and_then(|medium| medium.tag);
        tag.map(|tag| tag.to_string())
            .ok_or_else(|| Message::new(Exit::Internal, format!("the demo's rack lacks {reader}")))
    }

    fn inspect(&self, source: Location) -> Outcome {
        let args = InspectArgs {
            source,
            options: SourceArgs::plain(),
        };
        inspect::run(self.ui, &self.readers, &args)
    }

    fn write(&self, tag: &str) -> Outcome {
        let args = WriteArgs {
            image: Location::Path(self.image.clone()),
            keep_download: false,
            medium: MediumArgs::default(),
            to: vec![PathBuf::from(tag)],
            size: None,
            into: None,
            options: SourceArgs::plain(),
            checksum: None,
            settings: None,
            grow: false,
            no_verify: false,
            only_changes: false,
            every_byte: false,
            clear_free: false,
            receipt: None,
            report: None,
            eject: false,
            dry_run: false,
            yes: true,
        };
        write::run(self.ui, &self.readers, &args)
    }

    /// A write that has to end with a refusal, which is shown.
    fn be_refused(&self, tag: &str) -> Outcome {
        match self.write(tag) {
            Err(message) if message.exit == Exit::Refused => {
                self.ui.result(message.to_text());
                Ok(())
            }
            Err(message) => Err(message),
            Ok(()) => Err(Message::new(
                Exit::Internal,
                "the demo's system disk was written",
            )),
        }
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
